//! A link for a new password, for somebody who has forgotten the old one. The answer is the same whether
//! there is such a user or not.

use std::{net::IpAddr, sync::Arc};

use chrono::{TimeDelta, Utc};
use maple_lark_api::{ForgottenPassword, ProblemDetails};
use maple_lark_definition::Mailbox;
use maple_lark_delivery::DeliveryError;
use maple_lark_store::{Store, StoreError, people::User};
use rocket::{Route, State, post, response::status::NoContent, routes};

use super::{body::Body, problem::Problem};
use crate::{
    Config,
    access::{self, Trail},
    engine::EngineHandle,
};

pub fn routes() -> Vec<Route> {
    routes![forgotten]
}

/// So many links for one user, and so many asked for from one address, in an hour.
const FOR_A_USER: i32 = 3;
const FROM_AN_ADDRESS: i32 = 10;
const WITHIN: TimeDelta = TimeDelta::hours(1);

/// Have a link for a new password mailed to you. The answer is the same whether there is a user of this
/// name with a mail address or not; the old password stays good until another is chosen.
#[utoipa::path(post, operation_id = "forgotten_password", path = "/password-links", tag = "access", request_body = ForgottenPassword, responses((status = 204), (status = 429, body = ProblemDetails)))]
#[post("/password-links", data = "<order>")]
async fn forgotten(
    order: Body<ForgottenPassword>,
    store: &State<Store>,
    engine: &State<EngineHandle>,
    config: &State<Arc<Config>>,
    peer: IpAddr,
    trail: Trail,
) -> Result<NoContent, Problem> {
    let name: String = order.name.chars().take(60).collect();
    trail.note(format!("as {name}"));
    let now = Utc::now();
    for (subject, limit) in [
        (format!("link-from:{peer}"), FROM_AN_ADDRESS),
        (format!("link-for:{name}"), FOR_A_USER),
    ] {
        if store.count_failure(&subject, now, WITHIN, limit).await? > limit {
            let words = "too many links were asked for; wait an hour, or ask your administrator";
            return Err(Problem::new(429, "Too many attempts", words).after(WITHIN.num_seconds()));
        }
    }
    // Who was invited and has chosen no password yet has a link already.
    let user = store.user_by_name(&name).await?;
    let user = user.filter(|user| user.disabled_at.is_none() && !user.password_hash.is_empty());
    if let Some((user, to)) = user.and_then(|user| {
        let to = user.email.as_deref()?.parse().ok()?;
        Some((user, to))
    }) {
        let (store, engine) = (store.inner().clone(), engine.inner().clone());
        let address = config.public_url.trim_end_matches('/').to_owned();
        // How long the answer takes must not tell, either.
        tokio::spawn(async move {
            if let Err(error) = mailed(&store, &engine, &user, &to, &address).await {
                tracing::error!(
                    user = user.name,
                    %error,
                    "a link for a password could not be mailed"
                );
            }
        });
    }
    Ok(NoContent)
}

/// Why a link did not go out.
#[derive(Debug, thiserror::Error)]
enum NotMailed {
    #[error(transparent)]
    Store(#[from] StoreError),
    #[error(transparent)]
    Delivery(#[from] DeliveryError),
}

async fn mailed(
    store: &Store,
    engine: &EngineHandle,
    user: &User,
    to: &Mailbox,
    address: &str,
) -> Result<(), NotMailed> {
    let (token, until) = access::invite(store, user).await?;
    // What follows "#" is sent to no server, and stands in no log.
    let text = format!(
        "Somebody, probably you, has asked for a new password for \"{}\" at {address}.\n\nChoose it here:\n{address}/invitation#{token}\n\nThe link is good once, until {} UTC. If it was not you, do nothing: the password that you have stays good.\n",
        user.name,
        until.format("%-d %B %Y, %H:%M")
    );
    let subject = "A new password for Maple Lark".to_owned();
    Ok(engine.write_to(to, subject, text).await?)
}

//! The way to the organisation's identity provider and back. These are pages, not calls: the browser goes
//! there as a whole.

use std::{net::IpAddr, sync::Arc};

use chrono::Utc;
use maple_lark_store::Store;
use rocket::{
    FromForm, Route, State, get,
    http::{Cookie, CookieJar, SameSite, Status},
    response::Redirect,
    routes,
    time::Duration,
};
use serde_json::json;

use super::{
    sessions::{Agent, enter},
    shared::Page,
};
use crate::{
    Config,
    access::{
        Trail,
        provider::{Back, PATIENCE, ProviderSignInError, begin, finish},
    },
    config::IdentityProvider,
};

/// What a browser keeps while it is away; read only on its way back.
const COOKIE: &str = "maple_lark_sign_in";
const PATH: &str = "/sign-in/return";

pub fn routes() -> Vec<Route> {
    routes![go, back]
}

fn problem(status: Status, words: String) -> Page {
    Page::new(json!({
        "page": "not-signed-in",
        "title": "You are not signed in",
        "text": words,
    }))
    .with(status)
}

impl From<ProviderSignInError> for Page {
    fn from(error: ProviderSignInError) -> Self {
        use ProviderSignInError as E;
        let status = match &error {
            E::Stale => Status::BadRequest,
            E::Declined => Status::Unauthorized,
            E::NotLetIn | E::NameTaken(_) => Status::Forbidden,
            E::Provider(_) | E::Vault(_) | E::Store(_) => Status::ServiceUnavailable,
        };
        if let Some(cause) = std::error::Error::source(&error) {
            tracing::error!(%cause, "somebody could not sign in by the identity provider");
        }
        problem(status, error.to_string())
    }
}

fn organisation(config: &Config) -> Result<&IdentityProvider, Page> {
    config.identity_provider.as_ref().ok_or_else(|| {
        let words =
            "This installation has no identity provider. Sign in with a name and a password.";
        problem(Status::NotFound, words.to_owned())
    })
}

/// Sends the browser to the provider.
#[get("/sign-in/begin?<to>")]
async fn go(
    to: Option<&str>,
    config: &State<Arc<Config>>,
    jar: &CookieJar<'_>,
) -> Result<Redirect, Page> {
    let organisation = organisation(config)?;
    let (address, kept) = begin(organisation, &config.vault, to, Utc::now()).await?;
    // It must come along when the provider sends the browser back.
    let cookie = Cookie::build((COOKIE, kept))
        .http_only(true)
        .same_site(SameSite::Lax)
        .secure(config.public_url.starts_with("https://"))
        .path(format!("{}{PATH}", config.base()))
        .max_age(Duration::minutes(PATIENCE.num_minutes()));
    jar.add(cookie);
    Ok(Redirect::to(String::from(address)))
}

/// What the provider adds to the address; it may add more, which is passed over.
#[derive(FromForm)]
struct Answer<'r> {
    code: Option<&'r str>,
    state: Option<&'r str>,
    iss: Option<&'r str>,
    error: Option<&'r str>,
}

/// Signs whoever comes back from the provider in.
#[get("/sign-in/return?<answer..>")]
#[expect(
    clippy::too_many_arguments,
    reason = "what the request holds, and the states of the service"
)]
async fn back(
    answer: Answer<'_>,
    store: &State<Store>,
    config: &State<Arc<Config>>,
    jar: &CookieJar<'_>,
    peer: IpAddr,
    agent: Agent,
    trail: Trail,
) -> Result<Page, Page> {
    let organisation = organisation(config)?;
    trail.is("sign_in", "session");
    trail.note("by the identity provider");
    let kept = jar.get(COOKIE).map(|cookie| cookie.value().to_owned());
    // It is good once, whatever comes of it.
    jar.remove(Cookie::build(COOKIE).path(format!("{}{PATH}", config.base())));
    let answer = Back {
        code: answer.code,
        state: answer.state,
        issuer: answer.iss,
        error: answer.error,
    };
    let came = (kept.as_deref(), &answer);
    let (user, to) = finish(store, organisation, &config.vault, came, Utc::now()).await?;
    trail.actor(&user.name);
    let entered = enter(store, &user, config, jar, (peer, &agent)).await;
    entered.map_err(|_| Page::unavailable())?;
    // The cookie of the session is for our own pages alone, so one of these leads on.
    Ok(Page::new(json!({
        "page": "onward",
        "title": "You are signed in",
        "to": to,
    })))
}

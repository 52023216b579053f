//! Request guards: a handler that takes one runs only for those who may.

use maple_lark_store::{Store, people::User};
use rocket::{
    Request, State,
    http::{Method, Status},
    outcome::Outcome,
    request::{self, FromRequest},
};

use maple_lark_api::{Role, TokenScope};

use super::token_hash;
use crate::api::problem::Refusal;

pub const SESSION_COOKIE: &str = "maple_lark_session";

/// Anyone who is signed in.
pub struct Viewer(pub User);
/// Those who make reports.
pub struct Author(pub User);

async fn signed_in(request: &Request<'_>) -> Result<User, Refusal> {
    let Outcome::Success(store) = request.guard::<&State<Store>>().await else {
        return Err(Refusal::Internal);
    };
    let now = chrono::Utc::now();
    let bearer = request
        .headers()
        .get_one("Authorization")
        .and_then(|value| value.strip_prefix("Bearer "));
    let found = if let Some(token) = bearer {
        store
            .user_of_token(&token_hash(token), TokenScope::All, now)
            .await
    } else if let Some(cookie) = request.cookies().get(SESSION_COOKIE) {
        if !same_site(request) {
            return Err(Refusal::OtherSite);
        }
        store
            .user_of_session(&token_hash(cookie.value()), now)
            .await
    } else {
        return Err(Refusal::NotSignedIn);
    };
    match found {
        Ok(Some(user)) => Ok(user),
        Ok(None) => Err(Refusal::NotSignedIn),
        Err(error) => {
            tracing::error!(%error, "who is asking cannot be looked up");
            Err(Refusal::Internal)
        }
    }
}

/// A browser says where a request comes from; one that changes something must come from our
/// own pages. Requests that only read are harmless wherever they come from.
fn same_site(request: &Request<'_>) -> bool {
    if matches!(
        request.method(),
        Method::Get | Method::Head | Method::Options
    ) {
        return true;
    }
    let headers = request.headers();
    if let Some(site) = headers.get_one("Sec-Fetch-Site") {
        return matches!(site, "same-origin" | "none");
    }
    match (headers.get_one("Origin"), headers.get_one("Host")) {
        (Some(origin), Some(host)) => origin
            .split_once("://")
            .is_some_and(|(_, rest)| rest == host),
        _ => false,
    }
}

macro_rules! guard {
    ($name:ident, $least:expr) => {
        #[rocket::async_trait]
        impl<'r> FromRequest<'r> for $name {
            type Error = Refusal;

            async fn from_request(request: &'r Request<'_>) -> request::Outcome<Self, Refusal> {
                let refusal = match signed_in(request).await {
                    Ok(user) if *user.role >= $least => {
                        return Outcome::Success($name(user));
                    }
                    Ok(user) => Refusal::Role {
                        needed: $least,
                        has: *user.role,
                    },
                    Err(refusal) => refusal,
                };
                let status = refusal.status();
                // The catcher answers with the reason that is left here.
                request.local_cache(|| Some(refusal.clone()));
                Outcome::Error((Status::new(status), refusal))
            }
        }
    };
}

/// Those who run the place.
pub struct Administrator(pub User);

guard!(Viewer, Role::Viewer);
guard!(Author, Role::Author);
guard!(Administrator, Role::Administrator);

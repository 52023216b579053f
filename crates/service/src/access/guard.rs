//! Request guards: a handler that takes one runs only for those who may.

use maple_lark_store::{Store, archive::Reader, people::User, teams::Sight};
use rocket::{
    Request, State,
    http::{Method, Status},
    outcome::Outcome,
    request::{self, FromRequest},
};

use maple_lark_api::{Role, TokenScope};

use super::{token_hash, trail::Trail};
use crate::api::{address::unknown_name, problem::Refusal};

pub const SESSION_COOKIE: &str = "maple_lark_session";

/// Anyone who is signed in, be it that they are held to values. Whatever takes this guard shows them
/// nothing else; what takes another is refused to them.
pub struct SignedIn(pub User, pub Sight);

impl SignedIn {
    /// Them as somebody who looks for documents.
    pub fn reader(&self) -> Reader<'_> {
        Reader {
            sight: &self.1,
            address: self.0.email.as_deref(),
        }
    }
}

/// Anyone who is signed in and held to no values.
pub struct Viewer(pub User, pub Sight);
/// Those who make reports.
pub struct Author(pub User, pub Sight);

/// Anyone who is signed in, where a request that changes nothing has a body.
pub struct Asker(
    #[expect(
        dead_code,
        reason = "guards are alike; who it is does not matter to those who have it yet"
    )]
    pub User,
    pub Sight,
);
/// Those who run the reports that are there.
pub struct Runner(pub User, pub Sight);

/// What somebody with these teams sees. Administrators see everything.
pub fn sight_of(user: &User, teams: Vec<String>) -> Sight {
    match (user.held_to(), *user.role) {
        // Whatever their role has become since.
        (Some(bounds), _) => Sight::Within { teams, bounds },
        (None, Role::Administrator) => Sight::All,
        (None, Role::Viewer | Role::Author) => Sight::Teams(teams),
    }
}

/// Who asks, and what their token is good for; whoever is signed in by a browser may do all that
/// their role lets them.
async fn signed_in(request: &Request<'_>) -> Result<(User, Sight, TokenScope), Refusal> {
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
            .user_of_token(&token_hash(token), now)
            .await
            // One for the agenda alone stands in an address, and is none for this.
            .map(|found| found.filter(|(_, _, scope)| *scope != TokenScope::Agenda))
    } else if let Some(cookie) = request.cookies().get(SESSION_COOKIE) {
        if !same_site(request) {
            return Err(Refusal::OtherSite);
        }
        store
            .user_of_session(&token_hash(cookie.value()), now)
            .await
            .map(|found| found.map(|(user, teams)| (user, teams, TokenScope::All)))
    } else {
        return Err(Refusal::NotSignedIn);
    };
    match found {
        Ok(Some((user, teams, scope))) => {
            Trail::of(request).actor(&user.name);
            let sight = sight_of(&user, teams);
            Ok((user, sight, scope))
        }
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

/// What a request needs of a token, where nothing else is said: what only reads is for all.
fn scope_by_method(request: &Request<'_>) -> TokenScope {
    match request.method() {
        Method::Get | Method::Head => TokenScope::Read,
        _ => TokenScope::All,
    }
}

macro_rules! guard {
    ($name:ident, $least:expr, $scope:expr) => {
        guard!($name, $least, $scope, |sight: &Sight| {
            !matches!(sight, Sight::Within { .. })
        });
    };
    ($name:ident, $least:expr, $scope:expr, $shows:expr) => {
        #[rocket::async_trait]
        impl<'r> FromRequest<'r> for $name {
            type Error = Refusal;

            async fn from_request(request: &'r Request<'_>) -> request::Outcome<Self, Refusal> {
                let scope: Option<TokenScope> = $scope;
                let needed = scope.unwrap_or_else(|| scope_by_method(request));
                let shows: fn(&Sight) -> bool = $shows;
                let refusal = match signed_in(request).await {
                    Ok((_, sight, _)) if !shows(&sight) => Refusal::Held,
                    Ok((user, sight, has)) if *user.role >= $least && needed.is_within(has) => {
                        match unknown_name(request) {
                            None => return Outcome::Success($name(user, sight)),
                            Some(problem) => Refusal::NotUnderstood(problem),
                        }
                    }
                    Ok((user, _, has)) if *user.role >= $least => Refusal::Scope { needed, has },
                    Ok((user, ..)) => Refusal::Role {
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
pub struct Administrator(pub User, pub Sight);

guard!(SignedIn, Role::Viewer, None, |_| true);
guard!(Viewer, Role::Viewer, None);
guard!(Asker, Role::Viewer, Some(TokenScope::Read));
guard!(Runner, Role::Author, Some(TokenScope::Run));
guard!(Author, Role::Author, None);
guard!(Administrator, Role::Administrator, None);

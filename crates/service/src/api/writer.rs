//! Who changes definitions, and with what.

use maple_lark_api::SavedFrom;
use maple_lark_store::{people::User, teams::Sight};
use rocket::{
    Request,
    request::{FromRequest, Outcome},
};

use super::{problem::Refusal, version::IfMatch};
use crate::access::{Author, Trail};

/// An author, and what they save with.
pub struct Writer {
    pub user: User,
    pub sight: Sight,
    pub trail: Trail,
    pub from: SavedFrom,
    /// The version that they have read.
    pub if_match: IfMatch,
}

#[rocket::async_trait]
impl<'r> FromRequest<'r> for Writer {
    type Error = Refusal;

    async fn from_request(request: &'r Request<'_>) -> Outcome<Self, Refusal> {
        let (from, if_match) = (saved_from(request), IfMatch::of(request));
        Author::from_request(request)
            .await
            .map(|Author(user, sight)| Self {
                user,
                sight,
                trail: Trail::of(request).clone(),
                from,
                if_match,
            })
    }
}

/// The console signs in with a cookie; programs have a token and say what they are.
fn saved_from(request: &Request<'_>) -> SavedFrom {
    let headers = request.headers();
    let program = headers.get_one("User-Agent").unwrap_or_default();
    match program.split('/').next() {
        _ if !headers.contains("Authorization") => SavedFrom::Console,
        Some("maple-lark") => SavedFrom::CommandLine,
        _ => SavedFrom::Api,
    }
}

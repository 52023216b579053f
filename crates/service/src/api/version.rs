//! Which version of a definition an answer shows, and which one a change was made from (RFC 9110:
//! `ETag` and `If-Match`).

use maple_lark_data::digest::sha256;
use maple_lark_store::definitions::StoredDefinition;
use rocket::{
    Request, Response,
    http::Header,
    request::{FromRequest, Outcome},
    response::{self, Responder},
    serde::json::Json,
};
use serde::Serialize;

use super::{difference::changed_meanwhile, problem::Problem};

/// An answer that says which text of a definition it was made of.
pub struct Versioned<T> {
    answer: T,
    version: String,
}

impl<T> Versioned<T> {
    pub fn new(answer: T, text: &str) -> Self {
        Self {
            answer,
            version: sha256(text.as_bytes()),
        }
    }
}

impl<'r, 'o: 'r, T: Serialize> Responder<'r, 'o> for Versioned<T> {
    fn respond_to(self, request: &'r Request<'_>) -> response::Result<'o> {
        Response::build_from(Json(self.answer).respond_to(request)?)
            .header(Header::new("ETag", format!("\"{}\"", self.version)))
            .ok()
    }
}

/// The versions that a change was made from, if its client has said so.
#[derive(Clone, Default)]
pub struct IfMatch(Option<Vec<String>>);

impl IfMatch {
    /// What a request's headers say. A weak tag matches nothing, as the standard has it.
    pub fn of(request: &Request<'_>) -> Self {
        let mut headers = request.headers().get("If-Match").peekable();
        if headers.peek().is_none() {
            return Self::default();
        }
        let tags = headers.flat_map(|header| header.split(','));
        Self(Some(tags.map(|tag| tag.trim().to_owned()).collect()))
    }

    /// Whether the client has said a version.
    pub fn is_given(&self) -> bool {
        self.0.is_some()
    }

    /// Whether a change may be made to what has this version now; nothing if it is not there.
    pub fn allows(&self, version: Option<&str>) -> bool {
        let Some(tags) = &self.0 else { return true };
        version.is_some_and(|version| {
            let now = format!("\"{version}\"");
            tags.iter().any(|tag| *tag == now || tag == "*")
        })
    }

    /// Refuses to change another text than the one that was read; `mine` is what it would become.
    pub fn holds(&self, stored: &StoredDefinition, mine: Option<&str>) -> Result<(), Problem> {
        if self.allows(Some(&sha256(stored.text.as_bytes()))) {
            return Ok(());
        }
        Err(changed_meanwhile(stored, mine))
    }
}

#[rocket::async_trait]
impl<'r> FromRequest<'r> for IfMatch {
    type Error = std::convert::Infallible;

    async fn from_request(request: &'r Request<'_>) -> Outcome<Self, Self::Error> {
        Outcome::Success(Self::of(request))
    }
}

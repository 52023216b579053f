//! The documents of runs, to be looked at in place or downloaded.

use maple_lark_api::ProblemDetails;
use maple_lark_render::script_policy;
use maple_lark_store::Store;
use rocket::{
    Route, State, get,
    http::{ContentType, Header},
    response::{Responder, Response},
    routes,
};
use uuid::Uuid;

use super::{problem::Problem, seen};
use crate::access::{SignedIn, Trail};

pub fn routes() -> Vec<Route> {
    routes![one]
}

pub struct File {
    pub name: String,
    pub media_type: String,
    pub sha256: String,
    pub body: Vec<u8>,
    pub download: bool,
}

impl<'r> Responder<'r, 'static> for File {
    fn respond_to(self, request: &'r rocket::Request<'_>) -> rocket::response::Result<'static> {
        let kind = ContentType::parse_flexible(&self.media_type).unwrap_or(ContentType::Binary);
        // File names are made of small letters, digits, hyphens and dots (see `slug`).
        let disposition = if self.download {
            "attachment"
        } else {
            "inline"
        };
        // A document may do nothing but show itself, and answer its reader by the one script that is ours.
        let policy = format!(
            "default-src 'none'; style-src 'unsafe-inline'; img-src data:; {}; sandbox allow-scripts allow-popups; frame-ancestors 'self'",
            script_policy()
        );
        let mut response = Response::build_from((kind.clone(), self.body).respond_to(request)?);
        response.header(Header::new(
            "Content-Disposition",
            format!("{disposition}; filename=\"{}\"", self.name),
        ));
        response.header(Header::new("ETag", format!("\"{}\"", self.sha256)));
        response.header(Header::new("Cache-Control", "private, no-cache"));
        if kind.is_html() {
            response.header(Header::new("Content-Security-Policy", policy));
        }
        response.ok()
    }
}

/// One document's bytes; `download` makes a browser save it instead of showing it.
#[utoipa::path(get, operation_id = "get_document", path = "/documents/{id}", tag = "runs", params(("id" = Uuid, Path), ("download" = Option<bool>, Query)), responses((status = 200, description = "the file, in its own media type"), (status = 404, body = ProblemDetails)))]
#[get("/documents/<id>?<download>", rank = 2)]
async fn one(
    user: SignedIn,
    id: Uuid,
    download: Option<bool>,
    store: &State<Store>,
    trail: Trail,
) -> Result<File, Problem> {
    let nothing = || Problem::not_found(format!("document {id}"));
    let found = store.document(id).await?.ok_or_else(nothing)?;
    let of = (found.run_id, found.snapshot_id);
    let run = seen::run_of_documents(store, &user, of).await?;
    let run = run.ok_or_else(nothing)?;
    trail.note(format!(
        "{} of {}, run {}",
        found.file_name, run.report, run.id
    ));
    if let Some(at) = found.removed_at {
        return Err(Problem::gone("the documents of this run", at));
    }
    Ok(File {
        name: found.file_name,
        media_type: found.media_type,
        sha256: found.sha256,
        body: found.body,
        download: download.unwrap_or(false),
    })
}

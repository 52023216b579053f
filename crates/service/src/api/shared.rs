//! Pages for people who do not sign in: the documents behind a signed link, and
//! unsubscribing from a report. What they may see follows from what is signed, and from nothing else.

use std::sync::Arc;

use maple_lark_api::readable_size;
use maple_lark_store::{Store, documents::DocumentHead, recipients::SharedLink};
use rocket::{
    Route, State, get,
    http::{ContentType, Header, Status},
    post,
    request::Request,
    response::{Responder, Response},
    routes,
};
use serde_json::{Value, json};
use uuid::Uuid;

use super::documents::File;
use crate::{Config, access::Trail, engine::EngineHandle};

pub fn routes() -> Vec<Route> {
    routes![page, file, ask_to_unsubscribe, unsubscribe]
}

/// A plain page without scripts, which is never cached and which no other site frames.
pub struct Page {
    status: Status,
    values: Value,
}

const TEMPLATE: &str = include_str!("../../templates/public.html");

impl Page {
    pub(super) fn new(values: Value) -> Self {
        Self {
            status: Status::Ok,
            values,
        }
    }
}

impl Page {
    pub(super) fn with(self, status: Status) -> Self {
        Self { status, ..self }
    }

    pub(super) fn unavailable() -> Self {
        Self::new(json!({
            "title": "Not available at the moment",
            "text": "Try again in a few minutes.",
        }))
        .with(Status::ServiceUnavailable)
    }
}

impl<'r> Responder<'r, 'static> for Page {
    fn respond_to(self, request: &'r Request<'_>) -> rocket::response::Result<'static> {
        let mut templates = minijinja::Environment::new();
        templates.set_auto_escape_callback(|_| minijinja::AutoEscape::Html);
        let config = request.rocket().state::<Arc<Config>>();
        templates.add_global("base", config.map_or("", |config| config.base()));
        let html = templates
            .render_str(TEMPLATE, minijinja::value::Serde(&self.values))
            .map_err(|error| {
                tracing::error!(%error, "a public page could not be rendered");
                Status::InternalServerError
            })?;
        let mut response = Response::build_from((ContentType::HTML, html).respond_to(request)?);
        response.status(self.status);
        response.header(Header::new("Content-Security-Policy", "default-src 'none'; style-src 'unsafe-inline'; form-action 'self'; frame-ancestors 'none'"));
        let mut response = response.finalize();
        keep_private(&mut response);
        Ok(response)
    }
}

/// A document for whoever has its link: what holds for the page holds for it.
struct SharedFile(File);

impl<'r> Responder<'r, 'static> for SharedFile {
    fn respond_to(self, request: &'r Request<'_>) -> rocket::response::Result<'static> {
        let mut response = self.0.respond_to(request)?;
        keep_private(&mut response);
        Ok(response)
    }
}

/// Nothing on the way keeps it, tells others of its address, or lists it.
pub(super) fn keep_private(response: &mut Response<'_>) {
    for (name, value) in [
        ("Cache-Control", "no-store"),
        ("Referrer-Policy", "no-referrer"),
        ("X-Robots-Tag", "noindex"),
    ] {
        response.set_raw_header(name, value);
    }
}

/// One page for a link that is wrong, expired or revoked; it does not say which.
pub(super) fn over() -> Page {
    Page {
        status: Status::NotFound,
        ..Page::new(json!({
            "title": "This link is not valid",
            "text": "It may have expired or been revoked. Ask the sender for the documents.",
        }))
    }
}

pub(super) fn broken(error: &maple_lark_store::StoreError) -> Page {
    tracing::error!(%error, "a link could not be followed");
    Page::unavailable()
}

/// The link behind a token, if it is one and is still good.
async fn link(token: &str, store: &Store, engine: &EngineHandle) -> Result<SharedLink, Page> {
    let id: Uuid = engine
        .signer()
        .signed("link", token)
        .and_then(|id| id.parse().ok())
        .ok_or_else(over)?;
    let found = store
        .link(id)
        .await
        .map_err(|error| broken(&error))?
        .ok_or_else(over)?;
    if found.revoked_at.is_some() || found.expires_at <= engine.now() {
        Err(over())
    } else {
        Ok(found)
    }
}

async fn documents(store: &Store, link: &SharedLink) -> Result<Vec<DocumentHead>, Page> {
    let all = store
        .document_heads(link.run_id)
        .await
        .map_err(|error| broken(&error))?;
    Ok(all
        .into_iter()
        .filter(|head| head.snapshot_id == link.snapshot_id && head.variant == link.variant)
        .filter(|head| head.removed_at.is_none())
        .collect())
}

#[get("/shared/<token>")]
async fn page(
    token: &str,
    store: &State<Store>,
    engine: &State<EngineHandle>,
    trail: Trail,
) -> Result<Page, Page> {
    let link = link(token, store, engine).await?;
    let run = store
        .run(link.run_id)
        .await
        .map_err(|error| broken(&error))?
        .ok_or_else(over)?;
    trail.is("shared_documents", link.id.to_string());
    trail.note(format!("of {}, run {}", run.report, run.id));
    store
        .count_opening(link.id, engine.now())
        .await
        .map_err(|error| broken(&error))?;
    let view = super::view::run_summary(run);
    let zone: maple_lark_time::Zone = view
        .window
        .time_zone
        .parse()
        .unwrap_or(maple_lark_time::Zone::UTC);
    let documents: Vec<Value> = documents(store, &link)
        .await?
        .into_iter()
        .map(|head| json!({ "id": head.id, "name": head.file_name, "size": readable_size(head.size.unsigned_abs()) }))
        .collect();
    Ok(Page::new(json!({
        "page": "documents",
        "title": view.title,
        "window": view.window.label,
        "token": token,
        "documents": documents,
        "until": zone.readable(link.expires_at),
    })))
}

#[get("/shared/<token>/<id>")]
async fn file(
    token: &str,
    id: Uuid,
    store: &State<Store>,
    engine: &State<EngineHandle>,
    trail: Trail,
) -> Result<SharedFile, Page> {
    let link = link(token, store, engine).await?;
    if !documents(store, &link)
        .await?
        .iter()
        .any(|head| head.id == id)
    {
        return Err(over());
    }
    let found = store
        .document(id)
        .await
        .map_err(|error| broken(&error))?
        .ok_or_else(over)?;
    trail.is("shared_file", link.id.to_string());
    trail.note(format!("{}, run {}", found.file_name, found.run_id));
    Ok(SharedFile(File {
        name: found.file_name,
        media_type: found.media_type,
        sha256: found.sha256,
        body: found.body,
        download: false,
    }))
}

/// The report and the address in a token for unsubscribing.
fn subscription(token: &str, engine: &EngineHandle) -> Option<(String, String)> {
    let text = engine.signer().signed("unsubscribe", token)?;
    text.split_once(' ')
        .map(|(report, address)| (report.to_owned(), address.to_owned()))
}

/// What a report is called to its readers; its name if it is gone.
async fn title(store: &Store, report: String) -> String {
    let definitions = store.definitions().await.unwrap_or_default();
    definitions
        .into_iter()
        .find(|one| one.kind == "report" && one.name == report)
        .map_or(report, |one| one.title)
}

/// Opening the address changes nothing: mail programs follow links to see what is there.
#[get("/unsubscribe/<token>")]
async fn ask_to_unsubscribe(
    token: &str,
    store: &State<Store>,
    engine: &State<EngineHandle>,
) -> Page {
    let Some((report, address)) = subscription(token, engine) else {
        return over();
    };
    Page::new(json!({
        "page": "unsubscribe",
        "title": "Unsubscribe from this report?",
        "report": title(store, report).await,
        "address": address,
    }))
}

/// One click (RFC 8058): whoever has the token may unsubscribe, without signing in.
#[post("/unsubscribe/<token>")]
async fn unsubscribe(
    token: &str,
    store: &State<Store>,
    engine: &State<EngineHandle>,
    trail: Trail,
) -> Page {
    let Some((report, address)) = subscription(token, engine) else {
        return over();
    };
    if let Err(error) = store.unsubscribe(&report, &address, engine.now()).await {
        return broken(&error);
    }
    trail.is("unsubscribe", report.clone());
    trail.note(address.clone());
    tracing::info!(report, "a recipient has unsubscribed");
    let report = title(store, report).await;
    Page::new(json!({
        "title": "Unsubscribed",
        "text": format!("{report} will not be sent to {address} any more."),
    }))
}

//! Pages for people who do not sign in: the documents behind a signed link, and leaving a
//! report. What they may see follows from what is signed, and from nothing else.

use std::fmt::Write;

use maple_lark_store::{Store, recipients::SharedLink, runs::DocumentHead};
use rocket::{
    Route, State, get,
    http::{ContentType, Header, Status},
    post,
    request::Request,
    response::{Responder, Response},
    routes,
};
use uuid::Uuid;

use super::documents::File;
use crate::engine::EngineHandle;

pub fn routes() -> Vec<Route> {
    routes![page, file, ask_to_leave, leave]
}

/// A plain page without scripts, which nobody keeps and no other site frames.
pub struct Page {
    status: Status,
    title: String,
    body: String,
}

impl<'r> Responder<'r, 'static> for Page {
    fn respond_to(self, request: &'r Request<'_>) -> rocket::response::Result<'static> {
        const STYLE: &str = "body{margin:0;background:#eef1f3;color:#17232d;font:16px/1.5 Inter,'Segoe UI',Helvetica,Arial,sans-serif}\
            main{max-width:40rem;margin:6vh auto;padding:2rem;background:#fff;border-radius:8px}h1{font-size:1.4rem;line-height:1.25;margin:0}\
            .when{color:#0b4f6c;font-weight:600;margin:.2rem 0 1.2rem}table{width:100%;border-collapse:collapse}td,th{text-align:left;padding:.5rem .5rem .5rem 0;border-bottom:1px solid #d5dde3}\
            td:last-child,th:last-child{text-align:right;padding-right:0}a{color:#0b4f6c}.small{color:#566573;font-size:.85rem}\
            button{font:inherit;padding:.5rem 1rem;border:0;border-radius:4px;background:#0b4f6c;color:#fff;cursor:pointer}button:focus-visible,a:focus-visible{outline:3px solid #c98a00;outline-offset:2px}\
            @media(prefers-color-scheme:dark){body{background:#0f171d;color:#e3eaee}main{background:#18232b}a{color:#7cc4e0}.when{color:#7cc4e0}.small{color:#a3b3bd}td,th{border-color:#2c3c47}}\
            @media(max-width:40rem){main{margin:0;border-radius:0;min-height:100vh;box-sizing:border-box}}";
        let html = format!(
            "<!DOCTYPE html><html lang=\"en\"><head><meta charset=\"utf-8\"><meta name=\"viewport\" content=\"width=device-width, initial-scale=1\">\
             <meta name=\"robots\" content=\"noindex\"><meta name=\"referrer\" content=\"no-referrer\"><title>{}</title><style>{STYLE}</style></head><body><main>{}</main></body></html>",
            escaped(&self.title),
            self.body
        );
        let mut response = Response::build_from((ContentType::HTML, html).respond_to(request)?);
        response.status(self.status);
        response.header(Header::new("Cache-Control", "no-store"));
        response.header(Header::new("Referrer-Policy", "no-referrer"));
        response.header(Header::new("X-Robots-Tag", "noindex"));
        response.header(Header::new("Content-Security-Policy", "default-src 'none'; style-src 'unsafe-inline'; form-action 'self'; frame-ancestors 'none'"));
        response.ok()
    }
}

fn escaped(text: &str) -> String {
    text.replace('&', "&amp;")
        .replace('<', "&lt;")
        .replace('>', "&gt;")
        .replace('"', "&quot;")
}

/// One page for a link that is wrong, over or ended: which of them is nobody's business.
fn over() -> Page {
    let body = "<h1>This link does not lead anywhere</h1><p>It may have expired or been ended. Ask whoever sent it for the documents.</p>".to_owned();
    Page {
        status: Status::NotFound,
        title: "Link not found".to_owned(),
        body,
    }
}

fn broken(error: &maple_lark_store::StoreError) -> Page {
    tracing::error!(%error, "a link could not be followed");
    let body = "<h1>Not available at the moment</h1><p>Try again in a few minutes.</p>".to_owned();
    Page {
        status: Status::ServiceUnavailable,
        title: "Not available".to_owned(),
        body,
    }
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
        .collect())
}

#[get("/shared/<token>")]
async fn page(
    token: &str,
    store: &State<Store>,
    engine: &State<EngineHandle>,
) -> Result<Page, Page> {
    let link = link(token, store, engine).await?;
    let run = store
        .run(link.run_id)
        .await
        .map_err(|error| broken(&error))?
        .ok_or_else(over)?;
    store
        .count_opening(link.id, engine.now())
        .await
        .map_err(|error| broken(&error))?;
    let view = super::view::run_summary(run);
    let mut body = format!(
        "<h1>{}</h1><p class=\"when\">{}</p><table><tr><th>Document</th><th>Size</th></tr>",
        escaped(&view.title),
        escaped(&view.window.label)
    );
    for head in documents(store, &link).await? {
        // NumberFormat to a text always succeeds.
        let _ = write!(
            body,
            "<tr><td><a href=\"/shared/{token}/{}\">{}</a></td><td>{}</td></tr>",
            head.id,
            escaped(&head.file_name),
            size(head.size)
        );
    }
    let zone: maple_lark_time::Zone = view
        .window
        .time_zone
        .parse()
        .unwrap_or(maple_lark_time::Zone::UTC);
    let _ = write!(
        body,
        "</table><p class=\"small\">This link is good until {}. Whoever has it can open these documents.</p>",
        zone.readable(link.expires_at)
    );
    Ok(Page {
        status: Status::Ok,
        title: view.title,
        body,
    })
}

fn size(bytes: i64) -> String {
    if bytes < 1_000_000 {
        format!("{:.0} kB", (bytes as f64 / 1e3).max(1.0))
    } else {
        format!("{:.1} MB", bytes as f64 / 1e6)
    }
}

#[get("/shared/<token>/<id>")]
async fn file(
    token: &str,
    id: Uuid,
    store: &State<Store>,
    engine: &State<EngineHandle>,
) -> Result<File, Page> {
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
    Ok(File {
        name: found.file_name,
        media_type: found.media_type,
        sha256: found.sha256,
        body: found.body,
        download: false,
    })
}

/// The report and the address in a token for leaving.
fn unsubscribe(token: &str, engine: &EngineHandle) -> Option<(String, String)> {
    let text = engine.signer().signed("leave", token)?;
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

/// Looking at the address changes nothing: mail programs follow links to see what is there.
#[get("/leave/<token>")]
async fn ask_to_leave(token: &str, store: &State<Store>, engine: &State<EngineHandle>) -> Page {
    let Some((report, address)) = unsubscribe(token, engine) else {
        return over();
    };
    let report = title(store, report).await;
    let body = format!(
        "<h1>Get this report no more?</h1><p>The report <b>{}</b> will not be sent to <b>{}</b> any more.</p>\
         <form method=\"post\"><button type=\"submit\">Take me off this report</button></form>",
        escaped(&report),
        escaped(&address)
    );
    Page {
        status: Status::Ok,
        title: "Leave a report".to_owned(),
        body,
    }
}

/// One click (RFC 8058): whoever has the token may leave, without signing in.
#[post("/leave/<token>")]
async fn leave(token: &str, store: &State<Store>, engine: &State<EngineHandle>) -> Page {
    let Some((report, address)) = unsubscribe(token, engine) else {
        return over();
    };
    if let Err(error) = store.leave(&report, &address, engine.now()).await {
        return broken(&error);
    }
    tracing::info!(report, "a recipient has left");
    let report = title(store, report).await;
    let body = format!(
        "<h1>Done</h1><p>{} gets the report {} no more.</p>",
        escaped(&address),
        escaped(&report)
    );
    Page {
        status: Status::Ok,
        title: "Done".to_owned(),
        body,
    }
}

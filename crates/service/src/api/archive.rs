//! What was made before: any stored run written again in any format, and whether a file that
//! somebody holds is what was made here.

use std::sync::Arc;

use maple_lark_api::{Match, ProblemDetails};
use maple_lark_data::digest::sha256 as sha256_of;
use maple_lark_definition::Format;
use maple_lark_document::{Snapshot, compose::compose, snapshot::BadSnapshot};
use maple_lark_render::{Rendered, chart_alone, together};
use maple_lark_store::{Store, teams::Sight};
use rocket::{Route, State, get, routes, serde::json::Json};
use uuid::Uuid;

use super::{Answer, documents::File, problem::Problem, seen, view};
use crate::{
    access::{SignedIn, Trail, Viewer},
    engine::{EngineHandle, snapshots},
};

pub fn routes() -> Vec<Route> {
    routes![again, matching]
}

/// The documents of a snapshot in any format, written again from its data. Several files come
/// as one zip. With `block`, the one chart of that title as PNG.
#[utoipa::path(get, operation_id = "write_again", path = "/snapshots/{id}/documents/{format}", tag = "archive", params(("id" = Uuid, Path), ("format" = String, Path, description = "pdf, html, csv, xlsx, ods, json, xml, txt or png"), ("block" = Option<String>, Query, description = "with png: the title of a chart")), responses((status = 200, description = "the file, in its own media type"), (status = 404, body = ProblemDetails), (status = 422, body = ProblemDetails)))]
#[get("/snapshots/<id>/documents/<format>?<block>")]
#[expect(
    clippy::too_many_arguments,
    reason = "what the request holds, and the states of the service"
)]
async fn again(
    user: SignedIn,
    id: Uuid,
    format: &str,
    block: Option<String>,
    store: &State<Store>,
    engine: &State<EngineHandle>,
    trail: Trail,
) -> Result<File, Problem> {
    let format = format_named(format)?;
    if block.is_some() && format != Format::Png {
        return Err(Problem::new(
            422,
            "Not a picture",
            "a block by itself is written as png",
        ));
    }
    let (kept, run) = seen::snapshot(store, &user.1, id).await?;
    trail.note(format!("of {}, run {}", run.report, run.id));
    let (run, made) = (kept.stored.run_id, kept.stored.created_at.timestamp());
    let Some(title) = block else {
        return one_file(
            written(engine, move || snapshots::open(&kept), format).await?,
            format,
            &run.to_string(),
            made,
        );
    };
    let work = move || {
        let document = snapshots::open(&kept)
            .and_then(|snapshot| compose(&snapshot))
            .map_err(|error| failed(&error))?;
        chart_alone(&document, &title)
            .map_err(|error| Problem::new(422, "No picture", error.to_string()))
    };
    let drawn = engine.compute(work).await??;
    one_file(vec![drawn], format, &run.to_string(), made)
}

pub(super) fn format_named(name: &str) -> Result<Format, Problem> {
    Format::from_name(name).ok_or_else(|| {
        let known = Format::ALL.map(Format::name).join(", ");
        Problem::new(
            422,
            "Unknown format",
            format!("\"{name}\" is not a format; there are {known}"),
        )
    })
}

/// The files of one format as one to download: several as a zip that is called `stem`.
pub(super) fn one_file(
    mut files: Vec<Rendered>,
    format: Format,
    stem: &str,
    seconds: i64,
) -> Result<File, Problem> {
    let file = match files.len() {
        0 => {
            return Err(Problem::new(
                422,
                "Nothing to write",
                format!("there are no tables, so there is no {}", format.name()),
            ));
        }
        1 => files.remove(0),
        _ => {
            let named: Vec<(String, Vec<u8>)> = files
                .into_iter()
                .map(|file| (file.file_name, file.bytes))
                .collect();
            let bytes = together(&named, seconds).map_err(|error| failed(&error))?;
            Rendered {
                format,
                file_name: format!("{stem}.{}.zip", format.name()),
                media_type: "application/zip",
                bytes,
            }
        }
    };
    Ok(File {
        sha256: sha256_of(&file.bytes),
        name: file.file_name,
        media_type: file.media_type.to_owned(),
        body: file.bytes,
        download: true,
    })
}

/// The document that has this SHA-256, in lower-case hexadecimal.
#[utoipa::path(get, operation_id = "match_document", path = "/documents", tag = "archive", params(("sha256" = String, Query)), responses((status = 200, body = Match), (status = 404, body = ProblemDetails)))]
#[get("/documents?<sha256>")]
async fn matching(
    user: Viewer,
    sha256: &str,
    store: &State<Store>,
    engine: &State<EngineHandle>,
) -> Answer<Match> {
    let nothing = || {
        Problem::not_found(
            "document with these bytes: it was not made here, or was altered since".to_owned(),
        )
    };
    let found = match store.document_with(sha256, &user.1).await? {
        Some(found) => found,
        None => {
            return Err(record_gone(store, &user.1, sha256)
                .await?
                .unwrap_or_else(nothing));
        }
    };
    let run = seen::run(store, &user.1, found.run_id).await?;
    let place = store.snapshot_place(found.snapshot_id).await?;
    let Some(kept) = store.whole_snapshot(found.snapshot_id).await? else {
        return Ok(Json(Match {
            window: view::run_summary(run.clone()).window.label,
            run: run.id,
            report: run.report,
            made_at: found.created_at,
            snapshot_unaltered: false,
            reproducible: false,
            snapshot_removed_at: place.and_then(|(_, at)| at),
            document: view::document_view_of(found),
        }));
    };
    let kept = Arc::new(kept);
    let opened = kept.clone();
    let work = move || {
        let snapshot = snapshots::open(&opened).map_err(|error| failed(&error))?;
        let digest = Snapshot::digest_of(&opened.stored.body).map_err(|error| failed(&error))?;
        Ok::<_, Problem>((snapshot.window.label(), digest))
    };
    let (window, digest) = engine.compute(work).await??;
    let format = *found.format;
    let sealed = kept.stored.sha256.clone();
    let again = written(engine, move || snapshots::open(&kept), format).await?;
    Ok(Json(Match {
        run: run.id,
        report: run.report,
        window,
        made_at: found.created_at,
        snapshot_unaltered: digest == sealed,
        reproducible: again.iter().any(|file| {
            file.file_name == found.file_name && sha256_of(&file.bytes) == found.sha256
        }),
        snapshot_removed_at: None,
        document: view::document_view_of(found),
    }))
}

/// What an administrator is told of a document whose run is on record no more.
async fn record_gone(
    store: &Store,
    sight: &Sight,
    sha256: &str,
) -> Result<Option<Problem>, Problem> {
    if *sight != Sight::All {
        return Ok(None);
    }
    let found = store.removed_document(sha256).await?;
    Ok(found.map(|one| {
        let what = format!(
            "this was made here, for {} in the run {}; the documents of it",
            one.report, one.run_id
        );
        Problem::gone(what, one.at)
    }))
}

fn failed(error: &dyn std::fmt::Display) -> Problem {
    Problem::new(500, "Cannot be written", error.to_string())
}

/// Layout is work for a processor, so it is kept off the threads that serve requests.
pub(super) async fn written(
    engine: &EngineHandle,
    snapshot: impl FnOnce() -> Result<Snapshot, BadSnapshot> + Send + 'static,
    format: Format,
) -> Result<Vec<Rendered>, Problem> {
    let work = move || {
        let document = compose(&snapshot().map_err(|error| error.to_string())?)
            .map_err(|error| error.to_string())?;
        maple_lark_render::render(&document, format).map_err(|error| error.to_string())
    };
    engine.compute(work).await?.map_err(|error| failed(&error))
}

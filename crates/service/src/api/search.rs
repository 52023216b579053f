//! The archive: every document that was made, found, downloaded together, looked at side by side.

use maple_lark_api::{ArchiveEntry, ArchivePage, DocumentView, FoundPiece, ProblemDetails};
use maple_lark_data::{digest::sha256, status::Status};
use maple_lark_definition::{DefinitionSet, Format, Mailbox};
use maple_lark_document::compose::compose;
use maple_lark_render::{first_page_small, together};
use maple_lark_store::{
    Store,
    archive::{ArchiveFilter, ArchiveOrder, Found},
    teams::Sight,
};
use maple_lark_time::{Window, Zone};
use rocket::{
    FromForm, Request, Route, State, get,
    http::Header,
    response::{Responder, Response},
    routes,
    serde::json::Json,
};
use uuid::Uuid;

use super::{
    Answer,
    archive::format_named,
    body::{given, instant, whole},
    documents::File,
    problem::Problem,
    seen,
};
use crate::{
    access::{SignedIn, Trail},
    engine::{EngineHandle, snapshots},
};

pub fn routes() -> Vec<Route> {
    routes![search, zip, front]
}

/// So many documents come in one zip, and so many bytes.
const MOST_TOGETHER: u64 = 500;
const LARGEST_TOGETHER: i64 = 200_000_000;
/// How a document can be judged.
const STATUSES: [&str; 4] = ["ok", "unknown", "warning", "critical"];
/// Characters of what is looked for.
const LONGEST_WORDS: usize = 500;

/// Which documents are wanted.
#[derive(FromForm)]
struct Wanted<'r> {
    words: Option<&'r str>,
    report: Option<&'r str>,
    tag: Option<&'r str>,
    recipient: Option<&'r str>,
    format: Option<&'r str>,
    status: Option<&'r str>,
    from: Option<&'r str>,
    to: Option<&'r str>,
    about: Option<&'r str>,
    at_least: Option<&'r str>,
    sort: Option<&'r str>,
}

fn refused(words: String) -> Problem {
    Problem::new(422, "Not understood", words)
}

impl Wanted<'_> {
    fn filter(&self, set: &DefinitionSet) -> Result<ArchiveFilter, Problem> {
        let words = given(self.words);
        if words.is_some_and(|words| words.chars().count() > LONGEST_WORDS) {
            let limit = format!("at most {LONGEST_WORDS} characters can be looked for");
            return Err(refused(limit));
        }
        let mut reports = given(self.report).map(|name| vec![name.to_owned()]);
        if let Some(tag) = given(self.tag) {
            let tagged = set.reports.values();
            let tagged = tagged.filter(|report| report.tags.iter().any(|one| one == tag));
            let mut names: Vec<String> = tagged.map(|report| report.name.clone()).collect();
            if let Some(only) = &reports {
                names.retain(|name| only.contains(name));
            }
            reports = Some(names);
        }
        let status = given(self.status).map(|word| {
            let known = Status::from_word(word).filter(|_| STATUSES.contains(&word));
            known.ok_or_else(|| {
                refused(format!(
                    "\"{word}\" is no status; there are {}",
                    STATUSES.join(", ")
                ))
            })
        });
        let status = status.transpose()?;
        // "Name <address>" is the address.
        let recipient = given(self.recipient).map(|text| match text.parse::<Mailbox>() {
            Ok(mailbox) => mailbox.address,
            Err(_) => text.to_owned(),
        });
        Ok(ArchiveFilter {
            words: words.map(str::to_owned),
            reports,
            from: instant("from", self.from)?,
            to: instant("to", self.to)?,
            about: instant("about", self.about)?,
            recipient,
            format: given(self.format).map(format_named).transpose()?,
            status: status.map(|status| status.word().to_owned()),
            at_least: whole("at_least", given(self.at_least))?
                .map(|bytes| i64::try_from(bytes).unwrap_or(i64::MAX)),
        })
    }

    fn order(&self) -> Result<ArchiveOrder, Problem> {
        match given(self.sort) {
            None | Some("newest") => Ok(ArchiveOrder::Newest),
            Some("oldest") => Ok(ArchiveOrder::Oldest),
            Some("largest") => Ok(ArchiveOrder::Largest),
            Some("report") => Ok(ArchiveOrder::Report),
            Some(other) => Err(refused(format!(
                "documents are not sorted by \"{other}\"; there are newest, oldest, largest and report"
            ))),
        }
    }
}

/// A piece of text in which what was found stands between two signs.
fn pieces(marked: &str) -> Vec<FoundPiece> {
    let mut found: Vec<FoundPiece> = Vec::new();
    let mut add = |text: &str, hit: bool| {
        // Of several spaces and breaks of lines one space is left, also at an end.
        let mut plain = String::new();
        for c in text.chars() {
            match (c.is_whitespace(), plain.ends_with(' ')) {
                (true, true) => {}
                (true, false) => plain.push(' '),
                (false, _) => plain.push(c),
            }
        }
        match found.last_mut() {
            _ if plain.is_empty() => {}
            // A name may be several words to the database.
            Some(last) if hit && last.hit => last.text += &plain,
            _ => found.push(FoundPiece { text: plain, hit }),
        }
    };
    let mut rest = marked;
    while let Some((before, after)) = rest.split_once('⟦') {
        let (hit, after) = after.split_once('⟧').unwrap_or((after, ""));
        add(before, false);
        add(hit, true);
        rest = after;
    }
    add(rest, false);
    found
}

fn entry(sight: &Sight, found: Found) -> ArchiveEntry {
    let sees_run = !matches!(sight, Sight::Within { .. }) && sight.sees(&found.team);
    let window = Window {
        from: found.window_from,
        to: found.window_to,
        zone: found.time_zone.parse().unwrap_or(Zone::UTC),
        within: found
            .within
            .and_then(|within| serde_json::from_value(within).ok()),
    };
    ArchiveEntry {
        document: DocumentView {
            id: found.id,
            snapshot_id: found.snapshot_id,
            format: *found.format,
            file_name: found.file_name,
            variant: found.variant,
            media_type: found.media_type,
            size: found.size,
            sha256: found.sha256,
            removed_at: found.removed_at,
        },
        run: found.run_id,
        sees_run,
        state: *found.state,
        report: found.report,
        title: found.title,
        window: window.label(),
        made_at: found.created_at,
        status: found.status.map(|status| status.to_lowercase()),
        sent: found.sent,
        found: found.found.as_deref().map(pieces).unwrap_or_default(),
    }
}

/// Every document that was made: found by what it says, its report, its window, who got it.
#[utoipa::path(get, operation_id = "search_archive", path = "/archive", tag = "archive", params(("words" = Option<String>, Query, description = "words that it says; in quotes next to each other, with a minus not"), ("report" = Option<String>, Query), ("tag" = Option<String>, Query), ("recipient" = Option<String>, Query, description = "an address that it was sent to, or a part of one"), ("format" = Option<String>, Query), ("status" = Option<String>, Query, description = "ok, unknown, warning or critical"), ("from" = Option<DateTime<Utc>>, Query, description = "made from this instant on"), ("to" = Option<DateTime<Utc>>, Query, description = "made before this instant"), ("about" = Option<DateTime<Utc>>, Query, description = "an instant in its window"), ("at_least" = Option<u64>, Query, description = "bytes"), ("sort" = Option<String>, Query, description = "newest, oldest, largest or report"), ("page" = Option<u64>, Query, description = "counted from 1"), ("size" = Option<u64>, Query, description = "at most 200")), responses((status = 200, body = ArchivePage), (status = 422, body = ProblemDetails)))]
#[get("/archive?<page>&<size>&<wanted..>")]
async fn search(
    user: SignedIn,
    page: Option<&str>,
    size: Option<&str>,
    wanted: Wanted<'_>,
    store: &State<Store>,
    engine: &State<EngineHandle>,
) -> Answer<ArchivePage> {
    let page = whole("page", page)?.unwrap_or(1).clamp(1, 1 << 40);
    let size = whole("size", size)?.unwrap_or(25).clamp(1, 200);
    let definitions = engine.definitions(store, &user.1).await?;
    let filter = wanted.filter(&definitions.set)?;
    let found = store.archive(&filter, user.reader(), wanted.order()?, page, size);
    let found = found.await?;
    Ok(Json(ArchivePage {
        items: found
            .items
            .into_iter()
            .map(|one| entry(&user.1, one))
            .collect(),
        total: found.total,
        more: found.more,
        page,
        size,
    }))
}

/// The documents that are wanted as one zip, with a list of what is in it.
#[utoipa::path(get, operation_id = "download_archive", path = "/archive.zip", tag = "archive", params(("words" = Option<String>, Query), ("report" = Option<String>, Query), ("tag" = Option<String>, Query), ("recipient" = Option<String>, Query), ("format" = Option<String>, Query), ("status" = Option<String>, Query), ("from" = Option<DateTime<Utc>>, Query), ("to" = Option<DateTime<Utc>>, Query), ("about" = Option<DateTime<Utc>>, Query), ("at_least" = Option<u64>, Query), ("sort" = Option<String>, Query)), responses((status = 200, description = "the documents as a zip", content_type = "application/zip"), (status = 404, body = ProblemDetails), (status = 422, body = ProblemDetails)))]
#[get("/archive.zip?<wanted..>")]
async fn zip(
    user: SignedIn,
    wanted: Wanted<'_>,
    store: &State<Store>,
    engine: &State<EngineHandle>,
    trail: Trail,
) -> Result<File, Problem> {
    let definitions = engine.definitions(store, &user.1).await?;
    let filter = wanted.filter(&definitions.set)?;
    let found = store.archive(&filter, user.reader(), wanted.order()?, 1, MOST_TOGETHER);
    let found = found.await?;
    if found.items.is_empty() {
        return Err(Problem::not_found("document that fits"));
    }
    let bytes: i64 = found.items.iter().map(|one| one.size).sum();
    if found.total > MOST_TOGETHER || bytes > LARGEST_TOGETHER {
        return Err(Problem::new(
            422,
            "Too much at a time",
            format!(
                "one zip holds at most {MOST_TOGETHER} documents and {} MB; choose fewer, for instance those of one month",
                LARGEST_TOGETHER / 1_000_000
            ),
        ));
    }
    trail.note(format!("{} documents", found.items.len()));
    let mut files = Vec::new();
    for one in &found.items {
        // What went stands in the manifest alone, with the instant.
        let kept = store.document(one.id).await?;
        if let Some(document) = kept.filter(|document| document.removed_at.is_none()) {
            // Runs of one report give their files the same names.
            let name = format!("{}/{}", one.run_id, document.file_name);
            let variant = if one.variant.is_empty() {
                name
            } else {
                format!("{}/{}/{}", one.run_id, one.variant, document.file_name)
            };
            files.push((variant, document.body));
        }
    }
    let entries: Vec<ArchiveEntry> = found
        .items
        .into_iter()
        .map(|one| entry(&user.1, one))
        .collect();
    let now = engine.now();
    let work = move || {
        let manifest = serde_json::to_vec_pretty(&serde_json::json!({
            "made_at": now,
            "documents": entries,
        }))?;
        files.insert(0, ("manifest.json".to_owned(), manifest));
        together(&files, now.timestamp()).map_err(std::io::Error::other)
    };
    let packed = engine.compute(work).await?;
    let body = packed.map_err(|error: std::io::Error| {
        Problem::new(500, "Cannot be packed", error.to_string())
    })?;
    Ok(File {
        name: format!("archive-{}.zip", now.format("%Y-%m-%d")),
        media_type: "application/zip".to_owned(),
        sha256: sha256(&body),
        body,
        download: true,
    })
}

/// A picture that stays what it is.
struct Picture(File);

impl<'r> Responder<'r, 'static> for Picture {
    fn respond_to(self, request: &'r Request<'_>) -> rocket::response::Result<'static> {
        let mut response: Response<'static> = self.0.respond_to(request)?;
        // The same snapshot gives the same picture; who sees it may change.
        response.set_header(Header::new("Cache-Control", "private, max-age=600"));
        Ok(response)
    }
}

/// The first page of a snapshot's document, as a small picture.
#[utoipa::path(get, operation_id = "front_page", path = "/snapshots/{id}/front", tag = "archive", params(("id" = Uuid, Path)), responses((status = 200, description = "the page as a PNG", content_type = "image/png"), (status = 404, body = ProblemDetails)))]
#[get("/snapshots/<id>/front")]
async fn front(
    user: SignedIn,
    id: Uuid,
    store: &State<Store>,
    engine: &State<EngineHandle>,
) -> Result<Picture, Problem> {
    let (kept, _) = seen::snapshot_of_documents(store, &user, id).await?;
    let work = move || {
        let document = snapshots::open(&kept)
            .and_then(|snapshot| compose(&snapshot))
            .map_err(|error| error.to_string())?;
        first_page_small(&document).map_err(|error| error.to_string())
    };
    let drawn = engine.compute(work).await?;
    let body = drawn.map_err(|error| Problem::new(500, "Cannot be drawn", error))?;
    Ok(Picture(File {
        name: format!("{id}.png"),
        media_type: Format::Png.media_type().to_owned(),
        sha256: sha256(&body),
        body,
        download: false,
    }))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_was_found_is_told_from_what_stands_around_it() {
        let of = |text: &str| -> Vec<(String, bool)> {
            let pieces = pieces(text).into_iter();
            pieces.map(|one| (one.text, one.hit)).collect()
        };
        let piece = |text: &str, hit| (text.to_owned(), hit);
        assert_eq!(
            of("disk of ⟦db⟧⟦-2⟧   full\n… on ⟦db-2⟧-old"),
            [
                piece("disk of ", false),
                piece("db-2", true),
                piece(" full … on ", false),
                piece("db-2", true),
                piece("-old", false),
            ]
        );
        assert_eq!(
            of("⟦disk⟧ ⟦full⟧"),
            [piece("disk", true), piece(" ", false), piece("full", true)]
        );
        assert_eq!(of("⟦open"), [("open".to_owned(), true)]);
        assert_eq!(of(""), []);
    }
}

//! The audit trail as it is read: filtered, exported, proved.

use maple_lark_api::{
    AuditEntry, AuditOutcome, AuditPage, AuditProof, ProblemDetails, Words, audited_as,
};
use maple_lark_store::{
    Store,
    audit::{Entry, EntryFilter},
};
use rocket::{
    FromForm, Route, State, get,
    http::{ContentType, Header},
    response::{Responder, stream::ByteStream},
    routes,
    serde::json::Json,
};

use super::{
    Answer,
    body::{given, instant, whole},
    problem::Problem,
};
use crate::access::Administrator;

pub fn routes() -> Vec<Route> {
    routes![list, export, proof]
}

/// Entries of one piece of an export.
const PIECE: u64 = 1_000;

/// Which entries are wanted.
#[derive(FromForm)]
struct Wanted<'r> {
    user: Option<&'r str>,
    action: Option<&'r str>,
    text: Option<&'r str>,
    outcome: Option<&'r str>,
    from: Option<&'r str>,
    to: Option<&'r str>,
}

impl Wanted<'_> {
    fn filter(&self) -> Result<EntryFilter, Problem> {
        let refused = |words: String| Problem::new(422, "Not understood", words);
        let owned = |text: Option<&str>| given(text).map(str::to_owned);
        let action = owned(self.action);
        if let Some(action) = action.as_deref().filter(|one| audited_as(one).is_none()) {
            return Err(refused(format!(
                "\"{action}\" is no action of the audit trail"
            )));
        }
        let outcome = given(self.outcome).map(AuditOutcome::from_word);
        Ok(EntryFilter {
            actor: owned(self.user),
            action,
            text: owned(self.text),
            outcome: outcome
                .transpose()
                .map_err(|error| refused(error.to_string()))?,
            from: instant("from", self.from)?,
            to: instant("to", self.to)?,
        })
    }
}

fn view(entry: Entry) -> AuditEntry {
    AuditEntry {
        id: entry.id,
        at: entry.at,
        user: entry.actor,
        address: entry.address,
        words: audited_as(&entry.action)
            .unwrap_or(&entry.action)
            .to_owned(),
        action: entry.action,
        subject: entry.subject,
        detail: entry.detail,
        outcome: *entry.outcome,
        sha256: entry.sha256,
    }
}

/// Who did what, the latest first.
#[utoipa::path(get, operation_id = "list_audit", path = "/audit", tag = "access", params(("user" = Option<String>, Query), ("action" = Option<String>, Query, description = "an operation, such as run_report"), ("text" = Option<String>, Query, description = "words in what it was done to, or in the detail"), ("outcome" = Option<AuditOutcome>, Query), ("from" = Option<DateTime<Utc>>, Query), ("to" = Option<DateTime<Utc>>, Query, description = "before this instant"), ("page" = Option<u64>, Query, description = "counted from 1"), ("size" = Option<u64>, Query, description = "at most 200")), responses((status = 200, body = AuditPage), (status = 422, body = ProblemDetails)))]
#[get("/audit?<page>&<size>&<wanted..>")]
async fn list(
    _user: Administrator,
    page: Option<&str>,
    size: Option<&str>,
    wanted: Wanted<'_>,
    store: &State<Store>,
) -> Answer<AuditPage> {
    let page = whole("page", page)?.unwrap_or(1).clamp(1, 1 << 40);
    let size = whole("size", size)?.unwrap_or(50).clamp(1, 200);
    let found = store.audit_entries(&wanted.filter()?, page, size).await?;
    Ok(Json(AuditPage {
        items: found.items.into_iter().map(view).collect(),
        total: found.total,
        page,
        size,
    }))
}

/// Entries as lines of CSV (RFC 4180).
fn lines(entries: &[Entry], heading: bool) -> Vec<u8> {
    let mut writer = csv::WriterBuilder::new()
        .terminator(csv::Terminator::CRLF)
        .from_writer(Vec::new());
    let mut write = |fields: &[&str]| {
        // Writing into memory does not fail.
        let _ = writer.write_record(fields);
    };
    if heading {
        write(&[
            "id", "at", "user", "address", "action", "subject", "detail", "outcome", "sha256",
        ]);
    }
    for entry in entries {
        let at = entry
            .at
            .to_rfc3339_opts(chrono::SecondsFormat::Micros, true);
        write(&[
            &entry.id.to_string(),
            &at,
            entry.actor.as_deref().unwrap_or_default(),
            entry.address.as_deref().unwrap_or_default(),
            &entry.action,
            &entry.subject,
            entry.detail.as_deref().unwrap_or_default(),
            entry.outcome.word(),
            &entry.sha256,
        ]);
    }
    writer.into_inner().unwrap_or_default()
}

/// A file that comes as it is read.
#[derive(Responder)]
struct Export<S> {
    body: S,
    kind: ContentType,
    disposition: Header<'static>,
}

/// The entries as CSV, the earliest first, as many as there are.
#[utoipa::path(get, operation_id = "export_audit", path = "/audit.csv", tag = "access", params(("user" = Option<String>, Query), ("action" = Option<String>, Query), ("text" = Option<String>, Query), ("outcome" = Option<AuditOutcome>, Query), ("from" = Option<DateTime<Utc>>, Query), ("to" = Option<DateTime<Utc>>, Query, description = "before this instant")), responses((status = 200, description = "the entries", content_type = "text/csv", body = String), (status = 422, body = ProblemDetails)))]
#[get("/audit.csv?<wanted..>")]
async fn export(
    _user: Administrator,
    wanted: Wanted<'_>,
    store: &State<Store>,
) -> Result<Export<ByteStream![Vec<u8>]>, Problem> {
    let (filter, store) = (wanted.filter()?, store.inner().clone());
    // What cannot be read at all is an error, and no empty file.
    let first = store.audit_entries_after(&filter, 0, PIECE).await?;
    let body = ByteStream! {
        let mut piece = first;
        let mut heading = true;
        loop {
            yield lines(&piece, heading);
            heading = false;
            let Some(last) = piece.last().filter(|_| piece.len() as u64 == PIECE) else { break };
            match store.audit_entries_after(&filter, last.id, PIECE).await {
                Ok(next) => piece = next,
                Err(error) => {
                    tracing::error!(%error, "an export of the audit trail broke off");
                    yield b"# broken off: the database did not answer\r\n".to_vec();
                    break;
                }
            }
        }
    };
    Ok(Export {
        body,
        kind: ContentType::CSV,
        disposition: Header::new("Content-Disposition", "attachment; filename=\"audit.csv\""),
    })
}

/// Whether the audit trail is what was kept: every entry carries the digest of the one before it.
#[utoipa::path(get, operation_id = "prove_audit", path = "/audit/proof", tag = "access", responses((status = 200, body = AuditProof)))]
#[get("/audit/proof")]
async fn proof(_user: Administrator, store: &State<Store>) -> Answer<AuditProof> {
    let found = store.verify_audit().await?;
    Ok(Json(AuditProof {
        intact: found.broken.is_empty(),
        entries: found.entries,
        head: found.head,
        broken: found.broken,
    }))
}

//! Composes each snapshot of a run and keeps its documents.

use std::{collections::BTreeSet, sync::Arc, time::Instant};

use maple_lark_api::{StepKind, StepState};
use maple_lark_data::{digest::sha256, status::Status};
use maple_lark_definition::{Format, RecipientFormat, Report, ResolvedAudience, SendWhen};
use maple_lark_document::{
    Snapshot,
    compose::{compose, compose_for},
    document::Document,
    send_condition,
    snapshot::BadSnapshot,
};
use maple_lark_store::{
    documents::{Document as StoredDocument, SnapshotHead},
    pictures::WholeSnapshot,
    runs::Run,
};
use uuid::Uuid;

use super::{
    collect::{AtHand, Collected},
    context::{RunContext, values_key},
    step::Step,
};
use crate::engine::{
    guard::Panicked,
    lately::{Composed, is_small},
    limits::Purpose,
    room::Held,
    shared::{Shared, WorkError},
    snapshots,
};

/// What became of the snapshots of a run.
pub struct Judged {
    /// All of them, as they were judged.
    pub heads: Vec<SnapshotHead>,
    /// The blocks that failed and why, each named once.
    pub failed: Vec<(String, String)>,
}

/// Renders every snapshot in every format of the report, in every way that somebody of its
/// audiences reads it, and keeps how each was judged.
pub async fn render(
    shared: &Shared,
    context: &RunContext,
    audiences: &[ResolvedAudience],
    collected: Vec<Collected>,
) -> Result<Judged, WorkError> {
    let RunContext { run, report, .. } = context;
    let (mut heads, mut failed) = (Vec::with_capacity(collected.len()), BTreeSet::new());
    for Collected { mut head, at_hand } in collected {
        // One at a time: a snapshot may be large.
        let Some(found) = found(shared, head.id, at_hand).await? else {
            heads.push(head);
            continue;
        };
        let last = match &report.send_when {
            SendWhen::Change => shared
                .store
                .status_before(run, &head.values_key)
                .await?
                .and_then(|word| Status::from_word(&word)),
            _ => None,
        };
        // Composed again only for those who read numbers and dates in another way.
        let mut formats_wanted = recipient_formats(audiences, &head.values_key);
        formats_wanted.retain(|format| !format.is_usual());
        let report_of_run = report.clone();
        let composed = shared
            .computing(Purpose::Work)
            .run(move || composed(found.at, &report_of_run, last, &formats_wanted))
            .await?;
        let AllComposed {
            snapshot,
            document,
            others,
            quiet,
        } = composed.map_err(|error| WorkError::Run(error.to_string()))?;
        failed.extend(document.failed.iter().cloned());
        shared
            .store
            .judge_snapshot(
                context.claim,
                head.id,
                document.summary.status.word(),
                quiet.as_deref(),
            )
            .await?;
        head.status = Some(document.summary.status.word().to_owned());
        head.quiet = quiet;
        let snapshot = found.small.then(|| Arc::new(snapshot));
        for (variant, document) in std::iter::once((String::new(), document)).chain(others) {
            let document = Arc::new(document);
            if let Some(snapshot) = &snapshot {
                let composed = Composed::of(&context.definitions, snapshot, &document);
                let lately = &shared.lately;
                lately.put(head.id, &variant, composed, Instant::now());
            }
            formats(shared, run, report, &head, &variant, document).await?;
        }
        drop(found.room);
        heads.push(head);
    }
    let failed = failed.into_iter().collect();
    Ok(Judged { heads, failed })
}

/// What comes of a snapshot.
struct AllComposed {
    snapshot: Snapshot,
    document: Document,
    /// The same for each other way to read numbers and dates, by its key.
    others: Vec<(String, Document)>,
    /// Why it is not worth sending, if it is not.
    quiet: Option<String>,
}

/// Where a snapshot is.
enum Lies {
    AtHand(Box<Snapshot>),
    OnRecord(Box<WholeSnapshot>),
}

/// A snapshot to compose.
struct Found {
    at: Lies,
    /// Whether its record is small.
    small: bool,
    /// The room that its answers take, which is given back with it.
    room: Option<Held>,
}

/// A snapshot that is at hand or, if it is not, its record; nothing if that went.
async fn found(
    shared: &Shared,
    id: Uuid,
    at_hand: Option<AtHand>,
) -> Result<Option<Found>, WorkError> {
    if let Some(AtHand {
        snapshot,
        small,
        room,
    }) = at_hand
    {
        let at = Lies::AtHand(snapshot);
        return Ok(Some(Found { at, small, room }));
    }
    let kept = shared.store.whole_snapshot(id).await?;
    Ok(kept.map(|kept| Found {
        small: is_small(kept.stored.body.len()) && kept.pictures.is_empty(),
        at: Lies::OnRecord(Box::new(kept)),
        room: None,
    }))
}

fn composed(
    at: Lies,
    report: &Report,
    last: Option<Status>,
    formats: &[RecipientFormat],
) -> Result<AllComposed, BadSnapshot> {
    let snapshot = match at {
        Lies::AtHand(snapshot) => *snapshot,
        Lies::OnRecord(kept) => snapshots::open(&kept)?,
    };
    let document = compose(&snapshot)?;
    let quiet = send_condition::reason(report, &snapshot, &document, last);
    let others = formats
        .iter()
        .map(|format| Ok((format.key(), compose_for(&snapshot, format)?)))
        .collect::<Result<_, BadSnapshot>>()?;
    Ok(AllComposed {
        snapshot,
        document,
        others,
        quiet,
    })
}

/// The ways in which somebody reads the documents of one set of values.
fn recipient_formats(audiences: &[ResolvedAudience], key: &str) -> Vec<RecipientFormat> {
    let concerned = audiences
        .iter()
        .filter(|audience| values_key(&audience.values) == key);
    let mut found: Vec<RecipientFormat> = Vec::new();
    for recipient in concerned
        .filter(|audience| !audience.together)
        .flat_map(ResolvedAudience::everybody)
    {
        if !found.contains(&recipient.format) {
            found.push(recipient.format);
        }
    }
    found
}

/// Makes one format after the other, and keeps what came of each.
async fn formats(
    shared: &Shared,
    run: &Run,
    report: &Report,
    head: &SnapshotHead,
    variant: &str,
    document: Arc<Document>,
) -> Result<(), WorkError> {
    // Let go with its last format, before the files are stored.
    let mut document = Some(document);
    let mut formats = report.formats.iter().copied().peekable();
    while let Some(format) = formats.next() {
        let way = if variant.is_empty() {
            String::new()
        } else {
            format!(", {variant}")
        };
        let subject = format!("{} ({}{way})", format.name(), &head.values_key[..8]);
        let step = Step::begin(shared, run.claim(), StepKind::Render, subject);
        let of = if formats.peek().is_some() {
            document.clone()
        } else {
            document.take()
        };
        let Some(of) = of else { break };
        let rendered = step.carry_out(documents(shared, of, format)).await?;
        match rendered {
            Ok(files) => {
                let size: usize = files.iter().map(|file| file.bytes.len()).sum();
                let detail = format!(
                    "{} {}, {size} bytes",
                    files.len(),
                    if files.len() == 1 { "file" } else { "files" }
                );
                let kept = files
                    .into_iter()
                    .map(|file| StoredDocument {
                        id: Uuid::now_v7(),
                        run_id: run.id,
                        snapshot_id: head.id,
                        format: format.into(),
                        file_name: file.file_name,
                        media_type: file.media_type.to_owned(),
                        sha256: sha256(&file.bytes),
                        size: file.bytes.len() as i64,
                        body: file.bytes,
                        created_at: shared.now(),
                        variant: variant.to_owned(),
                        removed_at: None,
                    })
                    .collect();
                let ended = step.ended(StepState::Done, detail, shared.now());
                shared
                    .store
                    .keep_documents(run.claim(), kept, Some(&ended))
                    .await?;
            }
            Err(error) => {
                let reason = error.to_string();
                step.end(StepState::Failed, reason.clone(), shared.now())
                    .await?;
                return Err(WorkError::Run(reason));
            }
        }
    }
    Ok(())
}

/// Why a document has no file of a format.
#[derive(Debug, thiserror::Error)]
enum RenderFailed {
    #[error(transparent)]
    Render(#[from] maple_lark_render::RenderError),
    #[error("rendering: {0}")]
    Ended(#[from] Panicked),
}

/// Layout is work for a processor, so it is kept off the threads that serve requests.
async fn documents(
    shared: &Shared,
    document: Arc<Document>,
    format: Format,
) -> Result<Vec<maple_lark_render::Rendered>, RenderFailed> {
    let rendered = shared
        .computing(Purpose::Work)
        .run(move || maple_lark_render::render(&document, format));
    Ok(rendered.await??)
}

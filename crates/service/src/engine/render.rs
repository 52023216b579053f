//! Composes each snapshot of a run and keeps its documents.

use std::collections::{BTreeMap, BTreeSet};

use maple_lark_core::{
    Snapshot,
    compose::compose,
    definition::{Format, Report},
    quiet,
    snapshot::sha256,
};
use maple_lark_store::runs::{Document as StoredDocument, Run};
use uuid::Uuid;

use super::{Shared, WorkError};

/// What rendering a run has found.
pub struct Made {
    /// The blocks that failed and why, each named once.
    pub failed: Vec<(String, String)>,
    /// The snapshots that nobody needs to see, by their values' key, with the reason.
    pub quiet: BTreeMap<String, String>,
}

/// Renders every snapshot in every format of the report.
pub async fn render(shared: &Shared, run: &Run, report: &Report) -> Result<Made, WorkError> {
    let mut failed = BTreeSet::new();
    let mut quiet = BTreeMap::new();
    for head in shared.store.snapshot_heads(run.id).await? {
        // One at a time: a snapshot may be large.
        let Some(stored) = shared.store.snapshot(head.id).await? else { continue };
        let snapshot = Snapshot::open(&stored.body).map_err(|error| WorkError::Run(error.to_string()))?;
        let document = compose(&snapshot).map_err(|error| WorkError::Run(error.to_string()))?;
        failed.extend(document.failed.iter().cloned());
        quiet.extend(quiet::reason(report, &snapshot, &document).map(|reason| (stored.values_key.clone(), reason)));
        drop(snapshot);
        let document = std::sync::Arc::new(document);
        for format in report.formats.iter().copied() {
            let subject = format!("{} ({})", format.name(), &stored.values_key[..8]);
            shared.store.begin_step(run.id, "render", &subject, shared.now()).await?;
            let rendered = documents(document.clone(), format).await;
            match rendered {
                Ok(files) => {
                    let size: usize = files.iter().map(|file| file.bytes.len()).sum();
                    let detail = format!("{} {}, {size} bytes", files.len(), if files.len() == 1 { "file" } else { "files" });
                    let kept = files
                        .into_iter()
                        .map(|file| StoredDocument {
                            id: Uuid::now_v7(),
                            run_id: run.id,
                            snapshot_id: stored.id,
                            format: format.name().to_owned(),
                            file_name: file.file_name,
                            media_type: file.media_type.to_owned(),
                            sha256: sha256(&file.bytes),
                            size: file.bytes.len() as i64,
                            body: file.bytes,
                            created_at: shared.now(),
                        })
                        .collect();
                    shared.store.keep_documents(kept).await?;
                    shared.store.end_step(run.id, "render", &subject, "done", Some(detail), shared.now()).await?;
                }
                Err(reason) => {
                    shared.store.end_step(run.id, "render", &subject, "failed", Some(reason.clone()), shared.now()).await?;
                    return Err(WorkError::Run(reason));
                }
            }
        }
    }
    Ok(Made { failed: failed.into_iter().collect(), quiet })
}

/// Layout is work for a processor, so it is kept off the threads that serve requests.
async fn documents(document: std::sync::Arc<maple_lark_core::document::Document>, format: Format) -> Result<Vec<maple_lark_documents::Rendered>, String> {
    tokio::task::spawn_blocking(move || maple_lark_documents::render(&document, format).map_err(|error| error.to_string()))
        .await
        .unwrap_or_else(|error| Err(format!("rendering ended unexpectedly: {error}")))
}

//! Composes each snapshot of a run and keeps its documents.

use std::collections::BTreeSet;

use chrono::Utc;
use maple_lark_core::{
    Snapshot,
    compose::compose,
    definition::{Format, Report},
    snapshot::sha256,
};
use maple_lark_store::runs::{Document as StoredDocument, Run};
use uuid::Uuid;

use super::{Shared, WorkError};

/// Renders every snapshot in every format of the report. Answers with the blocks that
/// failed, each named once.
pub async fn render(shared: &Shared, run: &Run, report: &Report) -> Result<Vec<(String, String)>, WorkError> {
    let mut failed = BTreeSet::new();
    for stored in shared.store.snapshots(run.id).await? {
        let snapshot = Snapshot::from_bytes(&stored.body).map_err(|error| WorkError::Run(error.to_string()))?;
        let document = compose(&snapshot).map_err(|error| WorkError::Run(error.to_string()))?;
        failed.extend(document.failed.iter().cloned());
        let document = std::sync::Arc::new(document);
        for format in report.formats.iter().copied() {
            let subject = format!("{} ({})", format.name(), &stored.values_key[..8]);
            shared.store.begin_step(run.id, "render", &subject, Utc::now()).await?;
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
                            media_type: format.media_type().to_owned(),
                            sha256: sha256(&file.bytes),
                            size: file.bytes.len() as i64,
                            body: file.bytes,
                            created_at: Utc::now(),
                        })
                        .collect();
                    shared.store.keep_documents(kept).await?;
                    shared.store.end_step(run.id, "render", &subject, "done", Some(detail), Utc::now()).await?;
                }
                Err(reason) => {
                    shared.store.end_step(run.id, "render", &subject, "failed", Some(reason.clone()), Utc::now()).await?;
                    return Err(WorkError::Run(reason));
                }
            }
        }
    }
    Ok(failed.into_iter().collect())
}

/// Layout is work for a processor, so it is kept off the threads that serve requests.
async fn documents(document: std::sync::Arc<maple_lark_core::document::Document>, format: Format) -> Result<Vec<maple_lark_documents::Rendered>, String> {
    tokio::task::spawn_blocking(move || maple_lark_documents::render(&document, format).map_err(|error| error.to_string()))
        .await
        .unwrap_or_else(|error| Err(format!("rendering ended unexpectedly: {error}")))
}

//! The run and the document behind a delivery.

use maple_lark_definition::{RecipientFormat, ResolvedAudience};
use maple_lark_document::{
    Snapshot, compose::compose_for, document::Document, snapshot::BadSnapshot,
};
use maple_lark_store::{deliveries::Delivery, runs::Run};

use crate::engine::{
    limits::Purpose,
    shared::{Shared, WorkError},
    snapshots,
};

/// A delivery's run, and its document as its recipient reads it.
pub struct Opened {
    pub run: Run,
    pub snapshot: Snapshot,
    pub document: Document,
}

/// The run and the document of a delivery, opened.
pub async fn opened(shared: &Shared, delivery: &Delivery) -> Result<Opened, WorkError> {
    let run = shared
        .store
        .run(delivery.run_id)
        .await?
        .ok_or_else(|| WorkError::Run("its run is gone".to_owned()))?;
    let stored = shared
        .store
        .whole_snapshot(delivery.snapshot_id)
        .await?
        .ok_or_else(|| WorkError::Run("its snapshot is gone".to_owned()))?;
    let recipient_format = audience(&run, &delivery.audience)
        .and_then(|audience| recipient_format(&audience, &delivery.variant))
        .unwrap_or_default();
    let composed = shared.computing(Purpose::Work).run(move || {
        let snapshot = snapshots::open(&stored)?;
        let document = compose_for(&snapshot, &recipient_format)?;
        Ok((snapshot, document))
    });
    let (snapshot, document) = composed
        .await?
        .map_err(|error: BadSnapshot| WorkError::Run(error.to_string()))?;
    Ok(Opened {
        run,
        snapshot,
        document,
    })
}

pub fn audience(run: &Run, name: &str) -> Option<ResolvedAudience> {
    let audiences: Vec<ResolvedAudience> = serde_json::from_value(run.audiences.clone()?).ok()?;
    audiences.into_iter().find(|audience| audience.name == name)
}

fn recipient_format(audience: &ResolvedAudience, variant: &str) -> Option<RecipientFormat> {
    audience
        .everybody()
        .map(|recipient| recipient.format)
        .find(|recipient_format| recipient_format.key() == variant)
}

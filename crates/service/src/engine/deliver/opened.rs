//! The run and the document behind a delivery.

use std::{sync::Arc, time::Instant};

use maple_lark_definition::{RecipientFormat, ResolvedAudience};
use maple_lark_document::{
    Snapshot, compose::compose_for, document::Document, snapshot::BadSnapshot,
};
use maple_lark_store::{deliveries::Delivery, runs::Run};

use crate::engine::{
    definitions::Definitions,
    limits::Purpose,
    shared::{Shared, WorkError},
    snapshots,
};

/// A delivery's run, and its document as its recipient reads it.
pub struct Opened {
    pub run: Run,
    pub definitions: Arc<Definitions>,
    pub snapshot: Arc<Snapshot>,
    pub document: Arc<Document>,
}

/// The run and the document of a delivery, opened.
pub async fn opened(shared: &Shared, delivery: &Delivery) -> Result<Opened, WorkError> {
    let run = shared
        .store
        .run(delivery.run_id)
        .await?
        .ok_or_else(|| WorkError::Run("its run is gone".to_owned()))?;
    // Copies are made from the records, which say whether there is still something to send.
    let lately = shared
        .lately
        .get(delivery.snapshot_id, &delivery.variant, Instant::now())
        .filter(|_| delivery.copy == 0);
    if let Some(lately) = lately {
        return Ok(Opened {
            run,
            definitions: lately.definitions,
            snapshot: lately.snapshot,
            document: lately.document,
        });
    }
    let definitions =
        Definitions::frozen(&run.definitions).map_err(|error| WorkError::Run(error.to_string()))?;
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
        definitions: Arc::new(definitions),
        snapshot: Arc::new(snapshot),
        document: Arc::new(document),
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

//! The outbox: puts deliveries into it, and carries them out one at a time.

use std::collections::BTreeMap;

use chrono::TimeDelta;
use maple_lark_core::{
    Snapshot,
    compose::compose,
    definition::{Mailbox, Report},
    message,
};
use maple_lark_delivery::{Attachment, Letter, send};
use maple_lark_store::{
    StoreError,
    deliveries::{Delivery, Ending},
    runs::Run,
};
use tracing::Instrument;
use uuid::Uuid;

use super::{Catalogue, Held, Shared, WorkError, collect::values_key, keep_lease};
use crate::config::Mail;

const LONGEST_WAIT: TimeDelta = TimeDelta::hours(1);

/// One delivery for each recipient of each audience, waiting from now on. Audiences whose
/// snapshot is quiet get none; answers with the reason if that is true of all.
pub async fn enqueue(
    shared: &Shared,
    run: &Run,
    catalogue: &Catalogue,
    report: &Report,
    quiet: &BTreeMap<String, String>,
) -> Result<Option<String>, WorkError> {
    let snapshots = shared.store.snapshot_heads(run.id).await?;
    let now = shared.now();
    let mut deliveries = Vec::new();
    for audience in &report.audiences {
        let key = values_key(&catalogue.set.values(report, Some(audience)));
        let snapshot = snapshots
            .iter()
            .find(|snapshot| snapshot.values_key == key)
            .ok_or_else(|| WorkError::Run(format!("there is no snapshot for the audience \"{}\"", audience.name)))?;
        if let Some(reason) = quiet.get(&key) {
            shared.store.begin_step(run.id, "send", &audience.name, now).await?;
            shared.store.end_step(run.id, "send", &audience.name, "quiet", Some(reason.clone()), now).await?;
            continue;
        }
        // Only what is sent needs a mail server; a quiet run does without.
        let Some(mail) = &shared.config.mail else {
            return Err(WorkError::Run(
                "no mail server is configured; add [mail] to the configuration of the service, restart it and run the report again".to_owned(),
            ));
        };
        let host = mail.server.from.address.rsplit('@').next().unwrap_or("localhost");
        for recipient in &audience.to {
            let id = Uuid::now_v7();
            deliveries.push(Delivery {
                id,
                run_id: run.id,
                snapshot_id: snapshot.id,
                audience: audience.name.clone(),
                channel: "mail".to_owned(),
                recipient: recipient.to_string(),
                state: "waiting".to_owned(),
                message_id: format!("{id}@{host}"),
                next_attempt_at: now,
                problem: None,
                lease_owner: None,
                lease_until: None,
                created_at: now,
                settled_at: None,
            });
        }
    }
    if deliveries.is_empty()
        && let Some(reason) = quiet.values().next()
    {
        return Ok(Some(reason.clone()));
    }
    tracing::info!(count = deliveries.len(), "deliveries are in the outbox");
    shared.store.enqueue(run.id, shared.owner, deliveries).await?;
    Ok(None)
}

/// Takes one delivery that waits and attempts it. Answers whether there was one.
pub async fn work_on_a_delivery(shared: &Shared) -> Result<bool, StoreError> {
    let Some(mail) = &shared.config.mail else { return Ok(false) };
    let lease = shared.lease();
    let Some((delivery, attempt)) = shared.store.claim_delivery(shared.owner, shared.now(), lease).await? else { return Ok(false) };
    let span = tracing::info_span!("run", id = %delivery.run_id, delivery = %delivery.id);
    async {
        let ending = match letter(shared, mail, &delivery).await {
            Ok(letter) => {
                let sent = tokio::select! {
                    sent = send(&mail.server, &letter) => sent,
                    _ = keep_lease(shared, Held::Delivery(delivery.id)) => return Ok(()),
                };
                match sent {
                    Ok(answer) => Ending::Accepted { answer },
                    Err(error) if error.is_temporary() => postponed(shared, mail, &delivery, error.to_string()).await?,
                    Err(error) => Ending::Refused { answer: error.to_string() },
                }
            }
            Err(WorkError::Store(error)) => return Err(error),
            Err(WorkError::Run(reason)) => Ending::Refused { answer: reason },
        };
        tracing::info!(recipient = %delivery.recipient, ?ending, "attempted");
        match shared.store.end_attempt(&delivery, shared.owner, attempt, &ending, shared.now()).await {
            Err(StoreError::LeaseLost(_)) => {
                tracing::warn!("another process has taken this delivery over");
                Ok(())
            }
            other => other,
        }
    }
    .instrument(span)
    .await?;
    Ok(true)
}

/// Waits grow from attempt to attempt and are spread, so that a mail server that comes back
/// is not met by everybody at once.
async fn postponed(shared: &Shared, mail: &Mail, delivery: &Delivery, answer: String) -> Result<Ending, StoreError> {
    let now = shared.now();
    if now - delivery.created_at > TimeDelta::from_std(mail.give_up).unwrap_or(TimeDelta::days(1)) {
        return Ok(Ending::Refused { answer: format!("given up after {} h: {answer}", mail.give_up.as_secs() / 3600) });
    }
    let attempts = shared.store.attempts(std::slice::from_ref(delivery)).await?.len() as u32;
    let first = TimeDelta::from_std(mail.first_retry).unwrap_or(TimeDelta::seconds(30));
    let wait = (first * 2i32.pow(attempts.saturating_sub(1).min(12))).min(LONGEST_WAIT);
    let spread = 0.8 + 0.4 * f64::from(delivery.id.as_bytes()[15]) / 255.0;
    let wait = TimeDelta::milliseconds((wait.num_milliseconds() as f64 * spread) as i64);
    Ok(Ending::Postponed { answer, again: now + wait })
}

/// The letter of a delivery, made from what is stored: the same every time.
async fn letter(shared: &Shared, mail: &Mail, delivery: &Delivery) -> Result<Letter, WorkError> {
    let failed = |error: &dyn std::fmt::Display| WorkError::Run(error.to_string());
    let stored = shared.store.snapshot(delivery.snapshot_id).await?.ok_or_else(|| WorkError::Run("its snapshot is gone".to_owned()))?;
    let documents = shared.store.documents_of_snapshot(delivery.snapshot_id).await?;
    let snapshot = Snapshot::open(&stored.body).map_err(|error| failed(&error))?;
    let maple_lark_core::snapshot::Frozen { report, .. } = snapshot.definitions().map_err(|error| failed(&error))?;
    let values = message::Values::of(&snapshot, &report.title, &delivery.audience);
    let subject = message::render(&report.subject, &values).map_err(|error| failed(&error))?;
    let text = report.message.as_ref().map(|template| message::render(template, &values)).transpose().map_err(|error| failed(&error))?;
    let names: Vec<String> = documents.iter().map(|document| document.file_name.clone()).collect();
    let link = format!("{}/runs/{}", shared.config.public_url, delivery.run_id);
    let body = tokio::task::spawn_blocking(move || {
        let document = compose(&snapshot).map_err(|error| error.to_string())?;
        maple_lark_documents::mail_body(&document, text.as_deref(), &names, Some(&link)).map_err(|error| error.to_string())
    })
    .await
    .unwrap_or_else(|error| Err(error.to_string()))
    .map_err(WorkError::Run)?;
    let to: Mailbox = delivery.recipient.parse().map_err(|error: maple_lark_core::definition::BadMailbox| failed(&error))?;
    Ok(Letter {
        message_id: delivery.message_id.clone(),
        date: delivery.created_at,
        from: mail.server.from.clone(),
        to,
        reply_to: report.owner.clone(),
        subject,
        text: body.text,
        html: body.html,
        image: body.image.map(|image| (image.content_id, image.png)),
        attachments: documents
            .into_iter()
            .map(|document| Attachment { file_name: document.file_name, media_type: document.media_type, bytes: document.body })
            .collect(),
    })
}

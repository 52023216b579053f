//! Puts the deliveries of a run into the outbox.

use chrono::{DateTime, Utc};
use maple_lark_api::{ChannelType, DeliveryState, RecipientRole, StepKind, StepState};
use maple_lark_data::{digest::sha256, status::Status};
use maple_lark_definition::ResolvedAudience;
use maple_lark_store::{
    bounds::held_words, deliveries::Delivery, documents::SnapshotHead, runs::Run, steps::EndedStep,
};
use uuid::Uuid;

use super::context::{RunContext, values_key};
use crate::engine::{
    deliver::mail_server_of,
    shared::{Shared, WorkError},
};

/// Whether no snapshot of a run is worth sending.
pub fn all_quiet(heads: &[SnapshotHead]) -> bool {
    !heads.is_empty() && heads.iter().all(|head| head.quiet.is_some())
}

/// One delivery for each recipient and channel of each audience, waiting from now on.
/// Audiences whose snapshot is quiet get none; answers with the reason if that is true of all.
pub async fn enqueue(
    shared: &Shared,
    context: &RunContext,
    audiences: &[ResolvedAudience],
    snapshots: &[SnapshotHead],
) -> Result<Option<String>, WorkError> {
    let RunContext { run, report, .. } = context;
    let store = &shared.store;
    let now = shared.now();
    let mail_server = report
        .deliver
        .mail_server
        .as_ref()
        .map(|name| name.value.clone())
        .unwrap_or_default();
    let mut enqueuing = Enqueuing {
        shared,
        run,
        mail_server,
        from_host: None,
        now,
        deliveries: Vec::new(),
    };
    let mut quiet = None;
    for audience in audiences {
        let key = values_key(&audience.values);
        let snapshot = snapshots.iter().find(|snapshot| snapshot.values_key == key);
        let snapshot = snapshot.ok_or_else(|| {
            let name = &audience.name;
            WorkError::Run(format!("there is no snapshot for the audience \"{name}\""))
        })?;
        if let Some(reason) = silence(audience, snapshot) {
            enqueuing
                .note(audience, StepState::Quiet, reason.clone())
                .await?;
            quiet = Some(reason);
            continue;
        }
        enqueuing.mail(audience, snapshot).await?;
        enqueuing.channels(audience, snapshot).await?;
    }
    let deliveries = enqueuing.deliveries;
    if deliveries.is_empty() {
        return Ok(Some(
            quiet.unwrap_or_else(|| "nobody is left who would get it".to_owned()),
        ));
    }
    tracing::info!(count = deliveries.len(), "deliveries are in the outbox");
    store.enqueue(context.claim, &deliveries).await?;
    Ok(None)
}

/// The deliveries of a run that are being put together.
struct Enqueuing<'a> {
    shared: &'a Shared,
    run: &'a Run,
    /// The channel that mail goes by; empty for the service's own.
    mail_server: String,
    from_host: Option<String>,
    now: DateTime<Utc>,
    deliveries: Vec<Delivery>,
}

impl Enqueuing<'_> {
    /// Puts on record what became of an audience.
    async fn note(
        &self,
        audience: &ResolvedAudience,
        state: StepState,
        words: String,
    ) -> Result<(), WorkError> {
        let (store, claim, name, now) = (
            &self.shared.store,
            self.run.claim(),
            &audience.name,
            self.now,
        );
        let ended = EndedStep {
            kind: StepKind::Send,
            subject: name,
            state,
            detail: Some(words),
            started_at: Some(now),
            ended_at: now,
        };
        Ok(store.end_step(claim, &ended).await?)
    }

    /// A mail for each recipient but those who have unsubscribed or are suppressed.
    async fn mail(
        &mut self,
        audience: &ResolvedAudience,
        snapshot: &SnapshotHead,
    ) -> Result<(), WorkError> {
        let addresses: Vec<String> = audience
            .everybody()
            .map(|recipient| recipient.mailbox.address.to_lowercase())
            .collect();
        let store = &self.shared.store;
        let mut passed_over = store.passed_over(&self.run.report, &addresses).await?;
        // Whoever is held to values here is sent what they could see here, and nothing else.
        let mails = addresses.iter().map(|one| (one.clone(), snapshot.id));
        let held = store.held_to_others(&mails.collect::<Vec<_>>()).await?;
        passed_over.extend(held.into_iter().map(|(address, _)| {
            let words = held_words(&address);
            (address, words)
        }));
        let together = format!(
            "{}.{}",
            self.run.id,
            &sha256(audience.name.as_bytes())[..12]
        );
        let listed = [
            (RecipientRole::To, &audience.to),
            (RecipientRole::Cc, &audience.cc),
            (RecipientRole::Bcc, &audience.bcc),
        ];
        let listed = listed
            .into_iter()
            .flat_map(|(role, list)| list.iter().map(move |recipient| (role, recipient)))
            .collect::<Vec<_>>();
        for (role, recipient) in listed {
            let address = recipient.mailbox.address.to_lowercase();
            if passed_over.contains_key(&address) {
                continue;
            }
            let host = match &self.from_host {
                Some(host) => host.clone(),
                // Only what is sent needs a mail server; a quiet run does without.
                None => {
                    let host = sender_host(self.shared, &self.mail_server).await?;
                    self.from_host.insert(host).clone()
                }
            };
            let id = Uuid::now_v7();
            let (message_id, variant) = if audience.together {
                (format!("{together}@{host}"), String::new())
            } else {
                (format!("{id}@{host}"), recipient.format.key())
            };
            self.deliveries.push(Delivery {
                recipient: recipient.mailbox.to_string(),
                message_id,
                via: self.mail_server.clone(),
                role: role.into(),
                variant,
                ..waiting(id, self.run, snapshot, audience, self.now)
            });
        }
        if passed_over.is_empty() {
            return Ok(());
        }
        let words: Vec<&str> = passed_over.values().map(String::as_str).collect();
        self.note(audience, StepState::Done, words.join("; ")).await
    }

    /// A delivery for each channel that is not mail to people.
    async fn channels(
        &mut self,
        audience: &ResolvedAudience,
        snapshot: &SnapshotHead,
    ) -> Result<(), WorkError> {
        if audience.channels.is_empty() {
            return Ok(());
        }
        let definitions = self.shared.definitions.current(&self.shared.store).await?;
        for name in &audience.channels {
            let id = Uuid::now_v7();
            let channel = definitions.set.channels.get(name);
            let kind = channel.map_or(ChannelType::Removed, |channel| channel.kind.travels());
            self.deliveries.push(Delivery {
                channel: kind.into(),
                recipient: name.clone(),
                message_id: id.to_string(),
                via: name.clone(),
                ..waiting(id, self.run, snapshot, audience, self.now)
            });
        }
        Ok(())
    }
}

/// Why an audience gets nothing, if it does not.
fn silence(audience: &ResolvedAudience, snapshot: &SnapshotHead) -> Option<String> {
    if snapshot.quiet.is_some() {
        return snapshot.quiet.clone();
    }
    let (least, status) = (
        audience.only_when?,
        snapshot.status.as_deref().and_then(Status::from_word)?,
    );
    (status < least).then(|| {
        format!(
            "this audience hears only when something is {}",
            least.word().to_lowercase()
        )
    })
}

async fn sender_host(shared: &Shared, mail_server: &str) -> Result<String, WorkError> {
    let definitions = shared.definitions.current(&shared.store).await?;
    let channel = match mail_server {
        "" => None,
        name => Some(
            definitions
                .set
                .channels
                .get(name)
                .ok_or_else(|| WorkError::Run(format!("there is no channel \"{name}\"")))?,
        ),
    };
    let server = mail_server_of(shared, channel)
        .await
        .map_err(|error| WorkError::Run(error.to_string()))?;
    Ok(server
        .from
        .address
        .rsplit('@')
        .next()
        .unwrap_or("localhost")
        .to_owned())
}

fn waiting(
    id: Uuid,
    run: &Run,
    snapshot: &SnapshotHead,
    audience: &ResolvedAudience,
    now: DateTime<Utc>,
) -> Delivery {
    Delivery {
        id,
        run_id: run.id,
        snapshot_id: snapshot.id,
        audience: audience.name.clone(),
        channel: ChannelType::Mail.into(),
        recipient: String::new(),
        state: DeliveryState::Waiting.into(),
        message_id: String::new(),
        next_attempt_at: now,
        problem: None,
        lease_owner: None,
        lease_until: None,
        lease_process: None,
        created_at: now,
        settled_at: None,
        via: String::new(),
        role: RecipientRole::To.into(),
        variant: String::new(),
        copy: 0,
        note: None,
        requested_by: None,
        held_up: false,
    }
}

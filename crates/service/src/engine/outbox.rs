//! Carries out what waits in the outbox. Each channel has its own connections and its own
//! patience: one that is slow or down holds up no other.

use maple_lark_api::ChannelType;
use std::{
    collections::HashMap,
    sync::{Arc, Mutex},
    time::Duration,
};

use chrono::TimeDelta;
use maple_lark_api::Words;
use maple_lark_data::status::Status;
use maple_lark_definition::{Channel, ChannelKind, WebhookSettings, render};
use maple_lark_delivery::{
    DeliveryError, Severity, SyslogLine, post_message, put_files, remove_files, send_line,
    write_files,
};
use maple_lark_document::compose::run_values::message_values;
use maple_lark_store::{
    StoreError,
    deliveries::{Delivery, Ended, Ending},
    notices::Notice,
};
use serde_json::{Value, json};
use tokio::{
    sync::{oneshot, watch},
    task::JoinSet,
};
use tracing::Instrument;
use uuid::Uuid;

use super::{
    Catalogue, Held, IDLE, Shared, WorkError, channels, keep_lease,
    messages::{self, Told},
};

/// So many deliveries one process has under way.
const MOST_UNDER_WAY: usize = 64;
/// For each that a channel carries, so many are taken, so that it never waits for the records.
const TAKEN_FOR_EACH: usize = 3;
/// How many at a time go over the service's own mail server.
const OWN_AT_A_TIME: usize = 4;
const LONGEST_WAIT: TimeDelta = TimeDelta::hours(1);
const FIRST_RETRY: Duration = Duration::from_secs(30);
const GIVE_UP: Duration = Duration::from_secs(86_400);

/// Takes what waits, as far as its channels have room, until it is told to stop; then lets
/// what is under way come to its end.
pub async fn watch_the_outbox(shared: Arc<Shared>, mut stopped: watch::Receiver<bool>) {
    let mut under_way: JoinSet<String> = JoinSet::new();
    let mut counts: HashMap<String, usize> = HashMap::new();
    loop {
        while let Some(done) = under_way.try_join_next() {
            settle(done, &mut counts);
        }
        if *stopped.borrow() {
            break;
        }
        let took = match take(&shared, &counts).await {
            Ok((catalogue, claimed)) => {
                let took = !claimed.is_empty();
                for (delivery, attempt) in claimed {
                    let via = delivery.via.clone();
                    *counts.entry(via.clone()).or_default() += 1;
                    let (shared, catalogue) = (shared.clone(), catalogue.clone());
                    under_way.spawn(async move {
                        if let Err(error) = carry(&shared, &catalogue, delivery, attempt).await {
                            tracing::error!(%error, "how a delivery ended could not be written down; it is tried again when its lease has run out");
                        }
                        via
                    });
                }
                took
            }
            Err(error) => {
                tracing::error!(%error, "the outbox could not be looked at; it is tried again in a moment");
                tokio::time::sleep(IDLE).await;
                false
            }
        };
        if took {
            continue;
        }
        shared.sessions.tidy().await;
        tokio::select! {
            Some(done) = under_way.join_next(), if !under_way.is_empty() => settle(done, &mut counts),
            () = tokio::time::sleep(IDLE) => {}
            () = shared.wake.notified() => {}
            _ = stopped.changed() => {}
        }
    }
    while under_way.join_next().await.is_some() {}
}

fn settle(done: Result<String, tokio::task::JoinError>, counts: &mut HashMap<String, usize>) {
    match done {
        Ok(via) => {
            if let Some(count) = counts.get_mut(&via) {
                *count = count.saturating_sub(1);
            }
        }
        // Which one it was is not known; its lease runs out by itself.
        Err(error) => {
            tracing::error!(%error, "a delivery ended unexpectedly");
            counts.clear();
        }
    }
}

/// As many deliveries as there is room for, on channels that have some, and the channels as they
/// are defined now: what was wrong with one can be mended while mail waits.
async fn take(
    shared: &Shared,
    counts: &HashMap<String, usize>,
) -> Result<(Arc<Catalogue>, Vec<(Delivery, i64)>), StoreError> {
    let all: usize = counts.values().sum();
    let catalogue = shared.catalogue.current(&shared.store).await?;
    let (mut busy, mut room) = (Vec::new(), MOST_UNDER_WAY.saturating_sub(all));
    let own = std::iter::once(("", OWN_AT_A_TIME, None));
    let named = catalogue.set.channels.values().map(|channel| {
        (
            channel.name.as_str(),
            channel.max_concurrency,
            channel.rate_per_minute,
        )
    });
    for (via, max_concurrency, rate_per_minute) in own.chain(named) {
        let taken = counts.get(via).copied().unwrap_or_default();
        let mut free = (max_concurrency * TAKEN_FOR_EACH).saturating_sub(taken);
        // Several at a time cost the records little more than one.
        if taken > 0 && free < max_concurrency {
            free = 0;
        }
        if let Some(limit) = rate_per_minute
            && free > 0
        {
            let lately = shared
                .store
                .attempts_since(via, shared.now() - TimeDelta::minutes(1))
                .await?;
            free = free.min((i64::from(limit) - lately).max(0) as usize);
        }
        if free == 0 {
            busy.push(via.to_owned());
        } else {
            room = room.min(free);
        }
    }
    if room == 0 {
        return Ok((catalogue, Vec::new()));
    }
    let claimed = shared
        .store
        .claim_deliveries(shared.owner, shared.now(), shared.lease(), room, &busy)
        .await?;
    Ok((catalogue, claimed))
}

async fn carry(
    shared: &Arc<Shared>,
    catalogue: &Catalogue,
    delivery: Delivery,
    attempt: i64,
) -> Result<(), StoreError> {
    let span = tracing::info_span!("run", id = %delivery.run_id, delivery = %delivery.id);
    async {
        let in_turn = async {
            let max_concurrency = catalogue.set.channels.get(&delivery.via).map_or(OWN_AT_A_TIME, |channel| channel.max_concurrency);
            let _lane = shared.lanes.turn_of(&delivery.via, max_concurrency).await;
            hand_over(shared, catalogue, &delivery).await
        };
        let carried = tokio::select! {
            carried = in_turn => carried,
            _ = keep_lease(shared, Held::Delivery(delivery.id)) => return Ok(()),
        };
        let ending = match carried {
            Ok(answer) => Ending::Accepted { answer },
            Err(Failure::Store(error)) => return Err(error),
            Err(Failure::Delivery(error)) if error.is_temporary() => postponed(shared, &delivery, &error).await?,
            Err(Failure::Delivery(error)) => Ending::Refused { answer: error.to_string() },
        };
        tracing::info!(recipient = %delivery.recipient, channel = %delivery.channel, ?ending, "attempted");
        if !shared.endings.write(shared, Ended { delivery: delivery.id, attempt, ending }).await? {
            tracing::warn!("another process has taken this delivery over");
        }
        Ok(())
    }
    .instrument(span)
    .await
}

/// Tells whoever waits for an ending whether it was written.
type Teller = oneshot::Sender<Result<bool, String>>;

/// Endings of attempts on their way into the records. Those that come while others are being
/// written are written together: one commit for as many as there are.
#[derive(Default)]
pub struct Endings {
    waiting: Mutex<Vec<(Ended, Teller)>>,
    writing: tokio::sync::Mutex<()>,
}

impl Endings {
    /// Answers when the ending is durable: whether the delivery was still this process's.
    async fn write(&self, shared: &Shared, ended: Ended) -> Result<bool, StoreError> {
        let (tell, told) = oneshot::channel();
        self.lock().push((ended, tell));
        {
            // Whoever has its turn writes what has come together meanwhile, its own or not.
            let _turn = self.writing.lock().await;
            let together = std::mem::take(&mut *self.lock());
            if !together.is_empty() {
                let (endings, tells): (Vec<Ended>, Vec<_>) = together.into_iter().unzip();
                let written = shared
                    .store
                    .end_attempts(shared.owner, &endings, shared.now())
                    .await
                    .map_err(|error| error.to_string());
                for (ended, tell) in endings.iter().zip(tells) {
                    // Nobody waits any more if the process is being stopped.
                    let _ = tell.send(
                        written
                            .as_ref()
                            .map(|written| written.contains(&ended.delivery))
                            .map_err(Clone::clone),
                    );
                }
            }
        }
        match told.await {
            Ok(Ok(written)) => Ok(written),
            Ok(Err(words)) => Err(StoreError::Unwritten(words)),
            Err(_) => Err(StoreError::Unwritten(
                "whoever wrote it was stopped".to_owned(),
            )),
        }
    }

    fn lock(&self) -> std::sync::MutexGuard<'_, Vec<(Ended, Teller)>> {
        self.waiting
            .lock()
            .unwrap_or_else(|poisoned| poisoned.into_inner())
    }
}

enum Failure {
    Store(StoreError),
    Delivery(DeliveryError),
}

impl From<WorkError> for Failure {
    fn from(error: WorkError) -> Self {
        match error {
            WorkError::Store(error) => Failure::Store(error),
            WorkError::Run(words) => Failure::Delivery(DeliveryError::Message { words }),
        }
    }
}

impl From<StoreError> for Failure {
    fn from(error: StoreError) -> Self {
        Failure::Store(error)
    }
}

impl From<DeliveryError> for Failure {
    fn from(error: DeliveryError) -> Self {
        Failure::Delivery(error)
    }
}

async fn hand_over(
    shared: &Shared,
    catalogue: &Catalogue,
    delivery: &Delivery,
) -> Result<String, Failure> {
    let channel = match delivery.via.as_str() {
        "" => None,
        name => Some(
            catalogue
                .set
                .channels
                .get(name)
                .ok_or_else(|| DeliveryError::Message {
                    words: format!("there is no channel \"{name}\" any more"),
                })?,
        ),
    };
    if delivery.channel == ChannelType::Mail {
        let mut broken = None;
        let message = async |server: &maple_lark_delivery::MailServer| match messages::message(
            shared, server, delivery,
        )
        .await
        {
            Ok(message) => Ok(message),
            Err(WorkError::Run(words)) => Err(DeliveryError::Message { words }),
            Err(WorkError::Store(error)) => {
                let words = error.to_string();
                broken = Some(error);
                Err(DeliveryError::Message { words })
            }
        };
        let sent = shared
            .sessions
            .send(shared, &delivery.via, channel, message)
            .await;
        return match broken {
            Some(error) => Err(Failure::Store(error)),
            None => sent.map_err(Failure::Delivery),
        };
    }
    let channel = channel.ok_or_else(|| DeliveryError::Message {
        words: "it names no channel".to_owned(),
    })?;
    by_channel(shared, channel, delivery).await
}

async fn by_channel(
    shared: &Shared,
    channel: &Channel,
    delivery: &Delivery,
) -> Result<String, Failure> {
    let refused = |words: String| DeliveryError::Refused {
        server: format!("the channel \"{}\"", channel.name),
        words,
    };
    match &channel.kind {
        ChannelKind::MailServer(_) => {
            Err(refused("it is a mail server and has no recipient of its own".to_owned()).into())
        }
        ChannelKind::Folder(settings) => {
            let run = shared.store.run(delivery.run_id).await?;
            let report = run.map(|run| run.report).unwrap_or_default();
            let folder = channels::folder(&shared.config.deliver_into, &settings.folder)
                .map_err(refused)?
                .join(&report);
            let documents = shared
                .store
                .documents_of_snapshot(delivery.snapshot_id, "")
                .await?;
            let names: Vec<String> = documents
                .iter()
                .map(|document| document.file_name.clone())
                .collect();
            let shown = folder.display().to_string();
            let into = folder.clone();
            let written = tokio::task::spawn_blocking(move || {
                write_files(
                    &into,
                    documents
                        .iter()
                        .map(|one| (one.file_name.as_str(), &one.body[..])),
                )
            });
            let written = written
                .await
                .unwrap_or_else(|error| Err(std::io::Error::other(error)));
            // A full disk is made room on; a folder that may not be written is given rights.
            written.map_err(|error| DeliveryError::Postponed {
                server: shown.clone(),
                words: error.to_string(),
            })?;
            let gone = match settings.keep {
                // A copy of an old run must not push a newer one out.
                Some(keep) if delivery.copy == 0 => {
                    forget_old(shared, &report, delivery, &folder, keep, &names).await?
                }
                _ => 0,
            };
            let removed = if gone > 0 {
                format!(", {gone} old files removed")
            } else {
                String::new()
            };
            Ok(format!("{} files in {shown}{removed}", names.len()))
        }
        ChannelKind::Upload(settings) => {
            let target = channels::http_target(&shared.reader, channel, &settings.web).await?;
            let run = shared.store.run(delivery.run_id).await?;
            let documents = shared
                .store
                .documents_of_snapshot(delivery.snapshot_id, "")
                .await?;
            let files: Vec<(&str, &str, &[u8])> = documents
                .iter()
                .map(|one| {
                    (
                        one.file_name.as_str(),
                        one.media_type.as_str(),
                        &one.body[..],
                    )
                })
                .collect();
            Ok(put_files(
                &target,
                &run.map(|run| vec![run.report]).unwrap_or_default(),
                &files,
            )
            .await?)
        }
        ChannelKind::Webhook(settings) => {
            let target = channels::http_target(&shared.reader, channel, &settings.web).await?;
            let key = match &settings.key {
                Some(key) => Some(shared.reader.setting(key).await.map_err(refused)?),
                None => None,
            };
            let told = messages::opened(shared, delivery).await?;
            let body = webhook_body(shared, settings, delivery, &told).await?;
            Ok(post_message(
                &target,
                &delivery.id.to_string(),
                shared.now(),
                key.as_deref(),
                body.to_string(),
            )
            .await?)
        }
        ChannelKind::Syslog(settings) => {
            let address = channels::syslog_address(&shared.reader, &settings.address)
                .await
                .map_err(refused)?;
            let told = messages::opened(shared, delivery).await?;
            let document = &told.document;
            let severity = match document.summary.status {
                Status::Critical => Severity::Error,
                Status::Warning => Severity::Warning,
                _ => Severity::Informational,
            };
            let line = SyslogLine {
                facility: settings.facility,
                severity,
                at: delivery.created_at,
                host: public_host(shared),
                message_id: "report".to_owned(),
                data: vec![
                    ("report", told.run.report.clone()),
                    ("run", delivery.run_id.to_string()),
                    ("audience", delivery.audience.clone()),
                    ("window", document.front.window_machine.clone()),
                    ("status", document.summary.status.word().to_lowercase()),
                ],
                text: format!(
                    "{}, {}: {}",
                    document.title, document.front.window_label, document.summary.headline
                ),
            };
            Ok(send_line(
                &address,
                settings.tcp,
                Duration::from_secs(channel.timeout_seconds),
                &line,
            )
            .await?)
        }
    }
}

/// Removes files of runs before the last `keep` from a folder, but none that a newer run has
/// under the same name.
async fn forget_old(
    shared: &Shared,
    report: &str,
    delivery: &Delivery,
    folder: &std::path::Path,
    keep: u32,
    newest: &[String],
) -> Result<usize, Failure> {
    // Newest is the run whose window ends last, not the one that was made last: a window that is
    // made up for later must not push out what came after it.
    let delivered = shared
        .store
        .accepted_on(report, &delivery.audience, &delivery.via, delivery.run_id)
        .await?;
    let mut kept: Vec<String> = newest.to_vec();
    let (mut runs, mut gone) = (Vec::new(), Vec::new());
    for one in &delivered {
        if !runs.contains(&one.run_id) {
            runs.push(one.run_id);
        }
        if one.run_id == delivery.run_id {
            continue;
        }
        let names = shared.store.document_heads(one.run_id).await?;
        let names = names
            .into_iter()
            .filter(|head| head.snapshot_id == one.snapshot_id && head.variant.is_empty())
            .map(|head| head.file_name);
        if runs.len() <= keep as usize {
            kept.extend(names);
        } else {
            gone.extend(names);
            // Those before it were removed when it was still kept.
            if runs.len() > keep as usize + 1 {
                break;
            }
        }
    }
    gone.retain(|name| !kept.contains(name) && folder.join(name).exists());
    let removed = remove_files(folder, gone.iter().map(String::as_str));
    removed.map_err(|error| DeliveryError::Postponed {
        server: folder.display().to_string(),
        words: error.to_string(),
    })?;
    Ok(gone.len())
}

async fn webhook_body(
    shared: &Shared,
    settings: &WebhookSettings,
    delivery: &Delivery,
    told: &Told,
) -> Result<Value, WorkError> {
    let Told {
        run,
        snapshot,
        document,
    } = told;
    if let Some(template) = &settings.text {
        let values = message_values(snapshot, document, Some(&delivery.audience));
        let text = render(template, &values).map_err(|error| WorkError::Run(error.to_string()))?;
        return Ok(json!({ "text": text }));
    }
    let documents = shared.store.document_heads(run.id).await?;
    let documents: Vec<Value> = documents
        .iter()
        .filter(|head| head.snapshot_id == delivery.snapshot_id && head.variant.is_empty())
        .map(|head| {
            let address = format!("{}/api/v1/documents/{}", shared.config.public_url, head.id);
            json!({ "file_name": head.file_name, "format": head.format.word(), "size": head.size, "sha256": head.sha256, "url": address })
        })
        .collect();
    let figures: serde_json::Map<String, Value> = document
        .figures()
        .map(|figure| (figure.name.clone(), json!({ "title": figure.title, "value": figure.value, "amount": figure.amount, "status": figure.status })))
        .collect();
    Ok(json!({
        "report": run.report,
        "title": document.title,
        "run": run.id,
        "audience": delivery.audience,
        "scheduled_for": run.scheduled_for,
        "window": { "from": run.window_from, "to": run.window_to, "time_zone": run.time_zone, "label": document.front.window_label },
        "status": document.summary.status.word().to_lowercase(),
        "summary": document.summary.headline,
        "lines": document.summary.lines,
        "figures": figures,
        "documents": documents,
        "url": format!("{}/runs/{}", shared.config.public_url, run.id),
    }))
}

/// Waits grow from attempt to attempt and are spread, so that a server that comes back is not
/// met by everybody at once.
async fn postponed(
    shared: &Shared,
    delivery: &Delivery,
    error: &DeliveryError,
) -> Result<Ending, StoreError> {
    let (now, answer) = (shared.now(), error.to_string());
    let mail = shared.config.mail.as_ref();
    let retry_for = match report_gives_up(shared, delivery).await? {
        Some(seconds) => TimeDelta::seconds(seconds as i64),
        None => TimeDelta::from_std(mail.map_or(GIVE_UP, |mail| mail.retry_for))
            .unwrap_or(TimeDelta::days(1)),
    };
    if now - delivery.created_at > retry_for {
        return Ok(Ending::Refused {
            answer: format!("given up after {} min: {answer}", retry_for.num_minutes()),
        });
    }
    let attempts = shared.store.attempt_count(delivery.id).await? as u32;
    let first = TimeDelta::from_std(mail.map_or(FIRST_RETRY, |mail| mail.first_retry))
        .unwrap_or(TimeDelta::seconds(30));
    let wait = (first * 2i32.pow(attempts.saturating_sub(1).min(12))).min(LONGEST_WAIT);
    let again = now + spread(wait, delivery.id, attempts);
    Ok(match error {
        DeliveryError::Unconfirmed { .. } => Ending::Unconfirmed { answer, again },
        _ => Ending::Postponed { answer, again },
    })
}

async fn report_gives_up(shared: &Shared, delivery: &Delivery) -> Result<Option<u64>, StoreError> {
    let Some(run) = shared.store.run(delivery.run_id).await? else {
        return Ok(None);
    };
    let catalogue = shared.catalogue.current(&shared.store).await?;
    Ok(catalogue
        .set
        .reports
        .get(&run.report)
        .and_then(|report| report.deliver.retry_for_seconds))
}

/// Between four fifths and six fifths of a wait, another for each delivery and attempt.
fn spread(wait: TimeDelta, id: Uuid, attempt: u32) -> TimeDelta {
    let byte = id.as_bytes()[15].wrapping_add((attempt as u8).wrapping_mul(97));
    let share = 0.8 + 0.4 * f64::from(byte) / 255.0;
    TimeDelta::milliseconds((wait.num_milliseconds() as f64 * share) as i64)
}

/// Hands a notice to a channel: a line for a syslog, a message for a web address.
pub async fn notify(
    shared: &Shared,
    channel: &Channel,
    notice: &Notice,
    words: &str,
) -> Result<(), DeliveryError> {
    let refused = |words: String| DeliveryError::Refused {
        server: format!("the channel \"{}\"", channel.name),
        words,
    };
    match &channel.kind {
        ChannelKind::Webhook(settings) => {
            let target = channels::http_target(&shared.reader, channel, &settings.web).await?;
            let key = match &settings.key {
                Some(key) => Some(shared.reader.setting(key).await.map_err(refused)?),
                None => None,
            };
            let body = match settings.text {
                Some(_) => json!({ "text": notice.text }),
                None => {
                    json!({ "notice": notice.kind, "subject": notice.subject, "run": notice.run_id, "text": notice.text, "at": notice.created_at })
                }
            };
            post_message(
                &target,
                &format!("notice.{}", notice.id),
                shared.now(),
                key.as_deref(),
                body.to_string(),
            )
            .await
            .map(drop)
        }
        ChannelKind::Syslog(settings) => {
            let address = channels::syslog_address(&shared.reader, &settings.address)
                .await
                .map_err(refused)?;
            let well = matches!(notice.kind.as_str(), "recovered" | "still-quiet")
                || notice.kind.starts_with("source-up");
            let line = SyslogLine {
                facility: settings.facility,
                severity: if well {
                    Severity::Informational
                } else {
                    Severity::Error
                },
                at: notice.created_at,
                host: public_host(shared),
                message_id: "notice".to_owned(),
                data: vec![
                    ("subject", notice.subject.clone()),
                    ("notice", words.to_owned()),
                ],
                text: notice.text.replace('\n', " "),
            };
            send_line(
                &address,
                settings.tcp,
                Duration::from_secs(channel.timeout_seconds),
                &line,
            )
            .await
            .map(drop)
        }
        other => Err(refused(format!(
            "notices go to mail addresses and to channels of kind webhook and syslog, and this one is of kind {}",
            other.name()
        ))),
    }
}

fn public_host(shared: &Shared) -> String {
    shared
        .config
        .public_url
        .split("://")
        .last()
        .unwrap_or_default()
        .split([':', '/'])
        .next()
        .unwrap_or_default()
        .to_owned()
}

/// Tries a channel that is no mail server: with a file that is removed again, a request that
/// is marked as a test, or a line that says so.
pub async fn try_channel(shared: &Shared, channel: &Channel) -> Result<String, String> {
    let patience = Duration::from_secs(channel.timeout_seconds);
    match &channel.kind {
        ChannelKind::MailServer(_) => {
            Err("a mail server is tried with a mail: say to whom".to_owned())
        }
        ChannelKind::Folder(settings) => {
            let folder = channels::folder(&shared.config.deliver_into, &settings.folder)?;
            let name = format!("maple-lark-test-{}.txt", Uuid::now_v7());
            let tried = write_files(&folder, [(name.as_str(), &b"test\n"[..])])
                .and_then(|()| remove_files(&folder, [name.as_str()]));
            tried
                .map(|()| format!("files can be written to {}", folder.display()))
                .map_err(|error| format!("{}: {error}", folder.display()))
        }
        ChannelKind::Upload(settings) => {
            let target = channels::http_target(&shared.reader, channel, &settings.web)
                .await
                .map_err(|error| error.to_string())?;
            let file = ("maple-lark-test.txt", "text/plain", &b"test\n"[..]);
            put_files(&target, &[], &[file])
                .await
                .map_err(|error| error.to_string())
        }
        ChannelKind::Webhook(settings) => {
            let target = channels::http_target(&shared.reader, channel, &settings.web)
                .await
                .map_err(|error| error.to_string())?;
            let key = match &settings.key {
                Some(key) => Some(shared.reader.setting(key).await?),
                None => None,
            };
            let body = match settings.text {
                Some(_) => json!({ "text": "A test message from Maple Lark." }),
                None => json!({ "test": true, "title": "A test message from Maple Lark" }),
            };
            let sent = post_message(
                &target,
                &Uuid::now_v7().to_string(),
                shared.now(),
                key.as_deref(),
                body.to_string(),
            )
            .await;
            sent.map_err(|error| error.to_string())
        }
        ChannelKind::Syslog(settings) => {
            let address = channels::syslog_address(&shared.reader, &settings.address).await?;
            let line = SyslogLine {
                facility: settings.facility,
                severity: Severity::Informational,
                at: shared.now(),
                host: "-".to_owned(),
                message_id: "test".to_owned(),
                data: Vec::new(),
                text: "A test line from Maple Lark".to_owned(),
            };
            send_line(&address, settings.tcp, patience, &line)
                .await
                .map_err(|error| error.to_string())
        }
    }
}

//! Tells owners what did not go as it should, gathered into one mail, and when all is well
//! again.

pub mod bounces;

use std::{sync::Arc, time::Duration};

use chrono::{DateTime, TimeDelta, Utc};
use maple_lark_api::NoticeKind;
use maple_lark_definition::{BadMailbox, Mailbox, Report, Source};
use maple_lark_delivery::{DeliveryError, MailSession};
use maple_lark_store::{
    StoreError,
    notices::{BadEnd, Notice},
    runs::Run,
};
use maple_lark_time::Zone;
use tokio::sync::watch;

use super::{
    definitions::Definitions,
    deliver::{driver, mail_server_of, plain_message},
    shared::{Shared, WorkError},
};

/// How often it is looked for trouble; what is gathered counts from its first notice.
const EVERY: Duration = Duration::from_secs(1);
/// What ended longer ago than this was either told or is history.
const REMEMBERED: TimeDelta = TimeDelta::days(1);
/// Owners hear that a report does well again after trouble that is not older than this.
const TROUBLE_REMEMBERED: TimeDelta = TimeDelta::days(30);
/// A notice that could not be handed over for so long is not tried again.
const GIVE_UP: TimeDelta = TimeDelta::days(1);
/// How long a report stays quiet before its owner is told that it is.
const QUIET_FOR: TimeDelta = TimeDelta::days(7);

/// Tells the owner of a report that sends only when it matters that it still runs, once a week.
pub async fn confirm_quiet(
    shared: &Shared,
    run: &Run,
    report: &Report,
    reason: &str,
) -> Result<(), StoreError> {
    if !report.confirm_quiet {
        return Ok(());
    }
    let Some((runs, first)) = shared
        .store
        .quiet_since(&run.report, shared.now() - QUIET_FOR)
        .await?
    else {
        return Ok(());
    };
    let times = if runs == 1 {
        "1 run".to_owned()
    } else {
        format!("{runs} runs")
    };
    let text = format!(
        "{} is still quiet: {times} since {} had nothing to say, the last because {reason}.",
        report.title,
        report.zone.readable(first)
    );
    tell(
        shared,
        NoticeKind::StillQuiet,
        &run.report,
        Some(run.id),
        report.owner.clone(),
        &text,
    )
    .await
    .map(drop)
}

pub async fn watch_for_trouble(shared: Arc<Shared>, mut stopped: watch::Receiver<bool>) {
    while !*stopped.borrow() {
        let looked = async {
            shared.store.close_abandoned(shared.now()).await?;
            shared.store.fold_counts().await?;
            let now = shared.now();
            let (tried, signed_in) = (now - TimeDelta::days(1), now - PLACES_KNOWN);
            shared.store.forget_old_failures(tried, signed_in).await?;
            notice_runs(&shared).await?;
            notice_late(&shared).await?;
            end_approvals(&shared).await?;
            tell_owners(&shared).await
        };
        if let Err(error) = looked.await {
            let words = match error {
                WorkError::Store(error) => error.to_string(),
                WorkError::Run(words) => words,
            };
            tracing::error!(
                words,
                "notices could not be made; it is tried again in a moment"
            );
            tokio::time::sleep(EVERY).await;
        }
        tokio::select! {
            () = tokio::time::sleep(EVERY) => {}
            _ = stopped.changed() => {}
        }
    }
}

/// The owner of a report as its run froze it.
pub fn owner_of(definitions: &serde_json::Value, report: &str) -> Option<Mailbox> {
    Definitions::frozen(definitions)
        .ok()?
        .set
        .reports
        .get(report)?
        .owner
        .clone()
}

/// A place that somebody has signed in from is known for so long.
const PLACES_KNOWN: TimeDelta = TimeDelta::days(90);

/// Stands before the name of a channel among the recipients of notices.
const CHANNEL: &str = "channel:";

/// Keeps a notice for the owner, for the operations address and for the channels that hear of
/// everything; answers whether it is new.
pub async fn tell(
    shared: &Shared,
    kind: NoticeKind,
    subject: &str,
    run: Option<uuid::Uuid>,
    owner: Option<Mailbox>,
    text: &str,
) -> Result<bool, StoreError> {
    let now = shared.now();
    let settings = &shared.config.notices;
    let also = settings.to.clone().filter(|to| {
        owner
            .as_ref()
            .is_none_or(|owner| !owner.address.eq_ignore_ascii_case(&to.address))
    });
    let mut recipients: Vec<String> = owner
        .into_iter()
        .chain(also)
        .map(|mailbox| mailbox.to_string())
        .collect();
    recipients.extend(
        settings
            .channels
            .iter()
            .map(|name| format!("{CHANNEL}{name}")),
    );
    let new = shared
        .store
        .add_notice(kind, subject, run, &recipients, text, now)
        .await?;
    if new {
        tracing::warn!(%kind, subject, text, "a notice");
    }
    Ok(new)
}

async fn notice_runs(shared: &Shared) -> Result<(), WorkError> {
    let since = shared.now() - REMEMBERED;
    for end in shared.store.untold(since).await? {
        let Some(kind) = NoticeKind::of_run(*end.state) else {
            continue;
        };
        let problem = end
            .problem
            .as_deref()
            .map(|problem| format!(": {problem}"))
            .unwrap_or_default();
        let what = match kind {
            NoticeKind::Held => format!(
                "is held{problem}. It was sent to nobody. Check it, then release it or run it again"
            ),
            NoticeKind::Failed => format!("failed{problem}"),
            NoticeKind::AwaitingApproval => {
                "awaits approval; it is sent when somebody approves it".to_owned()
            }
            _ => format!("did not reach everybody{problem}"),
        };
        tell_of_run(shared, kind, &end, &what).await?;
    }
    for end in shared
        .store
        .recovered(shared.now() - TROUBLE_REMEMBERED)
        .await?
    {
        tell_of_run(shared, NoticeKind::Recovered, &end, "went well again").await?;
    }
    Ok(())
}

async fn tell_of_run(
    shared: &Shared,
    kind: NoticeKind,
    end: &BadEnd,
    what: &str,
) -> Result<(), StoreError> {
    let report = Definitions::frozen(&end.definitions)
        .ok()
        .and_then(|mut definitions| definitions.set.reports.remove(&end.report));
    let zone = report.as_ref().map_or(Zone::UTC, |report| report.zone);
    let text = format!(
        "{} of {} {what}.\n{}/runs/{}",
        end.title,
        zone.readable(end.scheduled_for),
        shared.config.public_url,
        end.id
    );
    tell(
        shared,
        kind,
        &end.report,
        Some(end.id),
        report.and_then(|report| report.owner),
        &text,
    )
    .await
    .map(drop)
}

/// Runs that were to be delivered by now and are not.
async fn notice_late(shared: &Shared) -> Result<(), WorkError> {
    let now = shared.now();
    let open = shared.store.open_since(now - TimeDelta::minutes(1)).await?;
    if open.is_empty() {
        return Ok(());
    }
    let definitions = shared.definitions.current(&shared.store).await?;
    for run in open {
        let Some(report) = definitions.set.reports.get(&run.report) else {
            continue;
        };
        let late = TimeDelta::seconds(report.deliver.late_after_seconds as i64);
        if now - run.scheduled_for > late {
            let what = format!(
                "of {} is late: {} min after its instant it is still {}.\n{}/runs/{}",
                report.zone.readable(run.scheduled_for),
                (now - run.scheduled_for).num_minutes(),
                run.state,
                shared.config.public_url,
                run.id
            );
            tell(
                shared,
                NoticeKind::Late,
                &run.report,
                Some(run.id),
                report.owner.clone(),
                &format!("{} {what}", run.title),
            )
            .await?;
        }
    }
    Ok(())
}

/// What becomes of runs that nobody has looked at in time.
async fn end_approvals(shared: &Shared) -> Result<(), WorkError> {
    let now = shared.now();
    for run in shared.store.unapproved(now).await? {
        let definitions = Definitions::frozen(&run.definitions)
            .map_err(|error| WorkError::Run(error.to_string()))?;
        let approval = definitions
            .set
            .reports
            .get(&run.report)
            .and_then(|report: &Report| report.approval);
        if approval.is_some_and(|approval| approval.then_send) {
            shared.store.release_run(run.id, "its deadline").await?;
        } else {
            shared
                .store
                .cancel_run(run.id, "its deadline: nobody had released it", now)
                .await?;
        }
        shared.wake.notify_waiters();
    }
    Ok(())
}

/// Counts what a source answered in a run, and tells when it has been silent for some.
pub async fn of_source(
    shared: &Shared,
    run: &Run,
    owner: Option<&Mailbox>,
    source: &Source,
    failure: Option<&str>,
) -> Result<(), StoreError> {
    let now = shared.now();
    let limit = shared.config.notices.source_failures;
    match failure {
        Some(words) => {
            let (failures, since) = shared
                .store
                .count_source_failure(&source.name, run.id, words, now)
                .await?;
            if failures == limit {
                let zone: Zone = run.time_zone.parse().unwrap_or(Zone::UTC);
                let text = format!(
                    "The source {} has failed in {failures} runs in a row since {}: {words}",
                    source.title,
                    zone.readable(since)
                );
                // Once, however many queries of this run fail.
                tell(
                    shared,
                    NoticeKind::SourceDown,
                    &source.name,
                    Some(run.id),
                    owner.cloned(),
                    &text,
                )
                .await?;
            }
        }
        None => {
            let failures = shared.store.forget_source_failures(&source.name).await?;
            if failures >= limit {
                let text = format!(
                    "The source {} answers again, after {failures} runs.",
                    source.title
                );
                tell(
                    shared,
                    NoticeKind::SourceUp,
                    &source.name,
                    Some(run.id),
                    owner.cloned(),
                    &text,
                )
                .await?;
            }
        }
    }
    Ok(())
}

/// Sends what was gathered, one mail for each who is to hear of it.
async fn tell_owners(shared: &Shared) -> Result<(), WorkError> {
    let gather = TimeDelta::from_std(shared.config.notices.gather).unwrap_or(TimeDelta::minutes(1));
    let now = shared.now();
    let batch = shared
        .store
        .claim_notices(now - gather, now, TimeDelta::minutes(2))
        .await?;
    let (Some(first), Some(id)) = (batch.first(), batch.first().and_then(|notice| notice.batch))
    else {
        return Ok(());
    };
    let to = first.recipient.clone().unwrap_or_default();
    let told = match to.strip_prefix(CHANNEL) {
        Some(name) => tell_channel(shared, name, &batch).await,
        None => tell_by_mail(shared, &to, id, &batch).await,
    };
    match told {
        Ok(()) => shared.store.told(id, shared.now()).await?,
        // Trying again for ever helps nobody; the notices stay on record.
        Err(error) if !error.is_temporary() || now - first.created_at > GIVE_UP => {
            tracing::error!(%error, recipient = to, "a notice was refused");
            shared.store.told(id, shared.now()).await?;
        }
        Err(error) => {
            tracing::warn!(%error, recipient = to, "a notice waits; it is tried again in two minutes")
        }
    }
    Ok(())
}

async fn tell_by_mail(
    shared: &Shared,
    to: &str,
    batch_id: uuid::Uuid,
    batch: &[Notice],
) -> Result<(), DeliveryError> {
    let to: Mailbox = to
        .parse()
        .map_err(|error: BadMailbox| DeliveryError::Message {
            words: error.to_string(),
        })?;
    // The same batch is the same message, however often it has to be sent.
    let id = format!("notice.{batch_id}");
    let words = (subject(batch), body(batch));
    write_to(shared, &to, &id, batch[0].created_at, words).await
}

/// Hands a plain message to the mail server that notices go by.
pub async fn write_to(
    shared: &Shared,
    to: &Mailbox,
    id: &str,
    at: DateTime<Utc>,
    (subject, body): (String, String),
) -> Result<(), DeliveryError> {
    let refused = |words: String| DeliveryError::Message { words };
    let definitions = shared
        .definitions
        .current(&shared.store)
        .await
        .map_err(|error| refused(error.to_string()))?;
    let named = shared.config.notices.mail_server.as_ref();
    let channel = match named {
        Some(name) => Some(definitions.set.channels.get(name).ok_or_else(|| {
            refused(format!(
                "notices.mail-server: there is no channel \"{name}\""
            ))
        })?),
        None => None,
    };
    let server = mail_server_of(shared, channel)
        .await
        .map_err(|error| refused(error.to_string()))?;
    let message = plain_message(&server, to, id, at, subject, body);
    let bytes = message.bytes(server.dkim.as_deref())?;
    let mut session = MailSession::open(&server).await?;
    let sent = session.send(&server, to, &bytes).await;
    session.close().await;
    sent.map(drop)
}

async fn tell_channel(shared: &Shared, name: &str, batch: &[Notice]) -> Result<(), DeliveryError> {
    let refused = |words: String| DeliveryError::Message { words };
    let definitions = shared
        .definitions
        .current(&shared.store)
        .await
        .map_err(|error| refused(error.to_string()))?;
    let channel = definitions
        .set
        .channels
        .get(name)
        .ok_or_else(|| refused(format!("notices.channels: there is no channel \"{name}\"")))?;
    for notice in batch {
        let words = word(*notice.kind);
        driver(channel).notify(shared, notice, words).await?;
    }
    Ok(())
}

fn word(kind: NoticeKind) -> &'static str {
    match kind {
        NoticeKind::Failed => "failed",
        NoticeKind::Held => "held",
        NoticeKind::PartlyDelivered => "not delivered to everybody",
        NoticeKind::Late => "late",
        NoticeKind::AwaitingApproval => "awaiting approval",
        NoticeKind::Recovered => "well again",
        NoticeKind::StillQuiet => "still quiet",
        NoticeKind::Suppressed => "suppressed",
        NoticeKind::SourceDown => "source is down",
        NoticeKind::SourceUp => "source is back",
    }
}

fn subject(batch: &[Notice]) -> String {
    match batch {
        [one] => format!("Maple Lark: {} {}", one.subject, word(*one.kind)),
        several => {
            let mut subjects: Vec<&str> = several
                .iter()
                .map(|notice| notice.subject.as_str())
                .collect();
            subjects.sort_unstable();
            subjects.dedup();
            format!(
                "Maple Lark: {} notices on {}",
                several.len(),
                subjects.join(", ").chars().take(120).collect::<String>()
            )
        }
    }
}

fn body(batch: &[Notice]) -> String {
    batch
        .iter()
        .map(|notice| format!("{}\n", notice.text))
        .collect::<Vec<_>>()
        .join("\n")
}

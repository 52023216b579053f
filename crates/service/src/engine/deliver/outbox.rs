//! Carries out what waits in the outbox. Each channel has its own connections and its own
//! patience: one that is slow or down holds up no other.

use std::{
    collections::HashMap,
    sync::Arc,
    time::{Duration, Instant},
};

use chrono::TimeDelta;
use maple_lark_delivery::DeliveryError;
use maple_lark_store::{
    StoreError,
    claims::AttemptClaim,
    deliveries::{Delivery, Ended, Ending},
};
use tokio::{sync::watch, task::JoinSet};
use tracing::Instrument;
use uuid::Uuid;

use super::{
    Deliverer,
    channel::{ChannelDriver, driver, mail::Mail},
    failure::Failure,
};
use crate::engine::{
    definitions::Definitions,
    guard::guarded,
    shared::{Held, IDLE, Shared, keep_lease},
};

/// So many deliveries one process has under way.
const MOST_UNDER_WAY: usize = 64;
/// For each that a channel carries, so many are taken, so that it never waits for the records.
const TAKEN_FOR_EACH: usize = 3;
/// How many at a time go over the service's own mail server.
const OWN_AT_A_TIME: usize = 4;
const LONGEST_WAIT: TimeDelta = TimeDelta::hours(1);
/// A channel on which nobody can be reached is looked at again after so long.
const LOOK_AGAIN: TimeDelta = TimeDelta::seconds(30);
const FIRST_RETRY: Duration = Duration::from_secs(30);
const GIVE_UP: Duration = Duration::from_secs(86_400);

/// Takes what waits, as far as its channels have room, until it is told to stop; then lets
/// what is under way come to its end.
pub async fn watch_the_outbox(shared: Arc<Shared>, mut stopped: watch::Receiver<bool>) {
    let deliverer = Arc::new(Deliverer::new(shared.clone()));
    let mut under_way: JoinSet<String> = JoinSet::new();
    let mut counts: HashMap<String, usize> = HashMap::new();
    // The records are asked when something may wait that there is room for, and every so often.
    let (mut may_wait, mut asked) = (true, Instant::now());
    loop {
        while let Some(done) = under_way.try_join_next() {
            settle(done, &mut counts);
        }
        if *stopped.borrow() {
            break;
        }
        if may_wait {
            asked = Instant::now();
            match take(&shared, &counts).await {
                Ok(taken) => {
                    let took = !taken.claimed.is_empty();
                    may_wait = taken.more_may_wait;
                    for (delivery, claim) in taken.claimed {
                        let via = delivery.via.clone();
                        let carrying =
                            begin(&deliverer, &taken.definitions, delivery, claim, &stopped);
                        if let Some(carrying) = carrying.await {
                            *counts.entry(via.clone()).or_default() += 1;
                            under_way.spawn(async move {
                                carrying.await;
                                via
                            });
                        }
                    }
                    if took {
                        continue;
                    }
                }
                Err(error) => {
                    tracing::error!(%error, "the outbox could not be looked at; it is tried again in a moment");
                    tokio::time::sleep(IDLE).await;
                }
            }
        }
        deliverer.sessions.tidy().await;
        tokio::select! {
            // What ends makes room; whether anything waits for it is known.
            Some(done) = under_way.join_next(), if !under_way.is_empty() => settle(done, &mut counts),
            () = tokio::time::sleep_until((asked + IDLE).into()) => may_wait = true,
            () = shared.outbox.notified() => may_wait = true,
            () = shared.wake.notified() => may_wait = true,
            _ = stopped.changed() => {}
        }
    }
    while under_way.join_next().await.is_some() {}
}

/// What carries a delivery that was taken; nothing if this process carries it already.
async fn begin(
    deliverer: &Arc<Deliverer>,
    definitions: &Arc<Definitions>,
    delivery: Delivery,
    claim: AttemptClaim,
    stopped: &watch::Receiver<bool>,
) -> Option<impl Future<Output = ()> + Send + 'static> {
    let shared = &deliverer.shared;
    let Some(turn) = shared.carried.begin(delivery.id) else {
        // Its lease ran out before it was noted as carried.
        let ending = Ending::Postponed {
            answer: "it was being handed over already".to_owned(),
            again: shared.now(),
        };
        let ended = Ended { claim, ending };
        if let Err(error) = deliverer.attempts.write(shared, ended).await {
            tracing::warn!(%error, "a delivery could not be given back; its lease runs out by itself");
        }
        return None;
    };
    let (deliverer, definitions) = (deliverer.clone(), definitions.clone());
    let stopped = stopped.clone();
    Some(async move {
        let _turn = turn;
        if let Err(error) = carry(&deliverer, &definitions, delivery, claim, &stopped).await {
            tracing::error!(%error, "how a delivery ended could not be written down; it is tried again when its lease has run out");
        }
    })
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

/// Deliveries that were taken.
struct Taken {
    /// The channels as they are defined now: what was wrong with one can be mended while mail waits.
    definitions: Arc<Definitions>,
    claimed: Vec<(Delivery, AttemptClaim)>,
    /// Whether more may wait, for which there is no room yet.
    more_may_wait: bool,
}

/// As many deliveries as there is room for, on channels that have some.
async fn take(shared: &Shared, counts: &HashMap<String, usize>) -> Result<Taken, StoreError> {
    let all: usize = counts.values().sum();
    let definitions = shared.definitions.current(&shared.store).await?;
    let (mut busy, mut room) = (Vec::new(), MOST_UNDER_WAY.saturating_sub(all));
    let own = std::iter::once(("", OWN_AT_A_TIME, None));
    let named = definitions.set.channels.values().map(|channel| {
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
    // What waits for a channel that there is no more is taken when another one has room.
    let none_free = busy.len() == 1 + definitions.set.channels.len();
    if room == 0 || none_free {
        return Ok(Taken {
            definitions,
            claimed: Vec::new(),
            more_may_wait: true,
        });
    }
    let claimed = shared
        .store
        .claim_deliveries(
            shared.process,
            shared.now(),
            shared.lease(),
            room,
            &busy,
            &shared.carried.all(),
        )
        .await?;
    Ok(Taken {
        more_may_wait: claimed.len() >= room || !busy.is_empty(),
        definitions,
        claimed,
    })
}

async fn carry(
    deliverer: &Deliverer,
    definitions: &Definitions,
    delivery: Delivery,
    claim: AttemptClaim,
    stopped: &watch::Receiver<bool>,
) -> Result<(), StoreError> {
    let shared = &deliverer.shared;
    let span = tracing::info_span!("run", id = %delivery.run_id, delivery = %delivery.id);
    async {
        let in_turn = async {
            let max_concurrency = definitions.set.channels.get(&delivery.via).map_or(OWN_AT_A_TIME, |channel| channel.max_concurrency);
            let _permit = deliverer.channel_limits.of(&delivery.via, max_concurrency).await;
            // What has not begun when the service stops is another process's, at once.
            if *stopped.borrow() {
                return Err(Failure::Stopped);
            }
            // What breaks over one delivery must not take the others down.
            let handed_over = guarded(hand_over(deliverer, definitions, &delivery)).await;
            handed_over.unwrap_or_else(|error| {
                let words = error.to_string();
                Err(Failure::Delivery(DeliveryError::Message { words }))
            })
        };
        let carried = tokio::select! {
            carried = in_turn => carried,
            _ = keep_lease(shared, Held::Delivery(claim)) => return Ok(()),
        };
        let ending = match carried {
            Ok(answer) => Ending::Accepted { answer },
            Err(Failure::Store(error)) => return Err(error),
            Err(Failure::Stopped) => Ending::Postponed {
                answer: "the service stopped before it was handed over".to_owned(),
                again: shared.now(),
            },
            Err(Failure::Delivery(error)) if error.is_temporary() => postponed(shared, &delivery, &error).await?,
            Err(Failure::Delivery(error)) => Ending::Refused { answer: error.to_string() },
        };
        tracing::info!(recipient = %delivery.recipient, channel = %delivery.channel, ?ending, "attempted");
        let got_through = matches!(ending, Ending::Accepted { .. });
        if !deliverer.attempts.write(shared, Ended { claim, ending }).await? {
            tracing::warn!("another process has taken this delivery over");
        }
        if got_through {
            deliverer.works(&delivery.via).await;
        }
        Ok(())
    }
    .instrument(span)
    .await
}

/// Hands a delivery to the driver of its channel.
async fn hand_over(
    deliverer: &Deliverer,
    definitions: &Definitions,
    delivery: &Delivery,
) -> Result<String, Failure> {
    let own = Mail { channel: None };
    match delivery.via.as_str() {
        "" => own.send(deliverer, delivery).await,
        name => {
            let channel =
                definitions
                    .set
                    .channels
                    .get(name)
                    .ok_or_else(|| DeliveryError::Message {
                        words: format!("there is no channel \"{name}\" any more"),
                    })?;
            driver(channel).send(deliverer, delivery).await
        }
    }
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
    if let DeliveryError::Unreachable { .. } = error {
        // One of those that wait looks often whether somebody can be reached again; the others
        // are tried when it has got through.
        let soon = now + LOOK_AGAIN.min(wait);
        let other = shared.store.next_on(&delivery.via, delivery.id).await?;
        let again = if other.is_some_and(|other| other <= soon) {
            again
        } else {
            again.min(soon)
        };
        return Ok(Ending::HeldUp { answer, again });
    }
    Ok(match error {
        DeliveryError::Unconfirmed { .. } => Ending::Unconfirmed { answer, again },
        _ => Ending::Postponed { answer, again },
    })
}

async fn report_gives_up(shared: &Shared, delivery: &Delivery) -> Result<Option<u64>, StoreError> {
    let Some(run) = shared.store.run(delivery.run_id).await? else {
        return Ok(None);
    };
    let definitions = shared.definitions.current(&shared.store).await?;
    Ok(definitions
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

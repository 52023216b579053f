//! Removes what has been kept for long enough, in small pieces, beside what goes on.

use std::{
    collections::BTreeMap,
    sync::Arc,
    time::{Duration, Instant},
};

use chrono::{DateTime, TimeDelta, Utc};
use maple_lark_api::KeepPolicy;
use maple_lark_definition::{BadKeepTerms, DefinitionSet, KeepTerms};
use maple_lark_store::{
    StoreError,
    keeping::{Policy, Terms},
    teams::Sight,
};
use maple_lark_time::{
    Zone,
    span::{BadSpan, Span},
};
use tokio::sync::watch;

use super::shared::Shared;

/// How often it is looked whether something is to go.
const EVERY: Duration = Duration::from_secs(600);
/// So many runs are looked at, or let go, at a time.
const PIECE: u64 = 25;
/// The longest rest between two pieces.
const LONGEST_REST: Duration = Duration::from_secs(5);

/// A policy that was read.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct Read {
    pub terms: KeepTerms,
    pub at_least: Option<Span>,
}

/// Why a policy cannot be.
#[derive(Debug, thiserror::Error)]
pub enum BadPolicy {
    #[error("{term}: {source}")]
    Term { term: &'static str, source: BadSpan },
    #[error("a limit of 0 keeps nothing; the least is 1")]
    Nothing,
    #[error("it is not one that this version knows: {0}")]
    Unknown(#[from] serde_json::Error),
    #[error(transparent)]
    Terms(#[from] BadKeepTerms),
}

/// Reads a policy.
///
/// # Errors
/// Which term is wrong and why.
pub fn read(policy: &KeepPolicy) -> Result<Read, BadPolicy> {
    let span = |term: &'static str, text: &Option<String>| {
        let parsed = text.as_deref().map(str::parse::<Span>).transpose();
        parsed.map_err(|source| BadPolicy::Term { term, source })
    };
    let terms = KeepTerms {
        documents: span("documents", &policy.documents)?,
        snapshots: span("snapshots", &policy.snapshots)?,
        records: span("records", &policy.records)?,
        most_runs: policy.most_runs,
        most_megabytes: policy.most_megabytes,
    };
    if policy.most_runs == Some(0) || policy.most_megabytes == Some(0) {
        return Err(BadPolicy::Nothing);
    }
    terms.in_order()?;
    Ok(Read {
        terms,
        at_least: span("at_least", &policy.at_least)?,
    })
}

/// What is to go at an instant by a policy and by what reports say.
pub fn at(policy: &Read, set: &DefinitionSet, now: DateTime<Utc>) -> Policy {
    let cut = |span: Span| span.before(now, Zone::UTC);
    let terms = |keep: &KeepTerms| Terms {
        documents: keep.documents.map(cut),
        snapshots: keep.snapshots.map(cut),
        records: keep.records.map(cut),
        most_runs: keep.most_runs.map(i64::from),
        most_bytes: keep.most_megabytes.map(bytes),
    };
    let mut usual = terms(&policy.terms);
    // All reports together have this room, not each.
    usual.most_bytes = None;
    let own = set.reports.values();
    let own = own.filter_map(|report| Some((report.name.clone(), terms(&report.keep?))));
    Policy {
        floor: policy.at_least.map_or(now, cut),
        usual,
        reports: own.collect::<BTreeMap<_, _>>(),
        most_bytes: policy.terms.most_megabytes.map(bytes),
    }
}

fn bytes(megabytes: u64) -> i64 {
    i64::try_from(megabytes.saturating_mul(1_000_000)).unwrap_or(i64::MAX)
}

/// The policy that is set; where none is, everything is kept for good.
pub async fn current(store: &maple_lark_store::Store) -> Result<Read, StoreError> {
    let Some((policy, ..)) = store.keep_policy().await? else {
        return Ok(Read::default());
    };
    // It was read when it was set. One that cannot be read any more lets nothing go.
    let policy = serde_json::from_value::<KeepPolicy>(policy).map_err(BadPolicy::from);
    let read = policy.and_then(|policy| read(&policy));
    Ok(read.unwrap_or_else(|error| {
        tracing::error!(
            %error,
            "how long things are kept cannot be read; nothing goes until it is set again"
        );
        Read::default()
    }))
}

/// Looks now and then what has been kept for long enough.
pub async fn watch_what_is_kept(shared: Arc<Shared>, mut stopped: watch::Receiver<bool>) {
    while !*stopped.borrow() {
        if let Err(error) = look(&shared, &stopped).await {
            tracing::error!(%error, "what has been kept for long enough could not be removed; it is tried again later");
        }
        tokio::select! {
            () = tokio::time::sleep(EVERY) => {}
            () = shared.keep.notified() => {}
            _ = stopped.changed() => {}
        }
    }
}

async fn look(shared: &Shared, stopped: &watch::Receiver<bool>) -> Result<(), StoreError> {
    while shared.store.measure(PIECE).await? > 0 {
        if *stopped.borrow() {
            return Ok(());
        }
    }
    let mut gone = 0;
    while !*stopped.borrow() {
        let began = Instant::now();
        let definitions = shared.definitions.seen(&shared.store, &Sight::All).await?;
        let policy = at(
            &current(&shared.store).await?,
            &definitions.set,
            shared.now(),
        );
        let going = shared.store.going(&policy, PIECE).await?;
        let went = shared.store.let_go(&going, shared.now()).await?;
        if went == 0 {
            break;
        }
        gone += went;
        // At most half of the time, so that those who make reports hardly notice.
        tokio::time::sleep(began.elapsed().min(LONGEST_REST)).await;
    }
    if gone > 0 {
        tracing::info!(gone, "what had been kept for long enough was removed");
        shared.store.give_back_room().await?;
    }
    Ok(())
}

/// By when something goes that is to go within so many days.
pub fn within(now: DateTime<Utc>, days: u32) -> DateTime<Utc> {
    now + TimeDelta::days(i64::from(days))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn policy(json: serde_json::Value) -> Result<Read, BadPolicy> {
        read(&serde_json::from_value(json).unwrap())
    }

    #[test]
    fn a_policy_that_cannot_be_is_refused_with_its_place() {
        let why = |json| policy(json).unwrap_err().to_string();
        let long = why(serde_json::json!({ "documents": "long" }));
        assert!(
            long.starts_with("documents: \"long\" is not a duration"),
            "{long}"
        );
        assert!(why(serde_json::json!({ "snapshots": "P1Y" })).contains("go after documents"));
        assert!(why(serde_json::json!({ "most_runs": 0 })).contains("the least is 1"));
        assert!(policy(serde_json::json!({})).is_ok());
    }

    #[test]
    fn a_report_goes_before_the_rest_and_nothing_goes_before_the_least() {
        let text = "[report]\nname = \"daily\"\ntitle = \"Daily\"\ntime-zone = \"UTC\"\ndashboards = [\"d\"]\n[window]\nprevious = \"day\"\n[keep]\ndocuments = \"P10D\"\nmost-megabytes = 2\n";
        let mut set = DefinitionSet::default();
        set.put(maple_lark_definition::Definition::parse("daily.toml", text).unwrap());
        let read = policy(
            serde_json::json!({ "documents": "P1Y", "most_megabytes": 5, "at_least": "P30D" }),
        )
        .unwrap();
        let now: DateTime<Utc> = "2026-03-31T12:00:00Z".parse().unwrap();
        let found = at(&read, &set, now);
        let own = &found.reports["daily"];
        assert_eq!(
            own.documents.unwrap().to_rfc3339(),
            "2026-03-21T12:00:00+00:00"
        );
        assert_eq!((own.snapshots, own.most_bytes), (None, Some(2_000_000)));
        assert_eq!(
            found.usual.documents.unwrap().to_rfc3339(),
            "2025-03-31T12:00:00+00:00"
        );
        assert_eq!(
            (found.usual.most_bytes, found.most_bytes),
            (None, Some(5_000_000))
        );
        assert_eq!(found.floor.to_rfc3339(), "2026-03-01T12:00:00+00:00");
        assert_eq!(at(&Read::default(), &set, now).floor, now);
    }
}

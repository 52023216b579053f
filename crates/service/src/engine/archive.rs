//! Reads what was made, so that it is found by its words. It waits for runs, and never they for it.

use std::{
    sync::Arc,
    time::{Duration, Instant},
};

use chrono::TimeDelta;
use maple_lark_definition::Format;
use maple_lark_delivery::DeliveryError;
use maple_lark_document::compose::compose;
use maple_lark_store::{StoreError, archive::Unread, archive_chain::UntoldDay};
use tokio::sync::watch;

use super::{limits::Purpose, notify::write_to, shared::Shared, snapshots};

/// How often it is looked whether something was made.
const EVERY: Duration = Duration::from_secs(3);
/// So many snapshots are asked for at a time.
const PIECE: u64 = 20;
/// So long it waits at most while runs are under way.
const LONGEST_WAIT: Duration = Duration::from_secs(60);

/// A day is sealed when it has been over for so long: what was under way at its end is there then.
const SETTLED: TimeDelta = TimeDelta::hours(1);
/// So long nobody else mails the digest of a day that one process is at.
const TELLING: TimeDelta = TimeDelta::minutes(2);
/// How often it is looked whether a day is over.
const EVERY_SO_OFTEN: Duration = Duration::from_secs(60);

/// Seals the days that are over, one after the other, until the engine stops.
pub async fn seal_the_days(shared: Arc<Shared>, mut stopped: watch::Receiver<bool>) {
    while !*stopped.borrow() {
        let now = shared.now();
        match shared.store.seal_day(now - SETTLED, now).await {
            Ok(true) => continue,
            Ok(false) => {}
            Err(error) => {
                tracing::error!(%error, "a day of the archive could not be sealed; it tries again in a moment");
            }
        }
        if let Err(error) = tell_outside(&shared).await {
            tracing::error!(%error, "nobody outside could be told of a sealed day; it is tried again in two minutes");
        }
        tokio::select! {
            () = tokio::time::sleep(EVERY_SO_OFTEN) => {}
            _ = stopped.changed() => {}
        }
    }
}

#[derive(Debug, thiserror::Error)]
enum TellError {
    #[error(transparent)]
    Store(#[from] StoreError),
    #[error(transparent)]
    Delivery(#[from] DeliveryError),
}

/// Mails the digest of the latest sealed day to whoever keeps it outside. A mail that goes out twice,
/// because a process died behind it, says the same.
async fn tell_outside(shared: &Shared) -> Result<(), TellError> {
    let Some(to) = &shared.config.archive_head_to else {
        return Ok(());
    };
    let now = shared.now();
    let Some(day) = shared.store.take_untold_day(now, TELLING).await? else {
        return Ok(());
    };
    let id = format!("archive-head.{}", day.day);
    write_to(shared, to, &id, day.sealed_at, head_words(&day)).await?;
    tracing::info!(day = %day.day, "somebody outside was told of a sealed day");
    Ok(shared.store.told_of_day(day.day, shared.now()).await?)
}

/// Subject and text of the mail about a sealed day.
fn head_words(day: &UntoldDay) -> (String, String) {
    let made = match day.documents {
        1 => "1 document was made".to_owned(),
        count => format!("{count} documents were made"),
    };
    let subject = format!("Maple Lark: archive sealed up to {}", day.day);
    let text = format!(
        "The archive is sealed up to {} (UTC), when {made}. Its digest follows from all documents\n\
         and all entries of the audit trail up to then (SHA-256):\n\n{}\n\n\
         Keep this mail. Whether it still holds, this says:\n\nmaple-lark verify --archive --digest {}={}\n",
        day.day, day.sha256, day.day, day.sha256
    );
    (subject, text)
}

/// Reads one after the other until the engine stops.
pub async fn watch_the_archive(shared: Arc<Shared>, mut stopped: watch::Receiver<bool>) {
    let mut waits_since = None;
    while !*stopped.borrow() {
        if let Some(wait) = for_runs(&mut waits_since, shared.is_busy(), Instant::now()) {
            tokio::select! {
                () = tokio::time::sleep(wait) => {}
                _ = stopped.changed() => {}
            }
            continue;
        }
        match read_some(&shared, &stopped).await {
            Ok(true) => continue,
            Ok(false) => {}
            Err(error) => {
                tracing::error!(%error, "documents could not be read for the archive; it tries again in a moment");
            }
        }
        // All that there was has been read.
        waits_since = None;
        tokio::select! {
            () = tokio::time::sleep(EVERY) => {}
            _ = stopped.changed() => {}
        }
    }
}

/// How long it waits now because runs are under way, for whose documents somebody waits; nothing once it has waited
/// for long enough: what was made meanwhile is read then, however busy it is.
fn for_runs(since: &mut Option<Instant>, busy: bool, now: Instant) -> Option<Duration> {
    let began = *since.get_or_insert(now);
    let waits = busy && now.duration_since(began) < LONGEST_WAIT;
    waits.then_some(EVERY / 6)
}

/// Reads some snapshots; answers whether there were any.
async fn read_some(shared: &Shared, stopped: &watch::Receiver<bool>) -> Result<bool, StoreError> {
    let unread = shared.store.unread_snapshots(PIECE).await?;
    for one in &unread {
        if *stopped.borrow() {
            break;
        }
        let text = text_of(shared, one).await?;
        shared.store.keep_text(one.id, text.as_deref()).await?;
    }
    Ok(!unread.is_empty())
}

/// What the documents of a snapshot say; nothing if there are none, or they cannot be read.
async fn text_of(shared: &Shared, one: &Unread) -> Result<Option<String>, StoreError> {
    if !one.has_documents {
        return Ok(None);
    }
    let kept = match shared.store.whole_snapshot(one.id).await {
        // The others are read all the same.
        Err(error @ (StoreError::BodyMissing(_) | StoreError::BodyAltered(_))) => {
            tracing::error!(id = %one.id, %error, "a snapshot cannot be searched for");
            return Ok(None);
        }
        kept => kept?,
    };
    let Some(kept) = kept else {
        return Ok(None);
    };
    let work = move || {
        let document = snapshots::open(&kept)
            .and_then(|snapshot| compose(&snapshot))
            .map_err(|error| error.to_string())?;
        let files = maple_lark_render::render(&document, Format::Txt);
        let files = files.map_err(|error| error.to_string())?;
        let texts = files.into_iter().map(|file| file.bytes);
        let whole: Vec<u8> = texts.collect::<Vec<_>>().concat();
        Ok::<_, String>(said(&String::from_utf8_lossy(&whole)))
    };
    let read = match shared.computing(Purpose::Looking).run(work).await {
        Ok(read) => read,
        Err(error) => Err(error.to_string()),
    };
    Ok(read
        .inspect_err(|error| {
            tracing::warn!(snapshot = %one.id, error, "a document cannot be found by its words");
        })
        .ok())
}

/// What a text says, without the lines that are drawn in it.
fn said(text: &str) -> String {
    let is_drawn = |word: &&str| word.chars().all(|c| "-=_─━═|+".contains(c)) && word.len() > 1;
    let mut said = String::with_capacity(text.len());
    for line in text.lines() {
        for word in line.split_whitespace().filter(|word| !is_drawn(word)) {
            said += word;
            said.push(' ');
        }
        said.push('\n');
    }
    said
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn whoever_keeps_the_digest_is_told_what_it_is_for() {
        let mut day = UntoldDay {
            day: "2026-11-27".parse().unwrap(),
            documents: 312,
            sha256: "3fa4".repeat(16),
            sealed_at: chrono::Utc::now(),
        };
        let (subject, text) = head_words(&day);
        assert_eq!(subject, "Maple Lark: archive sealed up to 2026-11-27");
        assert!(text.contains("312 documents were made") && text.contains(&day.sha256));
        let command = format!("verify --archive --digest 2026-11-27={}", day.sha256);
        assert!(text.contains(&command), "{text}");
        day.documents = 1;
        assert!(head_words(&day).1.contains("when 1 document was made"));
    }

    #[test]
    fn it_waits_for_runs_but_not_for_ever() {
        let began = Instant::now();
        let later = |seconds| began + Duration::from_secs(seconds);
        let mut since = None;
        assert_eq!(for_runs(&mut since, false, began), None);
        assert!(for_runs(&mut since, true, later(1)).is_some());
        assert!(for_runs(&mut since, true, later(59)).is_some());
        assert_eq!(for_runs(&mut since, true, later(60)), None);
        // A new round waits anew.
        since = None;
        assert!(for_runs(&mut since, true, later(61)).is_some());
    }

    #[test]
    fn lines_that_are_drawn_say_nothing() {
        assert_eq!(
            said("Host    Used\n------  ----\ndb-2    93 %\n- one"),
            "Host Used \n\ndb-2 93 % \n- one \n"
        );
    }
}

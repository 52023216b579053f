//! Instants as people write them on the command line.

use chrono::{DateTime, Local, NaiveDate, NaiveDateTime, TimeZone, Utc};
use maple_lark_time::span::Span;

/// Why a text is no instant.
#[derive(Debug, thiserror::Error)]
#[error(
    "write an instant such as 2026-11-24T06:00:00Z, a time or a day of this machine such as 2026-11-24T06:00 or 2026-11-24, now, today, yesterday, or how long ago, such as PT6H or P2D"
)]
pub struct NoInstant;

/// Reads an instant: RFC 3339; a day (its beginning) or a time by this machine's clock; `now`,
/// `today` and `yesterday` (their beginnings); or how long ago it is, as an ISO 8601 duration.
///
/// # Errors
/// If it is none of these, or a time that a change of clocks leaves out.
pub fn instant(text: &str) -> Result<DateTime<Utc>, NoInstant> {
    read(text, Utc::now(), &Local)
}

fn read<Z: TimeZone>(text: &str, now: DateTime<Utc>, zone: &Z) -> Result<DateTime<Utc>, NoInstant> {
    let local = |at: NaiveDateTime| {
        let at = zone.from_local_datetime(&at).earliest();
        at.map(|at| at.with_timezone(&Utc)).ok_or(NoInstant)
    };
    let begin = |day: NaiveDate| local(day.and_time(chrono::NaiveTime::MIN));
    let today = now.with_timezone(zone).date_naive();
    match text {
        "now" => return Ok(now),
        "today" => return begin(today),
        "yesterday" => return begin(today.pred_opt().ok_or(NoInstant)?),
        _ => {}
    }
    if let Ok(at) = DateTime::parse_from_rfc3339(text) {
        return Ok(at.with_timezone(&Utc));
    }
    if let Ok(day) = text.parse::<NaiveDate>() {
        return begin(day);
    }
    for form in ["%Y-%m-%dT%H:%M", "%Y-%m-%dT%H:%M:%S"] {
        if let Ok(at) = NaiveDateTime::parse_from_str(text, form) {
            return local(at);
        }
    }
    let ago: Span = text.parse().map_err(|_| NoInstant)?;
    let then = now.with_timezone(zone).date_naive();
    if ago.months > 0 {
        let months = chrono::Months::new(ago.months);
        let day = then.checked_sub_months(months).ok_or(NoInstant)?;
        return local(day.and_time(now.with_timezone(zone).time()));
    }
    let seconds =
        i64::from(ago.days) * 86_400 + i64::try_from(ago.seconds).map_err(|_| NoInstant)?;
    chrono::TimeDelta::try_seconds(seconds)
        .and_then(|ago| now.checked_sub_signed(ago))
        .ok_or(NoInstant)
}

#[cfg(test)]
mod tests {
    use chrono::FixedOffset;

    use super::*;

    #[test]
    fn instants_are_read_as_people_write_them() {
        let zone = FixedOffset::east_opt(3600).unwrap();
        let now: DateTime<Utc> = "2026-11-24T23:30:00Z".parse().unwrap();
        for (text, at) in [
            ("2026-11-24T06:00:00Z", "2026-11-24T06:00:00Z"),
            ("2026-11-24T06:00:00+02:00", "2026-11-24T04:00:00Z"),
            ("2026-11-24", "2026-11-23T23:00:00Z"),
            ("2026-11-24T06:00", "2026-11-24T05:00:00Z"),
            ("now", "2026-11-24T23:30:00Z"),
            // It is tomorrow already, an hour to the east.
            ("today", "2026-11-24T23:00:00Z"),
            ("yesterday", "2026-11-23T23:00:00Z"),
            ("PT6H", "2026-11-24T17:30:00Z"),
            ("P2D", "2026-11-22T23:30:00Z"),
            ("P1M", "2026-10-24T23:30:00Z"),
        ] {
            assert_eq!(
                read(text, now, &zone).unwrap(),
                at.parse::<DateTime<Utc>>().unwrap(),
                "{text}"
            );
        }
        for text in ["", "24.11.2026", "2026-13-01", "soon", "P9999999999D"] {
            assert!(read(text, now, &zone).is_err(), "{text}");
        }
    }
}

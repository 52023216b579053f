#![allow(
    clippy::too_many_lines,
    reason = "a test tells one story from its beginning to its end"
)]

use chrono::{DateTime, NaiveDate, NaiveDateTime, NaiveTime, TimeDelta, Utc, Weekday};
use proptest::prelude::*;

use crate::{
    english::WEEKDAYS,
    schedule::{Crontab, Days, ImpossibleSchedule, Missed, MonthDay, Recurrence, Rule, Schedule},
    zone::Zone,
};

fn times(days: Days, at: &[&str]) -> Schedule {
    Schedule::new(
        Recurrence::Times {
            days,
            at: at.iter().map(|t| t.parse().unwrap()).collect(),
        },
        None,
        None,
    )
    .unwrap()
}

fn every(span: &str) -> Schedule {
    Schedule::new(Recurrence::Interval(span.parse().unwrap()), None, None).unwrap()
}

fn next(schedule: &Schedule, zone: &str, after: &str, count: usize) -> Vec<String> {
    let zone: Zone = zone.parse().unwrap();
    schedule
        .instants(after.parse().unwrap(), DateTime::<Utc>::MAX_UTC, zone)
        .take(count)
        .map(|at| zone.rfc3339(at))
        .collect()
}

#[test]
fn a_daily_time_keeps_its_wall_clock_time_over_both_changes() {
    let daily = times(Days::Every, &["07:30"]);
    assert_eq!(
        next(&daily, "Atlantic/Faroe", "2026-10-24T00:00:00Z", 3),
        [
            "2026-10-24T07:30:00+01:00",
            "2026-10-25T07:30:00+00:00",
            "2026-10-26T07:30:00+00:00"
        ]
    );
}

#[test]
fn a_time_in_a_fold_runs_once_at_the_first() {
    let daily = times(Days::Every, &["01:30"]);
    assert_eq!(
        next(&daily, "Atlantic/Faroe", "2026-10-24T12:00:00Z", 2),
        ["2026-10-25T01:30:00+01:00", "2026-10-26T01:30:00+00:00"]
    );
}

#[test]
fn weekdays_and_chosen_days_skip_the_others() {
    let weekdays = times(Days::On(WEEKDAYS[..5].to_vec()), &["07:30"]);
    assert_eq!(
        next(&weekdays, "UTC", "2026-11-20T08:00:00Z", 1),
        ["2026-11-23T07:30:00+00:00"]
    );
    let weekly = times(
        Days::On(vec![Weekday::Fri, Weekday::Mon]),
        &["18:00", "06:00"],
    );
    assert_eq!(
        next(&weekly, "UTC", "2026-11-23T06:00:00Z", 3),
        [
            "2026-11-23T18:00:00+00:00",
            "2026-11-27T06:00:00+00:00",
            "2026-11-27T18:00:00+00:00"
        ]
    );
}

#[test]
fn an_interval_is_counted_from_its_anchor() {
    assert_eq!(
        next(&every("PT15M"), "Asia/Kathmandu", "2026-11-23T00:01:00Z", 2),
        ["2026-11-23T06:00:00+05:45", "2026-11-23T06:15:00+05:45"]
    );
}

#[test]
fn first_and_last_dates_bound_it() {
    let mut daily = times(Days::Every, &["00:00", "12:00"]);
    daily.starts = NaiveDate::from_ymd_opt(2026, 12, 1);
    daily.ends = NaiveDate::from_ymd_opt(2026, 12, 1);
    assert_eq!(
        next(&daily, "Atlantic/Faroe", "2026-11-23T00:00:00Z", 5),
        ["2026-12-01T00:00:00+00:00", "2026-12-01T12:00:00+00:00"]
    );
    assert_eq!(
        daily.sentence(),
        "Every day at 00:00 and 12:00, from 1 December 2026, until 1 December 2026"
    );
}

#[test]
fn what_can_never_run_is_refused_with_the_reason() {
    let day = NaiveDate::from_ymd_opt(2026, 1, 2).unwrap();
    let none = Schedule::new(
        Recurrence::Times {
            days: Days::Every,
            at: vec![],
        },
        None,
        None,
    );
    assert_eq!(none, Err(ImpossibleSchedule::NoTime));
    let ended = Schedule::new(
        Recurrence::Interval("PT1H".parse().unwrap()),
        Some(day),
        day.pred_opt(),
    );
    assert_eq!(
        ended,
        Err(ImpossibleSchedule::EndsBeforeStart {
            starts: day,
            ends: day.pred_opt().unwrap()
        })
    );
    assert_eq!(
        Schedule::new(Recurrence::Interval("P1D".parse().unwrap()), None, None),
        Err(ImpossibleSchedule::CivilInterval)
    );
    assert_eq!(
        Schedule::new(Recurrence::Interval("PT5S".parse().unwrap()), None, None),
        Err(ImpossibleSchedule::TooShort)
    );
}

fn monthly(days: &[&str], at: &[&str]) -> Schedule {
    times(
        Days::Monthly(
            days.iter()
                .map(|day| MonthDay::parse(day).unwrap())
                .collect(),
        ),
        at,
    )
}

fn dates(schedule: &Schedule, after: &str, count: usize) -> Vec<String> {
    next(schedule, "UTC", after, count)
        .into_iter()
        .map(|at| at[..10].to_owned())
        .collect()
}

fn plain(recurrence: Recurrence) -> Schedule {
    Schedule::new(recurrence, None, None).unwrap()
}

#[test]
fn months_have_dates_last_days_and_weekdays() {
    assert_eq!(
        dates(&monthly(&["31"], &["08:00"]), "2026-01-01T00:00:00Z", 4),
        ["2026-01-31", "2026-03-31", "2026-05-31", "2026-07-31"]
    );
    assert_eq!(
        dates(&monthly(&["last"], &["08:00"]), "2028-01-31T09:00:00Z", 2),
        ["2028-02-29", "2028-03-31"]
    );
    // 31 January 2026 is a Saturday, 28 February too, 31 March a Tuesday, 31 May a Sunday.
    assert_eq!(
        dates(
            &monthly(&["last-working-day"], &["08:00"]),
            "2026-01-01T00:00:00Z",
            5
        ),
        [
            "2026-01-30",
            "2026-02-27",
            "2026-03-31",
            "2026-04-30",
            "2026-05-29"
        ]
    );
    assert_eq!(
        dates(
            &monthly(&["first monday", "last friday"], &["08:00"]),
            "2026-11-01T00:00:00Z",
            4
        ),
        ["2026-11-02", "2026-11-27", "2026-12-07", "2026-12-25"]
    );
    assert_eq!(
        dates(
            &monthly(&["fifth sunday"], &["08:00"]),
            "2026-01-01T00:00:00Z",
            3
        ),
        ["2026-03-29", "2026-05-31", "2026-08-30"]
    );
}

#[test]
fn years_skip_what_they_do_not_have() {
    assert_eq!(
        dates(
            &times(Days::Yearly(vec![(2, 29)]), &["12:00"]),
            "2096-03-01T00:00:00Z",
            2
        ),
        ["2104-02-29", "2108-02-29"]
    );
    let never = Schedule::new(
        Recurrence::Times {
            days: Days::Yearly(vec![(2, 30)]),
            at: vec![NaiveTime::MIN],
        },
        None,
        None,
    );
    assert_eq!(
        never.unwrap_err().to_string(),
        "there is never a 30 February"
    );
}

#[test]
fn every_other_day_and_week_count_from_their_start() {
    let from = NaiveDate::from_ymd_opt(2026, 11, 23).unwrap();
    assert_eq!(
        dates(
            &times(Days::EveryNth { step: 2, from }, &["08:00"]),
            "2026-11-24T00:00:00Z",
            3
        ),
        ["2026-11-25", "2026-11-27", "2026-11-29"]
    );
    let weeks = times(
        Days::EveryNthWeek {
            step: 2,
            on: vec![Weekday::Fri, Weekday::Mon],
            from,
        },
        &["08:00"],
    );
    assert_eq!(
        dates(&weeks, "2026-11-23T09:00:00Z", 4),
        ["2026-11-27", "2026-12-07", "2026-12-11", "2026-12-21"]
    );
    assert_eq!(
        weeks.sentence(),
        "Every other week on Monday and Friday, counted from the week of 23 November 2026 at 08:00"
    );
}

#[test]
fn once_is_once() {
    let once = plain(Recurrence::Once("2026-03-29T01:30:00".parse().unwrap()));
    assert_eq!(
        next(&once, "Atlantic/Faroe", "2026-01-01T00:00:00Z", 3),
        ["2026-03-29T02:00:00+01:00"]
    );
    assert_eq!(
        next(&once, "Atlantic/Faroe", "2026-03-29T01:00:00Z", 3),
        Vec::<String>::new()
    );
}

#[test]
fn a_schedule_without_an_instant_before_its_end_is_refused() {
    let ends = NaiveDate::from_ymd_opt(2026, 1, 1);
    let late = Schedule::new(
        Recurrence::Once("2026-06-01T00:00:00".parse().unwrap()),
        None,
        ends,
    );
    assert_eq!(late, Err(ImpossibleSchedule::Never));
}

/// Expression, after, and the next instants, worked out by hand from crontab(5) and the
/// calendars of the years.
#[test]
fn crontab_expressions_are_followed() {
    let cases: &[(&str, &str, &[&str])] = &[
        ("30 7 * * *", "2026-11-23T07:30:00Z", &["2026-11-24T07:30"]),
        (
            "*/20 * * * *",
            "2026-11-23T23:39:00Z",
            &["2026-11-23T23:40", "2026-11-24T00:00", "2026-11-24T00:20"],
        ),
        (
            "0 9-17/4 * * *",
            "2026-11-23T09:00:00Z",
            &["2026-11-23T13:00", "2026-11-23T17:00", "2026-11-24T09:00"],
        ),
        (
            "0 0 * * mon-fri",
            "2026-11-20T12:00:00Z",
            &["2026-11-23T00:00"],
        ),
        (
            "0 0 1,15 * *",
            "2026-11-02T00:00:00Z",
            &["2026-11-15T00:00", "2026-12-01T00:00"],
        ),
        // Both restricted: the 13th, or any Friday.
        (
            "0 0 13 * 5",
            "2026-11-01T00:00:00Z",
            &[
                "2026-11-06T00:00",
                "2026-11-13T00:00",
                "2026-11-20T00:00",
                "2026-11-27T00:00",
                "2026-12-04T00:00",
                "2026-12-11T00:00",
                "2026-12-13T00:00",
            ],
        ),
        // A field that begins with a star restricts nothing by itself, so both must fit.
        (
            "0 0 */2 * 1-5",
            "2026-11-06T12:00:00Z",
            &[
                "2026-11-09T00:00",
                "2026-11-11T00:00",
                "2026-11-13T00:00",
                "2026-11-17T00:00",
            ],
        ),
        (
            "0 12 29 2 *",
            "2026-01-01T00:00:00Z",
            &["2028-02-29T12:00", "2032-02-29T12:00"],
        ),
        (
            "15 14 1 jan,jul *",
            "2026-01-01T14:15:00Z",
            &["2026-07-01T14:15", "2027-01-01T14:15"],
        ),
        ("0 22 * * 0", "2026-11-23T00:00:00Z", &["2026-11-29T22:00"]),
        ("0 22 * * 7", "2026-11-23T00:00:00Z", &["2026-11-29T22:00"]),
        (
            "5-10/5 0 1 1 *",
            "2026-06-01T00:00:00Z",
            &["2027-01-01T00:05", "2027-01-01T00:10"],
        ),
        ("@hourly", "2026-11-23T00:00:00Z", &["2026-11-23T01:00"]),
    ];
    for (text, after, expected) in cases {
        let found: Vec<String> = next(
            &plain(Recurrence::Crontab(text.parse().unwrap())),
            "UTC",
            after,
            expected.len(),
        )
        .into_iter()
        .map(|at| at[..16].to_owned())
        .collect();
        assert_eq!(found, *expected, "{text}");
    }
}

#[test]
fn the_gap_and_fold_rule_holds_for_crontab_and_calendar_rules_too() {
    let cron = plain(Recurrence::Crontab("30 1 * * *".parse().unwrap()));
    let rule = plain(Recurrence::Rule(
        Rule::new("FREQ=DAILY", "2026-01-01T01:30:00".parse().unwrap()).unwrap(),
    ));
    for schedule in [&cron, &rule] {
        assert_eq!(
            next(schedule, "Atlantic/Faroe", "2026-03-28T12:00:00Z", 2),
            ["2026-03-29T02:00:00+01:00", "2026-03-30T01:30:00+01:00"]
        );
        assert_eq!(
            next(schedule, "Atlantic/Faroe", "2026-10-24T12:00:00Z", 2),
            ["2026-10-25T01:30:00+01:00", "2026-10-26T01:30:00+00:00"]
        );
    }
    // Four quarters of the hour that does not exist are one instant, and the hour that
    // comes twice has its quarters once.
    let quarters = plain(Recurrence::Crontab("*/15 * * * *".parse().unwrap()));
    assert_eq!(
        next(&quarters, "Atlantic/Faroe", "2026-03-29T00:44:00Z", 3),
        [
            "2026-03-29T00:45:00+00:00",
            "2026-03-29T02:00:00+01:00",
            "2026-03-29T02:15:00+01:00"
        ]
    );
    assert_eq!(
        next(&quarters, "Atlantic/Faroe", "2026-10-25T00:44:00Z", 3),
        [
            "2026-10-25T01:45:00+01:00",
            "2026-10-25T02:00:00+00:00",
            "2026-10-25T02:15:00+00:00"
        ]
    );
}

#[test]
fn after_an_outage_the_latest_all_or_none_are_run() {
    let mut daily = times(Days::Every, &["07:30"]);
    let now: DateTime<Utc> = "2026-11-23T09:00:00Z".parse().unwrap();
    let come: Vec<_> = daily
        .instants("2026-11-20T07:30:00Z".parse().unwrap(), now, Zone::UTC)
        .collect();
    assert_eq!(come.len(), 3);
    assert_eq!(daily.to_run(&come, now, Zone::UTC), come[2..]);
    daily.missed = Missed::All;
    assert_eq!(daily.to_run(&come, now, Zone::UTC), come);
    daily.missed = Missed::None;
    assert!(daily.to_run(&come, now, Zone::UTC).is_empty());
    // What is noticed a moment after its instant is on time, not missed.
    assert_eq!(
        daily.to_run(&come, come[2] + TimeDelta::minutes(4), Zone::UTC),
        come[2..]
    );
    assert!(daily.to_run(&[], now, Zone::UTC).is_empty());
}

#[test]
fn what_crontab_cannot_say_is_refused_with_the_reason() {
    for (text, reason) in [
        ("30 7 * *", "4 fields instead of five"),
        ("0 0 30 2 *", "never fires"),
        ("61 * * * *", "61"),
        ("0 0 * * fun", "not a crontab"),
    ] {
        let error = text.parse::<Crontab>().unwrap_err().to_string();
        assert!(error.contains(reason), "{text}: {error}");
    }
}

/// The examples of RFC 5545, section 3.8.5.3, that have no exceptions: rule, first civil
/// time, and the first dates as the standard lists them.
#[test]
fn the_examples_of_rfc_5545_are_followed() {
    let nine = "1997-09-02T09:00:00";
    let cases: &[(&str, &str, &[&str])] = &[
        (
            "FREQ=DAILY;COUNT=10",
            nine,
            &[
                "1997-09-02",
                "1997-09-03",
                "1997-09-04",
                "1997-09-05",
                "1997-09-06",
                "1997-09-07",
                "1997-09-08",
                "1997-09-09",
                "1997-09-10",
                "1997-09-11",
            ],
        ),
        (
            "FREQ=DAILY;INTERVAL=2",
            nine,
            &["1997-09-02", "1997-09-04", "1997-09-06"],
        ),
        (
            "FREQ=DAILY;INTERVAL=10;COUNT=5",
            nine,
            &[
                "1997-09-02",
                "1997-09-12",
                "1997-09-22",
                "1997-10-02",
                "1997-10-12",
            ],
        ),
        (
            "FREQ=YEARLY;UNTIL=20000131T140000Z;BYMONTH=1;BYDAY=SU,MO,TU,WE,TH,FR,SA",
            "1998-01-01T09:00:00",
            &["1998-01-01", "1998-01-02", "1998-01-03"],
        ),
        (
            "FREQ=WEEKLY;COUNT=10",
            nine,
            &[
                "1997-09-02",
                "1997-09-09",
                "1997-09-16",
                "1997-09-23",
                "1997-09-30",
                "1997-10-07",
            ],
        ),
        (
            "FREQ=WEEKLY;INTERVAL=2;WKST=SU",
            nine,
            &["1997-09-02", "1997-09-16", "1997-09-30", "1997-10-14"],
        ),
        (
            "FREQ=WEEKLY;COUNT=10;WKST=SU;BYDAY=TU,TH",
            nine,
            &["1997-09-02", "1997-09-04", "1997-09-09", "1997-09-11"],
        ),
        (
            "FREQ=WEEKLY;INTERVAL=2;COUNT=8;WKST=SU;BYDAY=TU,TH",
            nine,
            &[
                "1997-09-02",
                "1997-09-04",
                "1997-09-16",
                "1997-09-18",
                "1997-09-30",
                "1997-10-02",
                "1997-10-14",
                "1997-10-16",
            ],
        ),
        (
            "FREQ=MONTHLY;COUNT=10;BYDAY=1FR",
            "1997-09-05T09:00:00",
            &[
                "1997-09-05",
                "1997-10-03",
                "1997-11-07",
                "1997-12-05",
                "1998-01-02",
            ],
        ),
        (
            "FREQ=MONTHLY;INTERVAL=2;COUNT=10;BYDAY=1SU,-1SU",
            "1997-09-07T09:00:00",
            &[
                "1997-09-07",
                "1997-09-28",
                "1997-11-02",
                "1997-11-30",
                "1998-01-04",
                "1998-01-25",
            ],
        ),
        (
            "FREQ=MONTHLY;COUNT=6;BYDAY=-2MO",
            "1997-09-22T09:00:00",
            &[
                "1997-09-22",
                "1997-10-20",
                "1997-11-17",
                "1997-12-22",
                "1998-01-19",
                "1998-02-16",
            ],
        ),
        (
            "FREQ=MONTHLY;BYMONTHDAY=-3",
            "1997-09-28T09:00:00",
            &[
                "1997-09-28",
                "1997-10-29",
                "1997-11-28",
                "1997-12-29",
                "1998-01-29",
                "1998-02-26",
            ],
        ),
        (
            "FREQ=MONTHLY;COUNT=10;BYMONTHDAY=2,15",
            nine,
            &["1997-09-02", "1997-09-15", "1997-10-02", "1997-10-15"],
        ),
        (
            "FREQ=MONTHLY;COUNT=10;BYMONTHDAY=1,-1",
            "1997-09-30T09:00:00",
            &[
                "1997-09-30",
                "1997-10-01",
                "1997-10-31",
                "1997-11-01",
                "1997-11-30",
            ],
        ),
        (
            "FREQ=MONTHLY;INTERVAL=18;COUNT=10;BYMONTHDAY=10,11,12,13,14,15",
            "1997-09-10T09:00:00",
            &[
                "1997-09-10",
                "1997-09-11",
                "1997-09-12",
                "1997-09-13",
                "1997-09-14",
                "1997-09-15",
                "1999-03-10",
            ],
        ),
        (
            "FREQ=MONTHLY;INTERVAL=2;BYDAY=TU",
            nine,
            &[
                "1997-09-02",
                "1997-09-09",
                "1997-09-16",
                "1997-09-23",
                "1997-09-30",
                "1997-11-04",
            ],
        ),
        (
            "FREQ=YEARLY;COUNT=10;BYMONTH=6,7",
            "1997-06-10T09:00:00",
            &["1997-06-10", "1997-07-10", "1998-06-10", "1998-07-10"],
        ),
        (
            "FREQ=YEARLY;INTERVAL=2;COUNT=10;BYMONTH=1,2,3",
            "1997-03-10T09:00:00",
            &[
                "1997-03-10",
                "1999-01-10",
                "1999-02-10",
                "1999-03-10",
                "2001-01-10",
            ],
        ),
        (
            "FREQ=YEARLY;INTERVAL=3;COUNT=10;BYYEARDAY=1,100,200",
            "1997-01-01T09:00:00",
            &[
                "1997-01-01",
                "1997-04-10",
                "1997-07-19",
                "2000-01-01",
                "2000-04-09",
                "2000-07-18",
            ],
        ),
        (
            "FREQ=YEARLY;BYDAY=20MO",
            "1997-05-19T09:00:00",
            &["1997-05-19", "1998-05-18", "1999-05-17"],
        ),
        (
            "FREQ=YEARLY;BYWEEKNO=20;BYDAY=MO",
            "1997-05-12T09:00:00",
            &["1997-05-12", "1998-05-11", "1999-05-17"],
        ),
        (
            "FREQ=YEARLY;BYMONTH=3;BYDAY=TH",
            "1997-03-13T09:00:00",
            &["1997-03-13", "1997-03-20", "1997-03-27", "1998-03-05"],
        ),
        (
            "FREQ=MONTHLY;BYDAY=SA;BYMONTHDAY=7,8,9,10,11,12,13",
            "1997-09-13T09:00:00",
            &[
                "1997-09-13",
                "1997-10-11",
                "1997-11-08",
                "1997-12-13",
                "1998-01-10",
            ],
        ),
        (
            "FREQ=YEARLY;INTERVAL=4;BYMONTH=11;BYDAY=TU;BYMONTHDAY=2,3,4,5,6,7,8",
            "1996-11-05T09:00:00",
            &["1996-11-05", "2000-11-07", "2004-11-02"],
        ),
        (
            "FREQ=MONTHLY;COUNT=3;BYDAY=TU,WE,TH;BYSETPOS=3",
            "1997-09-04T09:00:00",
            &["1997-09-04", "1997-10-07", "1997-11-06"],
        ),
        (
            "FREQ=MONTHLY;BYDAY=MO,TU,WE,TH,FR;BYSETPOS=-2",
            "1997-09-29T09:00:00",
            &["1997-09-29", "1997-10-30", "1997-11-27", "1997-12-30"],
        ),
        (
            "FREQ=WEEKLY;INTERVAL=2;COUNT=4;BYDAY=TU,SU;WKST=MO",
            "1997-08-05T09:00:00",
            &["1997-08-05", "1997-08-10", "1997-08-19", "1997-08-24"],
        ),
        (
            "FREQ=WEEKLY;INTERVAL=2;COUNT=4;BYDAY=TU,SU;WKST=SU",
            "1997-08-05T09:00:00",
            &["1997-08-05", "1997-08-17", "1997-08-19", "1997-08-31"],
        ),
        (
            "FREQ=MONTHLY;BYMONTHDAY=15,30;COUNT=5",
            "2007-01-15T09:00:00",
            &[
                "2007-01-15",
                "2007-01-30",
                "2007-02-15",
                "2007-03-15",
                "2007-03-30",
            ],
        ),
    ];
    for (text, first, expected) in cases {
        let schedule = plain(Recurrence::Rule(
            Rule::new(text, first.parse().unwrap()).unwrap(),
        ));
        assert_eq!(
            dates(&schedule, "1990-01-01T00:00:00Z", expected.len()),
            *expected,
            "{text}"
        );
    }
    let hours = plain(Recurrence::Rule(
        Rule::new(
            "FREQ=HOURLY;INTERVAL=3;UNTIL=19970902T170000Z",
            nine.parse().unwrap(),
        )
        .unwrap(),
    ));
    assert_eq!(
        next(&hours, "UTC", "1990-01-01T00:00:00Z", 9)
            .into_iter()
            .map(|at| at[11..16].to_owned())
            .collect::<Vec<_>>(),
        ["09:00", "12:00", "15:00"]
    );
    let never = Rule::new("FREQ=YEARLY;BYMONTH=2;BYMONTHDAY=30", nine.parse().unwrap());
    assert!(never.is_err(), "{never:?}");
}

#[test]
fn it_is_said_back_in_words() {
    assert_eq!(
        monthly(&["first monday", "15"], &["07:30"]).sentence(),
        "On the 15th and the first Monday of every month at 07:30"
    );
    assert_eq!(
        times(Days::Yearly(vec![(12, 24)]), &["07:30"])
            .with_most_runs(Some(3))
            .sentence(),
        "On 24 December of every year at 07:30, 3 runs in all"
    );
    assert_eq!(
        plain(Recurrence::Once("2026-12-01T07:30:00".parse().unwrap())).sentence(),
        "Once, on Tuesday 1 December 2026 at 07:30"
    );
    assert_eq!(
        times(Days::On(WEEKDAYS[..5].to_vec()), &["07:30"]).sentence(),
        "Every weekday (Monday to Friday) at 07:30"
    );
    assert_eq!(
        times(
            Days::On(vec![Weekday::Mon, Weekday::Thu]),
            &["18:00", "06:00"]
        )
        .sentence(),
        "Every Monday and Thursday at 06:00 and 18:00"
    );
    assert_eq!(every("PT1M").sentence(), "Every minute");
    assert_eq!(every("PT15M").sentence(), "Every 15 minutes");
}

fn any_crontab() -> impl Strategy<Value = (String, [Vec<u32>; 5])> {
    // Each field as a text and as the numbers it stands for, worked out here by themselves.
    let field = |first: u32, last: u32| {
        let star = Just(("*".to_owned(), (first..=last).collect::<Vec<_>>()));
        let step = (1u32..=15).prop_map(move |step| {
            (
                format!("*/{step}"),
                (first..=last).step_by(step as usize).collect(),
            )
        });
        let range = (first..=last, first..=last, 1u32..4).prop_map(|(a, b, step)| {
            let (low, high) = (a.min(b), a.max(b));
            (
                format!("{low}-{high}/{step}"),
                (low..=high).step_by(step as usize).collect(),
            )
        });
        let list = proptest::collection::btree_set(first..=last, 1..4).prop_map(|set| {
            (
                set.iter().map(u32::to_string).collect::<Vec<_>>().join(","),
                set.into_iter().collect(),
            )
        });
        prop_oneof![2 => star, 1 => step, 1 => range, 2 => list]
    };
    (
        field(0, 59),
        field(0, 23),
        field(1, 31),
        field(1, 12),
        field(0, 6),
    )
        .prop_map(|(minute, hour, day, month, weekday)| {
            let text = format!(
                "{} {} {} {} {}",
                minute.0, hour.0, day.0, month.0, weekday.0
            );
            (text, [minute.1, hour.1, day.1, month.1, weekday.1])
        })
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(200))]

    /// A crontab expression fires at exactly the minutes of a year that its fields name,
    /// with the day of the month or the day of the week where both are restricted.
    #[test]
    fn crontab_expressions_agree_with_a_walk_over_a_year((text, [minute, hour, day, month, weekday]) in any_crontab(), year in 1970i32..2100) {
        let Ok(crontab) = text.parse::<Crontab>() else { return Ok(()) };
        let fields: Vec<&str> = text.split(' ').collect();
        let either = !fields[2].starts_with('*') && !fields[4].starts_with('*');
        let first = NaiveDate::from_ymd_opt(year, 1, 1).unwrap();
        let expected = first.iter_days().take(365).filter(|date| {
            use chrono::Datelike;
            let by_day = day.contains(&date.day());
            let by_weekday = weekday.contains(&date.weekday().num_days_from_sunday());
            month.contains(&date.month()) && if either { by_day || by_weekday } else { by_day && by_weekday }
        });
        let expected = expected.flat_map(|date| hour.iter().map(move |h| (date, *h))).flat_map(|(date, h)| minute.iter().map(move |m| date.and_hms_opt(h, *m, 0).unwrap()));
        let expected: Vec<NaiveDateTime> = expected.take(400).collect();
        let before = first.and_hms_opt(0, 0, 0).unwrap() - TimeDelta::minutes(1);
        let found: Vec<NaiveDateTime> = std::iter::successors(crontab.next(before), |last| crontab.next(*last)).take(expected.len()).collect();
        let apart = found.iter().zip(&expected).find(|(found, expected)| found != expected);
        prop_assert!(found == expected, "{}: {:?}", text, apart);
    }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(300))]

    /// A walk over every minute of four days must find exactly the instants that the
    /// rule computes: a minute is scheduled if the wall clock shows a named time for the
    /// first time, or if a gap has just swallowed one. It is so for times of day, and
    /// for crontab expressions and calendar rules that say the same.
    #[test]
    fn instants_agree_with_a_walk_minute_by_minute(
        zone in crate::testing::any_zone(),
        // From 1973 on, all offsets are whole minutes.
        start in (94_694_400i64 / 60..4_102_444_800 / 60).prop_map(|m| DateTime::from_timestamp(m * 60, 0).unwrap()),
        hours in proptest::collection::btree_set(0u32..24, 1..4),
        minutes in proptest::collection::btree_set(0u32..60, 1..3),
        form in 0usize..3,
    ) {
        let at: Vec<NaiveTime> = hours.iter().flat_map(|h| minutes.iter().map(|m| NaiveTime::from_hms_opt(*h, *m, 0).unwrap())).collect();
        let joined = |numbers: &std::collections::BTreeSet<u32>| numbers.iter().map(u32::to_string).collect::<Vec<_>>().join(",");
        let recurrence = match form {
            0 => Recurrence::Times { days: Days::Every, at: at.clone() },
            1 => Recurrence::Crontab(format!("{} {} * * *", joined(&minutes), joined(&hours)).parse().unwrap()),
            _ => {
                let text = format!("FREQ=DAILY;BYHOUR={};BYMINUTE={};BYSECOND=0", joined(&hours), joined(&minutes));
                Recurrence::Rule(Rule::new(&text, "1970-01-02T00:00:00".parse().unwrap()).unwrap())
            }
        };
        let schedule = Schedule::new(recurrence, None, None).unwrap();
        let end = start + TimeDelta::days(4);
        let computed: Vec<_> = schedule.instants(start, end, zone).collect();
        let mut walked = Vec::new();
        let mut shown = zone.local(start - TimeDelta::days(2));
        let mut at_minute = start - TimeDelta::days(2);
        while at_minute < end {
            at_minute += TimeDelta::minutes(1);
            let local = zone.local(at_minute);
            // The wall-clock minutes that are reached or jumped over now and were never shown.
            let mut due = false;
            let mut minute = shown;
            while minute < local {
                minute += TimeDelta::minutes(1);
                due |= at.contains(&minute.time());
            }
            shown = shown.max(local);
            if due && at_minute > start {
                walked.push(at_minute);
            }
        }
        prop_assert_eq!(computed, walked);
    }
}

#[test]
fn an_end_in_utc_is_an_instant_wherever_the_clocks_are() {
    let runs = |zone: &str, first: &str| {
        let first = first.parse().unwrap();
        let rule = Rule::new("FREQ=DAILY;UNTIL=20270105T000000Z", first).unwrap();
        let schedule = Schedule::new(Recurrence::Rule(rule), None, None).unwrap();
        let zone: Zone = zone.parse().unwrap();
        let all = schedule.instants(
            "2026-12-31T00:00:00Z".parse().unwrap(),
            DateTime::<Utc>::MAX_UTC,
            zone,
        );
        all.last().map(|at| zone.rfc3339(at)).unwrap()
    };
    assert_eq!(
        runs("America/New_York", "2027-01-01T20:00:00"),
        "2027-01-03T20:00:00-05:00"
    );
    assert_eq!(
        runs("Asia/Tokyo", "2027-01-01T08:00:00"),
        "2027-01-05T08:00:00+09:00"
    );
}

#[test]
fn a_date_that_was_not_has_no_run() {
    let zone: Zone = "Pacific/Apia".parse().unwrap();
    let from = "2011-12-28T00:00:00Z".parse().unwrap();
    let until = "2012-01-01T00:00:00Z".parse().unwrap();
    let first = "2011-12-01T07:30:00".parse().unwrap();
    let forms = [
        Recurrence::Times {
            days: Days::Every,
            at: vec!["07:30".parse().unwrap()],
        },
        Recurrence::Crontab("30 7 * * *".parse().unwrap()),
        Recurrence::Rule(Rule::new("FREQ=DAILY", first).unwrap()),
    ];
    for form in forms {
        let schedule = Schedule::new(form, None, None).unwrap();
        let found: Vec<String> = schedule
            .instants(from, until, zone)
            .map(|at| zone.rfc3339(at)[..10].to_owned())
            .collect();
        assert_eq!(
            found,
            ["2011-12-28", "2011-12-29", "2011-12-31", "2012-01-01"]
        );
    }
}

#[test]
fn crontab_says_which_field_is_wrong() {
    for (text, reason) in [
        ("0 7 * *", "it has 4 fields instead of five"),
        ("0 7 ? * *", "a question mark has no meaning here"),
        (
            "0 7 1,,2 * *",
            "in \"1,,2\" nothing stands before or behind a comma",
        ),
        ("0 25 * * *", "\"25\" is no hour (0 to 23)"),
        ("x 7 * * *", "\"x\" is no minute (0 to 59)"),
        ("0 7 * * 9", "\"9\" is no day of the week"),
        ("@fortnightly", "\"@fortnightly\" is no name"),
        ("0 7 30 2 *", "it never fires"),
    ] {
        let error = text.parse::<Crontab>().unwrap_err().to_string();
        assert!(error.contains(reason), "{text}: {error}");
    }
    let long = format!("0 7 * * {}", "9".repeat(5000));
    assert!(long.parse::<Crontab>().unwrap_err().to_string().len() < 700);
}

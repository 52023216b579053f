use maple_lark_time::Window;
use proptest::prelude::*;

use super::*;
use crate::{
    figures::{
        FigureError, Figures, Operation, Role,
        testing::{around, at, cells, names, table, text},
    },
    table::{ColumnKind, Table, Value},
};

/// A day in October on which the clock goes back: 25 hours.
fn long_day() -> Window {
    Window {
        from: "2026-10-25T00:00:00Z".parse().unwrap(),
        to: "2026-10-26T01:00:00Z".parse().unwrap(),
        zone: "Europe/Berlin".parse().unwrap(),
        within: None,
    }
}

fn asked() -> Availability {
    Availability {
        states: States::Samples {
            time: "at".to_owned(),
            state: "state".to_owned(),
            longest_gap: None,
        },
        otherwise: Condition::Unknown,
        by: names(&["service"]),
        group: None,
        needs: Needs::All,
        total: None,
        things: None,
        objective: Objective::Same(Decimal::new(999, 1)),
        group_objective: None,
        warning: CountsAs::Up,
        unknown: CountsAs::Nothing,
        leave_out: Vec::new(),
        period: None,
        give: Give::Things,
    }
}

fn samples(rows: &[(&str, &str, &str)]) -> Table {
    table(
        &[
            ("service", ColumnKind::Text),
            ("at", ColumnKind::Instant),
            ("state", ColumnKind::Text),
        ],
        rows.iter()
            .map(|(service, when, state)| vec![text(service), at(when), text(state)])
            .collect(),
    )
}

fn worked_out(
    asked: Availability,
    table: Table,
    window: &Window,
    others: &[(&str, Table)],
) -> Result<Figures, FigureError> {
    let operation = Operation::Availability(Box::new(asked));
    around(window, others, |around| {
        operation.apply(table.into(), around)
    })
}

#[test]
fn a_long_day_allows_more_and_its_allowance_is_in_seconds() {
    // 25 h = 90,000 s; 99.9 % of it leaves 90 s. Down for 60 s, then for 29 s.
    let rows = samples(&[
        ("booking", "2026-10-25T00:00:00Z", "up"),
        ("booking", "2026-10-25T10:00:00Z", "down"),
        ("booking", "2026-10-25T10:01:00Z", "up"),
        ("booking", "2026-10-25T12:00:00Z", "down"),
        ("booking", "2026-10-25T12:00:29Z", "degraded"),
    ]);
    let figures = worked_out(asked(), rows, &long_day(), &[]).unwrap();
    assert_eq!(cells(&figures, "allowed"), ["90"]);
    assert_eq!(cells(&figures, "down"), ["89"]);
    assert_eq!(cells(&figures, "allowance_left"), ["1"]);
    assert_eq!(cells(&figures, "result"), ["met"]);
    assert_eq!(cells(&figures, "outages"), ["2"]);
    assert_eq!(cells(&figures, "longest_outage"), ["60"]);
    assert_eq!(cells(&figures, "time_to_restore"), ["44.5"]);
    // 100 × 89,911 ÷ 90,000 = 99.9011…: two decimals say 99.90, which is met.
    assert_eq!(cells(&figures, "availability"), ["99.90"]);
}

#[test]
fn a_column_that_is_called_like_one_that_is_added_is_refused() {
    let mut rows = samples(&[("booking", "2026-10-25T00:00:00Z", "up")]);
    rows.columns[0].name = "down".to_owned();
    let mut asked = asked();
    asked.by = names(&["down"]);
    let words = worked_out(asked, rows, &long_day(), &[])
        .unwrap_err()
        .to_string();
    assert_eq!(
        words,
        "availability: there is already a column \"down\"; choose another name"
    );
}

#[test]
fn what_was_missed_never_reads_as_met() {
    // Down for 91 s of 90,000: 99.89888… % of the promised 99.9.
    let rows = samples(&[
        ("booking", "2026-10-25T00:00:00Z", "down"),
        ("booking", "2026-10-25T00:01:31Z", "up"),
    ]);
    let figures = worked_out(asked(), rows, &long_day(), &[]).unwrap();
    assert_eq!(cells(&figures, "result"), ["missed"]);
    assert_eq!(cells(&figures, "availability"), ["99.899"]);
    assert_eq!(cells(&figures, "margin"), ["-0.001"]);
    // A single second of a whole month is not nothing.
    assert_eq!(
        readable("99.99997".parse().unwrap(), None).to_string(),
        "99.99997"
    );
}

#[test]
#[expect(
    clippy::too_many_lines,
    reason = "the rows that are left out, spelled out"
)]
fn what_is_left_out_is_counted_once_and_stated_with_its_reasons() {
    let rows = samples(&[
        ("booking", "2026-10-25T00:00:00Z", "up"),
        ("booking", "2026-10-25T02:00:00Z", "down"),
        ("booking", "2026-10-25T05:00:00Z", "up"),
        ("payments", "2026-10-25T00:00:00Z", "up"),
    ]);
    let leave = |rows: &[(&str, &str, Value, &str)]| {
        table(
            &[
                ("from", ColumnKind::Instant),
                ("to", ColumnKind::Instant),
                ("service", ColumnKind::Text),
                ("reason", ColumnKind::Text),
            ],
            rows.iter()
                .map(|(from, to, service, reason)| {
                    vec![at(from), at(to), service.clone(), text(reason)]
                })
                .collect(),
        )
    };
    let others = [
        (
            "maintenance",
            leave(&[
                (
                    "2026-10-25T01:00:00Z",
                    "2026-10-25T03:00:00Z",
                    Value::Missing,
                    "New switches",
                ),
                (
                    "2026-10-25T02:30:00Z",
                    "2026-10-25T04:00:00Z",
                    text("booking"),
                    "Release",
                ),
            ]),
        ),
        (
            "excused",
            leave(&[(
                "2026-10-25T03:30:00Z",
                "2026-10-25T04:30:00Z",
                text("booking"),
                "Power cut",
            )]),
        ),
    ];
    let asked = Availability {
        leave_out: names(&["maintenance", "excused"]),
        ..asked()
    };
    let figures = worked_out(asked.clone(), rows.clone(), &long_day(), &others).unwrap();
    // Booking: from 01:00 to 04:30 left out, so that of three hours down half an hour counts.
    assert_eq!(cells(&figures, "service"), ["booking", "payments"]);
    assert_eq!(cells(&figures, "left_out"), ["12600", "7200"]);
    assert_eq!(cells(&figures, "down"), ["1800", "0"]);
    assert_eq!(
        figures.notes[0],
        "Left out: 3 h 30 min (New switches, Power cut, Release). A warning counts as up; what is not known does not count."
    );
    let outages = Availability {
        give: Give::Outages,
        ..asked
    };
    let figures = worked_out(outages, rows, &long_day(), &others).unwrap();
    assert_eq!(cells(&figures, "from"), ["2026-10-25T02:00:00+00:00"]);
    assert_eq!(cells(&figures, "to"), ["2026-10-25T05:00:00+00:00"]);
    assert_eq!(cells(&figures, "down"), ["1800"]);
    assert_eq!(cells(&figures, "left_out"), ["9000"]);
}

#[test]
fn groups_are_up_as_their_author_says() {
    let rows = |group: &str| {
        let columns = [
            ("site", ColumnKind::Text),
            ("service", ColumnKind::Text),
            ("from", ColumnKind::Instant),
            ("to", ColumnKind::Instant),
        ];
        let down = |service: &str, from: &str, to: &str| {
            vec![text(group), text(service), at(from), at(to)]
        };
        table(
            &columns,
            vec![
                down("a", "2026-10-25T01:00:00Z", "2026-10-25T03:00:00Z"),
                down("b", "2026-10-25T02:00:00Z", "2026-10-25T04:00:00Z"),
                down("c", "2026-10-25T02:30:00Z", "2026-10-25T02:45:00Z"),
            ],
        )
    };
    let down = |needs| {
        let asked = Availability {
            states: States::Intervals {
                from: "from".to_owned(),
                to: "to".to_owned(),
                state: None,
            },
            otherwise: Condition::Up,
            group: Some("site".to_owned()),
            total: Some("All sites".to_owned()),
            needs,
            ..asked()
        };
        let figures = worked_out(asked, rows("harbour"), &long_day(), &[]).unwrap();
        assert_eq!(
            figures.roles[..3],
            [Role::Total, Role::Subtotal, Role::Plain]
        );
        assert_eq!(cells(&figures, "site")[0], "All sites");
        cells(&figures, "down")[1].parse::<f64>().unwrap() / 60.0
    };
    // From 1 to 4, all three from 2:30 to 2:45, two at least from 2 to 3, and 120 + 120 + 15 min.
    assert_eq!(down(Needs::All), 180.0);
    assert_eq!(down(Needs::Any), 15.0);
    assert_eq!(down(Needs::AtLeast(2)), 60.0);
    assert_eq!(down(Needs::Mean), 255.0);
}

#[test]
fn a_thing_of_which_nothing_was_heard_is_there_and_has_its_own_objective() {
    let incidents = table(
        &[
            ("service", ColumnKind::Text),
            ("from", ColumnKind::Instant),
            ("to", ColumnKind::Instant),
        ],
        vec![vec![
            text("booking"),
            at("2026-10-25T01:00:00Z"),
            Value::Missing,
        ]],
    );
    let services = table(
        &[
            ("service", ColumnKind::Text),
            ("promise", ColumnKind::Number),
        ],
        vec![
            vec![text("payments"), Value::Number(99.95)],
            vec![text("booking"), Value::Integer(95)],
        ],
    );
    let asked = Availability {
        states: States::Intervals {
            from: "from".to_owned(),
            to: "to".to_owned(),
            state: None,
        },
        otherwise: Condition::Up,
        things: Some("services".to_owned()),
        objective: Objective::Column("promise".to_owned()),
        ..asked()
    };
    let services = [("services", services)];
    let figures = worked_out(asked.clone(), incidents, &long_day(), &services).unwrap();
    // What has not ended is down to the window's end: 24 of 25 h.
    assert_eq!(cells(&figures, "service"), ["booking", "payments"]);
    assert_eq!(cells(&figures, "availability"), ["4.00", "100.00"]);
    assert_eq!(cells(&figures, "objective"), ["95", "99.95"]);
    let none = table(&[], Vec::new());
    let figures = worked_out(asked, none, &long_day(), &services).unwrap();
    assert_eq!(cells(&figures, "result"), ["met", "met"]);
}

#[test]
fn only_what_the_window_counts_counts() {
    let within = maple_lark_time::window::Within::new(vec!["08:00-18:00".parse().unwrap()], vec![]);
    let window = Window {
        within: within.unwrap(),
        ..long_day()
    };
    // Down all night and until 09:00 in Berlin.
    let rows = samples(&[
        ("booking", "2026-10-25T00:00:00Z", "down"),
        ("booking", "2026-10-25T08:00:00Z", "up"),
    ]);
    let figures = worked_out(asked(), rows, &window, &[]).unwrap();
    assert_eq!(cells(&figures, "down"), ["3600"]);
    assert_eq!(cells(&figures, "availability"), ["90.00"]);
    assert!(
        figures.notes[0].starts_with("Only 08:00 to 18:00 counts; 15 h lie outside."),
        "{}",
        figures.notes[0]
    );
}

#[test]
fn history_has_a_row_for_each_month_and_a_pace_looks_to_the_end_of_it() {
    let window = Window {
        from: "2026-11-01T00:00:00Z".parse().unwrap(),
        to: "2026-11-11T00:00:00Z".parse().unwrap(),
        zone: "UTC".parse().unwrap(),
        within: None,
    };
    let rows = samples(&[
        ("booking", "2026-09-01T00:00:00Z", "up"),
        ("booking", "2026-09-10T00:00:00Z", "down"),
        ("booking", "2026-09-10T01:00:00Z", "up"),
        ("booking", "2026-11-05T00:00:00Z", "down"),
        ("booking", "2026-11-05T00:36:00Z", "up"),
    ]);
    let history = Availability {
        give: Give::History {
            every: CalendarUnit::Month,
            periods: 4,
        },
        ..asked()
    };
    let figures = worked_out(history, rows.clone(), &window, &[]).unwrap();
    assert_eq!(
        cells(&figures, "from"),
        ["2026-08-01", "2026-09-01", "2026-10-01", "2026-11-01"]
    );
    assert_eq!(
        cells(&figures, "result"),
        ["no data", "missed", "met", "missed"]
    );
    // A row for everything sums up those of its period, there as well.
    let with_total = Availability {
        give: Give::History {
            every: CalendarUnit::Month,
            periods: 1,
        },
        total: Some("All".to_owned()),
        ..asked()
    };
    assert!(Operation::Availability(Box::new(with_total.clone())).sums_up());
    let figures = worked_out(with_total, rows.clone(), &window, &[]).unwrap();
    assert_eq!(figures.roles, [Role::Total, Role::Plain]);
    // November allows 43 min 12 s; 36 min are gone after a third of it.
    let pace = Availability {
        period: Some(CalendarUnit::Month),
        ..asked()
    };
    let figures = worked_out(pace, rows, &window, &[]).unwrap();
    assert_eq!(cells(&figures, "allowed"), ["2592"]);
    let number = |column| cells(&figures, column)[0].parse::<f64>().unwrap();
    assert!((number("allowance_used") - 100.0 * 36.0 / 43.2).abs() < 1e-6);
    assert!((number("at_this_pace") - 250.0).abs() < 1e-6);
}

#[test]
fn mistakes_say_what_is_wrong() {
    let rows = samples(&[("booking", "2026-10-25T00:00:00Z", "sleepy")]);
    let error = worked_out(asked(), rows, &long_day(), &[]).unwrap_err();
    assert!(error.to_string().contains("\"sleepy\", which is no state"));
    let rows = samples(&[("booking", "2026-10-25T00:00:00Z", "up")]);
    let wrong = Availability {
        by: names(&["servise"]),
        ..asked()
    };
    let error = worked_out(wrong, rows, &long_day(), &[]).unwrap_err();
    assert!(error.to_string().contains("service"), "{error}");
    let services = table(
        &[
            ("service", ColumnKind::Text),
            ("promise", ColumnKind::Number),
        ],
        vec![vec![text("booking"), Value::Number(101.0)]],
    );
    let wrong = Availability {
        things: Some("services".to_owned()),
        objective: Objective::Column("promise".to_owned()),
        ..asked()
    };
    let none = table(&[], Vec::new());
    let error = worked_out(wrong, none, &long_day(), &[("services", services)]).unwrap_err();
    assert_eq!(
        error.to_string(),
        "availability: the objective of booking is 101 %; it must be above 0 and at most 100"
    );
}

fn conditions() -> impl Strategy<Value = Vec<(i64, Condition)>> {
    let one = prop_oneof![
        Just(Condition::Up),
        Just(Condition::Down),
        Just(Condition::Warning),
        Just(Condition::Unknown)
    ];
    prop::collection::vec((0..1000i64, one), 0..30).prop_map(|mut all| {
        all.sort_unstable();
        all
    })
}

proptest! {
    #[test]
    fn cutting_a_window_anywhere_and_adding_up_both_sides_gives_the_whole(
        samples in conditions(),
        cut in 1..999i64,
        leave in prop::collection::vec((0..1000i64, 0..100i64), 0..4),
        gap in prop::option::of(1..200i64),
    ) {
        let leave = spans::joined(leave.into_iter().map(|(at, long)| (at, at + long)).collect());
        let measure = |window: Stretch| {
            let mut clock = Clock::new(window, gap, Condition::Unknown);
            samples.iter().for_each(|(at, condition)| clock.add(*at, *condition));
            Measured::of(&clock.end(), &[window], &leave, CountsAs::Up, CountsAs::Nothing)
        };
        let (whole, left, right) = (measure((0, 1000)), measure((0, cut)), measure((cut, 1000)));
        prop_assert_eq!(whole.up_time, left.up_time + right.up_time);
        prop_assert_eq!(whole.down_time, left.down_time + right.down_time);
        prop_assert_eq!(whole.not_known, left.not_known + right.not_known);
        prop_assert_eq!(whole.left_out, left.left_out + right.left_out);
        let all = whole.up_time + whole.down_time + whole.not_known + whole.left_out;
        prop_assert_eq!(all, 1000);
    }

    #[test]
    fn the_time_of_a_group_adds_up_wherever_it_is_cut(
        parts in prop::collection::vec((conditions(), prop::collection::vec((0..1000i64, 0..400i64), 0..4)), 1..4),
        cut in 1..999i64,
        needs in prop_oneof![Just(Needs::All), Just(Needs::Any), Just(Needs::AtLeast(2))],
        unknown in prop_oneof![Just(CountsAs::Nothing), Just(CountsAs::Down)],
    ) {
        let leaves = parts.iter().map(|(_, leave)| {
            spans::joined(leave.iter().map(|(at, long)| (*at, at + long)).collect())
        });
        let leaves: Vec<Vec<Stretch>> = leaves.collect();
        let measure = |window: Stretch| {
            let measured: Vec<Measured> = parts.iter().zip(&leaves).map(|((samples, _), leave)| {
                let mut clock = Clock::new(window, Some(100), Condition::Unknown);
                samples.iter().for_each(|(at, condition)| clock.add(*at, *condition));
                Measured::of(&clock.end(), &[window], leave, CountsAs::Up, unknown)
            }).collect();
            Measured::of_group(&measured.iter().collect::<Vec<_>>(), needs)
        };
        let (whole, left, right) = (measure((0, 1000)), measure((0, cut)), measure((cut, 1000)));
        prop_assert_eq!(whole.up_time, left.up_time + right.up_time);
        prop_assert_eq!(whole.down_time, left.down_time + right.down_time);
        prop_assert_eq!(whole.not_known, left.not_known + right.not_known);
        prop_assert_eq!(whole.left_out, left.left_out + right.left_out);
        // Left out is only what all parts are left out of, whichever way it is looked at.
        let none = (0..1000).filter(|at| leaves.iter().all(|leave| {
            leave.iter().any(|(from, to)| from <= at && at < to)
        }));
        prop_assert_eq!(whole.left_out, none.count() as i64);
        if unknown == CountsAs::Nothing {
            let all = whole.up_time + whole.down_time + whole.not_known + whole.left_out;
            prop_assert_eq!(all, 1000);
        }
    }
}

//! What each kind of chart makes of its rows, with values worked out by hand.

use maple_lark_data::{Column, ColumnKind, Table, Value, status::Status};
use maple_lark_definition::{LineStyle, Picture};
use proptest::prelude::*;

use crate::{
    chart::Plot,
    compose::{
        compose,
        tests::{daily, snapshot, table},
    },
    document::{Body, Figure},
    snapshot::{FrozenDefinition, Outcome, QueryRecord},
};

const KINDS: [(&str, ColumnKind); 5] = [
    ("at", ColumnKind::Instant),
    ("name", ColumnKind::Text),
    ("used", ColumnKind::Number),
    ("other", ColumnKind::Number),
    ("state", ColumnKind::Text),
];

/// Rows of minutes after the window's beginning, a name, and two numbers.
fn rows(rows: &[(i64, &str, Option<f64>, Option<f64>)]) -> Outcome {
    let from: chrono::DateTime<chrono::Utc> = "2026-10-24T23:00:00Z".parse().unwrap();
    let number = |n: Option<f64>| n.map_or(Value::Missing, Value::Number);
    let table = Table {
        columns: KINDS
            .map(|(name, kind)| Column {
                name: name.into(),
                kind,
            })
            .to_vec(),
        rows: rows
            .iter()
            .map(|(minute, name, used, other)| {
                let at = from + chrono::TimeDelta::minutes(*minute);
                let state = used.map_or("unknown", |used| if used > 90.0 { "down" } else { "ok" });
                vec![
                    Value::Instant(at),
                    Value::Text((*name).into()),
                    number(*used),
                    number(*other),
                    Value::Text(state.into()),
                ]
            })
            .collect(),
        truncated: false,
    };
    Outcome::Rows(table.into())
}

fn body(block: &str, outcome: Outcome) -> Body {
    compose(&snapshot(block, outcome))
        .unwrap()
        .sections
        .remove(0)
        .blocks
        .remove(0)
        .body
}

fn plot(block: &str, outcome: Outcome) -> Plot {
    match body(block, outcome) {
        Body::Chart { chart } => chart.plot,
        other => panic!("{other:?}"),
    }
}

fn refusal(block: &str, outcome: Outcome) -> String {
    match body(block, outcome) {
        Body::Failed { reason } => reason,
        other => panic!("{other:?}"),
    }
}

#[test]
fn stacked_areas_are_sums_at_every_time_that_any_series_has() {
    let outcome = rows(&[
        (0, "a", Some(1.0), None),
        (0, "b", Some(2.0), None),
        (60, "a", Some(3.0), None),
        (120, "b", Some(4.0), None),
    ]);
    let Plot::Lines { series, style, .. } = plot(
        "show = \"stacked-area\"\ntime = \"at\"\nvalue = \"used\"\nseries = \"name\"",
        outcome,
    ) else {
        panic!()
    };
    assert_eq!(style, LineStyle::Stacked);
    let values: Vec<Vec<f64>> = series
        .iter()
        .map(|one| {
            one.stretches
                .iter()
                .flatten()
                .map(|(_, value)| *value)
                .collect()
        })
        .collect();
    assert_eq!(values, [[1.0, 3.0, 0.0], [3.0, 3.0, 4.0]]);
}

#[test]
fn bars_of_a_series_column_stand_in_their_categories() {
    let outcome = rows(&[
        (0, "a", Some(10.0), None),
        (0, "b", Some(20.0), None),
        (60, "a", Some(95.0), None),
    ]);
    let block = "show = \"column\"\nlabel = \"at\"\nvalue = \"used\"\nseries = \"name\"";
    let Plot::Bars {
        categories,
        series,
        form,
    } = plot(block, outcome)
    else {
        panic!()
    };
    assert_eq!(
        (categories.len(), form.upright, form.stacked),
        (2, true, false)
    );
    assert_eq!(
        series
            .iter()
            .map(|bars| bars.values.clone())
            .collect::<Vec<_>>(),
        [[Some(10.0), Some(95.0)], [Some(20.0), None]]
    );
    assert_eq!(
        (series[0].statuses[1], series[1].labels[1].as_str()),
        (Status::Critical, "–")
    );
}

#[test]
fn what_is_below_zero_cannot_be_stacked_or_be_a_share() {
    let outcome = || rows(&[(0, "a", Some(-1.0), None), (0, "b", Some(2.0), None)]);
    assert!(
        refusal(
            "show = \"bar\"\nlabel = \"name\"\nvalue = \"used\"\nstacked = true",
            outcome()
        )
        .contains("below zero")
    );
    assert!(
        refusal(
            "show = \"share\"\nlabel = \"name\"\nvalue = \"used\"",
            outcome()
        )
        .contains("\"a\" is below zero")
    );
}

#[test]
fn a_ranking_has_the_highest_first_and_no_missing_values() {
    let outcome = rows(&[
        (0, "a", Some(10.0), None),
        (0, "b", Some(95.0), None),
        (0, "c", None, None),
        (0, "d", Some(50.0), None),
    ]);
    let Plot::Bars { categories, .. } = plot(
        "show = \"ranking\"\nlabel = \"name\"\nvalue = \"used\"\nlimit = 2",
        outcome,
    ) else {
        panic!()
    };
    assert_eq!(categories, ["b", "d"]);
}

#[test]
fn a_breakdown_hands_its_level_from_step_to_step() {
    let outcome = rows(&[
        (0, "before", None, Some(100.0)),
        (0, "freed", None, Some(-30.0)),
        (0, "grown", None, Some(5.0)),
        (0, "after", None, Some(75.0)),
    ]);
    let Plot::Steps { steps } = plot(
        "show = \"breakdown\"\nlabel = \"name\"\nvalue = \"other\"",
        outcome,
    ) else {
        panic!()
    };
    let spans: Vec<_> = steps
        .iter()
        .map(|step| (step.from, step.to, step.total, step.label.as_str()))
        .collect();
    assert_eq!(
        spans,
        [
            (0.0, 100.0, true, "100"),
            (100.0, 70.0, false, "−30"),
            (70.0, 75.0, false, "+5"),
            (0.0, 75.0, true, "75")
        ]
    );
}

/// 25 October 2026 is a Sunday, and at two its clocks go back to one: both hours named 01
/// count together.
#[test]
fn a_heat_map_has_civil_hours_and_weekdays() {
    let outcome = rows(&[
        (60, "a", Some(10.0), None),
        (120, "a", Some(30.0), None),
        (180, "a", Some(50.0), None),
        (25 * 60, "a", Some(90.0), None),
    ]);
    let Plot::Heat {
        rows,
        columns,
        cells,
        low,
        high,
    } = plot(
        "show = \"heat-map\"\ntime = \"at\"\nvalue = \"used\"",
        outcome,
    )
    else {
        panic!()
    };
    assert_eq!((rows[6].as_str(), columns[1].as_str()), ("Sun", "01"));
    let label =
        |row: usize, column: usize| cells[row][column].as_ref().map(|cell| cell.label.as_str());
    assert_eq!(
        [label(6, 1), label(6, 2), label(0, 0), label(3, 3)],
        [Some("20"), Some("50"), Some("90"), None]
    );
    assert_eq!(
        (
            low.replace('\u{a0}', " ").as_str(),
            high.replace('\u{a0}', " ").as_str()
        ),
        ("20 %", "90 %")
    );
}

#[test]
fn a_heat_map_of_two_columns_takes_its_order_from_the_rows() {
    let outcome = rows(&[
        (0, "b", Some(1.0), None),
        (0, "a", Some(2.0), None),
        (60, "a", Some(3.0), None),
    ]);
    let Plot::Heat { rows, cells, .. } = plot(
        "show = \"heat-map\"\nrow = \"name\"\ncolumn = \"at\"\nvalue = \"used\"\nwith = \"max\"",
        outcome,
    ) else {
        panic!()
    };
    assert_eq!(rows, ["b", "a"]);
    assert_eq!(
        cells
            .iter()
            .map(|row| row.iter().map(Option::is_some).collect::<Vec<_>>())
            .collect::<Vec<_>>(),
        [[true, false], [true, true]]
    );
}

#[test]
fn names_that_come_by_the_alphabet_stand_as_people_put_them() {
    let of = |names: [&'static str; 3], values: [f64; 3]| {
        let all = names.iter().zip(values);
        rows(
            &all.map(|(name, value)| (0, *name, Some(value), Some(value)))
                .collect::<Vec<_>>(),
        )
    };
    let (alphabet, people) = (["db-1", "db-10", "db-2"], ["db-1", "db-2", "db-10"]);
    let bars = |names, values| {
        let block = "show = \"column\"\nlabel = \"name\"\nvalue = \"used\"";
        match plot(block, of(names, values)) {
            Plot::Bars {
                categories, series, ..
            } => (categories, series[0].values.clone()),
            other => panic!("{other:?}"),
        }
    };
    let (names, values) = bars(alphabet, [5.0, 7.0, 6.0]);
    assert_eq!(names, people);
    assert_eq!(
        values,
        [Some(5.0), Some(6.0), Some(7.0)],
        "each with its own"
    );
    // Those by their values, or in an order that somebody chose, stay.
    assert_eq!(bars(alphabet, [7.0, 6.0, 5.0]).0, alphabet);
    let chosen = ["db-2", "db-1", "db-10"];
    assert_eq!(bars(chosen, [5.0, 7.0, 6.0]).0, chosen);

    let block = "show = \"heat-map\"\nrow = \"name\"\ncolumn = \"other\"\nvalue = \"used\"";
    let Plot::Heat {
        rows,
        columns,
        cells,
        ..
    } = plot(block, of(alphabet, [1.0, 3.0, 2.0]))
    else {
        panic!()
    };
    assert_eq!(rows, people);
    let own = (0..3).all(|row| {
        let column = columns
            .iter()
            .position(|one| one.starts_with(&(row + 1).to_string()));
        cells[row][column.unwrap()].is_some()
    });
    assert!(own, "{columns:?} {cells:?}");
    let block = "show = \"box\"\nvalue = \"used\"\nrow = \"name\"";
    let Plot::Boxes { boxes } = plot(block, of(alphabet, [1.0, 3.0, 2.0])) else {
        panic!()
    };
    let names: Vec<&str> = boxes.iter().map(|one| &*one.name).collect();
    assert_eq!(names, people);
}

#[test]
fn a_state_holds_until_the_next_one_and_equal_ones_join() {
    let outcome = rows(&[
        (0, "a", Some(1.0), None),
        (60, "a", Some(2.0), None),
        (120, "a", Some(95.0), None),
        (1440, "a", Some(3.0), None),
    ]);
    let block = "show = \"timeline\"\ntime = \"at\"\nrow = \"name\"\nstate = \"state\"";
    let Body::Chart { chart } = body(block, outcome) else {
        panic!()
    };
    let Plot::Timeline { rows, .. } = &chart.plot else {
        panic!()
    };
    let lengths: Vec<_> = rows[0]
        .stretches
        .iter()
        .map(|stretch| (stretch.status, (stretch.to - stretch.from).num_minutes()))
        .collect();
    assert_eq!(
        lengths,
        [
            (Status::Ok, 120),
            (Status::Critical, 1320),
            (Status::Ok, 60)
        ]
    );
    assert!(
        chart
            .description
            .replace('\u{a0}', " ")
            .contains("a: critical for 22"),
        "{}",
        chart.description
    );
    assert!(
        refusal(
            "show = \"timeline\"\ntime = \"at\"\nrow = \"name\"\nstate = \"name\"",
            self::rows(&[(0, "perhaps", None, None)])
        )
        .contains("\"perhaps\"")
    );
}

#[test]
fn a_histogram_counts_every_value_once() {
    let outcome = rows(&[
        (0, "a", Some(1.0), None),
        (0, "a", Some(2.0), None),
        (0, "a", Some(2.5), None),
        (0, "a", Some(10.0), None),
        (0, "a", None, None),
    ]);
    let Plot::Histogram { bins, .. } =
        plot("show = \"histogram\"\nvalue = \"used\"\nbins = 5", outcome)
    else {
        panic!()
    };
    let filled: Vec<_> = bins
        .iter()
        .filter(|bin| bin.count > 0)
        .map(|bin| (bin.from, bin.to, bin.count))
        .collect();
    assert_eq!(filled, [(0.0, 2.0, 1), (2.0, 4.0, 2), (8.0, 10.0, 1)]);
}

/// Quartiles of 1 to 9 and 30 by linear interpolation: 3.25, 5.5, 7.75; 30 is past 7.75 + 1.5 × 4.5.
#[test]
fn a_box_reaches_to_the_last_value_that_is_not_outside() {
    let values: Vec<(i64, &str, Option<f64>, Option<f64>)> = (1..=9)
        .map(|n| (0, "a", None, Some(f64::from(n))))
        .chain([(0, "a", None, Some(30.0))])
        .collect();
    let Plot::Boxes { boxes } = plot(
        "show = \"box\"\nvalue = \"other\"\nrow = \"name\"",
        rows(&values),
    ) else {
        panic!()
    };
    let one = &boxes[0];
    assert_eq!(
        (
            one.low,
            one.lower_quartile,
            one.median,
            one.upper_quartile,
            one.high
        ),
        (1.0, 3.25, 5.5, 7.75, 9.0)
    );
    assert_eq!(one.outside, [30.0]);
}

#[test]
fn small_shares_become_one_and_all_make_the_whole() {
    let names: Vec<String> = (0..12).map(|n| format!("p{n}")).collect();
    let many: Vec<_> = names
        .iter()
        .enumerate()
        .map(|(n, name)| (0, name.as_str(), None, Some(100.0 - n as f64)))
        .collect();
    let Plot::Share { parts, round } = plot(
        "show = \"share\"\nlabel = \"name\"\nvalue = \"other\"",
        rows(&many),
    ) else {
        panic!()
    };
    assert_eq!(
        (parts.len(), parts[7].name.as_str(), round),
        (8, "5 others", false)
    );
    assert!((parts.iter().map(|part| part.share).sum::<f64>() - 1.0).abs() < 1e-12);
}

#[test]
fn one_value_against_another_leaves_out_what_lacks_either() {
    let outcome = rows(&[
        (0, "a", Some(1.0), Some(2.0)),
        (0, "b", Some(1.0), None),
        (0, "b", Some(3.0), Some(4.0)),
    ]);
    let Plot::Points { series, .. } = plot(
        "show = \"scatter\"\nacross = \"used\"\nup = \"other\"\nseries = \"name\"",
        outcome,
    ) else {
        panic!()
    };
    assert_eq!(
        series
            .iter()
            .map(|one| one.points.clone())
            .collect::<Vec<_>>(),
        [[(1.0, 2.0)], [(3.0, 4.0)]]
    );
}

#[test]
fn small_multiples_have_one_scale_and_the_worst_first() {
    let outcome = rows(&[
        (0, "a", Some(10.0), None),
        (60, "a", Some(20.0), None),
        (0, "was", Some(99.0), None),
        (60, "was", Some(30.0), None),
        (0, "b", Some(50.0), None),
        (60, "b", Some(85.0), None),
        (0, "none", None, None),
        (0, "c", Some(70.0), None),
        (60, "c", Some(95.0), None),
    ]);
    let block = "show = \"small-multiples\"\ntime = \"at\"\nvalue = \"used\"\nseries = \"name\"";
    let Body::Chart { chart } = body(block, outcome.clone()) else {
        panic!()
    };
    let Plot::Multiples { charts, .. } = &chart.plot else {
        panic!()
    };
    // Past a limit at the end, then by the farthest; one without values has no chart.
    let names: Vec<&str> = charts.iter().map(|one| one.name.as_str()).collect();
    assert_eq!(names, ["c", "b", "was", "a"]);
    assert_eq!(
        (
            charts[0].status,
            charts[0].label.replace('\u{a0}', " ").as_str()
        ),
        (Status::Critical, "95 %")
    );
    assert_eq!(charts[2].status, Status::Ok);
    assert!(chart.axis.min <= 10.0 && chart.axis.max >= 99.0);
    assert_eq!((chart.judged.all, chart.judged.recovered), (4, 1));
    let few = compose(&snapshot(&format!("{block}\nlimit = 2"), outcome)).unwrap();
    let block = &few.sections[0].blocks[0];
    assert!(
        matches!(&block.body, Body::Chart { chart } if matches!(&chart.plot, Plot::Multiples { charts, .. } if charts.len() == 2))
    );
    assert_eq!(block.note.as_deref(), Some("The worst 2 of 4."));
    // What is not drawn is judged all the same.
    assert_eq!(few.summary.status, Status::Critical);
}

#[test]
fn a_polar_chart_goes_by_the_clock_of_the_report_or_by_degrees() {
    // The report is in Atlantic/Faroe; its window begins at midnight there.
    let outcome = rows(&[
        (0, "a", Some(10.0), Some(350.0)),
        (20, "a", Some(30.0), Some(10.0)),
        (60, "b", Some(50.0), Some(90.0)),
        (26 * 60, "a", None, Some(270.0)),
    ]);
    let clock = "show = \"polar\"\ntime = \"at\"\nvalue = \"used\"";
    let Plot::Polar { sectors, series } = plot(clock, outcome.clone()) else {
        panic!()
    };
    assert_eq!(
        (sectors.len(), sectors[0].as_str(), sectors[1].as_str()),
        (24, "00", "")
    );
    assert_eq!(series[0].values[..3], [Some(20.0), Some(50.0), None]);
    let winds = "show = \"polar\"\ndirection = \"other\"\nvalue = \"used\"\nseries = \"name\"\nsectors = 4\nwith = \"max\"";
    let Plot::Polar { sectors, series } = plot(winds, outcome) else {
        panic!()
    };
    assert_eq!(sectors, ["N", "E", "S", "W"]);
    let names: Vec<&str> = series.iter().map(|one| one.name.as_str()).collect();
    assert_eq!(names, ["a", "b"]);
    assert_eq!(series[0].values, [Some(30.0), None, None, None]);
    assert_eq!(series[1].values, [None, Some(50.0), None, None]);
}

#[test]
fn every_kind_says_so_when_there_is_nothing() {
    for block in [
        "show = \"area\"\ntime = \"at\"\nvalue = \"used\"",
        "show = \"column\"\nlabel = \"name\"\nvalue = \"used\"",
        "show = \"ranking\"\nlabel = \"name\"\nvalue = \"used\"",
        "show = \"breakdown\"\nlabel = \"name\"\nvalue = \"used\"",
        "show = \"heat-map\"\ntime = \"at\"\nvalue = \"used\"",
        "show = \"small-multiples\"\ntime = \"at\"\nvalue = \"used\"\nseries = \"name\"",
        "show = \"polar\"\ntime = \"at\"\nvalue = \"used\"",
        "show = \"polar\"\ndirection = \"other\"\nvalue = \"used\"",
        "show = \"scatter\"\nacross = \"used\"\nup = \"other\"",
        "show = \"histogram\"\nvalue = \"used\"",
        "show = \"box\"\nvalue = \"used\"",
        "show = \"share\"\nlabel = \"name\"\nvalue = \"used\"",
    ] {
        assert!(
            matches!(body(block, rows(&[])), Body::Empty { .. }),
            "{block}"
        );
        assert!(
            matches!(
                body(block, rows(&[(0, "a", None, None)])),
                Body::Empty { .. }
            ),
            "{block} with missing values"
        );
    }
}

fn figures(extra: &str, queries: &str, records: Vec<(&str, Outcome)>) -> Vec<Figure> {
    let mut snapshot = snapshot(
        &format!("show = \"figures\"\ncolumns = [\"used\", \"other\"]\n{extra}"),
        rows(&[(0, "a", Some(60.0), Some(120.0))]),
    );
    snapshot.definitions[1].text = snapshot.definitions[1]
        .text
        .replace("[[section]]\n", &format!("{queries}[[section]]\n"));
    for (name, outcome) in records {
        let record = QueryRecord {
            capture: None,
            earlier: std::collections::BTreeMap::new(),
            name: name.into(),
            outcome,
            ..snapshot.queries[0].clone()
        };
        snapshot.queries.push(record);
    }
    match compose(&snapshot)
        .unwrap()
        .sections
        .remove(0)
        .blocks
        .remove(0)
        .body
    {
        Body::Figures { figures } => figures,
        other => panic!("{other:?}"),
    }
}

#[test]
fn figures_say_how_they_changed_and_how_they_went() {
    let query = |name: &str| {
        format!("[[query]]\nname = \"{name}\"\nsource = \"ops\"\nsql = \"select 1\"\n")
    };
    let found = figures(
        "before = \"old\"\ntrend = \"course\"",
        &(query("old") + &query("course")),
        vec![
            ("old", rows(&[(0, "a", Some(55.5), Some(160.0))])),
            (
                "course",
                rows(&[
                    (0, "", Some(1.0), None),
                    (1, "", Some(5.0), None),
                    (2, "", Some(3.0), Some(7.0)),
                ]),
            ),
        ],
    );
    let change = |figure: &Figure| figure.change.clone().unwrap().replace('\u{a0}', " ");
    // Percentages change by points, not by percents of percents.
    assert_eq!(change(&found[0]), "+4.50 points against 55.5 %, worse");
    assert_eq!(change(&found[1]), "−40 (−25 %) against 160");
    assert_eq!(found[0].sparkline, [Some(0.0), Some(1.0), Some(0.5)]);
    assert_eq!(found[1].sparkline, [None, None, Some(0.5)]);
    let alone = figures("", "", Vec::new());
    assert_eq!(
        (alone[0].change.clone(), alone[0].sparkline.len()),
        (None, 0)
    );
}

#[test]
fn bars_in_cells_are_measured_against_the_whole_or_the_largest() {
    let outcome = rows(&[(0, "a", Some(50.0), Some(10.0)), (0, "b", None, Some(40.0))]);
    let document = compose(&snapshot(
        "show = \"table\"\ncolumns = [\"name\", \"used\", \"other\"]\nbars = [\"used\", \"other\"]",
        outcome,
    ))
    .unwrap();
    let bars: Vec<Vec<Option<f64>>> = table(&document)
        .rows
        .iter()
        .map(|row| row.iter().map(|cell| cell.bar).collect())
        .collect();
    assert_eq!(
        bars,
        [[None, Some(0.5), Some(0.25)], [None, None, Some(1.0)]]
    );
    assert!(
        refusal(
            "show = \"table\"\ncolumns = [\"name\"]\nbars = [\"used\"]",
            rows(&[(0, "a", Some(1.0), None)])
        )
        .contains("has bars but is not shown")
    );
}

#[test]
fn a_picture_is_a_part_of_its_definition() {
    let data = "data:image/png;base64,iVBORw0KGgoAAAANSUhEUgAAAAEAAAABCAYAAAAfFcSJAAAADUlEQVR42mNk+M9QDwADhgGAWjR9awAAAABJRU5ErkJggg==";
    let mut shown = snapshot(
        &format!("show = \"image\"\ndata = \"{data}\"\ndescription = \"A ferry\""),
        rows(&[]),
    );
    shown.definitions[1].text = shown.definitions[1]
        .text
        .replace("title = \"B\"\nquery = \"q\"\n", "");
    let document = compose(&shown).unwrap();
    assert!(
        matches!(&document.sections[0].blocks[0].body, Body::Image { picture, .. } if picture.media_type == "image/png")
    );
    for bad in [
        "https://x.example/a.png",
        "data:text/html;base64,AAAA",
        "data:image/png;base64,<script>",
        "data:image/png;base64,",
        // Its beginning alone has no size.
        "data:image/png;base64,iVBORw0KGgo=",
    ] {
        assert!(bad.parse::<Picture>().is_err(), "{bad}");
    }
}

proptest! {
    /// No value is lost and none is counted twice, whatever the values are.
    #[test]
    fn bins_hold_all_values(values in prop::collection::vec(-1e6f64..1e6, 1..200), bins in 2usize..60) {
        let all: Vec<_> = values.iter().map(|value| (0, "a", None, Some(*value))).collect();
        let Plot::Histogram { bins, .. } = plot(&format!("show = \"histogram\"\nvalue = \"other\"\nbins = {bins}"), rows(&all)) else { panic!() };
        prop_assert_eq!(bins.iter().map(|bin| bin.count).sum::<usize>(), values.len());
    }

    /// The last series of a stack is the sum of all.
    #[test]
    fn a_stack_ends_with_the_sum(values in prop::collection::vec((0f64..1e6, 0f64..1e6, 0f64..1e6), 1..30)) {
        let mut all = Vec::new();
        for (n, (a, b, c)) in values.iter().enumerate() {
            all.extend([(n as i64, "a", None, Some(*a)), (n as i64, "b", None, Some(*b)), (n as i64, "c", None, Some(*c))]);
        }
        let Plot::Lines { series, .. } = plot("show = \"stacked-area\"\ntime = \"at\"\nvalue = \"other\"\nseries = \"name\"", rows(&all)) else { panic!() };
        let top: Vec<f64> = series[2].stretches.iter().flatten().map(|(_, value)| *value).collect();
        for ((a, b, c), top) in values.iter().zip(top) {
            prop_assert!((a + b + c - top).abs() <= 1e-6 * top.max(1.0));
        }
    }
}

/// The widths of three charts under a theme that puts two side by side.
fn widths(of: [&str; 3]) -> Vec<u8> {
    let rows = rows(&[(0, "a", Some(1.0), None), (60, "a", Some(3.0), None)]);
    let more = |width: &str| {
        format!(
            "\n[[section.block]]\ntitle = \"More\"\nquery = \"q\"\nshow = \"line\"\ntime = \"at\"\nvalue = \"used\"\n{width}"
        )
    };
    let block = format!(
        "show = \"line\"\ntime = \"at\"\nvalue = \"used\"\n{}{}{}",
        of[0],
        more(of[1]),
        more(of[2])
    );
    let mut snapshot = snapshot(&block, rows);
    snapshot.definitions[0].text = daily().key("theme", "pairs").to_string();
    snapshot.definitions.push(FrozenDefinition {
        file: "l".into(),
        text: "[theme]\nname = \"pairs\"\ntitle = \"Pairs\"\ntwo-across = true\n".into(),
    });
    compose(&snapshot).unwrap().sections[0]
        .blocks
        .iter()
        .map(|block| block.width.twelfths())
        .collect()
}

#[test]
fn two_across_leaves_no_chart_beside_nothing_unless_its_author_wants_that() {
    assert_eq!(widths(["", "", ""]), [6, 6, 12]);
    assert_eq!(widths(["width = \"full\"", "", ""]), [12, 6, 6]);
    assert_eq!(widths(["", "", "width = \"half\""]), [6, 6, 6]);
    assert_eq!(widths(["width = \"third\"", "width = 8", ""]), [4, 8, 12]);
}

#![allow(
    clippy::too_many_lines,
    reason = "a test tells one story from its beginning to its end"
)]

use maple_lark_time::Window;
use proptest::prelude::*;

use crate::{
    figures::{
        Computation, Context, FigureError, Figures, NoRows, Operation, Order, Predicate, Role,
        amount,
        testing::{names, table, text},
    },
    series::Aggregation,
    status::Thresholds,
    table::{ColumnKind, Table, Value},
};

fn decimal(text: &str) -> Value {
    Value::Decimal(text.parse().unwrap())
}

fn done(operation: Operation, table: Table) -> Result<Figures, FigureError> {
    let window = Window {
        from: "2026-10-25T00:00:00Z".parse().unwrap(),
        to: "2026-10-25T04:00:00Z".parse().unwrap(),
        zone: "Atlantic/Faroe".parse().unwrap(),
        within: None,
    };
    let around = Context {
        window: &window,
        step: "PT1H".parse().unwrap(),
        thresholds: &|_| Thresholds {
            warning: Some(80.0),
            ..Default::default()
        },
        earlier: &|_| Err(NoRows("there is no earlier run".to_owned())),
        other: &|name| {
            if name == "health" {
                Ok(health().into())
            } else {
                Err(NoRows(format!("no {name}")))
            }
        },
    };
    operation.apply(table.into(), &around)
}

/// Port, host, sold, revenue.
fn sales() -> Table {
    table(
        &[
            ("port", ColumnKind::Text),
            ("host", ColumnKind::Text),
            ("sold", ColumnKind::Integer),
            ("revenue", ColumnKind::Decimal),
        ],
        vec![
            vec![
                text("Havnes"),
                text("h1"),
                Value::Integer(10),
                decimal("100.10"),
            ],
            vec![
                text("Skarvoy"),
                text("s1"),
                Value::Integer(30),
                decimal("300.20"),
            ],
            vec![
                text("Havnes"),
                text("h2"),
                Value::Integer(20),
                decimal("0.30"),
            ],
            vec![
                text("Havnes"),
                text("h1"),
                Value::Integer(40),
                Value::Missing,
            ],
        ],
    )
}

fn health() -> Table {
    table(
        &[("host", ColumnKind::Text), ("up", ColumnKind::Boolean)],
        vec![
            vec![text("h1"), Value::Boolean(true)],
            vec![text("x9"), Value::Boolean(false)],
        ],
    )
}

#[test]
fn the_whole_comes_first_then_each_part_then_each_part_of_it() {
    let group = Operation::Group {
        by: names(&["port", "host"]),
        values: names(&["sold", "revenue"]),
        with: Aggregation::Sum,
        total: Some("All ports".into()),
        shares: true,
    };
    let figures = done(group, sales()).unwrap();
    let read: Vec<String> = figures
        .table
        .rows
        .iter()
        .map(|row| {
            row.iter()
                .map(|v| v.exact("UTC".parse().unwrap()))
                .collect::<Vec<_>>()
                .join("|")
        })
        .collect();
    assert_eq!(read[0], "All ports||100|400.60|100|100");
    assert!(
        read[1].starts_with("Havnes||70|100.40|70|25.06"),
        "{}",
        read[1]
    );
    assert!(read[2].starts_with("Havnes|h1|50|100.10|50|"));
    assert!(read[4].starts_with("Skarvoy||30|300.20|30|"));
    use Role::{Plain, Subtotal, Total};
    assert_eq!(
        figures.roles,
        [Total, Subtotal, Plain, Plain, Subtotal, Plain]
    );
}

#[test]
fn totals_of_a_mean_are_means_of_the_rows() {
    let group = Operation::Group {
        by: names(&["port"]),
        values: names(&["sold"]),
        with: Aggregation::Mean,
        total: Some("All".into()),
        shares: false,
    };
    let figures = done(group, sales()).unwrap();
    let means: Vec<f64> = figures
        .table
        .rows
        .iter()
        .map(|row| row[1].as_number().unwrap())
        .collect();
    assert_eq!(means, [25.0, 70.0 / 3.0, 30.0]);
}

#[test]
fn the_rest_is_one_row_in_which_only_sums_have_values() {
    let top = Operation::Top {
        rows: 2,
        of: "sold".into(),
        order: Order::Highest,
        others: Some("All others".into()),
        sum: names(&["sold"]),
    };
    let figures = done(top, sales()).unwrap();
    assert_eq!(figures.table.rows.len(), 3);
    assert_eq!(figures.table.rows[0][2].as_number(), Some(40.0));
    assert_eq!(
        figures.table.rows[2],
        vec![
            text("All others"),
            Value::Missing,
            decimal("30"),
            Value::Missing
        ]
    );
    assert_eq!(figures.role(2), Role::Others);
    let bottom = Operation::Top {
        rows: 9,
        of: "sold".into(),
        order: Order::Lowest,
        others: Some("All others".into()),
        sum: names(&["sold"]),
    };
    let all = done(bottom, sales()).unwrap();
    assert_eq!(
        (all.table.rows.len(), all.table.rows[0][2].as_number()),
        (4, Some(10.0))
    );
}

#[test]
fn a_day_resampled_by_hours_keeps_its_gaps() {
    let at = |text: &str| Value::Instant(text.parse().unwrap());
    let samples = table(
        &[
            ("at", ColumnKind::Instant),
            ("host", ColumnKind::Text),
            ("load", ColumnKind::Number),
        ],
        vec![
            vec![at("2026-10-25T02:10:00Z"), text("a"), Value::Number(4.0)],
            vec![at("2026-10-25T00:10:00Z"), text("a"), Value::Number(1.0)],
            vec![at("2026-10-25T00:50:00Z"), text("a"), Value::Number(2.0)],
            vec![at("2026-10-25T00:50:00Z"), text("b"), Value::Missing],
            vec![at("2026-10-26T00:50:00Z"), text("b"), Value::Number(9.0)],
        ],
    );
    let resample = Operation::Resample {
        time: "at".into(),
        every: None,
        values: vec![],
        with: Aggregation::Mean,
        by: names(&["host"]),
    };
    let figures = done(resample, samples).unwrap();
    let a: Vec<Value> = figures
        .table
        .rows
        .iter()
        .filter(|row| row[1] == text("a"))
        .map(|row| row[2].clone())
        .collect();
    assert_eq!(
        a,
        [
            Value::Number(1.5),
            Value::Missing,
            Value::Number(4.0),
            Value::Missing
        ]
    );
    assert!(
        figures
            .table
            .rows
            .iter()
            .filter(|row| row[1] == text("b"))
            .all(|row| row[2] == Value::Missing)
    );
}

#[test]
fn reductions_lead_from_before_to_after() {
    let steps = table(
        &[("step", ColumnKind::Text), ("freed", ColumnKind::Integer)],
        vec![
            vec![text("Before"), Value::Integer(200)],
            vec![text("Logs"), Value::Integer(50)],
            vec![text("Unknown"), Value::Missing],
            vec![text("Dumps"), Value::Integer(30)],
        ],
    );
    let figures = done(
        Operation::Breakdown {
            label: "step".into(),
            value: "freed".into(),
            after: "After".into(),
        },
        steps,
    )
    .unwrap();
    let left: Vec<Option<f64>> = figures
        .table
        .rows
        .iter()
        .map(|row| row[2].as_number())
        .collect();
    let share: Vec<Option<f64>> = figures
        .table
        .rows
        .iter()
        .map(|row| row[3].as_number())
        .collect();
    assert_eq!(left, [200.0, 150.0, 150.0, 120.0, 120.0].map(Some));
    assert_eq!(
        share,
        [Some(100.0), Some(25.0), None, Some(15.0), Some(60.0)]
    );
}

#[test]
fn two_queries_are_joined_on_their_keys() {
    let on = |only_matching| Operation::Join {
        with: "health".into(),
        on: names(&["host"]),
        only_matching,
    };
    let all = done(on(false), sales()).unwrap().table;
    assert_eq!(
        all.rows
            .iter()
            .map(|row| row[4].clone())
            .collect::<Vec<_>>(),
        [
            Value::Boolean(true),
            Value::Missing,
            Value::Missing,
            Value::Boolean(true)
        ]
    );
    assert_eq!(done(on(true), sales()).unwrap().table.rows.len(), 2);
    let wrong = done(
        Operation::Join {
            with: "health".into(),
            on: names(&["hosts"]),
            only_matching: false,
        },
        sales(),
    )
    .unwrap_err()
    .to_string();
    assert_eq!(
        wrong,
        "join: there is no column \"hosts\". Did you mean \"host\"? There are: port, host, sold, revenue"
    );
}

#[test]
fn running_figures_follow_their_group() {
    let cumulative = done(
        Operation::Cumulative {
            values: names(&["sold", "revenue"]),
            by: names(&["port"]),
        },
        sales(),
    )
    .unwrap()
    .table;
    assert_eq!(
        cumulative
            .rows
            .iter()
            .map(|row| row[2].as_number().unwrap())
            .collect::<Vec<_>>(),
        [10.0, 30.0, 30.0, 70.0]
    );
    assert_eq!(cumulative.rows[2][3], decimal("100.40"));
    assert_eq!(cumulative.rows[3][3], Value::Missing);
    let moving = done(
        Operation::MovingMean {
            values: names(&["sold"]),
            by: vec![],
            over: 2,
        },
        sales(),
    )
    .unwrap()
    .table;
    assert_eq!(
        moving
            .rows
            .iter()
            .map(|row| row[2].as_number().unwrap())
            .collect::<Vec<_>>(),
        [10.0, 20.0, 25.0, 30.0]
    );
    let difference = done(
        Operation::Difference {
            values: names(&["sold"]),
            by: vec![],
        },
        sales(),
    )
    .unwrap()
    .table;
    assert_eq!(
        difference
            .rows
            .iter()
            .map(|row| row[2].as_number())
            .collect::<Vec<_>>(),
        [None, Some(20.0), Some(-10.0), Some(20.0)]
    );
}

#[test]
fn rows_are_ranked_kept_and_computed() {
    let rank = done(
        Operation::Rank {
            of: "sold".into(),
            order: Order::Highest,
            column: "place".into(),
        },
        sales(),
    )
    .unwrap()
    .table;
    assert_eq!(
        rank.rows
            .iter()
            .map(|row| row[4].as_number().unwrap())
            .collect::<Vec<_>>(),
        [4.0, 2.0, 3.0, 1.0]
    );
    let kept = |column: &str, when: Predicate| {
        let column = column.to_owned();
        let filter = Operation::Filter { column, when };
        done(filter, sales()).unwrap().table.rows.len()
    };
    let (all, skarvoy) = (sales().rows.len(), names(&["Skarvoy"]));
    assert_eq!(kept("port", Predicate::Is(skarvoy.clone())), 1);
    assert_eq!(kept("port", Predicate::IsNot(skarvoy)), all - 1);
    assert_eq!(kept("port", Predicate::Contains("KARV".into())), 1);
    assert_eq!(kept("port", Predicate::Contains("%".into())), 0);
    let sold = |when| kept("sold", when);
    let (least, most) = (Predicate::AtLeast(1.0), Predicate::AtMost(0.5));
    assert_eq!(
        sold(Predicate::Between(f64::MIN, f64::MAX)),
        sold(least) + sold(most)
    );
    assert_eq!(sold(Predicate::Between(2.0, 1.0)), 0);
    assert!(
        done(
            Operation::Filter {
                column: "sold".into(),
                when: Predicate::PastCritical
            },
            sales()
        )
        .unwrap_err()
        .to_string()
        .contains("no critical threshold")
    );
    let each = Operation::Compute {
        column: "each".into(),
        of: names(&["revenue", "sold"]),
        computation: Computation::Ratio,
        factor: 100.0,
    };
    assert_eq!(
        done(each, sales()).unwrap().table.rows[0][4],
        Value::Number(100.1 / 10.0 * 100.0)
    );
    let taken = Operation::Compute {
        column: "sold".into(),
        of: names(&["revenue"]),
        computation: Computation::Sum,
        factor: 1.0,
    };
    assert!(
        done(taken, sales())
            .unwrap_err()
            .to_string()
            .contains("already a column \"sold\"")
    );
    let words = done(
        Operation::MovingMean {
            values: names(&["port"]),
            by: vec![],
            over: 2,
        },
        sales(),
    )
    .unwrap_err()
    .to_string();
    assert_eq!(
        words,
        "moving-mean: the column \"port\" holds texts, not numbers"
    );
}

#[test]
fn whatever_is_there_can_be_counted() {
    let columns = [("port", ColumnKind::Text), ("kiosk", ColumnKind::Text)];
    let rows = [
        ("a", Some("k1")),
        ("a", None),
        ("a", Some("k2")),
        ("b", Some("k3")),
    ]
    .into_iter()
    .map(|(port, kiosk)| vec![text(port), kiosk.map_or(Value::Missing, text)])
    .collect();
    let count = Operation::Group {
        by: names(&["port"]),
        values: names(&["kiosk"]),
        with: Aggregation::Count,
        total: None,
        shares: false,
    };
    let counted = done(count, table(&columns, rows)).unwrap().table;
    assert_eq!(counted.columns[1].kind, ColumnKind::Integer);
    assert_eq!(
        counted.rows,
        [
            vec![text("a"), Value::Integer(2)],
            vec![text("b"), Value::Integer(1)]
        ]
    );
}

#[test]
fn statistics_count_what_is_missing() {
    let figures = done(
        Operation::Statistics {
            values: names(&["revenue"]),
            by: names(&["port"]),
            percentiles: vec![95.0],
        },
        sales(),
    )
    .unwrap()
    .table;
    assert_eq!(
        figures
            .columns
            .iter()
            .map(|c| c.name.as_str())
            .collect::<Vec<_>>(),
        [
            "port",
            "count",
            "missing",
            "min",
            "mean",
            "median",
            "p95",
            "max",
            "deviation",
            "last"
        ]
    );
    assert_eq!(
        figures.rows[0][1..4],
        [Value::Integer(2), Value::Integer(1), Value::Number(0.3)]
    );
    assert_eq!(figures.rows[1][8], Value::Missing);
}

/// The buckets and answers of a histogram worked out by hand: 100 values, 40 of them at most
/// 0.1, 90 at most 0.5.
#[test]
fn a_histogram_has_percentiles() {
    let bucket = |le: &str, count: f64| vec![text(le), Value::Number(count)];
    let histogram = || {
        table(
            &[("le", ColumnKind::Text), ("requests", ColumnKind::Number)],
            vec![
                bucket("+Inf", 100.0),
                bucket("0.1", 40.0),
                bucket("0.5", 90.0),
            ],
        )
    };
    let at = |percentile| {
        done(
            Operation::HistogramPercentile {
                bound: "le".into(),
                value: "requests".into(),
                by: vec![],
                percentile,
            },
            histogram(),
        )
        .unwrap()
        .table
        .rows[0][0]
            .clone()
    };
    assert_eq!(
        [at(20.0), at(65.0), at(99.0)],
        [
            Value::Number(0.05),
            Value::Number(0.1 + 0.4 * 0.5),
            Value::Number(0.5)
        ]
    );
}

#[test]
fn empty_tables_go_through_every_operation() {
    let none = || Table {
        rows: vec![],
        ..sales()
    };
    let sold = || names(&["sold"]);
    for operation in [
        Operation::Group {
            by: names(&["port"]),
            values: sold(),
            with: Aggregation::Sum,
            total: Some("All".into()),
            shares: true,
        },
        Operation::Top {
            rows: 3,
            of: "sold".into(),
            order: Order::Highest,
            others: Some("Others".into()),
            sum: sold(),
        },
        Operation::Statistics {
            values: sold(),
            by: vec![],
            percentiles: vec![],
        },
        Operation::Breakdown {
            label: "port".into(),
            value: "sold".into(),
            after: "After".into(),
        },
        Operation::Cumulative {
            values: sold(),
            by: vec![],
        },
        Operation::Sort {
            by: vec![("sold".into(), Order::Highest)],
        },
    ] {
        let name = operation.name();
        assert!(
            done(operation, none()).unwrap().table.rows.is_empty(),
            "{name}"
        );
    }
}

#[test]
fn money_does_not_drift() {
    let rows = vec![vec![text("a"), decimal("0.10")]; 1000];
    let group = Operation::Group {
        by: vec![],
        values: vec![],
        with: Aggregation::Sum,
        total: None,
        shares: false,
    };
    assert_eq!(
        done(
            group.clone(),
            table(
                &[("x", ColumnKind::Text), ("sum", ColumnKind::Decimal)],
                rows
            )
        )
        .unwrap()
        .table
        .rows[0][0],
        decimal("100.00")
    );
    let most = vec![vec![Value::Integer(i64::MAX)]; 4];
    assert_eq!(
        done(group, table(&[("n", ColumnKind::Integer)], most))
            .unwrap()
            .table
            .rows[0][0],
        decimal("36893488147419103228")
    );
}

proptest! {
    #[test]
    fn totals_equal_the_sums_of_their_parts(rows in prop::collection::vec((0u8..4, 0u8..4, -1_000_000i64..1_000_000), 1..60), listed in 1usize..10) {
        let rows: Vec<Vec<Value>> = rows.into_iter().map(|(a, b, n)| vec![text(&a.to_string()), text(&b.to_string()), Value::Integer(n)]).collect();
        let data = || table(&[("a", ColumnKind::Text), ("b", ColumnKind::Text), ("n", ColumnKind::Integer)], rows.clone());
        let whole = amount::sum(rows.iter().map(|row| &row[2])).as_number();
        let group = Operation::Group { by: names(&["a", "b"]), values: vec![], with: Aggregation::Sum, total: Some("All".into()), shares: false };
        let figures = done(group, data()).unwrap();
        let of = |role: Role| (0..figures.table.rows.len()).filter(|row| figures.role(*row) == role).map(|row| figures.table.rows[row][2].as_number().unwrap()).sum::<f64>();
        prop_assert_eq!(Some(of(Role::Total)), whole);
        prop_assert_eq!(Some(of(Role::Subtotal)), whole);
        prop_assert_eq!(Some(of(Role::Plain)), whole);
        let top = Operation::Top { rows: listed, of: "n".into(), order: Order::Highest, others: Some("Others".into()), sum: names(&["n"]) };
        let top = done(top, data()).unwrap().table;
        prop_assert_eq!(amount::sum(top.rows.iter().map(|row| &row[2])).as_number(), whole);
    }
}

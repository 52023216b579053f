use maple_lark_time::Window;
use proptest::prelude::*;

use super::*;
use crate::{
    figures::{
        FigureError, Figures, Operation,
        testing::{around, cells, names, table, text},
    },
    table::{ColumnKind, Table, Value},
};

const HOUR: i64 = 3_600_000;

fn window() -> Window {
    Window {
        from: "2026-10-01T00:00:00Z".parse().unwrap(),
        to: "2026-11-01T00:00:00Z".parse().unwrap(),
        zone: "UTC".parse().unwrap(),
        within: None,
    }
}

fn asked(method: Method) -> Forecast {
    Forecast {
        time: "at".to_owned(),
        value: "used".to_owned(),
        by: names(&["disk"]),
        method,
        every: None,
        ahead: None,
        season: None,
        limits: Vec::new(),
        may_be_negative: false,
        give: ForecastRows::Limits,
    }
}

/// Values of some disks, a day apart from 1 October.
fn daily(disks: &[(&str, Vec<f64>)]) -> Table {
    let rows = disks.iter().flat_map(|(disk, values)| {
        values.iter().enumerate().map(|(day, value)| {
            let at = window().from + chrono::TimeDelta::days(day as i64);
            vec![Value::Instant(at), text(disk), Value::Number(*value)]
        })
    });
    table(
        &[
            ("at", ColumnKind::Instant),
            ("disk", ColumnKind::Text),
            ("used", ColumnKind::Number),
        ],
        rows.collect(),
    )
}

fn worked_out(asked: Forecast, table: Table) -> Result<Figures, FigureError> {
    let operation = Operation::Forecast(Box::new(asked));
    around(&window(), &[], |around| {
        operation.apply(table.into(), around)
    })
}

fn at(fitted: &Fitted, step: usize) -> f64 {
    (fitted.ahead)(step).value
}

#[test]
fn least_squares_agree_with_exact_fractions() {
    // Through (0,1) (1,3) (2,2) (3,5): 11/10 x + 11/10 by the normal equations in fractions, with
    // a residual sum of squares of 27/10.
    let fit = line::curve(&[1.0, 3.0, 2.0, 5.0], 1).unwrap();
    assert!((at(&fit, 0) - 5.5).abs() < 1e-12);
    // s² = 27/10 ÷ 2, and the lever of x = 4 is 1/4 + (4 − 3/2)² ÷ 5 = 3/2.
    let deviation = (fit.ahead)(0).deviation;
    assert!((deviation - (1.35f64 * 2.5).sqrt()).abs() < 1e-12);
    // A parabola through five points of x² − 3x + 2 is that parabola.
    let values: Vec<f64> = (0..5).map(|x| f64::from(x * x - 3 * x + 2)).collect();
    let fit = line::curve(&values, 2).unwrap();
    assert!((at(&fit, 0) - 12.0).abs() < 1e-9 && (at(&fit, 1) - 20.0).abs() < 1e-9);
    assert!(line::curve(&[1.0, 2.0], 1).is_none());
}

#[test]
fn the_median_of_slopes_is_not_moved_by_outliers() {
    let mut values: Vec<f64> = (0..40).map(|x| 2.0 * f64::from(x) + 5.0).collect();
    values[7] = 900.0;
    values[30] = -400.0;
    let fit = line::robust(&values).unwrap();
    assert!((at(&fit, 9) - (2.0 * 49.0 + 5.0)).abs() < 1e-9);
}

#[test]
fn students_reach_agrees_with_the_tables() {
    // Two-sided 95 % points as printed tables have them: 10, 30 and 120 degrees of freedom.
    for (free, printed) in [(10, 2.228), (30, 2.042), (120, 1.980)] {
        assert!((reach_of(NINETY_FIVE, Some(free)) - printed).abs() < 5e-4);
    }
}

#[test]
fn an_exact_season_on_a_line_is_carried_on_exactly() {
    let pattern = [10.0, 30.0, -5.0, -35.0];
    let value = |place: usize| 200.0 + 1.5 * place as f64 + pattern[place % 4];
    let values: Vec<f64> = (0..48).map(value).collect();
    assert_eq!(found_season(&values, &[4, 8]), Some(4));
    let fit = Method::Smoothing.fit(&values, Some(4)).unwrap();
    for step in 0..8 {
        assert!((at(&fit, step) - value(48 + step)).abs() < 1e-6, "{step}");
    }
    let times = |place: usize| (100.0 + 2.0 * place as f64) * [1.2, 0.8, 1.1, 0.9][place % 4];
    let values: Vec<f64> = (0..48).map(times).collect();
    let fit = Method::Multiplied.fit(&values, Some(4)).unwrap();
    for step in 0..8 {
        let off = (at(&fit, step) - times(48 + step)).abs() / times(48 + step);
        assert!(off < 0.02, "{step}: {off}");
    }
}

/// Where nothing moves but the noise, the least error is that of the line with the season's usual
/// values beside it; a widespread statistics package comes to it within one part in a thousand.
#[test]
fn smoothing_is_as_near_as_the_best_line_with_a_season() {
    let day = |x: usize| 60.0 * (x as f64 / 24.0 * std::f64::consts::TAU).sin();
    let values: Vec<f64> = noise(1200)
        .iter()
        .enumerate()
        .map(|(x, noise)| 500.0 + 0.05 * x as f64 + day(x) + 10.0 * noise)
        .collect();
    let square = |errors: &mut dyn Iterator<Item = f64>| {
        errors.map(|error| error * error).sum::<f64>() / values.len() as f64
    };
    let line = Method::Line.fit(&values, None).unwrap().fitted;
    let beside: Vec<f64> = values.iter().zip(&line).map(|(v, l)| v - l).collect();
    let usual = |at: usize| {
        series::mean(
            &beside[at % 24..]
                .iter()
                .step_by(24)
                .copied()
                .collect::<Vec<_>>(),
        )
    };
    let least = square(&mut beside.iter().enumerate().map(|(x, one)| one - usual(x)));
    let fitted = Method::Smoothing.fit(&values, Some(24)).unwrap().fitted;
    let own = square(&mut values.iter().zip(&fitted).map(|(v, f)| v - f));
    assert!(own < 1.02 * least, "{own} {least}");
}

#[test]
fn gaps_stay_gaps_and_do_not_bend_the_forecast() {
    let mut values: Vec<f64> = (0..60).map(|x| 10.0 + f64::from(x)).collect();
    for place in [5, 6, 7, 31] {
        values[place] = f64::NAN;
    }
    for method in [Method::Line, Method::RobustLine, Method::Smoothing] {
        let fit = method.fit(&values, None).unwrap();
        assert!((at(&fit, 4) - 74.0).abs() < 0.01, "{method:?}");
    }
}

#[test]
fn the_disk_that_fills_first_stands_first_with_its_date() {
    let line = |from: f64, slope: f64| (0..31).map(|day| from + slope * f64::from(day)).collect();
    let disks = daily(&[
        ("db-1", line(20.0, 0.1)),
        ("db-2", line(40.0, 1.0)),
        ("db-3", vec![85.0; 31]),
        ("db-4", line(10.0, 2.0)),
        ("new", vec![1.0, 2.0]),
        ("flat", vec![7.0; 31]),
    ]);
    let figures = worked_out(asked(Method::Line), disks).unwrap();
    // db-2 is at 70 on 31 October and grows by 1 a day; db-4 at 70, by 2.
    assert_eq!(
        cells(&figures, "disk")[..2],
        ["db-4".to_owned(), "db-2".to_owned()]
    );
    assert_eq!(
        cells(&figures, "likely")[..2],
        ["2026-11-05T00:00:00+00:00", "2026-11-10T00:00:00+00:00"]
    );
    assert_eq!(cells(&figures, "now")[..2], ["70", "70"]);
    let growth: Vec<f64> = cells(&figures, "growth_a_week")[..2]
        .iter()
        .map(|cell| cell.parse().unwrap())
        .collect();
    assert!((growth[0] - 14.0).abs() < 1e-9 && (growth[1] - 7.0).abs() < 1e-9);
    let reached: Vec<(String, String)> = cells(&figures, "disk")
        .into_iter()
        .zip(cells(&figures, "reached"))
        .collect();
    let of = |disk: &str| {
        let found = reached.iter().find(|(name, _)| name == disk);
        found.unwrap().1.clone()
    };
    assert_eq!(of("db-1"), "not in 15 days");
    assert_eq!(of("db-3"), "past it now");
    assert_eq!(of("new"), "too few values");
    assert_eq!(of("flat"), "does not change");
    assert_eq!(cells(&figures, "trust")[0], "good");
}

#[test]
fn what_cannot_be_below_zero_is_not_forecast_below_it() {
    let falls: Vec<f64> = (0..31).map(|day| 31.0 - f64::from(day)).collect();
    let steps = |may_be_negative| {
        let asked = Forecast {
            may_be_negative,
            give: ForecastRows::Steps,
            ..asked(Method::Line)
        };
        let figures = worked_out(asked, daily(&[("db", falls.clone())])).unwrap();
        cells(&figures, "forecast")
            .last()
            .unwrap()
            .parse::<f64>()
            .unwrap()
    };
    assert_eq!(steps(false), 0.0);
    assert!(steps(true) < -10.0);
}

#[test]
fn a_forecast_that_is_no_better_than_repeating_says_so() {
    // A level that jumps: a line through both levels is worse than the last value.
    let jumps: Vec<f64> = (0..40)
        .map(|day| if day < 30 { 10.0 } else { 60.0 })
        .collect();
    let asked = Forecast {
        limits: vec![100.0],
        ..asked(Method::Cubic)
    };
    let figures = worked_out(asked, daily(&[("db", jumps)])).unwrap();
    assert_eq!(cells(&figures, "trust"), ["none"]);
    assert!(figures.notes[0].ends_with("no better than repeating the last value or season."));
    assert!(figures.notes[0].starts_with("By cubic curve. Held against the last fifth"));
}

#[test]
fn mistakes_say_what_is_wrong() {
    let line: Vec<f64> = (0..31).map(f64::from).collect();
    let failed = |asked: Forecast| {
        let error = worked_out(asked, daily(&[("db", line.clone())])).unwrap_err();
        error.to_string()
    };
    let season = Forecast {
        season: Some(20 * 24 * HOUR),
        ..asked(Method::Smoothing)
    };
    assert_eq!(
        failed(season),
        "forecast: the season has 20 steps, and a series only 31; it must have been twice in the past"
    );
    let far = Forecast {
        ahead: Some(24 * HOUR * 30_000),
        ..asked(Method::Line)
    };
    assert!(failed(far).contains("look less far ahead"));
    let fine = Forecast {
        every: Some(1000),
        ..asked(Method::Line)
    };
    assert!(failed(fine).contains("set a longer step"));
}

/// Noise from a fixed seed, between −1 and 1.
fn noise(count: usize) -> Vec<f64> {
    let mut state = 88_172_645_463_325_252u64;
    let next = || {
        state ^= state << 13;
        state ^= state >> 7;
        state ^= state << 17;
        (state >> 11) as f64 / (1u64 << 52) as f64 - 1.0
    };
    std::iter::repeat_with(next).take(count).collect()
}

#[test]
fn the_best_on_what_was_held_back_is_chosen_and_its_interval_holds_most_of_it() {
    let season: Vec<f64> = noise(240)
        .iter()
        .enumerate()
        .map(|(hour, noise)| {
            let day = (hour as f64 * std::f64::consts::TAU / 24.0).sin();
            500.0 + 0.5 * hour as f64 + 80.0 * day + 4.0 * noise
        })
        .collect();
    let (method, _, judged) = judge::fitted(Method::Choose, &season, Some(24)).unwrap();
    assert!(
        matches!(
            method,
            Method::Smoothing | Method::Damped | Method::Multiplied | Method::MultipliedDamped
        ),
        "{method:?}"
    );
    let judged = judged.unwrap();
    assert!(
        judged.is_better() && judged.covered >= 80.0 && judged.percent.unwrap() < 2.0,
        "{judged:?}"
    );
}

proptest! {
    #[test]
    fn scale_and_shift_of_the_data_move_the_forecast_likewise(
        scale in 0.01..1000.0f64,
        shift in -1000.0..1000.0f64,
        method in prop_oneof![Just(Method::Line), Just(Method::Cubic), Just(Method::RobustLine), Just(Method::Smoothing)],
    ) {
        let values: Vec<f64> = noise(60).iter().enumerate().map(|(x, n)| 3.0 * x as f64 + 20.0 * n).collect();
        let moved: Vec<f64> = values.iter().map(|value| scale * value + shift).collect();
        let (own, other) = (method.fit(&values, None).unwrap(), method.fit(&moved, None).unwrap());
        for step in [0, 3, 20] {
            let (a, b) = ((own.ahead)(step), (other.ahead)(step));
            let size = scale * (a.value.abs() + 100.0) + shift.abs();
            // The weights of smoothing are looked for, and found as near as the search goes.
            let near = if method == Method::Smoothing { 1e-2 } else { 1e-6 };
            prop_assert!((scale * a.value + shift - b.value).abs() < near * size, "{a:?} {b:?}");
            prop_assert!((scale * a.deviation - b.deviation).abs() < near * size);
        }
    }

    #[test]
    fn permuting_rows_changes_nothing(seed in 0..1000usize) {
        let disks = daily(&[("a", noise(30)), ("b", noise(25))]);
        let mut mixed = disks.clone();
        mixed.rows.sort_by_key(|row| format!("{row:?}").len() * 7919 % (seed + 2));
        let asked = Forecast { limits: vec![5.0], ..asked(Method::Choose) };
        let (one, other) = (worked_out(asked.clone(), disks).unwrap(), worked_out(asked, mixed).unwrap());
        let rows = |figures: Figures| {
            let mut rows: Vec<String> = figures.table.rows.iter().map(|row| format!("{row:?}")).collect();
            rows.sort();
            rows
        };
        prop_assert_eq!(rows(one), rows(other));
    }
}

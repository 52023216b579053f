//! Availability against an aggregate query of PostgreSQL over the same rows, and forecasts against
//! the common statistics package of Python.

use std::{
    io::Write,
    os::unix::fs::PermissionsExt,
    process::{Command, Stdio},
    time::Instant,
};

use chrono::{DateTime, TimeDelta, Utc};
use maple_lark_data::{
    Column, ColumnKind, Table, Value,
    figures::{
        Context, Figures, Forecast, ForecastRows, Method, NoRows, Operation,
        availability::{Clock, Condition, CountsAs, Measured},
    },
};
use maple_lark_demo::Cluster;
use maple_lark_time::Window;
use sqlx::{AssertSqlSafe, Executor, Row};

use crate::{Done, Goals, rules};

const UNITS: i64 = 1000;
const MINUTES: i64 = 31 * 24 * 60;
const SERIES: usize = 2000;
const POINTS: usize = 2000;
/// Hours of a day.
const SEASON: usize = 24;
/// So many of the series are fitted by the baseline; the rest would take hours.
const BASELINE: usize = 4;

pub async fn measure(goals: &mut Goals) -> Done<()> {
    println!("Availability and forecasts:");
    availability(goals).await?;
    forecasts(goals)
}

/// In milliseconds.
const MINUTE: i64 = 60_000;
pub const AVAILABILITY_CHILD: &str = "--availability";

/// Down for one minute of a thousand, unevenly.
fn is_up(unit: i64, minute: i64) -> bool {
    (minute * 7919 + unit * 104_729) % 1009 != 0
}

async fn availability(goals: &mut Goals) -> Done<()> {
    let folder = tempfile::tempdir()?;
    // PostgreSQL's own account has to get through.
    std::fs::set_permissions(folder.path(), std::fs::Permissions::from_mode(0o755))?;
    let cluster = Cluster::start(&folder.path().join("state"), false).await?;
    let mut connection = cluster.connect("postgres").await?;
    let fill = format!(
        "create unlogged table samples as select timestamptz '2026-07-01' + m * interval '1 minute' as at, u::int as unit, (m * 7919 + u * 104729) % 1009 <> 0 as up from generate_series(0, {}) m, generate_series(0, {}) u",
        MINUTES - 1,
        UNITS - 1
    );
    for statement in [fill.as_str(), "analyze samples"] {
        connection
            .execute(AssertSqlSafe(statement.to_owned()))
            .await?;
    }
    let began = Instant::now();
    let sum = "select sum(ups)::bigint from (select unit, count(*) filter (where up) as ups, max(at) from samples group by unit) each";
    let ups: i64 = connection.fetch_one(sum).await?.get(0);
    let baseline = began.elapsed().as_secs_f64();
    drop(connection);

    // In a process of its own, whose memory is that of nothing else.
    let output = Command::new(std::env::current_exe()?)
        .arg(AVAILABILITY_CHILD)
        .output()?;
    let said = String::from_utf8_lossy(&output.stdout);
    let numbers: Vec<f64> = said
        .split_whitespace()
        .filter_map(|word| word.parse().ok())
        .collect();
    let [up, ours, peak] = numbers[..] else {
        return Err(String::from_utf8_lossy(&output.stderr).into_owned().into());
    };
    if up != (ups * MINUTE) as f64 {
        return Err(format!("{up} ms are up, and {ups} minutes there").into());
    }
    println!(
        "  {:.1} million samples of {UNITS} units: {ours:.1} s in the core, {baseline:.1} s to read and group by PostgreSQL; {peak:.0} MB at most",
        (UNITS * MINUTES) as f64 / 1e6
    );
    goals.check(
        "availability against one aggregate query",
        ours / baseline,
        "times",
        ours <= baseline,
        "at most 1",
    );
    goals.check("memory of it", peak, "MB", peak <= 500.0, "at most 500 MB");
    Ok(())
}

/// In the child: how many milliseconds were up, in how many seconds that was found, and the most memory in
/// MB.
pub fn availability_child() -> Done<()> {
    let start: DateTime<Utc> = "2026-07-01T00:00:00Z".parse()?;
    let from = start.timestamp_millis();
    let window = (from, from + MINUTES * MINUTE);
    let began = Instant::now();
    let mut clocks: Vec<Clock> = (0..UNITS)
        .map(|_| Clock::new(window, Some(5 * MINUTE), Condition::Unknown))
        .collect();
    // As they come: minute by minute, all units each.
    for at in 0..MINUTES {
        for (unit, clock) in clocks.iter_mut().enumerate() {
            let up = is_up(unit as i64, at);
            let condition = if up { Condition::Up } else { Condition::Down };
            clock.add(from + at * MINUTE, condition);
        }
    }
    let measured = clocks.into_iter().map(|clock| {
        let conditions = clock.end();
        Measured::of(&conditions, &[window], &[], CountsAs::Up, CountsAs::Nothing)
    });
    let up: i64 = measured.map(|measured| measured.up_time).sum();
    let ours = began.elapsed().as_secs_f64();
    let peak = procfs::process::Process::myself()?
        .status()?
        .vmhwm
        .unwrap_or(0) as f64
        / 1e3;
    println!("{up} {ours} {peak}");
    Ok(())
}

/// A level that grows, with a day in it and noise from a fixed seed.
fn values(series: usize) -> Vec<f64> {
    let mut state = 88_172_645_463_325_252u64 ^ (series as u64 + 1).wrapping_mul(0x9E37_79B9);
    let mut noise = || {
        state ^= state << 13;
        state ^= state >> 7;
        state ^= state << 17;
        (state >> 11) as f64 / (1u64 << 52) as f64 - 1.0
    };
    (0..POINTS)
        .map(|hour| {
            let day = (hour as f64 * std::f64::consts::TAU / SEASON as f64).sin();
            500.0 + 0.05 * hour as f64 + 60.0 * day + 10.0 * noise()
        })
        .collect()
}

fn forecast(values: &[f64], method: Method, give: ForecastRows) -> Done<Figures> {
    let from: DateTime<Utc> = "2026-07-01T00:00:00Z".parse()?;
    let row = |(hour, value): (usize, &f64)| {
        let at = from + TimeDelta::hours(hour as i64);
        vec![Value::Instant(at), Value::Number(*value)]
    };
    let column = |name: &str, kind| Column {
        name: name.to_owned(),
        kind,
    };
    let table = Table {
        columns: vec![
            column("at", ColumnKind::Instant),
            column("value", ColumnKind::Number),
        ],
        rows: values.iter().enumerate().map(row).collect(),
        truncated: false,
    };
    let window = Window {
        from,
        to: from + TimeDelta::hours(POINTS as i64),
        zone: "UTC".parse()?,
        within: None,
    };
    let none = || NoRows("there is no other query".to_owned());
    let around = Context {
        window: &window,
        step: "PT1H".parse()?,
        thresholds: &|_| Default::default(),
        other: &|_| Err(none()),
        earlier: &|_| Err(none()),
    };
    let asked = Forecast {
        time: "at".to_owned(),
        value: "value".to_owned(),
        by: Vec::new(),
        method,
        every: None,
        ahead: Some(7 * 86_400_000),
        season: Some(86_400_000),
        limits: vec![900.0],
        may_be_negative: false,
        give,
    };
    Ok(Operation::Forecast(Box::new(asked)).apply(table.into(), &around)?)
}

/// The mean square of the errors one step ahead.
fn fitted_error(figures: &Figures) -> f64 {
    let place = |name: &str| figures.table.column(name).unwrap_or_default();
    let (observed, fitted) = (place("observed"), place("fitted"));
    let pairs = figures.table.rows.iter().filter_map(|row| {
        let error = row[observed].as_number()? - row[fitted].as_number()?;
        Some(error * error)
    });
    let errors: Vec<f64> = pairs.collect();
    errors.iter().sum::<f64>() / errors.len() as f64
}

fn forecasts(goals: &mut Goals) -> Done<()> {
    let folder = tempfile::tempdir()?;
    let began = Instant::now();
    for series in 0..SERIES {
        forecast(&values(series), Method::Choose, ForecastRows::Limits)?;
    }
    let ours = began.elapsed().as_secs_f64() / SERIES as f64;
    if !rules::installed(folder.path(), &["statsmodels"]) {
        println!(
            "  {SERIES} series of {POINTS}: {ours:.4} s each; not measured against statsmodels, which cannot be had from the package registry here"
        );
        return Ok(());
    }
    let (mut there, mut worst) = (0.0, 0.0f64);
    for series in 0..BASELINE {
        let values = values(series);
        let mut child = Command::new("python3")
            .args(["-c", include_str!("forecasts.py"), &SEASON.to_string()])
            .env("PYTHONPATH", folder.path())
            .stdin(Stdio::piped())
            .stdout(Stdio::piped())
            .spawn()?;
        let lines: String = values.iter().map(|value| format!("{value}\n")).collect();
        child
            .stdin
            .take()
            .ok_or("no input")?
            .write_all(lines.as_bytes())?;
        let said = String::from_utf8(child.wait_with_output()?.stdout)?;
        let numbers: Vec<f64> = said
            .split_whitespace()
            .map(str::parse)
            .collect::<Result<_, _>>()?;
        let [took, error] = numbers[..] else {
            return Err(format!("the baseline said {said}").into());
        };
        there += took / BASELINE as f64;
        let own = fitted_error(&forecast(&values, Method::Smoothing, ForecastRows::Steps)?);
        worst = worst.max(own / error);
    }
    println!(
        "  a series of {POINTS}, every method with what is held back: {ours:.4} s in the core, {there:.2} s by statsmodels"
    );
    goals.check(
        "forecasts against statsmodels",
        there / ours,
        "times as fast",
        there / ours >= 50.0,
        "at least 50",
    );
    goals.check(
        "the error one step ahead against theirs",
        worst,
        "times",
        worst <= 1.02,
        "at most 1.02",
    );
    Ok(())
}

//! What keeping many schedules costs: computing their next instants, and noticing what is due.

use std::{
    sync::{
        Arc,
        atomic::{AtomicI64, Ordering},
    },
    time::Instant,
};

use chrono::{DateTime, TimeDelta, Utc};
use maple_lark_definition::{Definition, Report};
use maple_lark_demo::Cluster;
use maple_lark_service::{Clock, Config, EngineHandle};
use maple_lark_store::Store;
use sqlx::{Executor, PgConnection};

use crate::{Done, Goals};

const SIZES: [usize; 3] = [100, 10_000, 100_000];
/// As many minutes are lived through by a simulated clock.
const MINUTES: i64 = 60;

/// The schedule of the `n`th report: all forms, spread over the day.
fn schedule(n: usize) -> String {
    let (hour, minute) = (n / 60 % 24, n % 60);
    let at = format!("at = \"{hour:02}:{minute:02}\"");
    match n % 8 {
        0 | 1 => format!("every = \"day\"\n{at}"),
        2 => format!("every = \"weekday\"\n{at}"),
        3 => format!("every = \"week\"\non = [\"monday\", \"thursday\"]\n{at}"),
        4 => format!("every = \"month\"\non = [\"1\", \"last friday\"]\n{at}"),
        5 => format!("crontab = \"{minute} {hour} * * 1-5\""),
        6 => format!("rule = \"FREQ=WEEKLY;INTERVAL=2;BYDAY=TU\"\nstarts = \"2020-01-07\"\n{at}"),
        _ => format!("every = \"PT{}H\"", 1 + n % 24),
    }
}

fn report(n: usize) -> String {
    format!(
        "[report]\nname = \"report-{n}\"\ntitle = \"Report {n}\"\ntime-zone = \"Atlantic/Faroe\"\ndashboards = [\"none\"]\n[window]\nprevious = \"day\"\n[schedule]\n{}\n",
        schedule(n)
    )
}

pub async fn measure(goals: &mut Goals) -> Done<()> {
    let start: DateTime<Utc> = "2026-11-23T07:00:30Z".parse()?;
    println!(
        "Schedules of all forms, in CPU time of the service; the baseline is the size before:"
    );
    let (mut computing, mut noticing) = (Vec::new(), Vec::new());
    for size in SIZES {
        let reports = (0..size)
            .map(|n| parsed(&report(n)))
            .collect::<Done<Vec<Report>>>()?;
        let began = Instant::now();
        let next: Vec<Option<DateTime<Utc>>> = reports
            .iter()
            .map(|report| report.schedule.as_ref()?.next_after(start, report.zone))
            .collect();
        let compute = began.elapsed().as_secs_f64() * 1000.0;
        let (minute, made) = minute_of(size, &next, start).await?;
        println!(
            "  {size:>7}: {compute:8.2} ms for all next instants, {minute:7.2} ms a minute to notice what is due ({made} runs in {MINUTES} minutes)"
        );
        computing.push(compute);
        noticing.push(minute);
    }
    let late = lateness(start).await?;
    goals.check(
        "among 10,000, from the instant it is due to the beginning of its run",
        late * 1000.0,
        "ms",
        late < 1.0,
        "under 1000",
    );
    let both = computing[1] + noticing[1];
    goals.check(
        "10,000 schedules computed and watched for a minute",
        both,
        "ms",
        both < 50.0,
        "under 50",
    );
    let growth = computing[2] / computing[1];
    goals.check(
        "computing ten times as many",
        growth,
        "times the work",
        growth < 13.0,
        "at most linear, 13 with noise",
    );
    let growth = noticing[2] / noticing[1];
    goals.check(
        "watching ten times as many",
        growth,
        "times the work",
        growth < 13.0,
        "at most linear, 13 with noise",
    );
    Ok(())
}

fn parsed(text: &str) -> Done<Report> {
    match Definition::parse("report.toml", text) {
        Ok(Definition::Report(report)) => Ok(*report),
        other => Err(format!("{other:?}").into()),
    }
}

/// Milliseconds of CPU a simulated minute, and the runs made in all of them.
async fn minute_of(
    size: usize,
    next: &[Option<DateTime<Utc>>],
    start: DateTime<Utc>,
) -> Done<(f64, i64)> {
    use std::os::unix::fs::PermissionsExt;
    let folder = tempfile::tempdir()?;
    std::fs::set_permissions(folder.path(), std::fs::Permissions::from_mode(0o755))?;
    let cluster = Cluster::start(&folder.path().join("state"), false).await?;
    let secret = cluster.database("maple_lark", "maple_lark").await?;
    let file = folder.path().join("maple-lark.toml");
    let url = cluster.url_for("maple_lark", &secret, "maple_lark");
    std::fs::write(&file, format!("database = \"{url}\"\n"))?;
    let config = Config::read(&file.to_string_lossy())?;
    let store = Store::open(&url, 4).await?;
    let mut records = cluster.connect("maple_lark").await?;
    fill(&mut records, size, next).await?;
    let clock = Arc::new(AtomicI64::new(start.timestamp_micros()));
    let engine = EngineHandle::of_a_scheduler_alone(
        store,
        Arc::new(config),
        Clock::Simulated(clock.clone()),
    );
    // The definitions are parsed once, when they are first needed or have changed.
    clock.store(
        (start + TimeDelta::minutes(1)).timestamp_micros(),
        Ordering::Release,
    );
    engine.tick().await?;
    let before = (cpu_milliseconds()?, runs(&mut records).await?);
    // A sleeping service looks every five seconds, and when something is due.
    for step in 1..=MINUTES * 12 {
        clock.store(
            (start + TimeDelta::minutes(1) + TimeDelta::seconds(5 * step)).timestamp_micros(),
            Ordering::Release,
        );
        engine.tick().await?;
    }
    let after = (cpu_milliseconds()?, runs(&mut records).await?);
    Ok(((after.0 - before.0) / MINUTES as f64, after.1 - before.1))
}

/// Seconds from a scheduled instant to the beginning of its run, in a service of its own
/// process that keeps 10,000 other schedules.
async fn lateness(start: DateTime<Utc>) -> Done<f64> {
    use std::os::unix::fs::PermissionsExt;
    let folder = tempfile::tempdir()?;
    std::fs::set_permissions(folder.path(), std::fs::Permissions::from_mode(0o755))?;
    let cluster = Cluster::start(&folder.path().join("state"), false).await?;
    let secret = cluster.database("maple_lark", "maple_lark").await?;
    let file = folder.path().join("maple-lark.toml");
    let url = cluster.url_for("maple_lark", &secret, "maple_lark");
    std::fs::write(
        &file,
        format!(
            "listen = \"127.0.0.1:{}\"\ndatabase = \"{url}\"\n",
            crate::free_port()?
        ),
    )?;
    drop(Store::open(&url, 1).await?);
    let mut records = cluster.connect("maple_lark").await?;
    // Those are due in some years only.
    let later = vec![Some(start + TimeDelta::days(3660)); SIZES[1]];
    fill(&mut records, SIZES[1], &later).await?;
    let every_minute = report(SIZES[1]).replace(&schedule(SIZES[1]), "every = \"PT1M\"");
    let minute = DateTime::from_timestamp((Utc::now().timestamp() / 60 + 1) * 60, 0);
    sqlx::query("insert into definitions (kind, name, title, file, text, updated_at, updated_by) values ('report', 'minute', 'minute', 'minute.toml', $1, now(), 'bench')")
        .bind(every_minute.replace(&format!("report-{}", SIZES[1]), "minute"))
        .execute(&mut records)
        .await?;
    sqlx::query(
        "insert into schedule_states (report, rule, next_instant) values ('minute', 'minute', $1)",
    )
    .bind(minute)
    .execute(&mut records)
    .await?;
    let binary = std::env::current_exe()?
        .parent()
        .and_then(std::path::Path::parent)
        .ok_or("no folder")?
        .join("maple-lark");
    let mut child = std::process::Command::new(&binary)
        .args(["serve", "--config"])
        .arg(&file)
        .stdout(std::process::Stdio::null())
        .stderr(std::process::Stdio::null())
        .spawn()?;
    let began = Instant::now();
    let late = loop {
        let found: Option<f64> = sqlx::query_scalar(
            "select extract(epoch from started_at - scheduled_for)::float8 from runs where started_at is not null order by created_at desc limit 1",
        )
        .fetch_optional(&mut records)
        .await?;
        match found {
            // The very first may have waited for the service to start.
            Some(late) if began.elapsed().as_secs() > 62 => break late,
            _ if began.elapsed().as_secs() > 180 => return Err("no run begins".into()),
            _ => tokio::time::sleep(std::time::Duration::from_millis(200)).await,
        }
    };
    std::process::Command::new("kill")
        .args(["-TERM", &child.id().to_string()])
        .status()?;
    child.wait()?;
    Ok(late)
}

async fn runs(records: &mut PgConnection) -> Done<i64> {
    Ok(sqlx::query_scalar("select count(*) from runs")
        .fetch_one(records)
        .await?)
}

async fn fill(records: &mut PgConnection, size: usize, next: &[Option<DateTime<Utc>>]) -> Done<()> {
    let names: Vec<String> = (0..size).map(|n| format!("report-{n}")).collect();
    let texts: Vec<String> = (0..size).map(report).collect();
    sqlx::query(
        "insert into definitions (kind, name, title, file, text, updated_at, updated_by) \
         select 'report', name, name, name || '.toml', text, now(), 'bench' from unnest($1::text[], $2::text[]) as given(name, text)",
    )
    .bind(&names)
    .bind(&texts)
    .execute(&mut *records)
    .await?;
    sqlx::query("insert into schedule_states (report, rule, next_instant) select * from unnest($1::text[], $1::text[], $2::timestamptz[])")
        .bind(&names)
        .bind(next)
        .execute(&mut *records)
        .await?;
    records.execute("analyze").await?;
    Ok(())
}

/// CPU time of this process so far, user and system, in the clock ticks of proc(5), which
/// are hundredths of a second.
fn cpu_milliseconds() -> Done<f64> {
    let stat = std::fs::read_to_string("/proc/self/stat")?;
    // The name in brackets may hold spaces; what follows it does not.
    let fields: Vec<&str> = stat
        .rsplit(')')
        .next()
        .unwrap_or_default()
        .split_whitespace()
        .collect();
    let ticks = |index: usize| {
        fields
            .get(index)
            .and_then(|field| field.parse::<f64>().ok())
            .ok_or("no CPU time in /proc/self/stat")
    };
    Ok((ticks(11)? + ticks(12)?) * 10.0)
}

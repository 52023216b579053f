//! Reading and computing: a million rows to CSV beside `psql`, ten million points resampled
//! beside PostgreSQL, and many queries side by side, one of which hangs.

use std::{
    os::unix::fs::PermissionsExt,
    path::Path,
    process::Command,
    time::{Duration, Instant},
};

use futures::future::join_all;
use maple_lark_data::{
    Unit,
    series::{Aggregation, Series},
};
use maple_lark_definition::{CsvForm, Definition, Source, Times, query_alone};
use maple_lark_demo::{Cluster, WebServices};
use maple_lark_document::document::{DataTable, ShownAs};
use maple_lark_sources::{Question, Reader, Values};
use maple_lark_time::{Window, Zone};
use serde_json::json;
use sqlx::{AssertSqlSafe, Executor};

use super::{
    Done, Goals,
    running::{OFTEN, Running, SELDOM, until},
};

const ROWS: usize = 1_000_000;
const POINTS: i64 = 10_000_000;
const SQL: &str = "select at, host, service, code, latency, revenue from measured";

/// The argument with which this program reads and writes the rows and nothing else, so that
/// the memory it takes is that of reading them.
pub const CHILD: &str = "--read-a-million-rows";

pub async fn measure(goals: &mut Goals) -> Done<()> {
    let folder = tempfile::tempdir()?;
    // PostgreSQL's own account has to get through.
    std::fs::set_permissions(folder.path(), std::fs::Permissions::from_mode(0o755))?;
    let cluster = Cluster::start(&folder.path().join("state"), false).await?;
    let mut connection = cluster.connect("postgres").await?;
    let password = cluster.role("reader").await?;
    let secret = folder.path().join("password");
    std::fs::write(&secret, &password)?;
    let points = format!(
        "create table points as select timestamptz '2026-01-01' + n * interval '1 second' as at, (hashint4(n::int) % 100000)::float8 / 100 as value from generate_series(1, {POINTS}) n"
    );
    for statement in [
        made().as_str(),
        points.as_str(),
        "grant select on measured to reader",
        "vacuum analyze measured",
        "vacuum analyze points",
    ] {
        connection
            .execute(AssertSqlSafe(statement.to_owned()))
            .await?;
    }
    rows_to_csv(goals, &secret, &password, &cluster).await?;
    rows_in_the_service(goals).await?;
    resample(goals, &mut connection).await?;
    side_by_side(goals, &secret, &cluster).await
}

fn source(address: &str, secret: &Path, name: &str) -> Done<Source> {
    let text = format!(
        "[source]\nname = \"{name}\"\nkind = \"postgresql\"\naddress = \"{address}\"\ndatabase = \"postgres\"\nuser = \"reader\"\npassword = \"file:{}\"\ntls = \"off\"\nrow-limit = {ROWS}\ntimeout = \"PT5M\"\n",
        secret.display()
    );
    match Definition::parse("source.toml", &text) {
        Ok(Definition::Source(source)) => Ok(*source),
        other => Err(format!("{other:?}").into()),
    }
}

fn times() -> Done<Times> {
    let window = Window {
        from: "2026-01-01T00:00:00Z".parse()?,
        to: "2026-05-01T00:00:00Z".parse()?,
        zone: Zone::UTC,
        within: None,
    };
    Ok(Times {
        window,
        comparison: None,
        step: "PT1H".parse()?,
    })
}

async fn ask(source: &Source, query: &str) -> Done<maple_lark_data::PackedTable> {
    let query = query_alone("query", &format!("[query]\nsource = \"s\"\n{query}\n"))
        .map_err(|problems| problems[0].to_string())?;
    let ask = query.ask().ok_or("the query asks no source")?;
    let answer = Reader::unguarded()
        .read(
            source,
            Question {
                ask,
                times: &times()?,
                values: &Values::new(),
            },
        )
        .await?;
    Ok(answer.table)
}

/// In the child: reads the rows, writes them as a CSV document, and prints how long that took
/// and the most memory that was resident meanwhile.
pub async fn child(address: &str, secret: &str) -> Done<()> {
    let source = source(address, Path::new(secret), "s")?;
    let began = Instant::now();
    let table = ask(&source, &format!("sql = \"{SQL}\"")).await?;
    let headings: Vec<String> = table
        .columns
        .iter()
        .map(|column| column.name.clone())
        .collect();
    let data = DataTable {
        title: "Rows".to_owned(),
        file_name: "rows.csv".to_owned(),
        titles: headings.clone(),
        units: vec![Unit::None; headings.len()],
        shown_as: ShownAs::Table,
        is_file: true,
        headings,
        table,
        zone: Zone::UTC,
    };
    let file = tempfile::tempfile()?;
    maple_lark_render::write_csv(&data, CsvForm::default(), &file)?;
    let took = began.elapsed();
    let status = std::fs::read_to_string("/proc/self/status")?;
    let most = status
        .lines()
        .find_map(|line| line.strip_prefix("VmHWM:"))
        .unwrap_or("0")
        .trim()
        .trim_end_matches(" kB")
        .parse::<f64>()?
        / 1024.0;
    println!("{} {most} {}", took.as_secs_f64(), file.metadata()?.len());
    Ok(())
}

const MANY_ROWS: &str = r#"
[dashboard]
name = "rows"
title = "Rows"
[[query]]
name = "q"
source = "operations"
sql = "select at, host, service, code, latency, revenue from measured"
[[section]]
title = "All"
[[section.block]]
show = "table"
title = "Rows"
query = "q"
"#;

/// The same rows by a report of a service that was just started: collected, sealed, kept, composed,
/// written as CSV, packed and kept.
async fn rows_in_the_service(goals: &mut Goals) -> Done<()> {
    let folder = tempfile::tempdir()?;
    std::fs::set_permissions(folder.path(), std::fs::Permissions::from_mode(0o755))?;
    let cluster = Cluster::start(&folder.path().join("state"), false).await?;
    let service = Running::start(folder.path(), &cluster, 25).await?;
    let mut data = cluster.connect("orrin_ops").await?;
    let password = cluster.role("copier").await?;
    for statement in [
        made(),
        "grant select on measured to orrin_reader, copier".to_owned(),
    ] {
        data.execute(AssertSqlSafe(statement)).await?;
    }
    let report = "[report]\nname = \"rows\"\ntitle = \"Rows\"\ntime-zone = \"UTC\"\ndashboards = [\"rows\"]\nformats = [\"csv\"]\n[window]\nprevious = \"day\"\n";
    let source = Running::source(
        &cluster,
        &format!("row-limit = {ROWS}\ntimeout = \"PT5M\"\n"),
    );
    service
        .apply(vec![
            source,
            json!({ "file": "rows.toml", "text": MANY_ROWS }),
            json!({ "file": "report.toml", "text": report }),
        ])
        .await?;
    let before = service.peak()?;
    let mut records = cluster.connect("maple_lark").await?;
    let (mut theirs, mut peak) = (Vec::new(), 0.0);
    for run in 1..=3 {
        theirs.push(copied(&cluster, "orrin_ops", "copier", &password)?);
        service
            .post("/reports/rows/runs", &json!({ "deliver": false }))
            .await?;
        until(
            &mut records,
            OFTEN,
            "select count(*) from runs where state = 'completed'",
            run,
        )
        .await?;
        if run == 1 {
            peak = service.peak()?;
        }
        // The next does not begin beside what makes this one found by its words.
        let found = "select count(*) from snapshots where searchable";
        until(&mut records, SELDOM, found, run).await?;
    }
    theirs.sort_by(f64::total_cmp);
    let ours: f64 = sqlx::query_scalar(
        "select percentile_disc(0.5) within group (order by extract(epoch from finished_at - started_at))::float8 from runs",
    )
    .fetch_one(&mut records)
    .await?;
    println!(
        "{ROWS} rows by a report of the service, which had {before:.0} MiB before, from its claim to its end: {ours:.2} s; psql's \\copy {:.2} s",
        theirs[1]
    );
    let parts: Vec<(String, f64, f64)> = sqlx::query_as(
        "select s.kind, extract(epoch from s.started_at - r.started_at)::float8, extract(epoch from s.ended_at - s.started_at)::float8 \
         from runs r join run_steps s on s.run_id = r.id where r.id = (select id from runs order by created_at desc limit 1) order by s.started_at",
    )
    .fetch_all(&mut records)
    .await?;
    for (part, after, took) in parts {
        println!("  the last one: {part} began after {after:.2} s and took {took:.2} s");
    }
    let ratio = ours / theirs[1];
    goals.check(
        "time of a million rows by a whole run, against psql",
        ratio,
        "times",
        ratio <= 5.0,
        "at most 5",
    );
    goals.check(
        "the most memory of the service",
        peak,
        "MiB",
        peak < 120.0,
        "under 120",
    );
    Ok(())
}

fn made() -> String {
    format!(
        "create table measured as select timestamptz '2026-01-01' + n * interval '1 second' as at, 'host-' || n % 40 as host, 'service-' || n % 7 as service, \
         (200 + n % 5)::int as code, (n % 1000)::float8 / 7 as latency, ((n % 100000)::numeric / 100)::numeric(12, 2) as revenue from generate_series(1, {ROWS}) n"
    )
}

/// How long psql takes to write the rows as CSV, in seconds.
fn copied(cluster: &Cluster, database: &str, role: &str, password: &str) -> Done<f64> {
    let file = tempfile::NamedTempFile::new()?;
    let port = cluster.port().to_string();
    let began = Instant::now();
    let copied = Command::new("psql")
        .args(["-h", "127.0.0.1", "-p", &port, "-U", role, "-d", database])
        .args(["-q", "-c"])
        .arg(format!(
            "\\copy ({SQL}) to '{}' with (format csv, header)",
            file.path().display()
        ))
        .env("PGPASSWORD", password)
        .status()?;
    if !copied.success() {
        return Err("psql failed".into());
    }
    Ok(began.elapsed().as_secs_f64())
}

async fn rows_to_csv(
    goals: &mut Goals,
    secret: &Path,
    password: &str,
    cluster: &Cluster,
) -> Done<()> {
    let (mut theirs, mut ours, mut most, mut size) = (Vec::new(), Vec::new(), 0f64, 0);
    for _ in 0..3 {
        theirs.push(copied(cluster, "postgres", "reader", password)?);
        let output = Command::new(std::env::current_exe()?)
            .args([CHILD, &cluster.address()])
            .arg(secret)
            .output()?;
        let text = String::from_utf8_lossy(&output.stdout);
        let numbers: Vec<f64> = text
            .split_whitespace()
            .filter_map(|word| word.parse().ok())
            .collect();
        let [took, memory, bytes] = numbers[..] else {
            return Err(String::from_utf8_lossy(&output.stderr).into_owned().into());
        };
        ours.push(took);
        (most, size) = (most.max(memory), bytes as usize);
    }
    theirs.sort_by(f64::total_cmp);
    ours.sort_by(f64::total_cmp);
    println!(
        "1,000,000 rows of 6 columns to {} MiB of CSV\n  Maple Lark {:.2} s; psql's \\copy {:.2} s",
        size >> 20,
        ours[1],
        theirs[1]
    );
    let ratio = ours[1] / theirs[1];
    goals.check(
        "time of a million rows to CSV, against psql",
        ratio,
        "times",
        ratio <= 2.0,
        "at most 2",
    );
    goals.check(
        "most memory while a million rows become CSV",
        most,
        "MiB",
        most < 120.0,
        "under 120",
    );
    Ok(())
}

async fn resample(goals: &mut Goals, connection: &mut sqlx::PgConnection) -> Done<()> {
    let mut points = Series::default();
    let first = "2026-01-01T00:00:00Z"
        .parse::<chrono::DateTime<chrono::Utc>>()?
        .timestamp_millis();
    let mut state = 7u64;
    for n in 1..=POINTS {
        state = state
            .wrapping_mul(6_364_136_223_846_793_005)
            .wrapping_add(1);
        points.times.push(first + n * 1000);
        points.values.push((state >> 40) as f64 / 100.0);
    }
    let edges: Vec<i64> = (0..=POINTS / 3600 + 1)
        .map(|hour| first + hour * 3_600_000)
        .collect();
    let began = Instant::now();
    let answers = points.resample(&edges, &[Aggregation::Mean, Aggregation::Percentile(95.0)]);
    let ours = began.elapsed();
    let began = Instant::now();
    let sql = "select date_trunc('hour', at) as hour, avg(value), percentile_cont(0.95) within group (order by value) from points group by 1 order by 1";
    let rows = sqlx::query(sql).fetch_all(&mut *connection).await?;
    let theirs = began.elapsed();
    println!(
        "10,000,000 points to {} hourly means and 95th percentiles ({} by PostgreSQL)\n  Maple Lark {ours:.2?}; PostgreSQL {theirs:.2?}",
        answers[0].len(),
        rows.len()
    );
    let ratio = theirs.as_secs_f64() / ours.as_secs_f64();
    goals.check(
        "resampling, faster than PostgreSQL",
        ratio,
        "times",
        ratio >= 1.0,
        "1",
    );
    Ok(())
}

/// Ten queries to each of five sources, each of which takes four at a time; one of one source
/// hangs until its timeout.
async fn side_by_side(goals: &mut Goals, secret: &Path, cluster: &Cluster) -> Done<()> {
    let services = WebServices::start().await?;
    let sources: Vec<Source> = (1..=4)
        .map(|n| source(&cluster.address(), secret, &format!("s{n}")))
        .collect::<Done<_>>()?;
    let text = format!(
        "[source]\nname = \"slow\"\nkind = \"http-json\"\nurl = \"{}\"\ntimeout = \"PT3S\"\n",
        services.url("")
    );
    let Ok(Definition::Source(slow)) = Definition::parse("slow.toml", &text) else {
        return Err("the source cannot be read".into());
    };
    let one = async |source: &Source, query: &str| {
        let began = Instant::now();
        let worked = ask(source, query).await.is_ok();
        (worked, began.elapsed())
    };
    let field = "rows = \"$[*]\"\nfield = [{ name = \"n\", path = \"$.n\" }]";
    let alone = one(
        &sources[0],
        "sql = \"select count(*) from generate_series(1, 200000)\"",
    )
    .await
    .1;
    let turns: Vec<tokio::sync::Semaphore> =
        (0..5).map(|_| tokio::sync::Semaphore::new(4)).collect();
    let quick = (0..40).map(|n| {
        let (source, turn, one) = (&sources[n % 4], &turns[n % 4], &one);
        async move {
            let _turn = turn.acquire().await;
            one(
                source,
                "sql = \"select count(*) from generate_series(1, 200000)\"",
            )
            .await
        }
    });
    let web = (0..10).map(|n| {
        let (source, turn, one) = (&slow, &turns[4], &one);
        async move {
            let _turn = turn.acquire().await;
            one(
                source,
                &format!(
                    "path = \"{}\"\n{field}",
                    if n == 0 { "/slow" } else { "/linked" }
                ),
            )
            .await
        }
    });
    let began = Instant::now();
    let quick = async {
        let answers = join_all(quick).await;
        (answers, began.elapsed())
    };
    let ((quick, quick_took), web) = tokio::join!(quick, join_all(web));
    let whole = began.elapsed();
    let hung = web[0].1;
    let others = quick
        .iter()
        .chain(&web[1..])
        .filter(|(worked, _)| *worked)
        .count();
    println!(
        "50 queries to 5 sources, 4 at a time each: {others} answered, one hung for {hung:.1?}; one query alone takes {alone:.1?}\n  the others were done after {quick_took:.2?}, all after {whole:.2?}"
    );
    goals.check(
        "queries that answered beside one that hangs",
        others as f64,
        "of 49",
        others == 49,
        "49",
    );
    let ratio = whole.as_secs_f64() / hung.as_secs_f64();
    goals.check(
        "time of all, against the one that hung",
        ratio,
        "times",
        ratio < 1.1 && hung < Duration::from_secs(6),
        "1: it costs only its own timeout",
    );
    Ok(())
}

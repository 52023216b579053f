//! Documents: how long our PDF takes beside headless Chromium printing our own HTML of the
//! same document, how much memory, and whether many in a row need more.

use std::{
    path::Path,
    process::{Command, Stdio},
    time::{Duration, Instant},
};

use super::{
    Done, Goals,
    pages::{CHROMIUM, bare_browser},
};
use chromiumoxide::cdp::browser_protocol::page::PrintToPdfParams;
use chrono::{DateTime, TimeDelta, Utc};
use maple_lark_data::{Column, ColumnKind, Table, Value};
use maple_lark_definition::Format;
use maple_lark_demo::chromium;
use maple_lark_document::{
    Snapshot,
    compose::compose,
    document::Document,
    snapshot::{FrozenDefinition, Outcome, QueryRecord},
};
use maple_lark_time::Window;

const LONG: i64 = 5000;

/// The argument with which this program lays out a long table and nothing else.
pub const LONG_CHILD: &str = "--a-long-table";
/// The argument with which this program lays out many reports one after another.
pub const MANY_CHILD: &str = "--many-reports";

pub async fn measure(goals: &mut Goals) -> Done<()> {
    let document = compose(&sample_of(0))?;
    let bytes = maple_lark_render::pdf(&document)?;
    println!(
        "6 charts of 720 points, a table of 40 rows: {} KiB of PDF",
        bytes.len() / 1024
    );
    let html_time = time_of(&document, Format::Html)?;
    let csv_time = time_of(&document, Format::Csv)?;

    let folder = tempfile::tempdir()?;
    let page = folder.path().join("report.html");
    std::fs::write(&page, maple_lark_render::html(&document)?)?;
    let url = format!("file://{}", page.display());
    let cold = median(5, || {
        let profile = tempfile::tempdir()?;
        let began = Instant::now();
        let status = Command::new("chromium")
            .args(chromium::arguments(profile.path(), &[]))
            .arg(format!(
                "--print-to-pdf={}",
                folder.path().join("cold.pdf").display()
            ))
            .arg(&url)
            .stdout(Stdio::null())
            .stderr(Stdio::null())
            .status()?;
        if status.success() {
            Ok(began.elapsed())
        } else {
            Err("chromium failed".into())
        }
    })?;
    let (ours, warm) = beside_a_warm_browser(folder.path(), &url, 6, 5, &sample_of).await?;
    // Before and after the PDFs, so that what else the machine does falls on these, too.
    let html_time = html_time.min(time_of(&document, Format::Html)?);
    let csv_time = csv_time.min(time_of(&document, Format::Csv)?);
    println!(
        "  PDF by Maple Lark {ours:.1?}; by a warm browser {warm:.1?}; by a cold browser {cold:.1?}; HTML {html_time:.1?}; CSV {csv_time:.1?}"
    );
    goals.check(
        "faster than a warm browser",
        ratio(warm, ours),
        "times",
        ratio(warm, ours) >= 18.0,
        "18",
    );
    goals.check(
        "faster than a cold browser",
        ratio(cold, ours),
        "times",
        ratio(cold, ours) >= 30.0,
        "30",
    );
    // Measured by what does not become faster with our PDFs.
    for (format, time) in [("HTML", html_time), ("CSV", csv_time)] {
        goals.check(
            &format!("{format}, faster than a warm browser's PDF"),
            ratio(warm, time),
            "times",
            ratio(warm, time) >= 130.0,
            "130",
        );
    }
    for columns in [5, 6] {
        long_table(goals, columns).await?;
    }
    many(goals)
}

fn ratio(a: Duration, b: Duration) -> f64 {
    a.as_secs_f64() / b.as_secs_f64()
}

fn time_of(document: &Document, format: Format) -> Done<Duration> {
    median(25, || {
        let began = Instant::now();
        maple_lark_render::render(document, format)?;
        Ok(began.elapsed())
    })
}

/// A table of 5,000 rows and so many columns.
async fn long_table(goals: &mut Goals, columns: usize) -> Done<()> {
    let document = compose(&long_sample(0, columns))?;
    let bytes = maple_lark_render::pdf(&document)?;
    let folder = tempfile::tempdir()?;
    let page = folder.path().join("long.html");
    std::fs::write(&page, maple_lark_render::html(&document)?)?;
    let (ours, warm) = beside_a_warm_browser(
        folder.path(),
        &format!("file://{}", page.display()),
        4,
        1,
        &|seed| long_sample(seed, columns),
    )
    .await?;
    let output = Command::new(std::env::current_exe()?)
        .args([LONG_CHILD, &columns.to_string()])
        .output()?;
    let most: f64 = String::from_utf8_lossy(&output.stdout)
        .trim()
        .parse()
        .map_err(|_| String::from_utf8_lossy(&output.stderr).into_owned())?;
    println!(
        "A table of {LONG} rows and {columns} columns\n  PDF by Maple Lark {ours:.1?}; by a warm browser {warm:.1?}"
    );
    goals.check(
        "a long table, faster than a warm browser",
        ratio(warm, ours),
        "times",
        ratio(warm, ours) >= 15.0,
        "15",
    );
    goals.check(
        "most memory for a long table",
        most,
        "MiB",
        most < 155.0,
        "under 155",
    );
    let size = bytes.len() as f64 / 1e6;
    goals.check("size of its tagged PDF", size, "MB", size < 3.0, "under 3");
    Ok(())
}

/// In the child: the most memory that was resident, in MiB.
pub fn long_child(columns: &str) -> Done<()> {
    let document = compose(&long_sample(0, columns.parse()?))?;
    maple_lark_render::render(&document, Format::Pdf)?;
    println!("{}", resident("VmHWM:")?);
    Ok(())
}

fn resident(line: &str) -> Done<f64> {
    let status = std::fs::read_to_string("/proc/self/status")?;
    let found = status
        .lines()
        .find_map(|text| text.strip_prefix(line))
        .ok_or("no such line")?;
    Ok(found.trim().trim_end_matches("kB").trim().parse::<f64>()? / 1024.0)
}

/// 200 reports one after another.
fn many(goals: &mut Goals) -> Done<()> {
    let output = Command::new(std::env::current_exe()?)
        .arg(MANY_CHILD)
        .output()?;
    let numbers: Vec<f64> = String::from_utf8_lossy(&output.stdout)
        .split_whitespace()
        .filter_map(|word| word.parse().ok())
        .collect();
    let [early, last] = numbers[..] else {
        return Err(String::from_utf8_lossy(&output.stderr).into_owned().into());
    };
    println!(
        "200 reports one after another: {early:.0} MiB resident at most after the 20th to the 110th, {last:.0} MiB after the 90 others"
    );
    goals.check(
        "memory of the last 90, against the 90 before",
        last / early,
        "times",
        last / early < 1.15,
        "1: it stays flat",
    );
    Ok(())
}

/// In the child: the most that was resident after one of the last 90, and of the 90 before, so that both have
/// as many chances to be caught at their most. By the 20th whatever is made once is there: fonts, threads, what the
/// typesetter remembers.
pub fn many_child() -> Done<()> {
    let mut after = Vec::new();
    for seed in 0..200 {
        maple_lark_render::pdf(&compose(&sample_of(seed))?)?;
        after.push(resident("VmRSS:")?);
    }
    let most = |some: &[f64]| some.iter().copied().fold(0.0, f64::max);
    println!("{} {}", most(&after[20..110]), most(&after[110..]));
    Ok(())
}

fn median(rounds: usize, mut once: impl FnMut() -> Done<Duration>) -> Done<Duration> {
    let mut all = (0..rounds).map(|_| once()).collect::<Done<Vec<_>>>()?;
    all.sort();
    Ok(all[all.len() / 2])
}

/// Our PDF and that of a browser that runs already, some of each in turns, so that whatever
/// else the machine does meanwhile falls on both. Medians.
async fn beside_a_warm_browser(
    folder: &Path,
    url: &str,
    rounds: i64,
    each: i64,
    sample: &dyn Fn(i64) -> Snapshot,
) -> Done<(Duration, Duration)> {
    let (mut browser, handling) =
        bare_browser(Path::new(CHROMIUM), &folder.join("profile"), None).await?;
    let (mut ours, mut theirs) = (Vec::new(), Vec::new());
    for round in 0..rounds {
        for _ in 0..each {
            let page = browser.new_page("about:blank").await?;
            let began = Instant::now();
            page.goto(url).await?;
            page.find_element("h1").await?;
            page.pdf(PrintToPdfParams::default()).await?;
            theirs.push(began.elapsed());
            page.close().await?;
        }
        // The browser tidies up behind itself; that is not our time.
        tokio::time::sleep(Duration::from_millis(700)).await;
        for document in 0..each {
            // Each rendering is of data that was never seen before, as every report is.
            let document = composed(&sample(round * each + document + 1))?;
            let began = Instant::now();
            maple_lark_render::pdf(&document)?;
            ours.push(began.elapsed());
        }
    }
    browser.close().await?;
    browser.wait().await?;
    handling.await?;
    // The first few warm both up.
    let middle = |all: Vec<Duration>| {
        let mut all = all[each as usize..].to_vec();
        all.sort();
        all[all.len() / 2]
    };
    Ok((middle(ours), middle(theirs)))
}

/// A document with the digests of its rows, which are worked out when they are first read: the browser is given them, too.
fn composed(snapshot: &Snapshot) -> Done<Document> {
    let document = compose(snapshot)?;
    for of in &document.provenance {
        let _ = of.sha256.as_str();
    }
    Ok(document)
}

/// Six charts of 720 points and a table of 40 rows.
fn sample_of(seed: i64) -> Snapshot {
    let from: DateTime<Utc> = "2026-10-24T23:00:00Z".parse().unwrap_or_default();
    let column = |name: &str, kind| Column {
        name: name.to_owned(),
        kind,
    };
    let queries = (0..6).map(|chart| {
        let rows = (0..720)
            .map(|i| {
                let wave = (i as f64 / 40.0 + chart as f64 + seed as f64).sin() * 20.0
                    + ((i * 7919 + chart * 104_729 + seed) % 101) as f64 / 10.0;
                vec![
                    Value::Instant(from + TimeDelta::minutes(2 * i)),
                    Value::Number(50.0 + wave),
                ]
            })
            .collect();
        (
            format!("load_{chart}"),
            Table {
                columns: vec![
                    column("at", ColumnKind::Instant),
                    column("load", ColumnKind::Number),
                ],
                rows,
                truncated: false,
            },
        )
    });
    let hosts = (0..40)
        .map(|i| {
            vec![
                Value::Text(format!("app-{i:02}")),
                Value::Number(((i * 37 + seed) % 100) as f64),
                Value::Integer(i * 1_000_003),
                Value::Instant(from),
            ]
        })
        .collect();
    let columns = vec![
        column("host", ColumnKind::Text),
        column("used", ColumnKind::Number),
        column("free", ColumnKind::Integer),
        column("seen", ColumnKind::Instant),
    ];
    let hosts = (
        "hosts".to_owned(),
        Table {
            columns,
            rows: hosts,
            truncated: false,
        },
    );
    let mut dashboard = "[dashboard]\nname = \"bench\"\ntitle = \"Bench\"\n".to_owned();
    let mut sections = "[[section]]\ntitle = \"Load\"\n".to_owned();
    for chart in 0..6 {
        dashboard += &format!(
            "[[query]]\nname = \"load_{chart}\"\nsource = \"s\"\nsql = \"select 1\"\n[[query.column]]\nname = \"load\"\nunit = \"percent\"\nwarning = 80\n"
        );
        sections += &format!(
            "[[section.block]]\nshow = \"line\"\ntitle = \"Load of group {chart}\"\nquery = \"load_{chart}\"\ntime = \"at\"\nvalue = \"load\"\n"
        );
    }
    dashboard += "[[query]]\nname = \"hosts\"\nsource = \"s\"\nsql = \"select 1\"\n[[query.column]]\nname = \"used\"\nunit = \"percent\"\nwarning = 80\ncritical = 90\n[[query.column]]\nname = \"free\"\nunit = \"bytes\"\n";
    sections += "[[section.block]]\nshow = \"table\"\ntitle = \"Hosts\"\nquery = \"hosts\"\n";
    snapshot(
        seed,
        from,
        dashboard + &sections,
        queries.chain([hosts]).collect(),
    )
}

/// A long table of the first so many columns.
fn long_sample(seed: i64, count: usize) -> Snapshot {
    let from: DateTime<Utc> = "2026-10-24T23:00:00Z".parse().unwrap_or_default();
    let kinds = [
        ("host", ColumnKind::Text),
        ("service", ColumnKind::Text),
        ("used", ColumnKind::Number),
        ("free", ColumnKind::Integer),
        ("seen", ColumnKind::Instant),
        ("jobs", ColumnKind::Integer),
    ];
    let columns = kinds.into_iter().take(count);
    let columns = columns.map(|(name, kind)| Column {
        name: name.to_owned(),
        kind,
    });
    let rows = (0..LONG)
        .map(|i| {
            let mut row = vec![
                Value::Text(format!("app-{:04}", i + seed)),
                Value::Text(format!("service {}", i % 17)),
                Value::Number(((i * 37 + seed) % 1000) as f64 / 10.0),
                Value::Integer(i * 1_000_003),
                Value::Instant(from + TimeDelta::seconds(i * 17)),
                Value::Integer(i % 23),
            ];
            row.truncate(count);
            row
        })
        .collect();
    let dashboard = "[dashboard]\nname = \"bench\"\ntitle = \"Bench\"\n[[query]]\nname = \"hosts\"\nsource = \"s\"\nsql = \"select 1\"\n[[query.column]]\nname = \"used\"\nunit = \"percent\"\nwarning = 95\n[[section]]\ntitle = \"All\"\n[[section.block]]\nshow = \"table\"\ntitle = \"Hosts\"\nquery = \"hosts\"\nlimit = 5000\n";
    snapshot(
        seed,
        from,
        dashboard.to_owned(),
        vec![(
            "hosts".to_owned(),
            Table {
                columns: columns.collect(),
                rows,
                truncated: false,
            },
        )],
    )
}

fn snapshot(
    seed: i64,
    from: DateTime<Utc>,
    dashboard: String,
    queries: Vec<(String, Table)>,
) -> Snapshot {
    let report = "[report]\nname = \"bench\"\ntitle = \"Bench\"\ntime-zone = \"Atlantic/Faroe\"\ndashboards = [\"bench\"]\n[window]\nprevious = \"day\"\n";
    Snapshot {
        blobs: maple_lark_document::capture::Blobs::new(),
        layout: Snapshot::LAYOUT,
        run_id: format!("bench-{seed}"),
        report: "bench".to_owned(),
        scheduled_for: from + TimeDelta::hours(32),
        made_at: from + TimeDelta::hours(32),
        window: Window {
            from,
            to: from + TimeDelta::hours(25),
            zone: "Atlantic/Faroe"
                .parse()
                .unwrap_or(maple_lark_time::Zone::UTC),
            within: None,
        },
        zone_rules: None,
        incomplete: None,
        archive_head: None,
        values: Default::default(),
        definitions: vec![
            FrozenDefinition {
                file: "r".into(),
                text: report.to_owned(),
            },
            FrozenDefinition {
                file: "d".into(),
                text: dashboard,
            },
        ],
        queries: queries
            .into_iter()
            .map(|(name, table)| QueryRecord {
                capture: None,
                earlier: std::collections::BTreeMap::new(),
                dashboard: "bench".to_owned(),
                name,
                source: "s".to_owned(),
                source_title: "Sample".to_owned(),
                text: "select 1".to_owned(),
                started: from,
                ended: from,
                note: None,
                outcome: Outcome::Rows(table.into()),
            })
            .collect(),
    }
}

//! Speed and memory, as ratios against a named baseline measured in the same run.
//!
//! The baseline for documents is headless Chromium printing our own HTML of the same
//! document: warm (a running browser that is given the page) and cold (a browser started
//! for the page). The baseline for schedules is the same work on a tenth or a hundredth of
//! them. Ends with code 1 if a goal is missed. The
//! baselines of reading and computing are psql and PostgreSQL. Named parts (documents,
//! service, reading, schedules)
//! are measured alone.

mod reading;
mod schedules;

use std::{
    path::Path,
    process::{Command, Stdio},
    time::{Duration, Instant},
};

use chrono::{DateTime, TimeDelta, Utc};
use fantoccini::{Client, ClientBuilder, Locator, wd::PrintConfiguration};
use hyper_util::client::legacy::connect::HttpConnector;
use maple_lark_core::{
    Column, ColumnKind, Snapshot, Table, Value, Window,
    compose::compose,
    snapshot::{FrozenDefinition, Outcome, QueryRecord},
};
use maple_lark_demo::{Cluster, chromium, mail_server::Behaviour};
use serde_json::json;

/// The service's own allocator, since documents are measured in this process.
#[global_allocator]
static ALLOCATOR: mimalloc::MiMalloc = mimalloc::MiMalloc;

type Done<T> = Result<T, Box<dyn std::error::Error>>;

#[tokio::main]
async fn main() -> Done<()> {
    let mut goals = Goals(true);
    let wanted: Vec<String> = std::env::args().skip(1).collect();
    if let [child, address, password] = &wanted[..]
        && child == reading::CHILD
    {
        return reading::child(address, password).await;
    }
    let asked = |part: &str| wanted.is_empty() || wanted.iter().any(|wanted| wanted == part);
    if asked("documents") {
        documents(&mut goals).await?;
    }
    if asked("service") {
        service(&mut goals).await?;
    }
    if asked("reading") {
        reading::measure(&mut goals).await?;
    }
    if asked("schedules") {
        schedules::measure(&mut goals).await?;
    }
    if goals.0 { Ok(()) } else { std::process::exit(1) }
}

/// Whether all goals so far were met.
struct Goals(bool);

impl Goals {
    fn check(&mut self, what: &str, measured: f64, unit: &str, met: bool, goal: &str) {
        self.0 &= met;
        println!("{} {what}: {measured:.1} {unit} (goal: {goal})", if met { "●" } else { "◆" });
    }
}

async fn documents(goals: &mut Goals) -> Done<()> {
    let document = compose(&sample())?;
    let bytes = maple_lark_documents::pdf(&document)?;
    let pages = String::from_utf8_lossy(&bytes).matches("/Type/Page\n").count().max(String::from_utf8_lossy(&bytes).matches("/Type /Page\n").count());
    println!(
        "6 charts of 720 points, a table of 40 rows: {} KiB of PDF{}",
        bytes.len() / 1024,
        if pages > 0 { format!(", {pages} pages") } else { String::new() }
    );
    let html_time = median(25, || {
        let began = Instant::now();
        maple_lark_documents::html(&document).map_err(|error| error.to_string())?;
        Ok(began.elapsed())
    })?;

    let folder = tempfile::tempdir()?;
    let page = folder.path().join("report.html");
    std::fs::write(&page, maple_lark_documents::html(&document)?)?;
    let url = format!("file://{}", page.display());
    let cold = median(5, || {
        let profile = tempfile::tempdir().map_err(|error| error.to_string())?;
        let began = Instant::now();
        let status = Command::new("chromium")
            .args(chromium::arguments(profile.path(), &[]))
            .arg(format!("--print-to-pdf={}", folder.path().join("cold.pdf").display()))
            .arg(&url)
            .stdout(Stdio::null())
            .stderr(Stdio::null())
            .status()
            .map_err(|error| error.to_string())?;
        if status.success() { Ok(began.elapsed()) } else { Err("chromium failed".into()) }
    })?;
    let (ours, warm) = beside_a_warm_browser(folder.path(), &url).await?;
    println!("  PDF by Maple Lark {ours:.1?}; by a warm browser {warm:.1?}; by a cold browser {cold:.1?}; HTML {html_time:.1?}");
    let ratio = |a: Duration, b: Duration| a.as_secs_f64() / b.as_secs_f64();
    goals.check("faster than a warm browser", ratio(warm, ours), "times", ratio(warm, ours) >= 8.0, "8");
    goals.check("faster than a cold browser", ratio(cold, ours), "times", ratio(cold, ours) >= 20.0, "20");
    Ok(())
}

fn median(rounds: usize, mut once: impl FnMut() -> Result<Duration, String>) -> Result<Duration, String> {
    let mut all = (0..rounds).map(|_| once()).collect::<Result<Vec<_>, _>>()?;
    all.sort();
    Ok(all[all.len() / 2])
}

/// Our PDF and that of a browser that runs already, five of each in turns, so that whatever
/// else the machine does meanwhile falls on both. Medians.
async fn beside_a_warm_browser(folder: &Path, url: &str) -> Done<(Duration, Duration)> {
    let port = free_port()?;
    let mut driver = Command::new("chromedriver").arg(format!("--port={port}")).stdout(Stdio::null()).stderr(Stdio::null()).spawn()?;
    let outcome = async {
        let browser = browser(port, folder).await?;
        let (mut ours, mut theirs) = (Vec::new(), Vec::new());
        for round in 0..6 {
            for _ in 0..5 {
                let began = Instant::now();
                browser.goto(url).await?;
                browser.find(Locator::Css("h1")).await?;
                browser.print(PrintConfiguration::default()).await?;
                theirs.push(began.elapsed());
            }
            // The browser tidies up behind itself; that is not our time.
            tokio::time::sleep(Duration::from_millis(700)).await;
            for document in 0..5 {
                // Each rendering is of data that was never seen before, as every report is.
                let document = compose(&sample_of(round * 5 + document + 1))?;
                let began = Instant::now();
                maple_lark_documents::pdf(&document)?;
                ours.push(began.elapsed());
            }
        }
        browser.close().await?;
        // The first few warm both up.
        let middle = |all: Vec<Duration>| {
            let mut all = all[5..].to_vec();
            all.sort();
            all[all.len() / 2]
        };
        Done::Ok((middle(ours), middle(theirs)))
    }
    .await;
    driver.kill()?;
    driver.wait()?;
    outcome
}

async fn browser(port: u16, folder: &Path) -> Done<Client> {
    let arguments = chromium::arguments(&folder.join("profile"), &[]);
    let capabilities = json!({ "goog:chromeOptions": { "args": arguments } });
    for _ in 0..100 {
        let mut builder = ClientBuilder::new(HttpConnector::new());
        if let Ok(browser) = builder.capabilities(capabilities.as_object().cloned().unwrap_or_default()).connect(&format!("http://127.0.0.1:{port}")).await {
            return Ok(browser);
        }
        tokio::time::sleep(Duration::from_millis(100)).await;
    }
    Err("chromedriver does not start a browser".into())
}

pub fn free_port() -> std::io::Result<u16> {
    Ok(std::net::TcpListener::bind("127.0.0.1:0")?.local_addr()?.port())
}

/// The service at rest, and from its start to ready on a database that it knows.
async fn service(goals: &mut Goals) -> Done<()> {
    use std::os::unix::fs::PermissionsExt;
    let folder = tempfile::tempdir()?;
    std::fs::set_permissions(folder.path(), std::fs::Permissions::from_mode(0o755))?;
    let cluster = Cluster::start(&folder.path().join("state"), false).await?;
    let secret = cluster.database("maple_lark", "maple_lark").await?;
    let mail = maple_lark_demo::MailServer::start("127.0.0.1:0", folder.path().join("mailbox"), Behaviour::default()).await?;
    let port = free_port()?;
    let config = folder.path().join("maple-lark.toml");
    let text = format!(
        "listen = \"127.0.0.1:{port}\"\ndatabase = \"{}\"\nfirst-administrator-password = \"bench\"\n[mail]\nhost = \"127.0.0.1\"\nport = {}\ntls = \"off\"\nfrom = \"a@orrin-sound.example\"\n",
        cluster.url_for("maple_lark", &secret, "maple_lark"),
        mail.address.port()
    );
    std::fs::write(&config, text)?;
    let binary = std::env::current_exe()?.parent().and_then(Path::parent).ok_or("no folder")?.join("maple-lark");
    let mut times = Vec::new();
    let mut resident = 0.0;
    for round in 0..4 {
        let began = Instant::now();
        let mut child = Command::new(&binary).args(["serve", "--config"]).arg(&config).stdout(Stdio::null()).stderr(Stdio::null()).spawn()?;
        while !reqwest::get(format!("http://127.0.0.1:{port}/ready")).await.is_ok_and(|answer| answer.status().is_success()) {
            if began.elapsed() > Duration::from_secs(60) {
                return Err("the service does not get ready".into());
            }
            tokio::time::sleep(Duration::from_millis(5)).await;
        }
        // The first start makes the tables; those after it find them.
        if round > 0 {
            times.push(began.elapsed());
        }
        if round == 3 {
            tokio::time::sleep(Duration::from_secs(3)).await;
            let status = std::fs::read_to_string(format!("/proc/{}/status", child.id()))?;
            let line = status.lines().find_map(|line| line.strip_prefix("VmRSS:")).ok_or("no VmRSS")?;
            resident = line.trim().trim_end_matches("kB").trim().parse::<f64>()? / 1024.0;
        }
        Command::new("kill").args(["-TERM", &child.id().to_string()]).status()?;
        child.wait()?;
    }
    times.sort();
    let ready = times[times.len() / 2].as_secs_f64();
    goals.check("the service at rest", resident, "MiB resident", resident < 120.0, "under 120");
    goals.check("from its start to ready", ready, "s", ready < 2.0, "under 2");
    Ok(())
}

fn sample() -> Snapshot {
    sample_of(0)
}

/// Six charts of 720 points and a table of 40 rows.
fn sample_of(seed: i64) -> Snapshot {
    let from: DateTime<Utc> = "2026-10-24T23:00:00Z".parse().unwrap_or_default();
    let column = |name: &str, kind| Column { name: name.to_owned(), kind };
    let queries = (0..6).map(|chart| {
        let rows = (0..720)
            .map(|i| {
                let wave = (i as f64 / 40.0 + chart as f64 + seed as f64).sin() * 20.0 + ((i * 7919 + chart * 104_729 + seed) % 101) as f64 / 10.0;
                vec![Value::Instant(from + TimeDelta::minutes(2 * i)), Value::Number(50.0 + wave)]
            })
            .collect();
        (format!("load_{chart}"), Table { columns: vec![column("at", ColumnKind::Instant), column("load", ColumnKind::Number)], rows, truncated: false })
    });
    let hosts = (0..40)
        .map(|i| vec![Value::Text(format!("app-{i:02}")), Value::Number(((i * 37 + seed) % 100) as f64), Value::Integer(i * 1_000_003), Value::Instant(from)])
        .collect();
    let columns =
        vec![column("host", ColumnKind::Text), column("used", ColumnKind::Number), column("free", ColumnKind::Integer), column("seen", ColumnKind::Instant)];
    let hosts = ("hosts".to_owned(), Table { columns, rows: hosts, truncated: false });
    let mut dashboard = "[dashboard]\nname = \"bench\"\ntitle = \"Bench\"\n".to_owned();
    let mut sections = "[[section]]\ntitle = \"Load\"\n".to_owned();
    for chart in 0..6 {
        dashboard += &format!(
            "[[query]]\nname = \"load_{chart}\"\nsource = \"s\"\nsql = \"select 1\"\n[[query.column]]\nname = \"load\"\nunit = \"percent\"\nwarning = 80\n"
        );
        sections +=
            &format!("[[section.block]]\nshow = \"line\"\ntitle = \"Load of group {chart}\"\nquery = \"load_{chart}\"\ntime = \"at\"\nvalue = \"load\"\n");
    }
    dashboard += "[[query]]\nname = \"hosts\"\nsource = \"s\"\nsql = \"select 1\"\n[[query.column]]\nname = \"used\"\nunit = \"percent\"\nwarning = 80\ncritical = 90\n[[query.column]]\nname = \"free\"\nunit = \"bytes\"\n";
    sections += "[[section.block]]\nshow = \"table\"\ntitle = \"Hosts\"\nquery = \"hosts\"\n";
    let report = "[report]\nname = \"bench\"\ntitle = \"Bench\"\ntime-zone = \"Atlantic/Faroe\"\ndashboards = [\"bench\"]\n[window]\nprevious = \"day\"\n";
    Snapshot {
        layout: Snapshot::LAYOUT,
        run_id: format!("bench-{seed}"),
        report: "bench".to_owned(),
        scheduled_for: from + TimeDelta::hours(32),
        made_at: from + TimeDelta::hours(32),
        window: Window { from, to: from + TimeDelta::hours(25), zone: "Atlantic/Faroe".parse().unwrap_or(maple_lark_core::Zone::UTC), within: None },
        incomplete: None,
        values: Default::default(),
        definitions: vec![FrozenDefinition { file: "r".into(), text: report.to_owned() }, FrozenDefinition { file: "d".into(), text: dashboard + &sections }],
        queries: queries
            .chain([hosts])
            .map(|(name, table)| QueryRecord {
                dashboard: "bench".to_owned(),
                name,
                source: "s".to_owned(),
                source_title: "Sample".to_owned(),
                text: "select 1".to_owned(),
                started: from,
                ended: from,
                note: None,
                outcome: Outcome::Rows(table),
            })
            .collect(),
    }
}

//! What rules of RFC 5545 cost: computed in the core, and explained by the service; the baseline
//! is the common rule library of Python on the same cases.

use std::{
    io::Write,
    path::Path,
    process::{Command, Stdio},
    time::Instant,
};

use chrono::{DateTime, NaiveDateTime, TimeDelta, Utc};
use maple_lark_api::{Answers, Questions};
use maple_lark_demo::{Cluster, mail_server::Behaviour};
use maple_lark_time::{
    Zone,
    schedule::{Recurrence, Rule, Schedule},
};
use serde_json::json;

use crate::{Done, Goals, running::Running};

const RULES: [&str; 20] = [
    "FREQ=DAILY",
    "FREQ=DAILY;INTERVAL=3",
    "FREQ=DAILY;BYDAY=MO,TU,WE,TH,FR",
    "FREQ=DAILY;BYMONTH=1,7;BYHOUR=6,18",
    "FREQ=WEEKLY;BYDAY=MO,TH",
    "FREQ=WEEKLY;INTERVAL=2;BYDAY=TU;WKST=SU",
    "FREQ=MONTHLY",
    "FREQ=MONTHLY;BYDAY=1MO",
    "FREQ=MONTHLY;BYDAY=-1FR",
    "FREQ=MONTHLY;BYMONTHDAY=-1",
    "FREQ=MONTHLY;BYMONTHDAY=13;BYDAY=FR",
    "FREQ=MONTHLY;BYDAY=MO,TU,WE,TH,FR;BYSETPOS=-1",
    "FREQ=MONTHLY;INTERVAL=3;BYMONTHDAY=1,15",
    "FREQ=YEARLY",
    "FREQ=YEARLY;BYMONTH=11;BYDAY=4TH",
    "FREQ=YEARLY;BYWEEKNO=20;BYDAY=MO",
    "FREQ=YEARLY;BYYEARDAY=1,100,200",
    "FREQ=YEARLY;BYDAY=20MO",
    "FREQ=HOURLY;INTERVAL=6",
    "FREQ=HOURLY;BYDAY=SA;BYHOUR=8,20",
];

/// As many first times for each rule.
const ROUNDS: i64 = 3;

/// Each is measured so often, and its best taken: as long as the baseline is, about, so that
/// a moment in which the machine is busy hits both alike.
fn rounds(count: usize) -> usize {
    if count < 100 { 200 } else { 20 }
}

struct Case {
    first: NaiveDateTime,
    rule: &'static str,
}

pub async fn measure(goals: &mut Goals) -> Done<()> {
    let first: NaiveDateTime = "2026-01-05T07:30:00".parse()?;
    let cases: Vec<Case> = RULES
        .iter()
        .flat_map(|rule| {
            (0..ROUNDS).map(move |round| Case {
                first: first + TimeDelta::days(37 * round),
                rule,
            })
        })
        .collect();
    println!("Rules of RFC 5545; the baseline is python-dateutil on the same cases:");
    let folder = tempfile::tempdir()?;
    let Some(python) = Python::ready(folder.path()) else {
        println!("  not measured: python-dateutil cannot be had from the package registry here");
        return Ok(());
    };
    let service = Explaining::start().await?;
    for count in [20, 1000] {
        let (baseline, expected) = python.seconds(&cases, count)?;
        let (core, found) = in_the_core(&cases, count)?;
        if found != expected {
            return Err(format!("{found} instants are found, and {expected} there").into());
        }
        let explained = service.seconds(&cases, count).await?;
        println!(
            "  {count:>5} instants of {} rules: {:.1} ms there, {:.1} ms in the core, {:.1} ms explained by the service",
            cases.len(),
            baseline * 1000.0,
            core * 1000.0,
            explained * 1000.0
        );
        let times = baseline / core;
        let what = format!("{count} instants of a rule computed in the core");
        goals.check(&what, times, "times as fast", times >= 50.0, "50 or more");
        let times = baseline / explained;
        let what = format!("{count} instants of a rule explained by the service");
        goals.check(&what, times, "times as fast", times >= 5.0, "5 or more");
    }
    Ok(())
}

fn in_the_core(cases: &[Case], count: usize) -> Done<(f64, usize)> {
    let zone: Zone = "Atlantic/Faroe".parse()?;
    let mut best = f64::INFINITY;
    let mut found = 0;
    for _ in 0..rounds(count) {
        let began = Instant::now();
        found = 0;
        for case in cases {
            let rule = Recurrence::Rule(Rule::new(case.rule, case.first)?);
            let schedule = Schedule::new(rule, None, None)?;
            let after = zone.instant(case.first) - TimeDelta::seconds(1);
            let instants = schedule.instants(after, DateTime::<Utc>::MAX_UTC, zone);
            found += instants.take(count).count();
        }
        best = best.min(began.elapsed().as_secs_f64());
    }
    Ok((best, found))
}

/// Whether packages of Python could be installed in a folder of their own.
pub fn installed(library: &Path, packages: &[&str]) -> bool {
    let installed = Command::new("python3")
        .args(["-m", "pip", "install", "--quiet", "--target"])
        .arg(library)
        .args(packages)
        .stdout(Stdio::null())
        .stderr(Stdio::null())
        .status();
    installed.is_ok_and(|status| status.success())
}

/// Python with the library, in a folder of its own.
struct Python<'a> {
    library: &'a Path,
}

impl<'a> Python<'a> {
    fn ready(library: &'a Path) -> Option<Self> {
        installed(library, &["python-dateutil", "tzdata"]).then_some(Self { library })
    }

    fn seconds(&self, cases: &[Case], count: usize) -> Done<(f64, usize)> {
        let mut child = Command::new("python3")
            .args(["-c", include_str!("rules.py")])
            .env("PYTHONPATH", self.library)
            .stdin(Stdio::piped())
            .stdout(Stdio::piped())
            .spawn()?;
        let mut input = child.stdin.take().ok_or("no standard input")?;
        for case in cases {
            let first = case.first.format("%Y-%m-%dT%H:%M:%S");
            writeln!(input, "{count}\t{first}\t{}", case.rule)?;
        }
        drop(input);
        let output = String::from_utf8(child.wait_with_output()?.stdout)?;
        let (seconds, found) = output.trim().split_once(' ').ok_or("no answer")?;
        Ok((seconds.parse()?, found.parse()?))
    }
}

/// A service that is asked to explain.
struct Explaining {
    running: Running,
    _cluster: Cluster,
    _mail: maple_lark_demo::MailServer,
    _folder: tempfile::TempDir,
}

impl Explaining {
    async fn start() -> Done<Self> {
        use std::os::unix::fs::PermissionsExt;
        let folder = tempfile::tempdir()?;
        std::fs::set_permissions(folder.path(), std::fs::Permissions::from_mode(0o755))?;
        let cluster = Cluster::start(&folder.path().join("state"), false).await?;
        let mailbox = folder.path().join("mailbox");
        let mail = maple_lark_demo::MailServer::start("127.0.0.1:0", mailbox, Behaviour::default())
            .await?;
        Ok(Self {
            running: Running::start(folder.path(), &cluster, mail.address.port()).await?,
            _cluster: cluster,
            _mail: mail,
            _folder: folder,
        })
    }

    async fn seconds(&self, cases: &[Case], count: usize) -> Done<f64> {
        let mut best = f64::INFINITY;
        for _ in 0..rounds(count) {
            let began = Instant::now();
            for lot in cases.chunks(Questions::MOST) {
                let questions: Vec<_> = lot.iter().map(|case| question(case, count)).collect();
                let body = json!({ "questions": questions });
                // As the command line reads them.
                let answers: Answers = self.running.ask("/schedules/explain/all", &body).await?;
                let explained = answers.answers.into_iter().filter_map(|one| one.explained);
                let found = explained.map(|one| one.instants);
                let found: usize = found.map(|instants| instants.len()).sum();
                if found != count * lot.len() {
                    return Err(format!("{found} instants of {}", count * lot.len()).into());
                }
            }
            best = best.min(began.elapsed().as_secs_f64());
        }
        Ok(best)
    }
}

fn question(case: &Case, count: usize) -> serde_json::Value {
    json!({
        "time_zone": "Atlantic/Faroe",
        "schedule": {
            "rule": case.rule,
            "starts": case.first.date(),
            "at": case.first.format("%H:%M").to_string(),
        },
        "after": (case.first - TimeDelta::days(1)).and_utc(),
        "count": count,
    })
}

//! Speed and memory, as ratios against a named baseline measured in the same run.
//!
//! The baseline for documents is headless Chromium printing our own HTML of the same
//! document: warm (a running browser that is given the page) and cold (a browser started
//! for the page). The baselines of reading and computing are psql and PostgreSQL; that of
//! schedules and of history is the same on a tenth or a hundredth of them; that of rules is the common
//! rule library of Python; those of availability and forecasts are PostgreSQL and a statistics
//! package of Python; that of delivery is a bare generator of mail; that of several processes is one of them; that of live pages is the
//! browser over its protocol alone, and one started for each page. The ink of the demo's documents is told without a goal. Named parts (documents,
//! service, reading, schedules, rules, history, archive, over-time, pages, ink, delivery, scale) are measured alone. Ends with code 1 if a goal is missed.

#![allow(
    clippy::too_many_lines,
    reason = "a measurement is set up, made and told in one go"
)]

mod archive;
mod delivery;
mod documents;
mod history;
mod ink;
mod over_time;
mod pages;
mod reading;
mod rules;
mod running;
mod scale;
mod schedules;

use std::{
    path::Path,
    process::{Command, Stdio},
    time::{Duration, Instant},
};

use maple_lark_demo::{Cluster, mail_server::Behaviour};

/// The service's own allocator, since documents are measured in this process.
#[global_allocator]
static ALLOCATOR: mimalloc::MiMalloc = mimalloc::MiMalloc;

type Done<T> = Result<T, Box<dyn std::error::Error>>;

#[tokio::main]
async fn main() -> Done<()> {
    // As the service has it.
    maple_lark_service::memory::give_back_at_once();
    let mut goals = Goals(true);
    let wanted: Vec<String> = std::env::args().skip(1).collect();
    if let [child, address, password] = &wanted[..]
        && child == reading::CHILD
    {
        return reading::child(address, password).await;
    }
    match wanted.first().map(String::as_str) {
        Some(documents::LONG_CHILD) => {
            return documents::long_child(wanted.get(1).map_or("6", String::as_str));
        }
        Some(documents::MANY_CHILD) => return documents::many_child(),
        Some(over_time::AVAILABILITY_CHILD) => return over_time::availability_child(),
        _ => {}
    }
    let asked = |part: &str| wanted.is_empty() || wanted.iter().any(|wanted| wanted == part);
    if asked("documents") {
        documents::measure(&mut goals).await?;
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
    if asked("rules") {
        rules::measure(&mut goals).await?;
    }
    if asked("history") {
        history::measure(&mut goals).await?;
    }
    if asked("archive") {
        archive::measure(&mut goals).await?;
    }
    if asked("over-time") {
        over_time::measure(&mut goals).await?;
    }
    if asked("pages") {
        pages::measure(&mut goals).await?;
    }
    if asked("ink") {
        ink::measure()?;
    }
    if asked("delivery") {
        delivery::measure(&mut goals).await?;
    }
    if asked("scale") {
        scale::measure(&mut goals).await?;
    }
    if goals.0 {
        Ok(())
    } else {
        std::process::exit(1)
    }
}

/// Whether all goals so far were met.
struct Goals(bool);

impl Goals {
    fn check(&mut self, what: &str, measured: f64, unit: &str, met: bool, goal: &str) {
        self.0 &= met;
        println!(
            "{} {what}: {measured:.1} {unit} (goal: {goal})",
            if met { "●" } else { "◆" }
        );
    }
}

pub fn free_port() -> std::io::Result<u16> {
    Ok(std::net::TcpListener::bind("127.0.0.1:0")?
        .local_addr()?
        .port())
}

/// The service at rest, and from its start to ready on a database that it knows.
async fn service(goals: &mut Goals) -> Done<()> {
    use std::os::unix::fs::PermissionsExt;
    let folder = tempfile::tempdir()?;
    std::fs::set_permissions(folder.path(), std::fs::Permissions::from_mode(0o755))?;
    let cluster = Cluster::start(&folder.path().join("state"), false).await?;
    let secret = cluster.database("maple_lark", "maple_lark").await?;
    let mail = maple_lark_demo::MailServer::start(
        "127.0.0.1:0",
        folder.path().join("mailbox"),
        Behaviour::default(),
    )
    .await?;
    let port = free_port()?;
    let config = folder.path().join("maple-lark.toml");
    let text = format!(
        "listen = \"127.0.0.1:{port}\"\ndatabase = \"{}\"\nfirst-administrator-password = \"bench\"\n[mail]\nhost = \"127.0.0.1\"\nport = {}\ntls = \"off\"\nfrom = \"a@orrin-sound.example\"\n",
        cluster.url_for("maple_lark", &secret, "maple_lark"),
        mail.address.port()
    );
    std::fs::write(&config, text)?;
    let binary = std::env::current_exe()?
        .parent()
        .and_then(Path::parent)
        .ok_or("no folder")?
        .join("maple-lark");
    let mut times = Vec::new();
    let mut resident = 0.0;
    for round in 0..4 {
        let began = Instant::now();
        let mut child = Command::new(&binary)
            .args(["serve", "--config"])
            .arg(&config)
            .stdout(Stdio::null())
            .stderr(Stdio::null())
            .spawn()?;
        while !reqwest::get(format!("http://127.0.0.1:{port}/ready"))
            .await
            .is_ok_and(|answer| answer.status().is_success())
        {
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
            let line = status
                .lines()
                .find_map(|line| line.strip_prefix("VmRSS:"))
                .ok_or("no VmRSS")?;
            resident = line.trim().trim_end_matches("kB").trim().parse::<f64>()? / 1024.0;
        }
        Command::new("kill")
            .args(["-TERM", &child.id().to_string()])
            .status()?;
        child.wait()?;
    }
    times.sort();
    let ready = times[times.len() / 2].as_secs_f64();
    goals.check(
        "the service at rest",
        resident,
        "MiB resident",
        resident < 120.0,
        "under 120",
    );
    goals.check(
        "from its start to ready",
        ready,
        "s",
        ready < 2.0,
        "under 2",
    );
    Ok(())
}

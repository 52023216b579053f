//! Everything that goes wrong in a year, in some minutes: two services on one database, whose
//! processes, database, mail server, sources, disks and clocks fail while they work. After each
//! fault the records and the receiver's own record must agree that nothing was lost, and that
//! whatever came twice is on record as such.
//!
//! `make chaos` runs it longer: MAPLE_LARK_CHAOS says how many rounds.

use std::{
    collections::HashMap,
    os::unix::fs::PermissionsExt,
    path::{Path, PathBuf},
    process::{Command, Stdio},
    time::{Duration, Instant},
};

use mail_parser::MessageParser;
use maple_lark_demo::{
    Cluster, TestCluster, WebServices,
    mail_server::{Behaviour, HangUp},
};
use sqlx::{AssertSqlSafe, Connection, Executor, PgConnection, Row};
use tempfile::TempDir;

use crate::place::{
    PATIENCE, Place, Service, browsers_of, operations, small_dashboard, small_report, text,
};

/// The runs that are ordered before each fault.
const RUNS: usize = 4;

const PAGE: &str = r#"
[dashboard]
name = "page"
title = "A page"
[[query]]
name = "page"
source = "pages"
page = "/let-in"
[[section]]
title = "As it looks"
[[section.block]]
show = "page"
title = "Page"
query = "page"
[[section.block]]
show = "table"
title = "Its parts"
query = "page"
"#;

struct World {
    place: Place,
    state: PathBuf,
    /// Where the channel "files" puts documents: on a small disk, if there is one.
    files: PathBuf,
    /// The database server, once it has been started again.
    server: Option<Cluster>,
    /// A live page.
    web: WebServices,
    services: Vec<Service>,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Fault {
    None,
    KillOne,
    KillBoth,
    Freeze,
    Stop,
    DatabaseRestarts,
    DatabaseIsAway,
    BackendsEnd,
    ConnectionsRunOut,
    BrowserDies,
    MailServerIsDown,
    MailServerIsSlow,
    MailServerRefuses,
    MailServerHangsUp,
    SourceHangs,
    SourceDies,
    PoisonousValues,
    ClockIsAhead,
    ClockJumps,
    AppliesRace,
    DiskIsFull,
    FolderIsFull,
}

impl Fault {
    const ALL: [(Self, &'static str); 22] = [
        (Self::None, "nothing"),
        (Self::MailServerIsSlow, "the mail server is slow"),
        (
            Self::Stop,
            "one process is told to stop while mail goes out",
        ),
        (Self::KillOne, "one process is killed"),
        (Self::KillBoth, "both processes are killed"),
        (
            Self::Freeze,
            "one process is stopped for longer than its lease",
        ),
        (Self::DatabaseRestarts, "the database restarts at once"),
        (Self::DatabaseIsAway, "the database is away for a while"),
        (Self::BackendsEnd, "all sessions in the database are ended"),
        (Self::ConnectionsRunOut, "the database lets nobody in"),
        (Self::BrowserDies, "the browser is killed over and over"),
        (Self::MailServerIsDown, "the mail server is down"),
        (Self::MailServerRefuses, "the mail server refuses for now"),
        (
            Self::MailServerHangsUp,
            "the mail server hangs up after the message",
        ),
        (Self::SourceHangs, "a source hangs"),
        (Self::SourceDies, "a source dies while it answers"),
        (
            Self::PoisonousValues,
            "a source answers with what cannot be",
        ),
        (Self::ClockIsAhead, "one process's clock is a day ahead"),
        (Self::ClockJumps, "one process's clock jumps to and fro"),
        (Self::AppliesRace, "twenty change one definition at once"),
        (Self::DiskIsFull, "the database's disk is full"),
        (Self::FolderIsFull, "the disk of a channel's folder is full"),
    ];

    /// The report whose runs show what it does.
    fn report(self) -> &'static str {
        match self {
            Self::FolderIsFull => "filed",
            Self::BrowserDies => "page",
            _ => "small",
        }
    }

    /// Whether nothing is ever in doubt, so that nothing may come twice.
    fn is_certain(self) -> bool {
        matches!(self, Self::None | Self::Stop | Self::MailServerIsSlow)
    }
}

/// What one fault came to.
#[derive(Debug, Default)]
struct Count {
    expected: usize,
    delivered: usize,
    lost: usize,
    doubled: usize,
    uncounted: usize,
}

async fn value(connection: &mut PgConnection, sql: &'static str) -> i64 {
    sqlx::query_scalar(sql).fetch_one(connection).await.unwrap()
}

fn signal(process: u32, name: &str) {
    let sent = Command::new("kill")
        .args([name, &process.to_string()])
        .status();
    assert!(sent.unwrap().success());
}

async fn rest(seconds: f64) {
    // How long a fault lasts, not a wait for something.
    tokio::time::sleep(Duration::from_secs_f64(seconds)).await;
}

impl World {
    async fn new(folder: TempDir, state: PathBuf, files: PathBuf) -> Self {
        let cluster = TestCluster::alone(&state).await.unwrap();
        let place = Place::with(folder, cluster).await;
        place.add_to_configuration_head(&format!("deliver-into = [\"{}\"]\n", files.display()));
        let mut world = Self {
            services: vec![place.serve(), place.serve_another()],
            place,
            state,
            files,
            server: None,
            web: WebServices::start().await.unwrap(),
        };
        world.place.sign_in();
        world.define("select 1 as one, pg_sleep(0.2)::text as nap");
        world
    }

    fn define(&mut self, sql: &str) {
        let source = operations().key("timeout", "PT2S");
        let report = small_report().list("formats", &["html", "csv"]);
        let filed = small_report()
            .key("name", "filed")
            .list("formats", &["csv"])
            .instead_of(
                "[[audience]]",
                "[[audience]]\nname = \"everyone\"\nchannels = [\"files\"]",
            );
        let channel = format!(
            "[channel]\nname = \"files\"\nkind = \"folder\"\nfolder = \"{}\"\n",
            self.files.display()
        );
        let page = report
            .replace("\"small\"\ntitle", "\"page\"\ntitle")
            .replace("dashboards = [\"small\"]", "dashboards = [\"page\"]");
        let pages = format!(
            "[source]\nname = \"pages\"\ntitle = \"Pages\"\nkind = \"web-page\"\nurl = \"{}\"\n",
            self.web.url("/port-office")
        );
        let output = self.place.apply(&[
            ("source.toml", &source),
            ("channel.toml", &channel),
            ("dashboard.toml", &small_dashboard(sql)),
            ("report.toml", &report),
            ("filed.toml", &filed),
            ("pages.toml", &pages),
            ("page-dashboard.toml", PAGE),
            ("page.toml", &page),
        ]);
        assert!(output.status.success(), "{}", text(&output.stderr));
    }

    fn order(&self, report: &str, runs: usize) -> Vec<String> {
        (0..runs)
            .map(|_| {
                let began = Instant::now();
                loop {
                    // Somebody tries again when the service says that it cannot.
                    let output = self.place.lark(&["run", report, "--detach", "-o", "json"]);
                    if output.status.success() {
                        let run: serde_json::Value =
                            serde_json::from_slice(&output.stdout).unwrap();
                        break run["id"].as_str().unwrap().to_owned();
                    }
                    assert!(began.elapsed() < PATIENCE, "{}", text(&output.stderr));
                    std::thread::sleep(Duration::from_millis(200));
                }
            })
            .collect()
    }

    /// Others take the work over soon, or wait out whatever this machine is kept busy with.
    fn leases_last(&mut self, lease: &'static str) {
        if self.place.leases_last(lease) {
            for service in self.services.drain(..) {
                assert!(service.stop().success());
            }
        }
    }

    /// Starts what is not running.
    async fn mend(&mut self) {
        self.services
            .retain_mut(|service| service.child.try_wait().unwrap().is_none());
        let first = self.place.address.clone();
        if !self.services.iter().any(|one| one.address == first) {
            self.services.insert(0, self.place.serve());
        }
        if self.services.len() < 2 {
            self.services.push(self.place.serve_another());
        }
    }

    /// Ends the database server at once, as a crash does, and starts it again after a while.
    async fn database_away(&mut self, seconds: f64) {
        let process = match &self.server {
            Some(server) => server.process(),
            None => self.place.cluster.process(),
        };
        signal(process, "-QUIT");
        rest(seconds).await;
        self.server = Some(Cluster::start(&self.state, true).await.unwrap());
    }

    async fn inject(&mut self, fault: Fault, long: bool) {
        let away = if long { 60.0 } else { 4.0 };
        match fault {
            Fault::None | Fault::SourceHangs | Fault::PoisonousValues => {}
            Fault::KillOne => self.services.remove(1).kill(),
            Fault::KillBoth => {
                for service in self.services.drain(..) {
                    service.kill();
                }
            }
            Fault::Freeze => {
                let process = self.services[1].child.id();
                signal(process, "-STOP");
                rest(5.0).await;
                signal(process, "-CONT");
            }
            Fault::Stop => {
                let stopping = self.services.remove(1);
                let began = Instant::now();
                assert!(stopping.stop().success());
                // Far less than a mail server may take; only a hang comes near.
                assert!(began.elapsed() < PATIENCE);
            }
            Fault::DatabaseRestarts => self.database_away(0.0).await,
            Fault::DatabaseIsAway => self.database_away(away).await,
            Fault::BackendsEnd => {
                for _ in 0..5 {
                    let mut administrator = self.administrator().await;
                    administrator
                        .execute("select pg_terminate_backend(pid) from pg_stat_activity where pid <> pg_backend_pid() and datname is not null")
                        .await
                        .unwrap();
                    rest(0.3).await;
                }
            }
            Fault::ConnectionsRunOut => {
                let mut administrator = self.administrator().await;
                for sql in [
                    "alter role maple_lark connection limit 0",
                    "select pg_terminate_backend(pid) from pg_stat_activity where usename = 'maple_lark'",
                ] {
                    administrator.execute(sql).await.unwrap();
                }
                rest(away.min(10.0)).await;
                administrator
                    .execute("alter role maple_lark connection limit -1")
                    .await
                    .unwrap();
            }
            Fault::MailServerIsDown => {
                self.place.mail.behave(|now| now.down = true);
                rest(away.min(10.0)).await;
                self.place.mail.behave(|now| now.down = false);
            }
            Fault::MailServerIsSlow => {
                self.place
                    .mail
                    .behave(|now| now.slow = Duration::from_millis(1500));
            }
            Fault::MailServerRefuses => {
                self.place.mail.behave(|now| {
                    now.refuse.insert(
                        "a@orrin-sound.example".to_owned(),
                        (451, "not now".to_owned()),
                    );
                });
                rest(3.0).await;
                self.place.mail.behave(|now| now.refuse.clear());
            }
            Fault::MailServerHangsUp => self.place.mail.behave(|now| {
                now.hang_up = vec![HangUp::AfterData, HangUp::BeforeData, HangUp::AfterData];
            }),
            Fault::SourceDies => {
                for _ in 0..6 {
                    let mut administrator = self.administrator().await;
                    administrator
                        .execute("select pg_terminate_backend(pid) from pg_stat_activity where usename = 'orrin_reader'")
                        .await
                        .unwrap();
                    rest(0.2).await;
                }
            }
            Fault::BrowserDies => {
                for _ in 0..6 {
                    for service in &self.services {
                        for browser in browsers_of(service.child.id()) {
                            // Some have gone with those before them.
                            let _ = Command::new("kill")
                                .args(["-KILL", &browser.to_string()])
                                .stderr(Stdio::null())
                                .status();
                        }
                    }
                    rest(0.3).await;
                }
            }
            Fault::ClockIsAhead => {
                self.replace_second(&[("FAKETIME", "+1d")]);
                self.check_clock("86400 s ahead of the database's");
            }
            Fault::ClockJumps => {
                let file = self.place.folder.path().join("clock");
                let set = |time: &str| std::fs::write(&file, time).unwrap();
                set("+0");
                let path = file.display().to_string();
                self.replace_second(&[
                    ("FAKETIME_TIMESTAMP_FILE", &path),
                    ("FAKETIME_NO_CACHE", "1"),
                ]);
                for time in ["+2h", "-3h", "+40d", "+0"] {
                    set(time);
                    rest(1.0).await;
                }
            }
            Fault::AppliesRace => self.race(),
            Fault::DiskIsFull => {
                let filler = filled(&self.state);
                rest(3.0).await;
                std::fs::remove_file(filler).unwrap();
                // A server that could not write any more has ended; one that goes on is left.
                rest(1.0).await;
                if PgConnection::connect(&self.url()).await.is_err() {
                    self.database_away(0.0).await;
                }
            }
            Fault::FolderIsFull => {
                // Until somebody has noticed.
                let began = Instant::now();
                let mut records = self.place.records().await;
                let refused = "select count(*) from delivery_attempts where outcome = 'postponed' and answer like '%No space left%'";
                while value(&mut records, refused).await == 0 {
                    assert!(began.elapsed() < PATIENCE, "the disk was to be full");
                    rest(0.2).await;
                }
                std::fs::remove_file(self.files.join("filler")).unwrap();
            }
        }
    }

    /// The second process anew, by a clock of its own.
    fn replace_second(&mut self, clock: &[(&str, &str)]) {
        let library = ["x86_64", "aarch64"]
            .iter()
            .map(|machine| format!("/usr/lib/{machine}-linux-gnu/faketime/libfaketimeMT.so.1"))
            .find(|path| Path::new(path).exists())
            .expect("Debian's package libfaketime is installed");
        self.services.truncate(1);
        let mut environment = vec![
            ("LD_PRELOAD", library.as_str()),
            // Only the clock on the wall is wrong.
            ("FAKETIME_DONT_FAKE_MONOTONIC", "1"),
        ];
        environment.extend(clock);
        self.services
            .push(self.place.serve_another_in(&environment));
    }

    /// What the second process says of its clock.
    fn check_clock(&self, words: &str) {
        let service = &self.services[1];
        let began = Instant::now();
        loop {
            let answer = ready(&service.address);
            if answer.contains(words) && answer.starts_with("HTTP/1.1 200") {
                break;
            }
            assert!(began.elapsed() < PATIENCE, "{answer}");
            std::thread::sleep(Duration::from_millis(50));
        }
        // It says so in its log, too, before long.
        while !service.log().contains(words) {
            assert!(began.elapsed() < PATIENCE, "{}", service.log());
            std::thread::sleep(Duration::from_millis(50));
        }
    }

    fn race(&self) {
        let report = |n: usize| {
            small_report()
                .list("formats", &["html", "csv"])
                .key("title", format!("Small report {n}"))
        };
        let outputs: Vec<_> = std::thread::scope(|scope| {
            let all: Vec<_> = (0..20)
                .map(|n| scope.spawn(move || self.place.apply(&[("report.toml", &report(n))])))
                .collect();
            all.into_iter().map(|one| one.join().unwrap()).collect()
        });
        let said: Vec<String> = outputs
            .iter()
            .filter(|output| !output.status.success())
            .map(|output| text(&output.stderr))
            .collect();
        assert!(said.len() < 20, "nobody got through: {said:?}");
        assert!(
            said.iter().all(|words| words.contains("changed meanwhile")),
            "{said:?}"
        );
        // What is there now is valid, and can be changed again.
        let output = self.place.apply(&[("report.toml", &report(21))]);
        assert!(output.status.success(), "{}", text(&output.stderr));
    }

    fn url(&self) -> String {
        let password = std::fs::read_to_string(self.state.join("postgresql-password")).unwrap();
        format!(
            "postgres://cluster_admin:{}@{}/postgres",
            password.trim(),
            self.place.cluster.address()
        )
    }

    async fn administrator(&self) -> PgConnection {
        PgConnection::connect(&self.url()).await.unwrap()
    }

    /// Waits until there is nothing left to do.
    async fn settled(&self) {
        let began = Instant::now();
        let mut records = self.place.records().await;
        let open = "select (select count(*) from runs where finished_at is null) + (select count(*) from deliveries where state = 'waiting') \
                    + (select count(*) from delivery_attempts where ended_at is null)";
        while value(&mut records, open).await > 0 {
            if began.elapsed() > PATIENCE {
                let runs = sqlx::query(
                    "select id::text, state, problem from runs where finished_at is null",
                )
                .fetch_all(&mut records)
                .await
                .unwrap();
                let runs: Vec<(String, String)> =
                    runs.iter().map(|row| (row.get(0), row.get(1))).collect();
                panic!("it does not come to rest: {runs:?}");
            }
            tokio::time::sleep(Duration::from_millis(100)).await;
        }
    }

    /// Whether the channel's folder has this document, whole.
    fn is_filed(&self, name: &str, sha256: &str) -> bool {
        let folder = self.files.join("filed");
        let parts = std::fs::read_dir(&folder).unwrap();
        let parts = parts.filter(|entry| {
            let name = entry.as_ref().unwrap().file_name();
            name.to_string_lossy().ends_with(".part")
        });
        assert_eq!(parts.count(), 0, "half a file was left");
        std::fs::read(folder.join(name))
            .is_ok_and(|bytes| hex::encode(<sha2::Sha256 as sha2::Digest>::digest(bytes)) == sha256)
    }

    /// Compares the records of these runs with what the receiver has.
    async fn count(&self, runs: &[String]) -> Count {
        let mut received: HashMap<String, usize> = HashMap::new();
        for bytes in self.place.mail.messages() {
            let message = MessageParser::default().parse(&bytes).unwrap();
            *received
                .entry(message.message_id().unwrap().to_owned())
                .or_default() += 1;
        }
        let sql = "select d.message_id, d.channel, c.file_name, c.sha256, (select count(*) from delivery_attempts a where a.delivery_id = d.id and a.outcome in ('accepted', 'unknown')) as counted \
                   from deliveries d join documents c on c.snapshot_id = d.snapshot_id and c.format = 'csv' where d.run_id::text = any($1)";
        let mut records = self.place.records().await;
        let rows = sqlx::query(sql)
            .bind(runs)
            .fetch_all(&mut records)
            .await
            .unwrap();
        let mut count = Count {
            expected: rows.len(),
            ..Count::default()
        };
        for row in rows {
            let id: String = row.get("message_id");
            let copies = match row.get("channel") {
                "mail" => received.get(&id).copied().unwrap_or_default(),
                _ => usize::from(self.is_filed(row.get("file_name"), row.get("sha256"))),
            };
            let counted = usize::try_from(row.get::<i64, _>("counted")).unwrap();
            count.delivered += copies.min(1);
            count.lost += usize::from(copies == 0);
            count.doubled += copies.saturating_sub(1);
            count.uncounted += copies.saturating_sub(counted);
        }
        // A run that nobody knows of, or that made no deliveries and does not say why, is lost.
        let told = "select count(*) from runs r where id::text = any($1) and (r.state = 'delivered' or r.state in ('held', 'failed') and r.problem is not null)";
        let told: i64 = sqlx::query_scalar(AssertSqlSafe(told))
            .bind(runs)
            .fetch_one(&mut records)
            .await
            .unwrap();
        count.lost += runs.len() - usize::try_from(told).unwrap();
        count
    }
}

/// Fills a disk, and answers with the file that does.
fn filled(disk: &Path) -> PathBuf {
    let filler = disk.join("filler");
    let writing = format!("cat /dev/zero > '{}' 2>/dev/null", filler.display());
    let filled = Command::new("sh").arg("-c").arg(writing).status();
    assert!(!filled.unwrap().success(), "the disk was to be full");
    filler
}

fn ready(address: &str) -> String {
    use std::io::{Read, Write};
    let mut answer = String::new();
    let mut stream = std::net::TcpStream::connect(address).unwrap();
    write!(
        stream,
        "GET /ready HTTP/1.1\r\nHost: {address}\r\nConnection: close\r\n\r\n"
    )
    .unwrap();
    stream.read_to_string(&mut answer).unwrap();
    answer
}

/// A folder on a small disk of its own, where this account may make one.
fn small_disk(folder: &TempDir, name: &str, size: &str) -> Option<PathBuf> {
    let path = folder.path().join(name);
    std::fs::create_dir(&path).unwrap();
    let mounted = Command::new("mount")
        .args([
            "-t",
            "tmpfs",
            "-o",
            &format!("size={size},mode=755"),
            "tmpfs",
        ])
        .arg(&path)
        .output()
        .is_ok_and(|output| output.status.success());
    mounted.then_some(path)
}

#[tokio::test(flavor = "multi_thread")]
async fn nothing_is_lost_whatever_fails_and_what_comes_twice_is_on_record() {
    let rounds: usize = std::env::var("MAPLE_LARK_CHAOS")
        .ok()
        .map_or(1, |rounds| rounds.parse().expect("a number of rounds"));
    let folder = TempDir::new().unwrap();
    // PostgreSQL's own account has to get through.
    std::fs::set_permissions(folder.path(), std::fs::Permissions::from_mode(0o755)).unwrap();
    let disk = small_disk(&folder, "disk", "400m");
    let files = small_disk(&folder, "files", "1m");
    let state = disk.clone().unwrap_or_else(|| folder.path().join("server"));
    let into = files.clone().unwrap_or_else(|| folder.path().join("files"));
    let mut world = World::new(folder, state, into).await;
    let mut lines = Vec::new();
    let mut failed = false;
    for round in 0..rounds {
        for (fault, words) in Fault::ALL {
            let small = matches!(fault, Fault::DiskIsFull | Fault::FolderIsFull);
            if small && (disk.is_none() || files.is_none()) {
                lines.push(format!(
                    "{words:<50} not tried: only root can make a small disk"
                ));
                continue;
            }
            world.place.mail.behave(|now| *now = Behaviour::default());
            world.leases_last(if fault.is_certain() { "PT1M" } else { "PT2S" });
            world.mend().await;
            match fault {
                Fault::SourceHangs => world.define("select pg_sleep(60)::text as nap"),
                Fault::PoisonousValues => world.define(
                    "select 'infinity'::timestamptz as never, '4713-01-01 BC'::date as once, 'NaN'::float8 as none, E'a\\x01\\u202e' as sign",
                ),
                Fault::FolderIsFull => drop(filled(&world.files)),
                Fault::Stop => world
                    .place
                    .mail
                    .behave(|now| now.slow = Duration::from_millis(300)),
                _ => {}
            }
            let mut runs = world.order(fault.report(), RUNS);
            // Some of them are on their way by now, and others not.
            rest(0.15 * (1 + round % 5) as f64).await;
            world.inject(fault, rounds > 1).await;
            world.mend().await;
            runs.extend(world.order(fault.report(), 1));
            world.settled().await;
            let count = world.count(&runs).await;
            lines.push(format!(
                "{words:<50} {:>8} {:>9} {:>6} {:>7} {:>9}",
                count.expected, count.delivered, count.lost, count.doubled, count.uncounted
            ));
            failed |= count.lost > 0 || count.uncounted > 0;
            failed |= fault.is_certain() && count.doubled > 0;
            if matches!(fault, Fault::SourceHangs | Fault::PoisonousValues) {
                world.define("select 1 as one, pg_sleep(0.2)::text as nap");
            }
        }
    }
    println!(
        "{:<50} {:>8} {:>9} {:>6} {:>7} {:>9}",
        "while …", "expected", "delivered", "lost", "doubled", "uncounted"
    );
    for line in &lines {
        println!("{line}");
    }
    let folder = world.place.folder.path().to_owned();
    drop(world);
    for disk in [disk, files].into_iter().flatten() {
        let gone = Command::new("umount").arg("-l").arg(disk).status();
        assert!(gone.unwrap().success());
    }
    // The folder could not go while a disk was in it.
    let _ = std::fs::remove_dir_all(folder);
    assert!(!failed, "see the table above");
}

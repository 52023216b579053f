//! A place to test in: everything of its own, on loopback, gone afterwards.

use maple_lark_fixtures::{self as fixtures, Fixture};
use std::{
    collections::{BTreeMap, HashMap},
    path::{Path, PathBuf},
    process::{Child, Command, Output, Stdio},
    sync::{
        Mutex,
        atomic::{AtomicU16, Ordering},
    },
    time::{Duration, Instant},
};

use mail_parser::MessageParser;
use maple_lark_demo::{MailServer, TestCluster, mail_server::Behaviour, scenario};
use maple_lark_store::Store;
use serde_json::Value;
use sqlx::{Connection, PgConnection};
use tempfile::TempDir;

pub const PASSWORD: &str = "correct horse battery";
/// Far longer than anything here takes; only a hang gets there.
pub const PATIENCE: Duration = Duration::from_secs(120);

pub struct Place {
    pub folder: TempDir,
    pub cluster: TestCluster,
    pub mail: MailServer,
    pub environment: HashMap<&'static str, String>,
    pub address: String,
    pub config: PathBuf,
    mail_port: AtomicU16,
    head: Mutex<String>,
    lease: Mutex<&'static str>,
    more: Mutex<String>,
    bounces: Mutex<String>,
}

/// A service process; it is killed when this is dropped.
pub struct Service {
    pub child: Child,
    pub log: PathBuf,
    pub address: String,
}

pub fn free_port() -> u16 {
    maple_lark_demo::free_port().unwrap()
}

impl Place {
    pub async fn new() -> Self {
        Self::with(TempDir::new().unwrap(), TestCluster::new().await.unwrap()).await
    }

    /// The same with a certain cluster.
    pub async fn with(folder: TempDir, cluster: TestCluster) -> Self {
        let tables = async |_, owner: String| {
            Store::open(&owner, 1).await?;
            Ok(())
        };
        let secret = cluster
            .copy("maple_lark_tables", "maple_lark", "maple_lark", tables)
            .await
            .unwrap();
        let reader = cluster.role("orrin_reader").await.unwrap();
        let statistics = cluster.role("lark_statistics").await.unwrap();
        cluster.database("orrin_ops", "orrin_owner").await.unwrap();
        let mail = MailServer::start(
            "127.0.0.1:0",
            folder.path().join("mailbox"),
            Behaviour::default(),
        )
        .await
        .unwrap();
        let environment = [
            ("ORRIN_OPS_ADDRESS", cluster.address()),
            ("ORRIN_OPS_DATABASE", cluster.name("orrin_ops")),
            ("LARK_DATABASE", cluster.name("maple_lark")),
            ("ORRIN_READER_PASSWORD", reader),
            ("LARK_STATISTICS_PASSWORD", statistics),
            (
                "DATABASE_URL_OF_LARK",
                cluster.url_for("maple_lark", &secret, "maple_lark"),
            ),
            ("ADMIN_PASSWORD", PASSWORD.to_owned()),
            ("SECRET_KEY", "5a".repeat(32)),
            (
                "XDG_CONFIG_HOME",
                folder.path().join("config").display().to_string(),
            ),
        ];
        let address = format!("127.0.0.1:{}", free_port());
        let config = folder.path().join("maple-lark.toml");
        let place = Self {
            config,
            address,
            environment: environment.into(),
            folder,
            cluster,
            mail_port: AtomicU16::new(mail.address.port()),
            mail,
            head: Mutex::default(),
            lease: Mutex::new("PT2S"),
            more: Mutex::default(),
            bounces: Mutex::default(),
        };
        place.configure(&place.config, &place.address);
        place
    }

    fn configure(&self, path: &Path, address: &str) {
        let text = format!(
            "{}listen = \"{address}\"\ndatabase = \"env:DATABASE_URL_OF_LARK\"\nlease = \"{}\"\nfirst-administrator-password = \"env:ADMIN_PASSWORD\"\n\
             sources-may-reach = [\"{}\", \"{address}\"]\nsources-may-read = [\"/\"]\ndefinitions-may-use = [\"env:*\", \"file:*\"]\nsecret-key = \"file:{}\"\n[mail]\nhost = \"127.0.0.1\"\nport = {}\ntls = \"off\"\nfrom = \"Maple Lark <reports@orrin-sound.example>\"\nfirst-retry = \"PT1S\"\n{}\
             [demo]\nmailbox = \"{}\"\n{}",
            self.head.lock().unwrap(),
            self.lease.lock().unwrap(),
            self.environment["ORRIN_OPS_ADDRESS"],
            self.secret_file("SECRET_KEY"),
            self.mail_port.load(Ordering::Relaxed),
            self.bounces.lock().unwrap(),
            self.mail.folder.display(),
            self.more.lock().unwrap(),
        );
        std::fs::write(path, text).unwrap();
    }

    /// Adds tables to the configuration of services that start later.
    pub fn add_to_configuration(&self, tables: &str) {
        *self.more.lock().unwrap() += tables;
        self.configure(&self.config, &self.address);
    }

    /// The same with keys that stand before all tables.
    pub fn add_to_configuration_head(&self, keys: &str) {
        *self.head.lock().unwrap() += keys;
        self.configure(&self.config, &self.address);
    }

    /// How long services that start later may be silent before others take their work over, and
    /// whether it was another time before.
    pub fn leases_last(&self, lease: &'static str) -> bool {
        let before = std::mem::replace(&mut *self.lease.lock().unwrap(), lease);
        self.configure(&self.config, &self.address);
        before != lease
    }

    /// Hands mail to another server than the stand-in.
    pub fn mail_goes_to(&self, port: u16) {
        self.mail_port.store(port, Ordering::Relaxed);
        self.configure(&self.config, &self.address);
    }

    /// Names the sender of envelopes, to whom bounces go.
    pub fn bounces_go_to(&self, address: &str) {
        *self.bounces.lock().unwrap() = format!("bounces = \"{address}\"\n");
        self.configure(&self.config, &self.address);
    }

    /// The configuration for a service in the process of the test, whose environment is not
    /// ours to change: secrets are in files.
    pub fn config_for_this_process(&self) -> String {
        let path = self.folder.path().join("in-process.toml");
        let mut text = std::fs::read_to_string(&self.config).unwrap();
        for name in ["DATABASE_URL_OF_LARK", "ADMIN_PASSWORD"] {
            text = text.replace(
                &format!("env:{name}"),
                &format!("file:{}", self.secret_file(name)),
            );
        }
        std::fs::write(&path, text).unwrap();
        path.display().to_string()
    }

    /// The source of the small report for such a service.
    pub fn source_for_this_process(&self) -> String {
        let password = format!("file:{}", self.secret_file("ORRIN_READER_PASSWORD"));
        let plain =
            |source: &str, name| source.replace(&format!("env:{name}"), &self.environment[name]);
        plain(
            &plain(&operations(), "ORRIN_OPS_ADDRESS"),
            "ORRIN_OPS_DATABASE",
        )
        .replace("env:ORRIN_READER_PASSWORD", &password)
    }

    fn secret_file(&self, name: &str) -> String {
        let path = self.folder.path().join(name);
        std::fs::write(&path, &self.environment[name]).unwrap();
        path.display().to_string()
    }

    /// Starts a service and waits until it is ready.
    pub fn serve(&self) -> Service {
        self.serve_with(&self.config, &self.address, &[])
    }

    /// The same with more in its environment.
    pub fn serve_in(&self, more: &[(&str, &str)]) -> Service {
        self.serve_with(&self.config, &self.address, more)
    }

    /// The same by another program than the one that is tested.
    pub fn serve_by(&self, program: &str) -> Service {
        let mut service = self.start(program, &self.config, &self.address, &[]);
        service.wait();
        service
    }

    /// Another program that is to refuse to serve: how it ended, and what it said.
    pub fn refuses_to_serve(&self, program: &str) -> (std::process::ExitStatus, String) {
        let mut service = self.start(program, &self.config, &self.address, &[]);
        let ended = service.child.wait().unwrap();
        (ended, service.log())
    }

    /// A further process on the same database, at an address of its own.
    pub fn serve_another(&self) -> Service {
        self.serve_another_in(&[])
    }

    /// The same with more in its environment.
    pub fn serve_another_in(&self, more: &[(&str, &str)]) -> Service {
        let address = format!("127.0.0.1:{}", free_port());
        let config = self
            .folder
            .path()
            .join(format!("{}.toml", address.replace(':', "-")));
        self.configure(&config, &address);
        self.serve_with(&config, &address, more)
    }

    fn serve_with(&self, config: &Path, address: &str, more: &[(&str, &str)]) -> Service {
        let mut service = self.start(env!("CARGO_BIN_EXE_maple-lark"), config, address, more);
        service.wait();
        service
    }

    fn start(&self, program: &str, config: &Path, address: &str, more: &[(&str, &str)]) -> Service {
        let log = self
            .folder
            .path()
            .join(format!("{}.log", address.replace(':', "-")));
        let file = std::fs::OpenOptions::new()
            .create(true)
            .append(true)
            .open(&log)
            .unwrap();
        // With as few files as a system gives that nobody has set up.
        let child = Command::new("sh")
            .args(["-c", "ulimit -S -n 256; exec \"$0\" \"$@\""])
            .arg(program)
            .args(["serve", "--config"])
            .arg(config)
            .envs(&self.environment)
            .envs(more.iter().copied())
            .stdin(Stdio::null())
            .stdout(file.try_clone().unwrap())
            .stderr(file)
            .spawn()
            .unwrap();
        Service {
            child,
            log,
            address: address.to_owned(),
        }
    }

    /// Runs the command line to its end.
    pub fn lark(&self, arguments: &[&str]) -> Output {
        let mut command = Command::new(env!("CARGO_BIN_EXE_maple-lark"));
        command
            .args(arguments)
            .envs(&self.environment)
            .env("MAPLE_LARK_PASSWORD", PASSWORD)
            .env("MAPLE_LARK_ADDRESS", format!("http://{}", self.address));
        command.stdin(Stdio::null()).output().unwrap()
    }

    /// The same by somebody else, whose sign-in is kept in a folder of their own.
    pub fn lark_as(&self, own: &Path, arguments: &[&str]) -> Output {
        self.lark_with_token(own, "", arguments)
    }

    /// The same with a token.
    pub fn lark_with_token(&self, own: &Path, token: &str, arguments: &[&str]) -> Output {
        let mut command = Command::new(env!("CARGO_BIN_EXE_maple-lark"));
        command
            .args(arguments)
            .env("XDG_CONFIG_HOME", own)
            .env("MAPLE_LARK_TOKEN", token)
            .env("MAPLE_LARK_PASSWORD", PASSWORD)
            .env("MAPLE_LARK_ADDRESS", format!("http://{}", self.address));
        command.stdin(Stdio::null()).output().unwrap()
    }

    /// Applies the demo's definitions, some of which belong to a team.
    pub fn apply_demo(&self) -> Output {
        assert!(self.lark(&["teams", "new", "harbours"]).status.success());
        let demo = concat!(env!("CARGO_MANIFEST_DIR"), "/../../demo");
        self.lark(&["apply", demo, "--yes"])
    }

    /// The same with something on standard input.
    pub fn lark_with_input(&self, arguments: &[&str], input: &str) -> Output {
        let mut command = Command::new(env!("CARGO_BIN_EXE_maple-lark"));
        command
            .args(arguments)
            .envs(&self.environment)
            .env("MAPLE_LARK_ADDRESS", format!("http://{}", self.address));
        let mut child = command
            .stdin(Stdio::piped())
            .stdout(Stdio::piped())
            .stderr(Stdio::piped())
            .spawn()
            .unwrap();
        std::io::Write::write_all(&mut child.stdin.take().unwrap(), input.as_bytes()).unwrap();
        child.wait_with_output().unwrap()
    }

    /// The latest mail, once there are more than before.
    pub async fn next_mail(&self, before: usize) -> Vec<u8> {
        let began = Instant::now();
        loop {
            let mut mails = self.mail.messages();
            if mails.len() > before {
                return mails.pop().unwrap();
            }
            assert!(began.elapsed() < PATIENCE, "no mail comes");
            tokio::time::sleep(Duration::from_millis(100)).await;
        }
    }

    /// Runs a line of a shell at a terminal, at which somebody types; answers with what stood there.
    pub fn lark_at_a_terminal(&self, line: &str, typed: &str) -> String {
        let line = format!("{} {line}", env!("CARGO_BIN_EXE_maple-lark"));
        let mut command = Command::new("script");
        command
            .args(["--quiet", "--return", "--command", &line, "/dev/null"])
            .env("NO_COLOR", "1")
            .envs(&self.environment)
            .env("MAPLE_LARK_PASSWORD", PASSWORD)
            .env("MAPLE_LARK_ADDRESS", format!("http://{}", self.address));
        let mut child = command
            .stdin(Stdio::piped())
            .stdout(Stdio::piped())
            .spawn()
            .unwrap();
        let mut hands = child.stdin.take().unwrap();
        std::io::Write::write_all(&mut hands, typed.as_bytes()).unwrap();
        let output = child.wait_with_output().unwrap();
        drop(hands);
        text(&output.stdout)
    }

    /// Runs the command line, which must succeed, and answers with what it printed as JSON.
    pub fn json(&self, arguments: &[&str]) -> Value {
        let output = self.lark(&[arguments, &["--output", "json"]].concat());
        assert!(
            output.status.success(),
            "{arguments:?}: {}",
            text(&output.stderr)
        );
        serde_json::from_slice(&output.stdout).unwrap()
    }

    pub fn sign_in(&self) {
        let output = self.lark(&["sign-in"]);
        assert!(output.status.success(), "{}", text(&output.stderr));
    }

    /// The token of the saved sign-in.
    pub fn token(&self) -> String {
        let saved =
            std::fs::read_to_string(self.folder.path().join("config/maple-lark/sign-in.json"))
                .unwrap();
        serde_json::from_str::<Value>(&saved).unwrap()["token"]
            .as_str()
            .unwrap()
            .to_owned()
    }

    pub fn apply(&self, files: &[(&str, &str)]) -> Output {
        let folder = TempDir::new_in(self.folder.path()).unwrap();
        for (name, text) in files {
            std::fs::write(folder.path().join(name), text).unwrap();
        }
        self.lark(&["apply", folder.path().to_str().unwrap(), "--yes"])
    }

    /// A database with three days of the demo's data up to now.
    pub async fn with_data(&self) -> PgConnection {
        let load = async |connection: &mut PgConnection| {
            scenario::load(connection, "orrin_reader", chrono::Utc::now(), 3).await
        };
        let prepare = async |url: String, _| {
            let mut connection = PgConnection::connect(&url).await?;
            load(&mut connection).await?;
            Ok(connection.close().await?)
        };
        self.cluster
            .copy("orrin_ops_filled", "orrin_ops", "orrin_owner", prepare)
            .await
            .unwrap();
        let mut connection = self.cluster.connect("orrin_ops").await.unwrap();
        // What has come since the copied one was filled.
        load(&mut connection).await.unwrap();
        connection
    }

    /// The product's own database.
    pub async fn records(&self) -> PgConnection {
        self.cluster.connect("maple_lark").await.unwrap()
    }

    /// A small report with one table, ready to run.
    pub fn apply_small(&self, report: &str) {
        let output = self.apply(&[
            ("source.toml", &operations()),
            (
                "dashboard.toml",
                &small_dashboard("select 1 as one, :from::timestamptz as begins"),
            ),
            ("report.toml", report),
        ]);
        assert!(output.status.success(), "{}", text(&output.stderr));
    }

    /// Waits until a run is settled.
    pub fn settled(&self, id: &str) -> Value {
        let began = Instant::now();
        loop {
            let run = self.json(&["show", id]);
            if run["settled"] == true {
                return run;
            }
            assert!(began.elapsed() < PATIENCE, "the run does not end: {run:#}");
            std::thread::sleep(Duration::from_millis(100));
        }
    }
}

impl Service {
    fn wait(&mut self) {
        let began = Instant::now();
        while !self.ready() {
            assert!(
                self.child.try_wait().unwrap().is_none() && began.elapsed() < PATIENCE,
                "the service does not start: {}",
                self.log()
            );
            std::thread::sleep(Duration::from_millis(50));
        }
    }

    fn ready(&self) -> bool {
        use std::io::{Read, Write};
        let Ok(mut stream) = std::net::TcpStream::connect(&self.address) else {
            return false;
        };
        let mut answer = String::new();
        let asked = write!(
            stream,
            "GET /ready HTTP/1.1\r\nHost: {}\r\nConnection: close\r\n\r\n",
            self.address
        );
        asked.is_ok()
            && stream.read_to_string(&mut answer).is_ok()
            // One that speaks TLS says so once its server is there.
            && (answer.starts_with("HTTP/1.1 200") || answer.contains("speaks HTTPS"))
    }

    pub fn log(&self) -> String {
        std::fs::read_to_string(&self.log).unwrap_or_default()
    }

    /// SIGKILL: no chance to tidy up.
    pub fn kill(mut self) {
        self.child.kill().unwrap();
        self.child.wait().unwrap();
    }

    /// SIGTERM, and how it ended.
    pub fn stop(mut self) -> std::process::ExitStatus {
        assert!(
            Command::new("kill")
                .args(["-TERM", &self.child.id().to_string()])
                .status()
                .unwrap()
                .success()
        );
        self.child.wait().unwrap()
    }
}

impl Drop for Service {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

/// A place with a service that has been signed in to.
pub async fn ready() -> (Place, Service) {
    let place = Place::new().await;
    let service = place.serve();
    place.sign_in();
    (place, service)
}

pub fn applied(place: &Place, files: &[(&str, &str)]) {
    let output = place.apply(files);
    assert!(output.status.success(), "{}", text(&output.stderr));
}

pub fn ran(place: &Place, report: &str) -> Value {
    let id = place.json(&["run", report, "--detach"])["id"]
        .as_str()
        .unwrap()
        .to_owned();
    place.settled(&id)
}

/// Asks until there is an answer.
pub fn until<T>(what: &str, mut answer: impl FnMut() -> Option<T>) -> T {
    let began = Instant::now();
    loop {
        if let Some(answer) = answer() {
            return answer;
        }
        assert!(began.elapsed() < PATIENCE, "{what} does not come");
        std::thread::sleep(Duration::from_millis(100));
    }
}

/// Waits until something is true of a run.
pub fn wait_for(place: &Place, id: &str, what: &str, holds: impl Fn(&Value) -> bool) -> Value {
    let began = Instant::now();
    loop {
        let run = place.json(&["show", id]);
        if holds(&run) {
            return run;
        }
        assert!(began.elapsed() < PATIENCE, "{what} does not come: {run:#}");
        std::thread::sleep(Duration::from_millis(100));
    }
}

pub fn envelope(bytes: &[u8]) -> String {
    let text = String::from_utf8_lossy(bytes);
    text.lines()
        .find_map(|line| line.strip_prefix("X-Envelope-To: "))
        .unwrap_or_default()
        .to_owned()
}

/// Every mail by whom it went to, waiting for as many as there should be.
pub fn mails(place: &Place, count: usize) -> BTreeMap<String, Vec<Vec<u8>>> {
    let began = Instant::now();
    while place.mail.messages().len() < count {
        assert!(
            began.elapsed() < PATIENCE,
            "{} of {count} mails came",
            place.mail.messages().len()
        );
        std::thread::sleep(Duration::from_millis(50));
    }
    let mut found: BTreeMap<String, Vec<Vec<u8>>> = BTreeMap::new();
    for bytes in place.mail.messages() {
        found.entry(envelope(&bytes)).or_default().push(bytes);
    }
    found
}

/// The message identifier of each mail that came, in their order.
pub fn message_ids(place: &Place) -> Vec<String> {
    let id = |bytes: &Vec<u8>| {
        let message = MessageParser::default().parse(bytes).unwrap();
        message.message_id().unwrap().to_owned()
    };
    place.mail.messages().iter().map(id).collect()
}

pub fn text(bytes: &[u8]) -> String {
    String::from_utf8_lossy(bytes).into_owned()
}

/// The database of [`Place::with_data`].
pub fn operations() -> Fixture {
    fixtures::source("operations")
        .key("title", "Operations")
        .key("address", "env:ORRIN_OPS_ADDRESS")
        .key("database", "env:ORRIN_OPS_DATABASE")
        .key("password", "env:ORRIN_READER_PASSWORD")
        .key("timeout", "PT20S")
}

pub fn small_dashboard(sql: &str) -> Fixture {
    fixtures::dashboard("small")
        .key("title", "Small")
        .asked("q", "operations", &format!("sql = \"\"\"{sql}\"\"\""))
        .block("show = \"table\"\ntitle = \"Rows\"\nquery = \"q\"")
}

/// A report of the small dashboard for two people, in three formats.
pub fn small_report() -> Fixture {
    fixtures::report("small", "small")
        .key("title", "Small report")
        .key("time-zone", "Atlantic/Faroe")
        .list("formats", &["pdf", "html", "csv"])
        .to(
            "everyone",
            &["a@orrin-sound.example", "b@orrin-sound.example"],
        )
}

/// The same for one person.
pub fn small_report_for(address: &str) -> Fixture {
    small_report()
        .instead_of("[[audience]]", "")
        .to("everyone", &[address])
}

/// The processes of browsers that a process has started.
pub fn browsers_of(parent: u32) -> Vec<i32> {
    let mut own = vec![parent.cast_signed()];
    let all: Vec<_> = procfs::process::all_processes()
        .unwrap()
        .flatten()
        .filter_map(|process| process.stat().ok())
        .collect();
    let mut place = 0;
    while let Some(parent) = own.get(place).copied() {
        own.extend(
            all.iter()
                .filter(|stat| stat.ppid == parent)
                .map(|stat| stat.pid),
        );
        place += 1;
    }
    own[1..].to_vec()
}

//! What must be right before a service starts, each thing with what to do where it is not.
//! Nothing is made, sent or changed.

use std::{
    collections::BTreeSet,
    fs,
    io::ErrorKind,
    net::TcpListener,
    os::unix::fs::PermissionsExt,
    path::{Path, PathBuf},
    process::Stdio,
    time::Duration,
};

use chrono::{TimeDelta, Utc};
use maple_lark_delivery::MailSession;
use maple_lark_store::{Looked, look};
use maple_lark_time::zone::rules_in_use;
use serde::Serialize;

use crate::{Config, config::Mail, engine};

/// The oldest PostgreSQL that the service is tried with.
const OLDEST_SERVER: i32 = 150_000;
/// Clocks that differ by more than this say different things of what is due.
const MOST_APART: TimeDelta = TimeDelta::seconds(5);
/// So long something may take that is only looked at.
const PATIENCE: Duration = Duration::from_secs(15);

/// How something stands.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum Stands {
    /// As it should.
    Ok,
    /// It works, and somebody should see to it.
    Warning,
    /// The service does not start like this, or does not do its work.
    Problem,
}

/// One thing that was looked at.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Finding {
    /// What was looked at, such as `database`.
    pub what: &'static str,
    pub stands: Stands,
    /// What was found.
    pub words: String,
    /// What to do about it.
    pub remedy: Option<String>,
}

impl Finding {
    fn ok(what: &'static str, words: impl Into<String>) -> Self {
        Self {
            what,
            stands: Stands::Ok,
            words: words.into(),
            remedy: None,
        }
    }

    fn warning(what: &'static str, words: impl Into<String>, remedy: impl Into<String>) -> Self {
        Self {
            what,
            stands: Stands::Warning,
            words: words.into(),
            remedy: Some(remedy.into()),
        }
    }

    fn problem(what: &'static str, words: impl Into<String>, remedy: impl Into<String>) -> Self {
        Self {
            stands: Stands::Problem,
            ..Self::warning(what, words, remedy)
        }
    }
}

/// Looks at everything that a configuration names. One thing that is wrong keeps none of the
/// others from being looked at, but for the configuration itself.
pub async fn check(path: &str) -> Vec<Finding> {
    let config = match Config::read(path) {
        Ok(config) => config,
        Err(error) => {
            let remedy = "Correct the configuration and run the check again.";
            return vec![Finding::problem("configuration", error.to_string(), remedy)];
        }
    };
    let mut all = vec![Finding::ok("configuration", format!("{path} is valid"))];
    all.extend(secrets(path));
    all.extend(database(&config).await);
    all.push(port(&config));
    all.push(mail(config.mail.as_ref()).await);
    if let Some(organisation) = &config.directory {
        all.push(directory(&organisation.directory).await);
    }
    all.extend(
        config
            .permissions
            .folders
            .iter()
            .map(|folder| readable("sources-may-read", folder)),
    );
    all.extend(
        config
            .deliver_into
            .iter()
            .map(|folder| writable("deliver-into", folder)),
    );
    all.extend(
        config
            .bounces
            .iter()
            .map(|bounces| readable("bounces", &bounces.maildir)),
    );
    all.extend(programs(&config));
    all.extend(fonts(&config));
    all.push(browser(&config).await);
    all.push(zones());
    all
}

/// Whether the organisation's directory answers the account that searches in it.
async fn directory(directory: &maple_lark_directory::Directory) -> Finding {
    match directory.test().await {
        Ok(words) => Finding::ok("directory", words),
        Err(error) => Finding::problem(
            "directory",
            error.to_string(),
            "Correct [directory] in the configuration, or see that the directory runs. Until then nobody signs in by it.",
        ),
    }
}

/// Files that secrets are in are for the service's account alone.
fn secrets(path: &str) -> Vec<Finding> {
    // It has been read as a configuration already.
    let text = fs::read_to_string(path).unwrap_or_default();
    let mut files = BTreeSet::new();
    if let Ok(table) = text.parse::<toml_edit::DocumentMut>() {
        for (key, item) in table.iter() {
            // What definitions may use are patterns, and no secrets of the service's own.
            if key != "definitions-may-use" {
                files_in(item, &mut files);
            }
        }
    }
    let look = |file: String| match fs::metadata(&file) {
        Err(error) => Finding::problem(
            "secrets",
            format!("{file}: {error}"),
            "Create the file, readable only by the service's account.",
        ),
        Ok(data) if data.permissions().mode() & 0o077 != 0 => Finding::warning(
            "secrets",
            format!("other accounts on this machine can read {file}"),
            format!("Run: chmod 600 {file}"),
        ),
        Ok(_) => Finding::ok("secrets", format!("only its owner can read {file}")),
    };
    files.into_iter().map(look).collect()
}

/// The paths of all `file:` references in a part of the configuration.
fn files_in(item: &toml_edit::Item, files: &mut BTreeSet<String>) {
    if let Some(table) = item.as_table_like() {
        for (_, item) in table.iter() {
            files_in(item, files);
        }
    }
    let text = item.as_str().and_then(|text| text.strip_prefix("file:"));
    files.extend(text.map(str::to_owned));
}

async fn database(config: &Config) -> Vec<Finding> {
    let looked = tokio::time::timeout(PATIENCE, look(&config.database)).await;
    match looked {
        Err(_) => vec![Finding::problem(
            "database",
            format!("no answer within {} s", PATIENCE.as_secs()),
            "Check that PostgreSQL runs at the address in \"database\" and that no firewall blocks it.",
        )],
        Ok(Err(error)) => vec![Finding::problem(
            "database",
            error.to_string(),
            "Check \"database\" in the configuration and that PostgreSQL runs there.",
        )],
        Ok(Ok(looked)) => vec![
            server(&looked),
            account(&looked),
            tables(&looked),
            clock(&looked),
        ],
    }
}

fn server(looked: &Looked) -> Finding {
    let words = format!("PostgreSQL {}, {}", looked.version, looked.encoding);
    if looked.encoding != "UTF8" {
        let remedy = "Create the database with the encoding UTF8; other encodings lose characters of names and titles.";
        return Finding::problem("database", words, remedy);
    }
    if looked.number < OLDEST_SERVER {
        let oldest = OLDEST_SERVER / 10_000;
        let remedy = format!("Use PostgreSQL {oldest} or newer.");
        return Finding::problem("database", words, remedy);
    }
    Finding::ok("database", words)
}

fn account(looked: &Looked) -> Finding {
    if !looked.may_create {
        return Finding::problem(
            "account",
            "may not create tables in the database",
            "Make the account the owner of the database.",
        );
    }
    if looked.superuser {
        return Finding::warning(
            "account",
            "is a superuser",
            "Give the service an account that owns only its database.",
        );
    }
    Finding::ok("account", "may create tables, and is not a superuser")
}

fn tables(looked: &Looked) -> Finding {
    if let Some(newest) = looked.unknown.last() {
        return Finding::problem(
            "tables",
            format!("a newer version of Maple Lark changed them ({newest})"),
            "Run that version; this one cannot read its tables.",
        );
    }
    match looked.pending {
        0 => Finding::ok("tables", "up to date"),
        1 => Finding::ok(
            "tables",
            "1 migration will be applied when the service starts",
        ),
        steps => Finding::ok(
            "tables",
            format!("{steps} migrations will be applied when the service starts"),
        ),
    }
}

fn clock(looked: &Looked) -> Finding {
    let apart = (Utc::now() - looked.now).abs();
    let words = format!(
        "{:.1} s from the clock of the database server",
        apart.as_seconds_f64()
    );
    if apart > MOST_APART {
        let remedy = "Synchronise both machines with NTP.";
        return Finding::warning("clock", words, remedy);
    }
    Finding::ok("clock", words)
}

fn port(config: &Config) -> Finding {
    match TcpListener::bind(config.listen) {
        Ok(_) => Finding::ok("address", format!("{} is free", config.listen)),
        Err(error) if error.kind() == ErrorKind::AddrInUse => Finding::warning(
            "address",
            format!("{} is in use", config.listen),
            "If this is not the service itself, choose another \"listen\" address or stop the program that uses the port.",
        ),
        Err(error) => Finding::problem(
            "address",
            format!("{}: {error}", config.listen),
            "Choose a \"listen\" address of this machine, with a port above 1023 unless the service may use lower ones.",
        ),
    }
}

async fn mail(mail: Option<&Mail>) -> Finding {
    let Some(mail) = mail else {
        return Finding::warning(
            "mail server",
            "not configured",
            "Add [mail], or name a mail-server channel in each report.",
        );
    };
    match tokio::time::timeout(PATIENCE, MailSession::open(&mail.server)).await {
        Ok(Ok(session)) => {
            session.close().await;
            Finding::ok("mail server", "accepts the connection and the sign-in")
        }
        Ok(Err(error)) => Finding::problem(
            "mail server",
            error.to_string(),
            "Check host, port, tls, user and password under [mail].",
        ),
        Err(_) => Finding::problem(
            "mail server",
            format!("no answer within {} s", PATIENCE.as_secs()),
            "Check host and port under [mail] and that no firewall blocks them.",
        ),
    }
}

fn readable(what: &'static str, folder: &Path) -> Finding {
    match fs::read_dir(folder) {
        Ok(_) => Finding::ok(what, format!("{} is readable", folder.display())),
        Err(error) => Finding::problem(
            what,
            format!("{}: {error}", folder.display()),
            "Create the folder and let the service's account read it.",
        ),
    }
}

fn writable(what: &'static str, folder: &Path) -> Finding {
    let probe = tempfile::Builder::new()
        .prefix(".maple-lark-")
        .tempfile_in(folder);
    match probe {
        Ok(_) => Finding::ok(what, format!("{} is writable", folder.display())),
        Err(error) => Finding::problem(
            what,
            format!("{}: {error}", folder.display()),
            "Create the folder and let the service's account write to it.",
        ),
    }
}

fn programs(config: &Config) -> Vec<Finding> {
    let look = |(name, command): (&String, &Vec<String>)| {
        let program = PathBuf::from(command.first().map_or("", String::as_str));
        let runs = fs::metadata(&program)
            .map(|data| data.is_file() && data.permissions().mode() & 0o111 != 0);
        match runs {
            Ok(true) => Finding::ok("programs", format!("{name}: {}", program.display())),
            Ok(false) => Finding::problem(
                "programs",
                format!("{name}: {} cannot be run", program.display()),
                format!("Run: chmod +x {}", program.display()),
            ),
            Err(error) => Finding::problem(
                "programs",
                format!("{name}: {}: {error}", program.display()),
                "Install the program or remove it from the configuration.",
            ),
        }
    };
    config
        .commands
        .iter()
        .chain(&config.programs)
        .map(look)
        .collect()
}

/// Fonts beside the program's own are wanted for other scripts alone.
fn fonts(config: &Config) -> Vec<Finding> {
    let missing = config.fonts.iter().filter(|folder| !folder.is_dir());
    let missing: Vec<String> = missing.map(|folder| folder.display().to_string()).collect();
    match (config.fonts.len() - missing.len(), missing.is_empty()) {
        (_, true) => vec![Finding::ok("fonts", "all font folders are there")],
        (0, false) => vec![Finding::warning(
            "fonts",
            format!("only the built-in font: {} not found", missing.join(", ")),
            "Install fonts, such as Debian's package fonts-dejavu-core, if titles use other scripts than Latin, Greek and Cyrillic.",
        )],
        (_, false) => vec![Finding::ok(
            "fonts",
            format!(
                "{} not found; the other folders are there",
                missing.join(", ")
            ),
        )],
    }
}

async fn browser(config: &Config) -> Finding {
    let program = &config.browser.program;
    let asked = tokio::process::Command::new(program)
        .args(["--version", "--no-sandbox"])
        .stdin(Stdio::null())
        .stderr(Stdio::null())
        .kill_on_drop(true)
        .output();
    let words = match tokio::time::timeout(PATIENCE, asked).await {
        Ok(Ok(output)) if output.status.success() => {
            let said = String::from_utf8_lossy(&output.stdout);
            return Finding::ok("browser", said.trim().chars().take(120).collect::<String>());
        }
        Ok(Ok(output)) => format!("{}: {}", program.display(), output.status),
        Ok(Err(error)) => format!("{}: {error}", program.display()),
        Err(_) => format!("{} does not say its version", program.display()),
    };
    let remedy = "Install Debian's package chromium to capture live pages; everything else works without it.";
    Finding::warning("browser", words, remedy)
}

fn zones() -> Finding {
    engine::use_zone_rules(Utc::now());
    let rules = rules_in_use();
    let words = format!("IANA release {}", rules.version);
    if rules.is_old(Utc::now()) {
        let remedy = "Update this machine's tzdata package; time-zone laws may have changed since.";
        return Finding::warning("time zones", words, remedy);
    }
    Finding::ok("time zones", words)
}

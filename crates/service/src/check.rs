//! What must be right before a service starts, each thing with what to do where it is not.
//! Nothing is sent or changed, and nothing is left behind.

use std::{
    collections::BTreeSet,
    fs,
    io::ErrorKind,
    net::TcpListener,
    os::unix::fs::{MetadataExt, PermissionsExt},
    path::{Path, PathBuf},
    process::Stdio,
    time::Duration,
};

use chrono::{DateTime, TimeDelta, Utc};
use maple_lark_api::readable_size;
use maple_lark_delivery::MailSession;
use maple_lark_store::{Looked, look};
use maple_lark_time::zone::rules_in_use;
use rustix::fs::{StatVfs, statvfs};

pub use maple_lark_api::{Finding, Stands};

use crate::{
    Config,
    config::{Mail, Storage},
    engine,
    tls::{CertificateFiles, Validity},
};

/// The oldest PostgreSQL that the service is tried with.
const OLDEST_SERVER: i32 = 150_000;
/// Clocks that differ by more than this say different things of what is due.
const MOST_APART: TimeDelta = TimeDelta::seconds(5);
/// A certificate that ends within this is to be renewed.
const SOON: TimeDelta = TimeDelta::days(14);
/// With so many bytes free nothing can be relied on to be written, and with so many it soon cannot.
const TOO_LITTLE: u64 = 100 << 20;
const LITTLE: u64 = 1 << 30;
/// So long something may take that is only looked at.
const PATIENCE: Duration = Duration::from_secs(15);

fn finding(
    what: &str,
    stands: Stands,
    words: impl Into<String>,
    remedy: Option<String>,
) -> Finding {
    Finding {
        what: what.to_owned(),
        stands,
        words: words.into(),
        remedy,
    }
}

fn ok(what: &str, words: impl Into<String>) -> Finding {
    finding(what, Stands::Ok, words, None)
}

fn warning(what: &str, words: impl Into<String>, remedy: impl Into<String>) -> Finding {
    finding(what, Stands::Warning, words, Some(remedy.into()))
}

fn problem(what: &str, words: impl Into<String>, remedy: impl Into<String>) -> Finding {
    finding(what, Stands::Problem, words, Some(remedy.into()))
}

/// Looks at everything that a configuration names. One thing that is wrong keeps none of the
/// others from being looked at, but for the configuration itself.
pub async fn check(path: &str) -> Vec<Finding> {
    let config = match Config::read(path) {
        Ok(config) => config,
        Err(error) => {
            let remedy = "Correct the configuration and run the check again.";
            return vec![problem("configuration", error.to_string(), remedy)];
        }
    };
    let mut all = vec![ok("configuration", format!("{path} is valid"))];
    all.extend(secrets(path));
    all.push(port(&config));
    engine::use_zone_rules(Utc::now());
    all.extend(needs(&config).await);
    all
}

/// Looks at everything that a service which runs needs, and at what will become too little.
pub async fn condition(config: &Config) -> Vec<Finding> {
    needs(config).await
}

/// What a service needs of others and of its machine.
async fn needs(config: &Config) -> Vec<Finding> {
    let mut all = database(config).await;
    all.extend(config.tls.iter().map(certificate));
    all.push(mail(config.mail.as_ref()).await);
    if let Some(organisation) = &config.directory {
        all.push(directory(&organisation.directory).await);
    }
    if let Some(organisation) = &config.identity_provider {
        all.push(identity_provider(&organisation.provider).await);
    }
    if let Some(place) = &config.storage {
        all.push(storage(place).await);
    }
    // A folder of another machine may not answer.
    let own = config.clone();
    let looking = tokio::task::spawn_blocking(move || of_the_machine(&own));
    match tokio::time::timeout(PATIENCE, looking).await {
        Ok(Ok(found)) => all.extend(found),
        _ => all.push(problem(
            "folders",
            format!("no answer within {} s", PATIENCE.as_secs()),
            "See which folder of the configuration is on a machine that does not answer.",
        )),
    }
    all.push(browser(config).await);
    all.push(zones());
    all
}

/// What is looked at on the machine itself: folders, the room in them, programs and fonts.
fn of_the_machine(config: &Config) -> Vec<Finding> {
    let read = config.permissions.folders.iter();
    let read = read.map(|folder| readable("sources-may-read", folder));
    let written = config.deliver_into.iter();
    let written = written.map(|folder| writable("deliver-into", folder));
    let bounces = config.bounces.iter();
    let bounces = bounces.map(|bounces| readable("bounces", &bounces.maildir));
    let mut all: Vec<Finding> = read.chain(written).chain(bounces).collect();
    all.extend(rooms(config));
    all.extend(programs(config));
    all.extend(fonts(config));
    all
}

/// Whether the place for snapshots and documents gives back what it is given, and nobody else may read it.
async fn storage(place: &Storage) -> Finding {
    let title = &place.title;
    let tested = tokio::time::timeout(PATIENCE, place.outside.test()).await;
    let refused = match tested {
        Ok(Ok(())) => None,
        Ok(Err(error)) => Some(error.to_string()),
        Err(_) => Some(format!("no answer within {} s", PATIENCE.as_secs())),
    };
    if let Some(words) = refused {
        return problem(
            "storage",
            format!("{title}: {words}"),
            "Correct [storage] in the configuration, or see that the place can be used. Until then new snapshots and documents stay in the database, and those that lie there cannot be opened.",
        );
    }
    let folder = place.folder.as_ref();
    let open = folder.and_then(|folder| fs::metadata(folder).ok());
    if let Some(mode) = open.map(|found| found.permissions().mode() & 0o077)
        && mode != 0
    {
        return warning(
            "storage",
            format!("other users of this machine can read {title}"),
            format!("Close it: chmod 700 {title}"),
        );
    }
    if place.in_the_clear {
        return warning(
            "storage",
            format!("{title}: documents travel unencrypted"),
            "Use https:// in storage.bucket.endpoint.",
        );
    }
    ok(
        "storage",
        format!("{title}: a test object was written, read and removed"),
    )
}

/// Whether the certificate that the service shows holds, and for how long.
fn certificate(files: &CertificateFiles) -> Finding {
    let path = files.certificate.display();
    match files.validity() {
        Err(error) => problem(
            "certificate",
            error.to_string(),
            "Put a certificate and its key there that fit each other; a service that runs keeps the ones that it has until then.",
        ),
        Ok(validity) => holds(&validity, Utc::now(), &path.to_string()),
    }
}

fn holds(validity: &Validity, now: DateTime<Utc>, path: &str) -> Finding {
    let Validity { from, until } = validity;
    let remedy = "Renew it and put the new one in the same place; the service reads it by itself.";
    if now < *from {
        let words = format!("{path} does not hold before {from}");
        return problem(
            "certificate",
            words,
            "Set this machine's clock, or use a certificate that holds already.",
        );
    }
    let words = format!("{path} holds until {until}");
    match *until - now {
        left if left <= TimeDelta::zero() => {
            problem("certificate", format!("{path} held until {until}"), remedy)
        }
        left if left < SOON => warning("certificate", words, remedy),
        _ => ok("certificate", words),
    }
}

/// Whether the organisation's directory answers the account that searches in it.
async fn directory(directory: &maple_lark_directory::Directory) -> Finding {
    match directory.test().await {
        Ok(words) => ok("directory", words),
        Err(error) => problem(
            "directory",
            error.to_string(),
            "Correct [directory] in the configuration, or see that the directory runs. Until then nobody signs in by it.",
        ),
    }
}

/// Whether the organisation's identity provider answers and says of itself what it must.
async fn identity_provider(provider: &maple_lark_directory::Provider) -> Finding {
    match provider.test().await {
        Ok(words) => ok("identity provider", words),
        Err(error) => problem(
            "identity provider",
            error.to_string(),
            "Correct [identity-provider] in the configuration, or see that the provider runs. Until then nobody signs in by it.",
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
        Err(error) => problem(
            "secrets",
            format!("{file}: {error}"),
            "Create the file, readable only by the service's account.",
        ),
        Ok(data) if data.permissions().mode() & 0o077 != 0 => warning(
            "secrets",
            format!("other accounts on this machine can read {file}"),
            format!("Run: chmod 600 {file}"),
        ),
        Ok(_) => ok("secrets", format!("only its owner can read {file}")),
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
        Err(_) => vec![problem(
            "database",
            format!("no answer within {} s", PATIENCE.as_secs()),
            "Check that PostgreSQL runs at the address in \"database\" and that no firewall blocks it.",
        )],
        Ok(Err(error)) => vec![problem(
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
        return problem("database", words, remedy);
    }
    if looked.number < OLDEST_SERVER {
        let oldest = OLDEST_SERVER / 10_000;
        let remedy = format!("Use PostgreSQL {oldest} or newer.");
        return problem("database", words, remedy);
    }
    ok("database", words)
}

fn account(looked: &Looked) -> Finding {
    if !looked.may_create {
        return problem(
            "account",
            "may not create tables in the database",
            "Make the account the owner of the database.",
        );
    }
    if looked.superuser {
        return warning(
            "account",
            "is a superuser",
            "Give the service an account that owns only its database.",
        );
    }
    ok("account", "may create tables, and is not a superuser")
}

fn tables(looked: &Looked) -> Finding {
    if let Some(newest) = looked.unknown.last() {
        return problem(
            "tables",
            format!("a newer version of Maple Lark changed them ({newest})"),
            "Run that version; this one cannot read its tables.",
        );
    }
    match looked.pending {
        0 => ok("tables", "up to date"),
        1 => ok(
            "tables",
            "1 migration will be applied when the service starts",
        ),
        steps => ok(
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
        return warning("clock", words, remedy);
    }
    ok("clock", words)
}

fn port(config: &Config) -> Finding {
    match TcpListener::bind(config.listen) {
        Ok(_) => ok("address", format!("{} is free", config.listen)),
        Err(error) if error.kind() == ErrorKind::AddrInUse => warning(
            "address",
            format!("{} is in use", config.listen),
            "If this is not the service itself, choose another \"listen\" address or stop the program that uses the port.",
        ),
        Err(error) => problem(
            "address",
            format!("{}: {error}", config.listen),
            "Choose a \"listen\" address of this machine, with a port above 1023 unless the service may use lower ones.",
        ),
    }
}

async fn mail(mail: Option<&Mail>) -> Finding {
    let Some(mail) = mail else {
        return warning(
            "mail server",
            "not configured",
            "Add [mail], or name a mail-server channel in each report.",
        );
    };
    match tokio::time::timeout(PATIENCE, MailSession::open(&mail.server)).await {
        Ok(Ok(session)) => {
            session.close().await;
            ok("mail server", "accepts the connection and the sign-in")
        }
        Ok(Err(error)) => problem(
            "mail server",
            error.to_string(),
            "Check host, port, tls, user and password under [mail].",
        ),
        Err(_) => problem(
            "mail server",
            format!("no answer within {} s", PATIENCE.as_secs()),
            "Check host and port under [mail] and that no firewall blocks them.",
        ),
    }
}

fn readable(what: &'static str, folder: &Path) -> Finding {
    match fs::read_dir(folder) {
        Ok(_) => ok(what, format!("{} is readable", folder.display())),
        Err(error) => problem(
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
        Ok(_) => ok(what, format!("{} is writable", folder.display())),
        Err(error) => problem(
            what,
            format!("{}: {error}", folder.display()),
            "Create the folder and let the service's account write to it.",
        ),
    }
}

/// The room on the file systems that documents are written to.
fn rooms(config: &Config) -> Vec<Finding> {
    let mut seen = BTreeSet::new();
    let temporary = std::env::temp_dir();
    let folders = config.deliver_into.iter().chain([&temporary]);
    folders
        .filter(|folder| {
            let device = fs::metadata(folder).map(|data| data.dev());
            device.is_ok_and(|device| seen.insert(device))
        })
        .filter_map(|folder| Some(room(folder, &statvfs(folder).ok()?)))
        .collect()
}

fn room(folder: &Path, system: &StatVfs) -> Finding {
    let free = system.f_bavail.saturating_mul(system.f_frsize);
    let whole = system.f_blocks.saturating_mul(system.f_frsize).max(1);
    let words = format!(
        "{} free of {} where {} is",
        readable_size(free),
        readable_size(whole),
        folder.display()
    );
    let remedy = "Make room, or let documents go there that nobody needs any more.";
    match free {
        0..TOO_LITTLE => problem("room", words, remedy),
        _ if free < LITTLE || free < whole / 20 => warning("room", words, remedy),
        _ => ok("room", words),
    }
}

fn programs(config: &Config) -> Vec<Finding> {
    let look = |(name, command): (&String, &Vec<String>)| {
        let program = PathBuf::from(command.first().map_or("", String::as_str));
        let runs = fs::metadata(&program)
            .map(|data| data.is_file() && data.permissions().mode() & 0o111 != 0);
        match runs {
            Ok(true) => ok("programs", format!("{name}: {}", program.display())),
            Ok(false) => problem(
                "programs",
                format!("{name}: {} cannot be run", program.display()),
                format!("Run: chmod +x {}", program.display()),
            ),
            Err(error) => problem(
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
        .chain(&config.source_programs)
        .map(look)
        .collect()
}

/// Fonts beside the program's own are wanted for other scripts alone.
fn fonts(config: &Config) -> Vec<Finding> {
    let missing = config.fonts.iter().filter(|folder| !folder.is_dir());
    let missing: Vec<String> = missing.map(|folder| folder.display().to_string()).collect();
    match (config.fonts.len() - missing.len(), missing.is_empty()) {
        (_, true) => vec![ok("fonts", "all font folders are there")],
        (0, false) => vec![warning(
            "fonts",
            format!("only the built-in font: {} not found", missing.join(", ")),
            "Install fonts, such as Debian's package fonts-dejavu-core, if titles use other scripts than Latin, Greek and Cyrillic.",
        )],
        (_, false) => vec![ok(
            "fonts",
            format!(
                "{} not found; the other folders are there",
                missing.join(", ")
            ),
        )],
    }
}

async fn browser(config: &Config) -> Finding {
    let program = config.browser.program();
    let asked = tokio::process::Command::new(&program)
        .args(["--version", "--no-sandbox"])
        .stdin(Stdio::null())
        .stderr(Stdio::null())
        .kill_on_drop(true)
        .output();
    let words = match tokio::time::timeout(PATIENCE, asked).await {
        Ok(Ok(output)) if output.status.success() => {
            let said = String::from_utf8_lossy(&output.stdout);
            return ok("browser", said.trim().chars().take(120).collect::<String>());
        }
        Ok(Ok(output)) => format!("{}: {}", program.display(), output.status),
        Ok(Err(error)) => format!("{}: {error}", program.display()),
        Err(_) => format!("{} does not say its version", program.display()),
    };
    let remedy = "Install Debian's package chromium-headless-shell to capture live pages; everything else works without it.";
    warning("browser", words, remedy)
}

fn zones() -> Finding {
    let rules = rules_in_use();
    let words = format!("IANA release {}", rules.version);
    if rules.is_old(Utc::now()) {
        let remedy = "Update this machine's tzdata package; time-zone laws may have changed since.";
        return warning("time zones", words, remedy);
    }
    ok("time zones", words)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_certificate_is_judged_by_how_long_it_holds() {
        let at = |text: &str| text.parse::<DateTime<Utc>>().unwrap();
        let validity = Validity {
            from: at("2026-11-01T00:00:00Z"),
            until: at("2027-01-30T00:00:00Z"),
        };
        for (now, stands, words) in [
            (
                "2026-10-31T23:59:59Z",
                Stands::Problem,
                "does not hold before 2026-11-01 00:00:00 UTC",
            ),
            (
                "2026-11-01T00:00:00Z",
                Stands::Ok,
                "holds until 2027-01-30 00:00:00 UTC",
            ),
            ("2027-01-16T00:00:00Z", Stands::Ok, "holds until"),
            ("2027-01-16T00:00:01Z", Stands::Warning, "holds until"),
            ("2027-01-30T00:00:00Z", Stands::Problem, "held until"),
        ] {
            let found = holds(&validity, at(now), "/etc/tls.pem");
            assert_eq!(found.stands, stands, "{now}");
            assert!(found.words.contains(words), "{found:?}");
            assert_eq!(found.remedy.is_some(), stands != Stands::Ok);
        }
    }

    #[test]
    fn room_is_judged_by_what_is_left() {
        let there = statvfs("/tmp").unwrap();
        let stands = |free: u64, whole: u64| {
            let system = StatVfs {
                f_bavail: free,
                f_blocks: whole,
                f_frsize: 1,
                ..there
            };
            room(Path::new("/out"), &system).stands
        };
        assert_eq!(stands(50 << 30, 100 << 30), Stands::Ok);
        assert_eq!(stands(2 << 30, 100 << 30), Stands::Warning, "2 %");
        assert_eq!(
            stands(900 << 20, 2 << 30),
            Stands::Warning,
            "under a gibibyte"
        );
        assert_eq!(stands(50 << 20, 100 << 20), Stands::Problem);
        assert_eq!(stands(0, 0), Stands::Problem);
    }
}

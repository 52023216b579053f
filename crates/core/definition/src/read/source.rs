//! Reads sources from their tables.

use maple_lark_time::span::Span;

use crate::{
    model::{
        setting::Setting,
        source::{
            DatabaseServer, DirectoryServer, DirectoryTls, SftpFolder, SnmpAgent, Source,
            SourceKind, Tls,
        },
    },
    read::{
        files::read_size,
        http::{read_page, read_web},
        listing,
        name::{read_name, read_teams},
        node::Node,
        setting::{address, ca_file, secret, setting},
        sftp, snmp,
    },
};

/// How many bytes an answer may have if its source says nothing.
const MAX_BYTES: u64 = 128_000_000;
/// How many its source may allow.
const MOST_BYTES: u64 = 2_000_000_000;

pub(crate) fn read(root: &Node<'_>) -> Option<Source> {
    let node = root.table("source")?;
    let name = read_name(&node);
    let teams = read_teams(&node);
    let title = node
        .text("title")
        .map_or_else(|| name.clone(), |title| title.value);
    let word = node.required_choice("kind", &SourceKind::NAMES)?;
    let kind = read_kind(&node, word);
    let timeout = node.parsed::<Span>("timeout");
    let timeout_seconds = match timeout.map(|span| span.elapsed()) {
        // A page has more to do than a query.
        None if matches!(kind, Some(SourceKind::WebPage(_))) => 120,
        None => 30,
        Some(Some(elapsed)) if elapsed.num_seconds() <= 3600 => elapsed.num_seconds() as u64,
        Some(_) => {
            node.report("timeout", "must be between \"PT1S\" and \"PT1H\"");
            30
        }
    };
    let max_concurrency = node.whole("max-concurrency", 1..=100).unwrap_or(4) as usize;
    let row_limit = node.whole("row-limit", 1..=1_000_000).unwrap_or(100_000) as usize;
    let max_bytes = read_size(&node, "max-size").unwrap_or(MAX_BYTES);
    if !(1000..=MOST_BYTES).contains(&max_bytes) {
        node.report("max-size", "must be between \"1 kB\" and \"2 GB\"");
    }
    let place = node.place();
    node.close();
    Some(Source {
        name,
        teams,
        title,
        timeout_seconds,
        row_limit,
        max_bytes,
        max_concurrency,
        kind: kind?,
        place,
    })
}

/// What is said of a kind alone.
fn read_kind(node: &Node<'_>, word: &str) -> Option<SourceKind> {
    match word {
        "postgresql" => read_server(node, 5432).map(SourceKind::Postgresql),
        "mysql" => read_server(node, 3306).map(SourceKind::Mysql),
        "sqlite" => Some(SourceKind::Sqlite(read_path(
            node,
            "file",
            "/var/lib/inventory/hosts.db",
        ))),
        "http-json" => read_web(node)
            .zip(Some(listing::read(node)))
            .map(|(web, catalogue)| SourceKind::HttpJson(web, catalogue)),
        "open-metrics" => read_web(node).map(SourceKind::OpenMetrics),
        "web-page" => read_page(node).map(SourceKind::WebPage),
        "files" if node.has("url") => read_web(node)
            .zip(Some(listing::read(node)))
            .map(|(web, catalogue)| SourceKind::FilesByHttp(web, catalogue)),
        "files" => Some(SourceKind::Folder(read_path(
            node,
            "folder",
            "/var/lib/inventory",
        ))),
        "program" => Some(SourceKind::Program(node.required("program").value)),
        "ldap" => read_directory(node).map(SourceKind::Ldap),
        "snmp" => read_agent(node).map(SourceKind::Snmp),
        "sftp" => {
            let (server, folder) = (sftp::read(node), node.required("folder").value);
            server.map(|server| SourceKind::Sftp(Box::new(SftpFolder { server, folder })))
        }
        _ => Some(SourceKind::LocalChecks),
    }
}

/// A path on the service's machine.
fn read_path(node: &Node<'_>, key: &'static str, example: &str) -> String {
    let path = node.required(key).value;
    if !path.is_empty() && !path.starts_with('/') && !path.starts_with("env:") {
        node.report(
            key,
            format!("must be an absolute path, such as \"{example}\", or \"env:NAME\""),
        );
    }
    path
}

fn read_directory(node: &Node<'_>) -> Option<DirectoryServer> {
    let (tls, usual_port) = match node.choice("tls", &["tls", "start-tls", "off"]) {
        Some("start-tls") => (DirectoryTls::StartTls, 389),
        Some("off") => (DirectoryTls::Off, 389),
        _ => (DirectoryTls::Tls, 636),
    };
    let address = address(node, usual_port);
    let user = node.parsed::<Setting>("user");
    let password = secret(node, "password");
    if user.is_some() != password.is_some() {
        node.report_self("a user needs a password, and a password a user; without both the directory is asked unnamed");
    }
    let base = node.required("base").value;
    Some(DirectoryServer {
        address: address?,
        tls,
        ca_file: ca_file(node),
        user,
        password,
        base,
    })
}

fn read_agent(node: &Node<'_>) -> Option<SnmpAgent> {
    let (address, sign_in) = (address(node, 161), snmp::read_sign_in(node));
    Some(SnmpAgent {
        address: address?,
        sign_in: sign_in?,
    })
}

fn read_server(node: &Node<'_>, usual_port: u16) -> Option<DatabaseServer> {
    let (address, database, user) = (
        address(node, usual_port),
        setting(node, "database"),
        setting(node, "user"),
    );
    let password = secret(node, "password");
    let tls = match node.choice("tls", &["off", "require", "verify-full"]) {
        Some("off") => Tls::Off,
        Some("require") => Tls::Require,
        _ => Tls::VerifyFull,
    };
    let ca_file = ca_file(node);
    Some(DatabaseServer {
        address: address?,
        database: database?,
        user: user?,
        password,
        tls,
        ca_file,
    })
}

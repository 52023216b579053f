//! Reads sources from their tables.

use maple_lark_time::span::Span;

use crate::{
    model::{
        setting::Setting,
        source::{DatabaseServer, Source, SourceKind, Tls, split_address},
    },
    read::{
        files::read_size,
        http::{read_page, read_web},
        listing,
        name::{read_name, read_teams},
        node::Node,
        setting::{ca_file, secret, setting},
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
    let kind = match node.required_choice("kind", &SourceKind::NAMES)? {
        "postgresql" => read_server(&node, 5432).map(SourceKind::Postgresql),
        "mysql" => read_server(&node, 3306).map(SourceKind::Mysql),
        "sqlite" => Some(SourceKind::Sqlite(read_path(
            &node,
            "file",
            "/var/lib/inventory/hosts.db",
        ))),
        "http-json" => read_web(&node)
            .zip(Some(listing::read(&node)))
            .map(|(web, catalogue)| SourceKind::HttpJson(web, catalogue)),
        "open-metrics" => read_web(&node).map(SourceKind::OpenMetrics),
        "web-page" => read_page(&node).map(SourceKind::WebPage),
        "files" if node.has("url") => read_web(&node)
            .zip(Some(listing::read(&node)))
            .map(|(web, catalogue)| SourceKind::FilesByHttp(web, catalogue)),
        "files" => Some(SourceKind::Folder(read_path(
            &node,
            "folder",
            "/var/lib/inventory",
        ))),
        "program" => Some(SourceKind::Program(node.required("program").value)),
        _ => Some(SourceKind::LocalChecks),
    };
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

fn read_server(node: &Node<'_>, usual_port: u16) -> Option<DatabaseServer> {
    let (address, database, user) = (
        setting(node, "address"),
        setting(node, "database"),
        setting(node, "user"),
    );
    let password = secret(node, "password");
    if let Some(Setting::Plain(text)) = &address
        && split_address(text).is_none()
    {
        node.report(
            "address",
            format!("\"{text}\" is not host:port, such as \"127.0.0.1:{usual_port}\""),
        );
    }
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

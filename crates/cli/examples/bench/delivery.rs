//! What delivery costs: a thousand reports due at once, and one report to thousands of people,
//! both by way of a real mail server. The baseline of the second is a bare generator of mail
//! that sends messages of the same size to the same server over as many connections.

use std::time::{Duration, Instant};

use chrono::{DateTime, Utc};
use maple_lark_definition::MailTls;
use maple_lark_delivery::{MailServer, MailSession};
use maple_lark_demo::{Cluster, RealMailServer};
use serde_json::json;

use crate::{
    Done, Goals,
    running::{Running, SELDOM, until},
};

const REPORTS: usize = 1_000;
const RECIPIENTS: usize = 5_000;
const CONNECTIONS: usize = 4;

pub const DASHBOARD: &str = r#"
[dashboard]
name = "small"
title = "Small"
[[query]]
name = "q"
source = "operations"
sql = "select :from::timestamptz + n * interval '1 hour' as at, n as number, n * n % 7 as other from generate_series(1, 20) n"
[[section]]
title = "All"
[[section.block]]
show = "line"
title = "Number"
query = "q"
time = "at"
value = ["number", "other"]
[[section.block]]
show = "table"
title = "Rows"
query = "q"
"#;

pub fn report(name: &str, schedule: &str, to: &[String]) -> String {
    format!(
        "[report]\nname = \"{name}\"\ntitle = \"Report {name}\"\ntime-zone = \"UTC\"\ndashboards = [\"small\"]\nformats = [\"pdf\"]\n[window]\nprevious = \"day\"\n\
         {schedule}[[audience]]\nname = \"all\"\nto = {to:?}\n"
    )
}

pub async fn measure(goals: &mut Goals) -> Done<()> {
    use std::os::unix::fs::PermissionsExt;
    let folder = tempfile::tempdir()?;
    std::fs::set_permissions(folder.path(), std::fs::Permissions::from_mode(0o755))?;
    let cluster = Cluster::start(&folder.path().join("state"), false).await?;
    let mail = RealMailServer::start()?;
    let service = Running::start(folder.path(), &cluster, mail.port).await?;
    let everybody: Vec<String> = (0..RECIPIENTS)
        .map(|n| format!("person{n}@orrin-sound.example"))
        .collect();
    // Late enough for all of them to be applied before.
    let schedule = format!(
        "[schedule]\nevery = \"day\"\nat = \"{}\"\n",
        (Utc::now() + chrono::TimeDelta::seconds(100)).format("%H:%M")
    );
    let mut files = vec![
        Running::source(&cluster, ""),
        json!({ "file": "dashboard.toml", "text": DASHBOARD }),
    ];
    files.push(json!({ "file": "many.toml", "text": report("many", "", &everybody) }));
    files.extend(
        (0..REPORTS).map(|n| json!({ "file": format!("r{n}.toml"), "text": report(&format!("r{n}"), &schedule, &[format!("owner{n}@orrin-sound.example")]) })),
    );
    service.apply(files).await?;
    let mut records = cluster.connect("maple_lark").await?;
    until(
        &mut records,
        SELDOM,
        "select count(*) from runs where state = 'delivered'",
        REPORTS as i64,
    )
    .await?;
    let (first, last): (DateTime<Utc>, DateTime<Utc>) =
        sqlx::query_as("select min(r.created_at), max(d.settled_at) from runs r join deliveries d on d.run_id = r.id").fetch_one(&mut records).await?;
    let seconds = (last - first).num_milliseconds() as f64 / 1000.0;
    let peak = service.peak()?;
    println!(
        "{REPORTS} small reports due at once, each made as PDF and accepted by a real mail server: {:.1} a second",
        REPORTS as f64 / seconds
    );
    goals.check(
        "from the first run to the last acceptance",
        seconds,
        "s",
        seconds < 60.0,
        "under 60",
    );
    goals.check(
        "peak memory of the service",
        peak,
        "MiB",
        peak < 400.0,
        "under 400",
    );

    // One report to thousands, each a mail of their own.
    service.post("/reports/many/runs", &json!({})).await?;
    until(
        &mut records,
        SELDOM,
        "select count(*) from runs where report = 'many' and state = 'delivered'",
        1,
    )
    .await?;
    let (first, last): (DateTime<Utc>, DateTime<Utc>) = sqlx::query_as(
        "select min(a.started_at), max(a.ended_at) from delivery_attempts a join deliveries d on d.id = a.delivery_id join runs r on r.id = d.run_id where r.report = 'many'",
    )
    .fetch_one(&mut records)
    .await?;
    let rendered: i64 = sqlx::query_scalar(
        "select count(*) from documents d join runs r on r.id = d.run_id where r.report = 'many'",
    )
    .fetch_one(&mut records)
    .await?;
    let ours = RECIPIENTS as f64 / ((last - first).num_milliseconds() as f64 / 1000.0);
    let (_, message) = mail.messages().pop().ok_or("no message came")?;
    let size = message.len();
    drop(service);
    let bare = generator(mail.port, size).await?;
    println!(
        "{RECIPIENTS} recipients, {rendered} document, {size} bytes a mail: {ours:.0} a second; a bare generator over {CONNECTIONS} connections: {bare:.0} a second"
    );
    goals.check(
        "the share of what the server takes from a bare generator",
        ours / bare * 100.0,
        "%",
        ours / bare >= 0.5,
        "at least 50",
    );
    Ok(())
}

/// How many messages of a size the server takes a second from something that does nothing else.
async fn generator(port: u16, size: usize) -> Done<f64> {
    const MESSAGES: usize = 2_000;
    let server = MailServer {
        host: "127.0.0.1".to_owned(),
        port,
        tls: MailTls::Off,
        ca: None,
        sign_in: None,
        from: "a@orrin-sound.example".parse()?,
        reply_to: None,
        bounces: None,
        dkim: None,
        max_size: None,
        timeout: Duration::from_secs(30),
    };
    let line = format!("{}\r\n", "x".repeat(74));
    let message = format!("Subject: load\r\n\r\n{}", line.repeat(size / line.len()));
    let began = Instant::now();
    let mut connections = tokio::task::JoinSet::new();
    for connection in 0..CONNECTIONS {
        let (server, message) = (server.clone(), message.clone());
        connections.spawn(async move {
            let mut session = MailSession::open(&server).await?;
            for n in 0..MESSAGES / CONNECTIONS {
                let to = format!("load{connection}.{n}@orrin-sound.example").parse()?;
                session.send(&server, &to, message.as_bytes()).await?;
            }
            session.close().await;
            Ok::<(), Box<dyn std::error::Error + Send + Sync>>(())
        });
    }
    while let Some(done) = connections.join_next().await {
        done?.map_err(|error| error as Box<dyn std::error::Error>)?;
    }
    Ok(MESSAGES as f64 / began.elapsed().as_secs_f64())
}

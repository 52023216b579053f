//! `maple-lark-demo`: the whole product with made-up ferries, on one machine and offline.

use std::{
    fs,
    net::TcpListener,
    path::{Path, PathBuf},
    process::{Child, Command, ExitCode, Stdio},
    time::{Duration, Instant},
};

use anyhow::{Context, Result, bail};
use chrono::Utc;
use clap::Parser;
use maple_lark_demo::{
    Cluster, MailServer, WebReceiver, WebServices,
    cluster::{random_word, write_private},
    live_page,
    mail_server::Behaviour,
    receivers::start_syslog,
    scenario,
    web_services::{TELEMETRY_TOKEN, gate_scans},
};

/// Starts PostgreSQL, the demo data, a mail server and Maple Lark; Ctrl-C stops them all
#[derive(Parser)]
struct Arguments {
    /// Where everything is kept between starts
    #[arg(long, env = "MAPLE_LARK_STATE")]
    state: Option<PathBuf>,
    /// The definitions to apply
    #[arg(long, default_value = "demo")]
    definitions: PathBuf,
    /// The port of the console on loopback
    #[arg(long, env = "MAPLE_LARK_DEMO_PORT", default_value_t = 8480)]
    port: u16,
    /// Print where everything is kept, and do nothing else
    #[arg(long)]
    print_state: bool,
}

#[tokio::main]
async fn main() -> ExitCode {
    let arguments = Arguments::parse();
    if arguments.print_state {
        println!("{}", state_folder(&arguments).display());
        return ExitCode::SUCCESS;
    }
    let mut running = Box::pin(run(arguments));
    let outcome = tokio::select! {
        outcome = &mut running => outcome,
        () = told_to_stop() => {
            println!("\nStopping …");
            Ok(())
        }
    };
    // Stops whatever has been started so far, the last first.
    drop(running);
    match outcome {
        Ok(()) => {
            println!("Everything has stopped; \"make demo\" starts it again with all it had.");
            ExitCode::SUCCESS
        }
        Err(error) => {
            eprintln!("error: {error:#}");
            ExitCode::FAILURE
        }
    }
}

/// PostgreSQL's own account must be able to reach the folder, which it cannot below /root.
fn state_folder(arguments: &Arguments) -> PathBuf {
    arguments
        .state
        .clone()
        .unwrap_or_else(|| match std::env::var_os("HOME") {
            Some(home) if home != "/root" => {
                PathBuf::from(home).join(".local/share/maple-lark-demo")
            }
            _ => PathBuf::from("/var/lib/maple-lark-demo"),
        })
}

#[expect(
    clippy::too_many_lines,
    reason = "builds the demo up, step after step, in the order of its output"
)]
async fn run(arguments: Arguments) -> Result<()> {
    let state = state_folder(&arguments);
    let address = format!("127.0.0.1:{}", arguments.port);
    // Bound and let go at once: better to hear of a taken port now than after the build-up.
    TcpListener::bind(&address)
        .with_context(|| format!("port {} is taken by another program; stop it, or choose another with MAPLE_LARK_DEMO_PORT=8490 make demo", arguments.port))?;
    let began = Instant::now();
    let step = |text: &str| println!("  {:>5.1} s  {text}", began.elapsed().as_secs_f64());
    println!("Maple Lark demo, kept in {}", state.display());

    let cluster = Cluster::start(&state, true).await?;
    step(&format!("PostgreSQL answers on {}", cluster.address()));
    let secret = cluster.database("maple_lark", "maple_lark").await?;
    let reader = cluster.role("orrin_reader").await?;
    let statistics = cluster.role("lark_statistics").await?;
    cluster.database("orrin_ops", "orrin_owner").await?;
    sqlx::Executor::execute(
        &mut cluster.connect("postgres").await?,
        "grant pg_monitor to lark_statistics",
    )
    .await?;
    let mut operations = cluster.connect("orrin_ops").await?;
    let rows = scenario::load(&mut operations, "orrin_reader", Utc::now(), scenario::DAYS).await?;
    step(&format!("demo data is there up to now ({rows} rows added)"));

    let mailbox = state.join("mailbox");
    let refuse = [(
        "jakup.strand@orrin-sound.example".to_owned(),
        (550, "5.1.1 this account was closed".to_owned()),
    )];
    let mail = MailServer::start(
        "127.0.0.1:0",
        mailbox.clone(),
        Behaviour {
            refuse: refuse.into(),
            ..Behaviour::default()
        },
    )
    .await?;
    let receiver = WebReceiver::start("127.0.0.1:0", state.join("received")).await?;
    let syslog = start_syslog("127.0.0.1:0", state.join("received")).await?;
    step(&format!("the mail server listens on {}", mail.address));

    let services = WebServices::start().await?;
    step(&format!(
        "the services of the ferry line answer at {}",
        services.url("/")
    ));
    let files = state.join("inventory");
    inventory(&files)?;
    let work_orders = files.join("work-orders.db");
    scenario::work_orders::write(&work_orders, Utc::now())?;

    let password_file = state.join("admin-password");
    if !password_file.exists() {
        write_private(&password_file, &random_word()[..16])?;
    }
    let password = fs::read_to_string(&password_file)?.trim().to_owned();
    let url_file = state.join("database-url");
    write_private(
        &url_file,
        &cluster.url_for("maple_lark", &secret, "maple_lark"),
    )?;
    let config = state.join("maple-lark.toml");
    let key_file = state.join("secret-key");
    if !key_file.exists() {
        let mut key = [0; 32];
        getrandom::fill(&mut key)
            .map_err(|error| anyhow::anyhow!("the system gives no random numbers: {error}"))?;
        write_private(&key_file, &hex::encode(key))?;
    }
    let archive = state.join("archive");
    private_folder(&state.join("storage"))?;
    let reach = [address.clone(), cluster.address()];
    fs::write(&config, configuration(&address, &state, &reach, &mail))?;
    let binary = std::env::current_exe()?.with_file_name("maple-lark");
    let log = fs::OpenOptions::new()
        .create(true)
        .append(true)
        .open(state.join("maple-lark.log"))?;
    let mut command = Command::new(&binary);
    command
        .arg("serve")
        .arg("--config")
        .arg(&config)
        .env("ORRIN_OPS_ADDRESS", cluster.address())
        .env("ORRIN_OPS_DATABASE", "orrin_ops")
        .env("LARK_DATABASE", "maple_lark")
        .env("ORRIN_READER_PASSWORD", reader)
        .env("LARK_STATISTICS_PASSWORD", statistics)
        .env("ORRIN_WEB", services.url(""))
        .env("ORRIN_PORT_OFFICE", services.url("/port-office"))
        .env("ORRIN_PORT_OFFICE_PASSWORD", live_page::PASSWORD)
        .env("ORRIN_GATES", services.url("/gates/metrics"))
        .env("ORRIN_TELEMETRY_TOKEN", TELEMETRY_TOKEN)
        .env("ORRIN_INVENTORY", &files)
        .env("ORRIN_WORK_ORDERS", &work_orders)
        .env("ORRIN_ARCHIVE", &archive)
        .env(
            "ORRIN_DUTY_CHAT",
            format!("http://{}/duty-chat", receiver.address),
        )
        .env(
            "ORRIN_SHARE",
            format!("http://{}/harbour", receiver.address),
        )
        .env("ORRIN_SYSLOG", syslog.to_string())
        .env("LARK_METRICS", format!("http://{address}/metrics"));
    std::os::unix::process::CommandExt::process_group(&mut command, 0);
    let started = command
        .stdin(Stdio::null())
        .stdout(Stdio::null())
        .stderr(log)
        .spawn();
    let mut service = Service(started.with_context(|| {
        format!(
            "cannot start {}; build it with \"make demo\"",
            binary.display()
        )
    })?);
    wait_until_ready(&address, &mut service.0, &state).await?;
    step(&format!("Maple Lark is ready at http://{address}"));
    let client = client(&state, &binary, &address)?;
    call(
        Command::new(&client)
            .args(["sign-in", "--name", "admin"])
            .env("MAPLE_LARK_PASSWORD", &password),
    )?;
    keep_metrics_token(&state, &client)?;
    let colleagues = colleagues(&state, &client)?;
    call(
        Command::new(&client)
            .arg("apply")
            .arg(&arguments.definitions)
            .arg("--yes"),
    )?;
    step("the definitions are applied");
    let first = state.join("first-runs-were-asked-for");
    if !first.exists() {
        // What the sampler of the gates would have kept if the demo had run for some days.
        history(&mut cluster.connect("maple_lark").await?).await?;
        for report in [
            "ferry-operations-daily",
            "estate-daily",
            "database-server-health",
            "port-offices-daily",
            "harbour-letter",
            "kiosk-alarm",
        ] {
            call(Command::new(&client).args(["run", report, "--detach"]))?;
        }
        // Five weeks of history to look at, mailed to nobody.
        let (from, to) = (Utc::now() - chrono::TimeDelta::days(35), Utc::now());
        let range = [
            "--from".to_owned(),
            from.to_rfc3339(),
            "--to".to_owned(),
            to.to_rfc3339(),
        ];
        call(
            Command::new(&client)
                .args(["backfill", "ferry-operations-daily"])
                .args(&range),
        )?;
        fs::write(&first, "")?;
    }
    let published = published(&state, &client)?;
    println!(
        "\nConsole    http://{address}\nSign in    admin  /  {password}\n{colleagues}Published  {published}\nCommands   {} reports\n\n\
             Look at the mailbox: the daily report on the ferries has just been sent, with PDF, HTML and CSV.\n\
             Each port office got a mail of its own; a note to the harbour masters awaits your approval.\n\
             Payments failed yesterday afternoon, the kiosks at Havnes do, and a disk is nearly full: find them.\n\
             The health of this PostgreSQL server is mailed every 15 minutes. Ctrl-C stops everything.",
        client.display()
    );
    go_on_measuring(&mut service.0, &mut operations).await
}

/// When the gates are restarted: every Sunday before the first ferry.
const WORKS: &str = "\
BEGIN:VCALENDAR
VERSION:2.0
PRODID:-//Orrin Sound Ferries//Works//EN
BEGIN:VEVENT
UID:gates@orrin-sound.example
DTSTAMP:20240101T000000Z
SUMMARY:Restart of the gates
LOCATION:Gate scanners
DTSTART;TZID=Atlantic/Faroe:20240107T033000
DURATION:PT20M
RRULE:FREQ=WEEKLY
END:VEVENT
END:VCALENDAR
";

/// Files that another department keeps: an inventory of kiosks, what a clean-up freed, and a
/// calendar of works.
fn inventory(folder: &Path) -> Result<()> {
    fs::create_dir_all(folder)?;
    let models = ["K-100", "K-100", "K-220", "K-300"];
    let kiosks = scenario::PORTS
        .iter()
        .flat_map(|(port, _)| (1..=4).map(move |n| (format!("{port}-kiosk-{n}"), n)));
    let rows: String = kiosks
        .map(|(kiosk, n)| format!("{kiosk},{},20{}-0{}-15\n", models[n - 1], 18 + n, n))
        .collect();
    fs::write(
        folder.join("kiosks.csv"),
        format!("kiosk,model,installed\n{rows}"),
    )?;
    // Yesterday one stood that has gone since, one had not come yet, and one was another model.
    let yesterday = rows
        .replace("havnes-kiosk-2,K-100,", "havnes-kiosk-2,K-080,")
        .replace("ostrey-kiosk-4,K-300,2022-04-15\n", "")
        + "tornvik-kiosk-0,K-080,2014-05-02\n";
    fs::write(
        folder.join("kiosks-yesterday.csv"),
        format!("kiosk,model,installed\n{yesterday}"),
    )?;
    let steps = [
        ("Before", 1_840_000_000_000_u64),
        ("Expired manifests", 312_000_000_000),
        ("Old camera footage", 455_500_000_000),
        ("Duplicate backups", 198_000_000_000),
        ("Temporary exports", 24_750_000_000),
    ];
    let lines: String = steps
        .iter()
        .map(|(step, bytes)| format!("{{\"step\":\"{step}\",\"bytes\":{bytes}}}\n"))
        .collect();
    fs::write(folder.join("archive-clean-up.jsonl"), lines)?;
    fs::write(folder.join("works.ics"), WORKS.replace('\n', "\r\n"))?;
    Ok(())
}

/// Stores a token that only looks as a secret, with which the service reads its own metrics.
fn keep_metrics_token(state: &Path, client: &Path) -> Result<()> {
    let kept = state.join("metrics-token-was-made");
    if kept.exists() {
        return Ok(());
    }
    let token =
        said(Command::new(client).args(["tokens", "new", "own-metrics", "--scope", "read"]))?;
    let mut set = Command::new(client)
        .args(["secret", "set", "own-metrics"])
        .stdin(Stdio::piped())
        .stdout(Stdio::null())
        .spawn()?;
    if let Some(mut input) = set.stdin.take() {
        std::io::Write::write_all(&mut input, token.trim().as_bytes())?;
    }
    if !set.wait()?.success() {
        bail!("the token for the service's own metrics could not be stored");
    }
    fs::write(kept, "")?;
    Ok(())
}

/// Those who sign in besides the administrator: an author who owns the team of the harbours, and a
/// viewer who is held to one port. Answers with their sign-ins, a line each.
fn colleagues(state: &Path, client: &Path) -> Result<String> {
    let file = state.join("colleagues");
    if let Ok(known) = fs::read_to_string(&file) {
        return Ok(known);
    }
    let title = [
        "--title",
        "Harbours",
        "--addresses",
        "*@orrin-sound.example",
    ];
    call(
        Command::new(client)
            .args(["teams", "new", "harbours"])
            .args(title),
    )?;
    let mut lines = String::new();
    for (name, role, what) in [
        ("runa.holm", "author", "owns the team Harbours"),
        ("ada.berg", "viewer", "sees only what is of Havnes"),
    ] {
        let invited = ["users", "invite", name, "--role", role, "--output", "json"];
        let invited = said(Command::new(client).args(invited))?;
        let invited: serde_json::Value = serde_json::from_str(&invited)?;
        let link = invited["link"]
            .as_str()
            .context("the invitation has no link")?;
        let password = random_word()[..16].to_owned();
        // Their sign-in is not remembered in the administrator's place.
        let own = state.join(name);
        let accepted = said(
            Command::new(client)
                .args(["accept", link])
                .env("MAPLE_LARK_PASSWORD", &password)
                .env("MAPLE_LARK_CONFIG", &own),
        );
        accepted?;
        // Given only now, so that the link was handed over and not mailed.
        let address = format!("{name}@orrin-sound.example");
        call(Command::new(client).args(["users", "email", name, &address]))?;
        lines += &format!("           {name}  /  {password}  ({role}, {what})\n");
    }
    call(Command::new(client).args(["teams", "add", "harbours", "runa.holm", "--owner"]))?;
    call(Command::new(client).args(["users", "values", "ada.berg", "port=havnes"]))?;
    write_private(&file, &lines)?;
    Ok(lines)
}

/// What anybody opens who has the address: how the ferries run, of a port to choose. Another page is
/// for those who sign in. Answers with the address.
fn published(state: &Path, client: &Path) -> Result<String> {
    let file = state.join("published");
    if let Ok(known) = fs::read_to_string(&file) {
        return Ok(known);
    }
    let own = ["publish", "dashboard", "promises", "--signed-in"];
    call(Command::new(client).args(own))?;
    // Whoever is held to a port is left that one to choose.
    let ports = ["publish", "dashboard", "ferry-operations", "--signed-in"];
    let of_ports = ["--choose", "port=havnes,skarvoy"];
    call(Command::new(client).args(ports).args(of_ports))?;
    let open = ["publish", "dashboard", "ferry-operations", "--days", "90"];
    let choose = ["--choose", "port=all,havnes,skarvoy", "--output", "json"];
    let view = said(Command::new(client).args(open).args(choose))?;
    let view: serde_json::Value = serde_json::from_str(&view)?;
    let address = view["address"].as_str().context("it has no address")?;
    write_private(&file, address)?;
    Ok(address.to_owned())
}

/// What a command prints.
fn said(command: &mut Command) -> Result<String> {
    let output = command.stdin(Stdio::null()).output();
    let output = output.context("the command line cannot be started")?;
    if !output.status.success() {
        bail!("{}", String::from_utf8_lossy(&output.stderr).trim());
    }
    Ok(String::from_utf8_lossy(&output.stdout).into_owned())
}

/// Ten days of the gates' counters, every five minutes, as the sampler "gate-scans" keeps them.
async fn history(records: &mut sqlx::PgConnection) -> Result<()> {
    let now = Utc::now().timestamp().div_euclid(300) * 300;
    let columns = serde_json::json!([{ "name": "gate", "kind": "text" }, { "name": "port", "kind": "text" }, { "name": "value", "kind": "number" }]);
    let instants: Vec<i64> = (1..=10 * 288).map(|n| now - n * 300).collect();
    for part in instants.chunks(500) {
        let bodies: Vec<serde_json::Value> = part
            .iter()
            .map(|at| {
                let rows: Vec<_> = gate_scans(*at)
                    .into_iter()
                    .map(|(gate, port, scans)| serde_json::json!([gate, port, scans]))
                    .collect();
                serde_json::json!({ "columns": columns, "rows": rows, "truncated": false })
            })
            .collect();
        let times: Vec<chrono::DateTime<Utc>> = part
            .iter()
            .filter_map(|at| chrono::DateTime::from_timestamp(*at, 0))
            .collect();
        sqlx::query("insert into samples (sampler, at, body) select 'gate-scans', * from unnest($1::timestamptz[], $2::jsonb[]) on conflict do nothing")
            .bind(times)
            .bind(bodies)
            .execute(&mut *records)
            .await?;
    }
    Ok(())
}

/// A folder that nobody else on this machine may look into.
fn private_folder(path: &Path) -> Result<()> {
    use std::os::unix::fs::PermissionsExt;
    fs::create_dir_all(path)?;
    fs::set_permissions(path, fs::Permissions::from_mode(0o700))?;
    Ok(())
}

fn configuration(address: &str, state: &Path, reach: &[String], mail: &MailServer) -> String {
    format!(
        "# Written by the demo at each start.\nlisten = \"{address}\"\ndatabase = \"file:{}\"\nfirst-administrator-password = \"file:{}\"\nsecret-key = \"file:{}\"\n\
         # The demo reports on Maple Lark itself and on the server that it keeps its records in.\nsources-may-reach = {reach:?}\n\
         deliver-into = [{:?}]\nsources-may-read = [{:?}]\nsources-may-measure = [\"/\", \"/var\", \"/tmp\", \"machine\"]\n\
         definitions-may-use = [\"env:ORRIN_*\", \"env:LARK_*\"]\n\n\
         [mail]\nhost = \"{}\"\nport = {}\ntls = \"off\"\nfrom = \"Maple Lark <reports@orrin-sound.example>\"\n\n\
         [notices]\nto = \"Operations desk <operations@orrin-sound.example>\"\ngather = \"PT15S\"\nchannels = [\"operations-log\"]\n\n\
         # Snapshots and documents lie beside the database, each under its SHA-256.\n[storage]\nfolder = \"{}\"\n\n[demo]\nmailbox = \"{}\"\n",
        state.join("database-url").display(),
        state.join("admin-password").display(),
        state.join("secret-key").display(),
        state.join("archive"),
        state.join("inventory"),
        mail.address.ip(),
        mail.address.port(),
        state.join("storage").display(),
        mail.folder.display()
    )
}

/// A script that runs the command line with the demo's own sign-in.
fn client(state: &Path, binary: &Path, address: &str) -> Result<PathBuf> {
    use std::os::unix::fs::PermissionsExt;
    let path = state.join("maple-lark");
    let text = format!(
        "#!/bin/sh\nexport XDG_CONFIG_HOME=\"${{MAPLE_LARK_CONFIG:-{}}}\" MAPLE_LARK_ADDRESS='http://{address}'\nexec '{}' \"$@\"\n",
        state.join("config").display(),
        binary.display()
    );
    fs::write(&path, text)?;
    fs::set_permissions(&path, fs::Permissions::from_mode(0o755))?;
    Ok(path)
}

fn call(command: &mut Command) -> Result<()> {
    let output = command
        .stdin(Stdio::null())
        .output()
        .context("the command line cannot be started")?;
    if !output.status.success() {
        bail!("{}", String::from_utf8_lossy(&output.stderr).trim());
    }
    Ok(())
}

async fn wait_until_ready(address: &str, service: &mut Child, state: &Path) -> Result<()> {
    use tokio::io::{AsyncReadExt, AsyncWriteExt};
    let began = Instant::now();
    while began.elapsed() < Duration::from_secs(60) {
        if let Some(status) = service.try_wait()? {
            let log = fs::read_to_string(state.join("maple-lark.log")).unwrap_or_default();
            bail!(
                "the service ended at its start ({status}): {}",
                log.lines().last().unwrap_or("its log says nothing")
            );
        }
        if let Ok(mut stream) = tokio::net::TcpStream::connect(address).await {
            stream
                .write_all(
                    format!("GET /ready HTTP/1.1\r\nHost: {address}\r\nConnection: close\r\n\r\n")
                        .as_bytes(),
                )
                .await?;
            let mut answer = String::new();
            if stream.read_to_string(&mut answer).await.is_ok()
                && answer.starts_with("HTTP/1.1 200")
            {
                return Ok(());
            }
        }
        tokio::time::sleep(Duration::from_millis(100)).await;
    }
    bail!(
        "the service does not get ready; see {}",
        state.join("maple-lark.log").display()
    )
}

/// Answers when Ctrl-C is pressed, or the process is told to end.
async fn told_to_stop() {
    let terminated = async {
        match tokio::signal::unix::signal(tokio::signal::unix::SignalKind::terminate()) {
            Ok(mut signal) => drop(signal.recv().await),
            Err(_) => std::future::pending().await,
        }
    };
    tokio::select! { _ = tokio::signal::ctrl_c() => {} () = terminated => {} }
}

/// Goes on measuring until the service ends by itself.
async fn go_on_measuring(service: &mut Child, operations: &mut sqlx::PgConnection) -> Result<()> {
    let mut seconds = tokio::time::interval(Duration::from_secs(1));
    let mut measured = Instant::now();
    loop {
        seconds.tick().await;
        if let Some(status) = service.try_wait()? {
            bail!("the service ended by itself ({status}); its log says why");
        }
        if measured.elapsed() > Duration::from_secs(60) {
            scenario::load(operations, "orrin_reader", Utc::now(), scenario::DAYS).await?;
            measured = Instant::now();
        }
    }
}

/// The running service; dropping this lets it finish what it has in hand, and ends it.
struct Service(Child);

impl Drop for Service {
    fn drop(&mut self) {
        let _ = Command::new("kill")
            .args(["-TERM", &self.0.id().to_string()])
            .status();
        let _ = self.0.wait();
    }
}

//! A database that is put back to where it was, while the service runs.

use std::{
    os::unix::fs::{MetadataExt, PermissionsExt},
    path::{Path, PathBuf},
    process::Command,
    time::Duration,
};

use maple_lark_demo::{Cluster, TestCluster};
use serde_json::Value;
use sqlx::{AssertSqlSafe, Connection, Executor, PgConnection};
use tempfile::TempDir;

use crate::place::{
    Place, applied, message_ids, operations, ran, small_dashboard, small_report_for, text, until,
    wait_for,
};

/// A server that keeps all it writes for a restore to a point in time.
struct ArchivedServer {
    state: PathBuf,
    written: PathBuf,
    copy: PathBuf,
    password: String,
    url: String,
    server: Cluster,
}

/// Runs a program of PostgreSQL's or of the system's to its end.
fn run(program: &str, arguments: &[&Path], password: &str) {
    let output = Command::new(program)
        .args(arguments)
        .env("PGPASSWORD", password)
        .output()
        .unwrap();
    assert!(
        output.status.success(),
        "{program}: {}",
        text(&output.stderr)
    );
}

/// Files of the server are its account's, if it runs under one of its own.
fn own(path: &Path) {
    if std::fs::metadata("/proc/self").unwrap().uid() == 0 {
        run(
            "chown",
            &[Path::new("-R"), Path::new("postgres:postgres"), path],
            "",
        );
    }
}

impl ArchivedServer {
    /// Starts a server again with its log archived, and takes a base backup.
    async fn new(state: &Path, cluster: &TestCluster) -> Self {
        let written = state.join("written");
        std::fs::create_dir(&written).unwrap();
        own(&written);
        let password = std::fs::read_to_string(state.join("postgresql-password")).unwrap();
        let password = password.trim().to_owned();
        let url = format!(
            "postgres://cluster_admin:{password}@{}/postgres",
            cluster.address()
        );
        let mut administrator = PgConnection::connect(&url).await.unwrap();
        for setting in [
            "archive_mode = on".to_owned(),
            format!("archive_command = 'cp %p {}/%f'", written.display()),
        ] {
            let sql = AssertSqlSafe(format!("alter system set {setting}"));
            administrator.execute(sql).await.unwrap();
        }
        let server = Cluster::start(state, true).await.unwrap();
        Self {
            state: state.to_owned(),
            written,
            copy: state.join("copy"),
            password,
            url,
            server,
        }
    }

    fn back_up(&self) {
        let options = ["-X", "none", "-c", "fast", "-d"].map(Path::new);
        let into = [Path::new(&self.url), Path::new("-D"), &self.copy];
        run(
            "pg_basebackup",
            &[&options[..], &into].concat(),
            &self.password,
        );
        own(&self.copy);
    }

    async fn administrator(&self) -> PgConnection {
        PgConnection::connect(&self.url).await.unwrap()
    }

    /// Everything goes back to the point that has this name.
    async fn restore_to(&mut self, point: &str) {
        let mut administrator = self.administrator().await;
        administrator
            .execute("select pg_switch_wal()")
            .await
            .unwrap();
        drop(administrator);
        // A server that stops in order archives what it has written first.
        self.server.stop();
        let data = self.state.join("postgresql");
        std::fs::rename(&data, self.state.join("lost")).unwrap();
        std::fs::rename(&self.copy, &data).unwrap();
        let settings = data.join("postgresql.auto.conf");
        let before = std::fs::read_to_string(&settings).unwrap();
        std::fs::write(
            &settings,
            format!(
                "{before}restore_command = 'cp {}/%f %p'\nrecovery_target_name = '{point}'\nrecovery_target_action = 'promote'\n",
                self.written.display()
            ),
        )
        .unwrap();
        std::fs::write(data.join("recovery.signal"), "").unwrap();
        own(&data);
        self.server = Cluster::start(&self.state, true).await.unwrap();
    }
}

fn report(name: &str, more: &str) -> String {
    let to = format!("{name}@orrin-sound.example");
    let report = small_report_for(&to).replace("\"small\"\ntitle", &format!("\"{name}\"\ntitle"));
    format!("{report}{more}")
}

#[tokio::test(flavor = "multi_thread")]
async fn what_may_have_been_sent_before_a_restore_is_held_until_somebody_has_looked() {
    let folder = TempDir::new().unwrap();
    std::fs::set_permissions(folder.path(), std::fs::Permissions::from_mode(0o755)).unwrap();
    let state = folder.path().join("server");
    let cluster = TestCluster::alone(&state).await.unwrap();
    let place = Place::with(folder, cluster).await;
    let mut kept = ArchivedServer::new(&state, &place.cluster).await;
    let service = place.serve();
    place.sign_in();
    applied(
        &place,
        &[
            ("source.toml", &operations()),
            ("dashboard.toml", &small_dashboard("select 1 as one")),
            ("done.toml", &report("done", "")),
            ("late.toml", &report("late", "")),
            ("asked.toml", &report("asked", "\n[approval]\n")),
            (
                "hourly.toml",
                &report(
                    "hourly",
                    "\n[schedule]\nevery = \"PT1H\"\nmissed = \"latest\"\n",
                ),
            ),
        ],
    );
    kept.back_up();

    // When the copy is made, one was sent, one waits for its mail server, and one for somebody.
    let done = ran(&place, "done");
    assert_eq!(done["state"], "delivered");
    let refused = (
        "late@orrin-sound.example".to_owned(),
        (451, "not now".to_owned()),
    );
    place
        .mail
        .behave(|now| now.refuse.extend([refused.clone()]));
    let order = |report: &str| {
        let run = place.json(&["run", report, "--detach"]);
        run["id"].as_str().unwrap().to_owned()
    };
    let (late, asked) = (order("late"), order("asked"));
    let is = |state: &'static str| move |run: &Value| run["state"] == state;
    wait_for(&place, &late, "it is tried", |run| {
        run["deliveries"][0]["attempts"]
            .as_array()
            .is_some_and(|all| !all.is_empty())
    });
    wait_for(&place, &asked, "it asks", is("awaiting-approval"));
    let mut administrator = kept.administrator().await;
    let point = "select pg_create_restore_point('before')";
    administrator.execute(point).await.unwrap();
    drop(administrator);

    // Afterwards everything is sent, and more.
    place.mail.behave(|now| now.refuse.clear());
    assert_eq!(place.settled(&late)["state"], "delivered");
    assert!(place.lark(&["release", &asked]).status.success());
    assert_eq!(place.settled(&asked)["state"], "delivered");
    let more = ran(&place, "done");
    assert_eq!(message_ids(&place).len(), 4);

    kept.restore_to("before").await;
    until("it is noticed", || {
        service.log().contains("restored from a copy").then_some(())
    });
    // An hour passed that the copy knows nothing of.
    let mut records = place.records().await;
    records
        .execute("update schedule_states set next_instant = date_trunc('hour', now())")
        .await
        .unwrap();
    let hourly = loop {
        let runs = place.json(&["runs", "--report", "hourly"]);
        if let Some(id) = runs["items"][0]["id"].as_str() {
            break id.to_owned();
        }
        tokio::time::sleep(Duration::from_millis(100)).await;
    };
    let said = "the database was restored from a copy, and this may have been sent";
    for id in [&late, &hourly] {
        let run = wait_for(&place, id, "it is held", is("held"));
        assert!(run["problem"].as_str().unwrap().starts_with(said), "{run}");
    }
    let run = place.json(&["show", &asked]);
    assert_eq!(run["state"], "awaiting-approval");
    assert!(run["problem"].as_str().unwrap().starts_with(said), "{run}");
    assert_eq!(
        place.json(&["show", done["id"].as_str().unwrap()])["state"],
        "delivered"
    );
    let gone = place.lark(&["show", more["id"].as_str().unwrap()]);
    assert!(!gone.status.success(), "the copy does not know it");
    let condition = place.json(&["condition"]);
    assert!(
        condition
            .to_string()
            .contains("may have been sent after the copy was made are held: 3"),
        "{condition:#}"
    );

    // What is new goes out as ever; what is released goes out; another process changes nothing.
    let _other = place.serve_another();
    assert_eq!(ran(&place, "done")["state"], "delivered");
    assert_eq!(message_ids(&place).len(), 5);
    assert!(place.lark(&["release", &late]).status.success());
    let released = place.settled(&late);
    assert_eq!(
        (&released["state"], &released["problem"]),
        (&"delivered".into(), &Value::Null)
    );
    assert_eq!(message_ids(&place).len(), 6);
    let found: i64 = sqlx::query_scalar("select count(*) from restores")
        .fetch_one(&mut place.records().await)
        .await
        .unwrap();
    assert_eq!(found, 1);
}

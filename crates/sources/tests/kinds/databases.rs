//! Reading from other databases, each the real one: MariaDB on loopback, SQLite in a file.

use std::{
    os::unix::process::CommandExt,
    path::Path,
    process::{Child, Command, Stdio},
    time::{Duration, Instant},
};

use maple_lark_data::{ColumnKind, Table, Value};
use maple_lark_definition::{Ask, Definition, ParameterValue, Source, Times, query_alone};
use maple_lark_fixtures::Fixture;
use maple_lark_sources::{Permissions, Question, Reader, SourceError, Values};
use maple_lark_time::Window;
use sqlx::{Connection, Executor, MySqlConnection};
use tempfile::TempDir;

fn source(fixture: &Fixture) -> Source {
    let Definition::Source(source) = Definition::parse("s.toml", fixture).unwrap() else {
        panic!()
    };
    *source
}

fn times() -> Times {
    Times {
        window: Window {
            from: "2026-10-24T23:00:00Z".parse().unwrap(),
            to: "2026-10-26T00:00:00Z".parse().unwrap(),
            zone: "Atlantic/Faroe".parse().unwrap(),
            within: None,
        },
        comparison: None,
        step: "PT6H".parse().unwrap(),
    }
}

async fn asked(source: &Source, asks: &str, values: &Values) -> Result<Table, SourceError> {
    let query = query_alone("q", &format!("[query]\nsource = \"s\"\n{asks}")).unwrap();
    let ask: &Ask = query.ask().unwrap();
    let question = Question {
        ask,
        times: &times(),
        values,
    };
    let answer = Reader::unguarded().read(source, question).await?;
    Ok(answer.table.into())
}

async fn sql(source: &Source, sql: &str) -> Result<Table, SourceError> {
    let asks = format!("sql = '''{sql}'''");
    asked(source, &asks, &Values::new()).await
}

async fn words(source: &Source, text: &str) -> String {
    sql(source, text).await.unwrap_err().to_string()
}

fn kinds(table: &Table) -> Vec<ColumnKind> {
    table.columns.iter().map(|column| column.kind).collect()
}

fn at(text: &str) -> Value {
    Value::Instant(text.parse().unwrap())
}

/// A pick of loads over the window's steps, of two hosts by a text that both have.
const OVER_TIME: &str = "[query.pick]\ntable = \"loads\"\ntime = \"at\"\nover-time = true\n\
    measure = [{ column = \"cpu\", with = \"mean\", name = \"cpu\" }, { column = \"*\" }]\n\
    filter = [{ column = \"host\", is = [\"db-1\", \"db-2\"] }, { column = \"host\", contains = \"DB\" }]\n";

/// The highest two groups, one of them chosen by a parameter.
const HIGHEST: &str = "[query.pick]\ntable = \"loads\"\ntime = \"at\"\ngroup = [\"host\"]\ntop = 2\n\
    measure = [{ column = \"cpu\", with = \"max\", name = \"cpu\" }]\n\
    filter = [{ column = \"port\", parameter = \"port\" }, { column = \"cpu\", at-least = 1, at-most = 99 }, { column = \"host\", is-not = [\"old\"] }]\n";

/// Rows of both databases: an hour each from the window's beginning, and one after its end.
fn loads() -> Vec<(String, &'static str, &'static str, f64)> {
    let hour = |n: i64| {
        let from: chrono::DateTime<chrono::Utc> = "2026-10-24T23:00:00Z".parse().unwrap();
        (from + chrono::TimeDelta::hours(n))
            .format("%Y-%m-%d %H:%M:%S")
            .to_string()
    };
    let mut rows: Vec<_> = (0..26)
        .flat_map(|n| {
            let cpu = n as f64;
            [
                (hour(n), "db-1", "havnes", cpu),
                (hour(n), "db-2", "ostrey", cpu + 10.0),
                (hour(n), "old", "havnes", 98.0),
            ]
        })
        .collect();
    rows.push((hour(0), "idle", "havnes", 0.5));
    rows
}

/// What both say to the picks above.
async fn picks_are_understood(source: &Source) {
    let table = asked(source, OVER_TIME, &Values::new()).await.unwrap();
    let rows: Vec<_> = table
        .rows
        .iter()
        .map(|row| (row[0].clone(), row[2].clone()))
        .collect();
    assert_eq!(
        rows,
        [
            // Steps follow the wall clock: the first has seven hours, for the clock goes back.
            (at("2026-10-24T23:00:00Z"), Value::Integer(14)),
            (at("2026-10-25T06:00:00Z"), Value::Integer(12)),
            (at("2026-10-25T12:00:00Z"), Value::Integer(12)),
            (at("2026-10-25T18:00:00Z"), Value::Integer(12)),
        ]
    );
    assert_eq!(table.rows[0][1].as_number(), Some(8.0));
    let of =
        |port: &str| Values::from([("port".to_owned(), ParameterValue::Text(port.to_owned()))]);
    let all = asked(source, HIGHEST, &of("all")).await.unwrap();
    let names = |table: &Table| -> Vec<(Value, Option<f64>)> {
        (table.rows.iter())
            .map(|row| (row[0].clone(), row[1].as_number()))
            .collect()
    };
    let text = |text: &str| Value::Text(text.to_owned());
    assert_eq!(
        names(&all),
        [(text("db-2"), Some(34.0)), (text("db-1"), Some(24.0))]
    );
    let one = asked(source, HIGHEST, &of("havnes")).await.unwrap();
    assert_eq!(names(&one), [(text("db-1"), Some(24.0))]);
    let high = OVER_TIME.replace("mean", "p95");
    let refused = asked(source, &high, &Values::new()).await.unwrap_err();
    assert!(
        refused.to_string().contains("only from PostgreSQL"),
        "{refused}"
    );
}

fn file_of(folder: &Path) -> Fixture {
    Fixture::new("source", "s")
        .key("kind", "sqlite")
        .key("file", folder.join("hosts.db").to_str().unwrap())
}

fn sqlite(folder: &Path) -> Source {
    let database = rusqlite::Connection::open(folder.join("hosts.db")).unwrap();
    database
        .execute_batch(
            "create table loads (at text, host text, port text, cpu real);
             create table hosts (name text, since datetime, checked date, active boolean, disks, room integer, picture blob);
             insert into hosts values ('db-1', '2026-01-05 06:30:00', '2026-01-06', 1, 4, 900719925474099, x'00ff'),
               ('db-2', 1767600000, null, 0, 2.5, null, null), ('kiosk', null, null, null, 'none', 7, null);
             create view active as select name from hosts where active",
        )
        .unwrap();
    for (at, host, port, cpu) in loads() {
        database
            .execute(
                "insert into loads values (?, ?, ?, ?)",
                (at, host, port, cpu),
            )
            .unwrap();
    }
    source(&file_of(folder))
}

#[tokio::test]
async fn an_sqlite_file_is_read_with_its_types_and_by_picking() {
    let folder = TempDir::new().unwrap();
    let source = sqlite(folder.path());
    let table = sql(&source, "select * from hosts order by name")
        .await
        .unwrap();
    assert_eq!(
        kinds(&table),
        [
            ColumnKind::Text,
            ColumnKind::Instant,
            ColumnKind::Date,
            ColumnKind::Boolean,
            // Numbers and words in one column are words.
            ColumnKind::Text,
            ColumnKind::Integer,
            ColumnKind::Text,
        ]
    );
    assert_eq!(table.rows[0][1], at("2026-01-05T06:30:00Z"));
    assert_eq!(table.rows[1][1], at("2026-01-05T08:00:00Z"));
    assert_eq!(table.rows[2][1], Value::Missing);
    assert_eq!(table.rows[0][3], Value::Boolean(true));
    assert_eq!(table.rows[0][5], Value::Integer(900_719_925_474_099));
    assert_eq!(table.rows[0][6], Value::Text("0x00ff".to_owned()));
    // What its functions for times give is read as instants, and numbers as numbers.
    let table = sql(
        &source,
        "select datetime('2026-01-05') as at, 1.5 as half, null as missing, :from as begins",
    )
    .await
    .unwrap();
    assert_eq!(
        table.rows[0],
        [
            at("2026-01-05T00:00:00Z"),
            Value::Number(1.5),
            Value::Missing,
            at("2026-10-24T23:00:00Z")
        ]
    );
    let empty = sql(&source, "select name, since from hosts where false")
        .await
        .unwrap();
    assert_eq!(empty.columns.len(), 2);
    assert_eq!(empty.rows.len(), 0);
    picks_are_understood(&source).await;
    let reader = Reader::unguarded();
    let found = reader.catalogue(&source, "disks").await.unwrap();
    assert_eq!(found.len(), 1);
    assert_eq!(
        (found[0].name.as_str(), found[0].kind.as_str()),
        ("hosts", "table")
    );
    assert_eq!(found[0].items[1].kind, "datetime");
    let greeting = reader.test(&source).await.unwrap();
    assert!(
        greeting.found.starts_with("SQLite 3.") && greeting.found.ends_with("3 tables and views")
    );
}

#[tokio::test]
async fn an_sqlite_file_is_only_read_and_nothing_else_with_it() {
    let folder = TempDir::new().unwrap();
    let source = sqlite(folder.path());
    for (statement, expected) in [
        (
            "insert into hosts (name) values ('x') returning name",
            "may only read",
        ),
        ("delete from hosts", "may only read"),
        ("attach database '/etc/passwd' as other", "may only read"),
        ("pragma journal_mode = wal", "may only read"),
        ("select load_extension('x')", "may only read"),
        ("select colour from hosts", "no such column: colour"),
        (
            "select name, name from hosts",
            "two columns are named \"name\"",
        ),
        (
            "select * from hosts where name = :port",
            ":port, which has no value",
        ),
    ] {
        let said = words(&source, statement).await;
        assert!(said.contains(expected), "{statement}: {said}");
    }
    let rows = sql(&source, "select count(*) as n from hosts")
        .await
        .unwrap();
    assert_eq!(rows.rows[0][0], Value::Integer(3));
    // A value that is not of the column's type is named.
    let database = rusqlite::Connection::open(folder.path().join("hosts.db")).unwrap();
    database
        .execute(
            "insert into hosts (name, since) values ('new', 'yesterday')",
            (),
        )
        .unwrap();
    let said = words(&source, "select since from hosts").await;
    assert!(
        said.contains("row 4, column \"since\"") && said.contains("\"yesterday\""),
        "{said}"
    );
}

#[tokio::test]
async fn an_sqlite_file_has_its_limits_and_its_place() {
    let folder = TempDir::new().unwrap();
    let source = sqlite(folder.path());
    // Rows and bytes have an end, and a statement without one is ended.
    let few = self::source(
        &file_of(folder.path())
            .key("row-limit", 2)
            .key("max-size", "1 kB")
            .key("timeout", "PT1S"),
    );
    let cut = sql(&few, "select name from hosts").await.unwrap();
    assert!(cut.truncated && cut.rows.len() == 2);
    let said = words(&few, "select printf('%.2000c', 'x') as much").await;
    assert!(said.contains("larger than"), "{said}");
    let said = words(&source, "select printf('%.17000000c', 'x') as much").await;
    assert!(
        said.contains("row 1, column \"much\"")
            && said.contains("it has 17 MB; the limit for one value is 16 MB"),
        "{said}"
    );
    let endless = "with recursive n(i) as (select 1 union all select i + 1 from n) select count(*) as n from n";
    let said = words(&few, endless).await;
    assert!(said.contains("did not answer within 1 s"), "{said}");
    // Only where sources may read, and nothing that is no database.
    let elsewhere = Reader::unguarded().with_permissions(Permissions::default());
    let said = elsewhere.test(&source).await.unwrap_err().to_string();
    assert!(said.contains("sources-may-read"), "{said}");
    std::fs::write(
        folder.path().join("hosts.db"),
        "no database, but long enough to be looked at",
    )
    .unwrap();
    let said = words(&source, "select 1 as one from hosts").await;
    assert!(said.contains("file is not a database"), "{said}");
}

/// A MariaDB server of this test.
struct Server {
    process: Child,
    port: u16,
    folder: TempDir,
}

impl Server {
    async fn start() -> Self {
        let folder = TempDir::new().unwrap();
        let data = folder.path().join("data");
        let user = as_root();
        let made = Command::new("mariadb-install-db")
            .args([
                "--no-defaults",
                "--auth-root-authentication-method=normal",
                "--skip-test-db",
            ])
            .arg(format!("--datadir={}", data.display()))
            .args(&user)
            .output()
            .expect("install Debian's packages mariadb-server-core and mariadb-client-core");
        assert!(
            made.status.success(),
            "{}",
            String::from_utf8_lossy(&made.stderr)
        );
        let port = maple_lark_demo::free_port().unwrap();
        let process = Command::new("mariadbd")
            .args([
                "--no-defaults",
                "--bind-address=127.0.0.1",
                "--skip-log-bin",
                "--innodb-flush-log-at-trx-commit=0",
                "--skip-ssl",
            ])
            .arg(format!("--port={port}"))
            .arg(format!("--datadir={}", data.display()))
            .arg(format!(
                "--socket={}",
                folder.path().join("socket").display()
            ))
            .args(&user)
            .process_group(0)
            .stdout(Stdio::null())
            .stderr(Stdio::null())
            .spawn()
            .expect("install Debian's packages mariadb-server-core and mariadb-client-core");
        let server = Self {
            process,
            port,
            folder,
        };
        let began = Instant::now();
        loop {
            match MySqlConnection::connect(&server.url()).await {
                Ok(_) => return server,
                Err(error) => assert!(began.elapsed() < Duration::from_secs(120), "{error}"),
            }
            tokio::time::sleep(Duration::from_millis(50)).await;
        }
    }

    /// For its administrator.
    fn url(&self) -> String {
        format!(
            "mysql://root@127.0.0.1:{}/mysql?ssl-mode=disabled",
            self.port
        )
    }

    fn source(&self, user: &str) -> Fixture {
        let secret = self.folder.path().join("secret");
        std::fs::write(&secret, "harbour lights").unwrap();
        maple_lark_fixtures::source("s")
            .key("kind", "mysql")
            .key("address", format!("127.0.0.1:{}", self.port))
            .key("database", "orrin")
            .key("user", user)
            .key("password", format!("file:{}", secret.display()))
    }
}

impl Drop for Server {
    fn drop(&mut self) {
        let _ = Command::new("kill")
            .arg(self.process.id().to_string())
            .status();
        let _ = self.process.wait();
    }
}

/// The server asks to be told if it runs as root.
fn as_root() -> Vec<String> {
    let root = std::fs::metadata("/proc/self")
        .is_ok_and(|data| std::os::unix::fs::MetadataExt::uid(&data) == 0);
    if root {
        vec!["--user=root".to_owned()]
    } else {
        Vec::new()
    }
}

async fn filled(server: &Server) -> MySqlConnection {
    let mut admin = MySqlConnection::connect(&server.url()).await.unwrap();
    for statement in [
        "create database orrin character set utf8mb4",
        "use orrin",
        "create table loads (at datetime, host varchar(40), port varchar(40), cpu double) comment = 'Loads by the hour'",
        "create table kinds (n int primary key, small tinyint, truth boolean, big bigint unsigned, exact decimal(30, 4), single float, at timestamp(6) null, day date, \
           clock time, year year, word enum('calm', 'storm'), note text comment 'Of the crew', raw varbinary(4), facts json)",
        "insert into kinds values (1, -5, true, 18446744073709551615, 12345678901234567890.1234, 1.5, '2026-10-25 01:30:00.25', '2026-10-25', '-26:05:00', 2026, 'storm', 'Rúna', x'00ff', '{\"a\": 1}')",
        "insert into kinds (n, truth) values (2, false)",
        "set session sql_mode = ''",
        "insert into kinds (n, day) values (3, '0000-00-00')",
        "create user reader identified by 'harbour lights'",
        "grant select on orrin.* to reader",
        "create user writer identified by 'harbour lights'",
        "grant select, insert on orrin.* to writer",
    ] {
        admin.execute(statement).await.unwrap();
    }
    for (at, host, port, cpu) in loads() {
        sqlx::query("insert into loads values (?, ?, ?, ?)")
            .bind(at)
            .bind(host)
            .bind(port)
            .bind(cpu)
            .execute(&mut admin)
            .await
            .unwrap();
    }
    admin
}

#[tokio::test]
async fn a_mariadb_server_is_read_with_its_types_and_by_picking_and_only_read() {
    let server = Server::start().await;
    let mut admin = filled(&server).await;
    let source = source(&server.source("reader"));
    types_are_kept(&source).await;
    picks_are_understood(&source).await;
    values_are_bound(&source).await;
    what_is_there_is_said(&server, &source).await;
    refusals_are_in_the_servers_words(&server, &source).await;
    what_nobody_waits_for_is_ended(&server, source, &mut admin).await;
}

async fn types_are_kept(source: &Source) {
    let table = sql(source, "select * from kinds order by n").await.unwrap();
    use ColumnKind::{Boolean, Date, Decimal, Instant as At, Integer, Number, Text};
    assert_eq!(
        kinds(&table),
        [
            Integer, Integer, Boolean, Decimal, Decimal, Number, At, Date, Text, Integer, Text,
            Text, Text, Text
        ]
    );
    let zone = "UTC".parse().unwrap();
    let exact: Vec<String> = table.rows[0]
        .iter()
        .map(|value| value.exact(zone))
        .collect();
    assert_eq!(
        exact,
        [
            "1",
            "-5",
            "true",
            "18446744073709551615",
            "12345678901234567890.1234",
            "1.5",
            "2026-10-25T01:30:00.250+00:00",
            "2026-10-25",
            "-26:05:00",
            "2026",
            "storm",
            "Rúna",
            "0x00ff",
            "{\"a\": 1}",
        ]
    );
    assert_eq!(table.rows[1][1], Value::Missing);
    assert_eq!(table.rows[2][7], Value::Missing);
}

/// Values are bound, whatever they hold, and a list is one JSON text.
async fn values_are_bound(source: &Source) {
    let values = Values::from([
        (
            "word".to_owned(),
            ParameterValue::Text("' or 1 = 1 -- ".to_owned()),
        ),
        (
            "ports".to_owned(),
            ParameterValue::List(vec!["havnes".to_owned(), "o'strey".to_owned()]),
        ),
    ]);
    let asks = "sql = \"select :word as word, json_length(:ports) as ports, count(*) as n from loads where host = :word\"";
    let table = asked(source, asks, &values).await.unwrap();
    assert_eq!(
        table.rows[0],
        [
            Value::Text("' or 1 = 1 -- ".to_owned()),
            Value::Integer(2),
            Value::Integer(0)
        ]
    );
}

async fn what_is_there_is_said(server: &Server, source: &Source) {
    let reader = Reader::unguarded();
    let greeting = reader.test(source).await.unwrap();
    assert!(
        greeting.found.starts_with("MariaDB 1") && greeting.found.contains("reader@"),
        "{}",
        greeting.found
    );
    assert_eq!(greeting.warning, None);
    let writer = self::source(&server.source("writer"));
    assert!(
        reader
            .test(&writer)
            .await
            .unwrap()
            .warning
            .unwrap()
            .contains("may write")
    );
    let said = words(
        &writer,
        "insert into loads (host) values ('x') returning host",
    )
    .await;
    assert!(said.contains("READ ONLY"), "{said}");
    let found = reader.catalogue(source, "crew").await.unwrap();
    assert_eq!(found.len(), 1);
    let note = found[0]
        .items
        .iter()
        .find(|item| item.name == "note")
        .unwrap();
    assert_eq!(
        (note.kind.as_str(), note.description.as_str()),
        ("text", "Of the crew")
    );
}

async fn refusals_are_in_the_servers_words(server: &Server, source: &Source) {
    for (statement, expected) in [
        ("select colour from loads", "Unknown column"),
        (
            "select host, host from loads",
            "two columns are named \"host\"",
        ),
    ] {
        let said = words(source, statement).await;
        assert!(said.contains(expected), "{statement}: {said}");
    }
    let wrong = self::source(&server.source("nobody"));
    assert!(
        words(&wrong, "select 1 as one")
            .await
            .contains("refused the sign-in")
    );
}

/// What takes too long is ended by the server, and what nobody waits for is ended, too.
async fn what_nobody_waits_for_is_ended(
    server: &Server,
    source: Source,
    admin: &mut MySqlConnection,
) {
    let slow = self::source(&server.source("reader").key("timeout", "PT1S"));
    let said = words(
        &slow,
        "select count(*) as n from loads a, loads b, loads c, loads d, loads e",
    )
    .await;
    assert!(said.contains("did not answer within 1 s"), "{said}");
    let waiting = tokio::spawn(async move { sql(&source, "select sleep(500) as nap").await });
    let running =
        "select count(*) from information_schema.processlist where info like 'select sleep(500)%'";
    let count = async |admin: &mut MySqlConnection, wanted: i64| {
        let began = Instant::now();
        loop {
            let found: i64 = sqlx::query_scalar(running)
                .fetch_one(&mut *admin)
                .await
                .unwrap();
            if found == wanted {
                return;
            }
            assert!(began.elapsed() < Duration::from_secs(60), "{found} run");
            tokio::time::sleep(Duration::from_millis(20)).await;
        }
    };
    count(admin, 1).await;
    waiting.abort();
    count(admin, 0).await;
}

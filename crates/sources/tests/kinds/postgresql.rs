//! Reading from a real PostgreSQL server: types, limits, parameters, refusals.

use std::{collections::BTreeMap, os::unix::fs::PermissionsExt, path::Path};

use maple_lark_data::{ColumnKind, Table, Value};
use maple_lark_definition::{Ask, Definition, ParameterValue, Source, SourceKind, Sql, Times, Tls};
use maple_lark_demo::{Cluster, TestCluster};
use maple_lark_sources::{Answer, Question, Reader, SourceError, Values};
use maple_lark_time::{Window, window::Within};
use sqlx::{AssertSqlSafe, Executor};
use tempfile::TempDir;

struct Place {
    source: Source,
    cluster: TestCluster,
    _folder: TempDir,
}

/// A source that reads a database as `reader`, whose password is in a file of the folder.
fn source(address: &str, database: &str, password: &str, folder: &Path, extra: &str) -> Source {
    let secret = folder.join("secret");
    std::fs::write(&secret, password).unwrap();
    let text = format!(
        "[source]\nname = \"s\"\nkind = \"postgresql\"\naddress = \"{address}\"\ndatabase = \"{database}\"\nuser = \"reader\"\npassword = \"file:{}\"\ntls = \"off\"\n{extra}\n",
        secret.display()
    );
    let Definition::Source(source) = Definition::parse("s.toml", &text).unwrap() else {
        panic!()
    };
    *source
}

impl Place {
    async fn new(extra: &str) -> Self {
        let folder = TempDir::new().unwrap();
        let cluster = TestCluster::new().await.unwrap();
        cluster.database("asked", "owner").await.unwrap();
        let password = cluster.role("reader").await.unwrap();
        Self {
            source: source(
                &cluster.address(),
                &cluster.name("asked"),
                &password,
                folder.path(),
                extra,
            ),
            cluster,
            _folder: folder,
        }
    }

    async fn ask_with(&self, sql: &str, values: &Values) -> Result<Table, String> {
        let answer = self.answer(sql, values).await;
        answer
            .map(|answer| answer.table.into())
            .map_err(|error| error.to_string())
    }

    async fn ask_noted(&self, sql: &str) -> (Table, Option<String>) {
        let answer = self.answer(sql, &Values::new()).await.unwrap();
        (answer.table.into(), answer.note)
    }

    async fn answer(&self, sql: &str, values: &Values) -> Result<Answer, SourceError> {
        self.answer_to(&Reader::unguarded(), sql, values).await
    }

    async fn answer_to(
        &self,
        reader: &Reader,
        sql: &str,
        values: &Values,
    ) -> Result<Answer, SourceError> {
        let window = Window {
            from: "2026-10-24T23:00:00Z".parse().unwrap(),
            to: "2026-10-26T00:00:00Z".parse().unwrap(),
            zone: "Atlantic/Faroe".parse().unwrap(),
            within: Within::new(
                vec![
                    "08:00-12:00".parse().unwrap(),
                    "13:00-17:00".parse().unwrap(),
                ],
                Vec::new(),
            )
            .unwrap(),
        };
        let times = Times {
            window,
            comparison: None,
            step: "PT6H".parse().unwrap(),
        };
        let ask = Ask::Sql(Sql::written_by_hand(sql).unwrap());
        reader
            .read(
                &self.source,
                Question {
                    ask: &ask,
                    times: &times,
                    values,
                },
            )
            .await
    }

    async fn ask(&self, sql: &str) -> Result<Table, String> {
        self.ask_with(sql, &Values::new()).await
    }
}

/// The bounds of steps make buckets that follow the wall clock over the change of the hour.
#[tokio::test]
async fn steps_and_parts_of_the_window_can_be_asked_with() {
    let place = Place::new("").await;
    let table = place
        .ask(
            "select (:steps)[width_bucket(at, :steps)] as step, count(*) as samples from generate_series(:from, :to - interval '1 hour', interval '1 hour') as at \
             group by 1 order by 1",
        )
        .await
        .unwrap();
    // The first six hours of the day on which the clock goes back are seven.
    assert_eq!(
        table
            .rows
            .iter()
            .map(|row| row[1].clone())
            .collect::<Vec<_>>(),
        [7, 6, 6, 6].map(Value::Integer)
    );
    let table = place
        .ask(
            "select count(*) as office_hours from generate_series(:from, :to - interval '1 hour', interval '1 hour') as at \
             where exists (select from unnest(:parts_from, :parts_to) as part(starts, ends) where at >= starts and at < ends)",
        )
        .await
        .unwrap();
    assert_eq!(table.rows[0][0], Value::Integer(8));
    let error = place
        .ask("select 1 as x where :compare_from < now()")
        .await
        .unwrap_err();
    assert!(error.contains("compare_from"), "{error}");
}

#[tokio::test]
async fn types_are_kept_and_what_has_none_of_ours_is_read_as_text() {
    let place = Place::new("").await;
    let table = place
        .ask(
            "select true as b, 7::int2 as small, 8::int8 as big, 0.1::float8 as f, 1234567890.123456789::numeric as exact, 'x'::varchar as v, null::text as missing, \
             timestamptz '2026-10-25 00:30:00+00' as at, date '2028-02-29' as d, interval '1 day 2 hours' as i, array[1,2] as a, '{\"k\": 1}'::jsonb as j, '10.0.0.1'::inet as n, :from as \"from\"",
        )
        .await
        .unwrap();
    let row = &table.rows[0];
    assert_eq!(row[0], Value::Boolean(true));
    assert_eq!((&row[1], &row[2]), (&Value::Integer(7), &Value::Integer(8)));
    assert_eq!(row[3], Value::Number(0.1));
    assert_eq!(
        row[4],
        Value::Decimal("1234567890.123456789".parse().unwrap())
    );
    assert_eq!(
        (&row[5], &row[6]),
        (&Value::Text("x".into()), &Value::Missing)
    );
    assert_eq!(
        row[7],
        Value::Instant("2026-10-25T00:30:00Z".parse().unwrap())
    );
    assert_eq!(row[8], Value::Date("2028-02-29".parse().unwrap()));
    let texts: Vec<&Value> = row[9..13].iter().collect();
    assert_eq!(
        texts,
        ["1 day 02:00:00", "{1,2}", "{\"k\": 1}", "10.0.0.1/32"]
            .map(|text| Value::Text(text.into()))
            .iter()
            .collect::<Vec<_>>()
    );
    assert_eq!(
        row[13],
        Value::Instant("2026-10-24T23:00:00Z".parse().unwrap())
    );
}

/// The driver's own reading of such values panics.
#[tokio::test]
async fn instants_that_no_calendar_of_ours_has_are_missing_and_told() {
    let place = Place::new("").await;
    let sql = "select * from (values \
        (timestamptz 'infinity', timestamp '-infinity', date 'infinity'), \
        (timestamptz '0044-03-15 12:00:00 BC', timestamp '4713-01-01 BC', date '0001-01-01 BC'), \
        (timestamptz '200000-01-01', timestamp '10000-01-01', date '5000000-01-01'), \
        (timestamptz '0001-01-02 00:00:00+00', timestamp '9999-12-31 23:59:59', date '9999-12-31'), \
        (null, null, null)) as given (a, b, c)";
    let (table, note) = place.ask_noted(sql).await;
    for row in [0, 1, 2, 4] {
        assert_eq!(table.rows[row], vec![Value::Missing; 3], "row {row}");
    }
    assert_eq!(
        table.rows[3],
        [
            Value::Instant("0001-01-02T00:00:00Z".parse().unwrap()),
            Value::Instant("9999-12-31T23:59:59Z".parse().unwrap()),
            Value::Date("9999-12-31".parse().unwrap())
        ]
    );
    assert_eq!(
        note.as_deref(),
        Some("9 values are infinite or outside of the years 1 to 9999, and shown as missing")
    );
}

#[tokio::test]
async fn an_empty_answer_still_has_its_columns() {
    let table = Place::new("")
        .await
        .ask("select 1 as n, 'x'::text as t where false")
        .await
        .unwrap();
    assert_eq!(
        table
            .columns
            .iter()
            .map(|column| (column.name.as_str(), column.kind))
            .collect::<Vec<_>>(),
        [("n", ColumnKind::Integer), ("t", ColumnKind::Text)]
    );
    assert!(table.rows.is_empty() && !table.truncated);
}

#[tokio::test]
async fn rows_past_the_limit_are_cut_off_and_said_to_be() {
    let place = Place::new("row-limit = 10").await;
    let table = place
        .ask("select generate_series(1, 1000000) as n")
        .await
        .unwrap();
    assert_eq!((table.rows.len(), table.truncated), (10, true));
    let exactly = place
        .ask("select generate_series(1, 10) as n")
        .await
        .unwrap();
    assert_eq!((exactly.rows.len(), exactly.truncated), (10, false));
}

#[tokio::test]
async fn an_answer_that_is_larger_than_its_source_allows_is_given_up() {
    let place = Place::new("max-size = \"1 MB\"").await;
    let error = place.ask("select repeat('x', 17000000) as much").await;
    assert!(
        error
            .unwrap_err()
            .contains("it has 17 MB; the limit for one value is 16 MB")
    );
    let said = place
        .ask("select repeat('x', 100000) as wide from generate_series(1, 1000000)")
        .await
        .unwrap_err();
    assert!(
        said.contains(
            "the answer is larger than 1 MB; ask for less, or raise the source's max-size"
        ),
        "{said}"
    );
    let fits = place
        .ask("select repeat('x', 100000) as wide from generate_series(1, 9)")
        .await
        .unwrap();
    assert_eq!(fits.rows.len(), 9);
}

#[tokio::test]
async fn values_are_bound_and_never_part_of_the_text() {
    let place = Place::new("").await;
    let value = |value: ParameterValue| BTreeMap::from([("p".to_owned(), value)]);
    let evil = "x'; drop table pg_class; --";
    let table = place
        .ask_with(
            "select :p as p, length(:p) as n",
            &value(ParameterValue::Text(evil.into())),
        )
        .await
        .unwrap();
    assert_eq!(
        table.rows[0],
        [Value::Text(evil.into()), Value::Integer(evil.len() as i64)]
    );
    let table = place
        .ask_with(
            "select n from generate_series(1, 5) as n where n::text = any(:p) order by n",
            &value(ParameterValue::List(vec!["2".into(), "4".into()])),
        )
        .await
        .unwrap();
    assert_eq!(table.rows, [[Value::Integer(2)], [Value::Integer(4)]]);
    let table = place
        .ask_with(
            "select generate_series(1, 5) as n limit :p",
            &value(ParameterValue::Number(3.0)),
        )
        .await
        .unwrap();
    assert_eq!(table.rows.len(), 3);
    let missing = place.ask("select :p as p").await.unwrap_err();
    assert_eq!(
        missing,
        "source \"s\": the query asks for :p, which has no value"
    );
}

#[tokio::test]
async fn refusals_name_the_source_the_words_and_the_place() {
    let place = Place::new("timeout = \"PT1S\"").await;
    let cases = [
        (
            "select colour from pg_class",
            "source \"s\" refused the query: column \"colour\" does not exist (at character 8 of the query)",
        ),
        ("select 1 as a, 2 as a", "two columns are named \"a\""),
        ("set work_mem = '1MB'", "it returns no columns"),
        ("select 1/0 as n", "division by zero"),
        (
            "select pg_sleep(30)::text as nap",
            "did not answer within 1 s",
        ),
        (
            "with made as (insert into kept values (1) returning n) select * from made",
            "in a read-only transaction",
        ),
    ];
    // Even an account that may write cannot write through us.
    let mut admin = place.cluster.connect("asked").await.unwrap();
    admin
        .execute("create table kept (n int); grant all on kept to reader")
        .await
        .unwrap();
    for (sql, expected) in cases {
        let said = place.ask(sql).await.unwrap_err();
        assert!(said.contains(expected), "{sql}: {said}");
    }
    let greeting = Reader::unguarded().test(&place.source).await.unwrap();
    assert!(
        greeting.found.ends_with("signed in as reader")
            && greeting.warning.unwrap().contains("reader may write")
    );
    admin
        .execute(AssertSqlSafe("revoke all on kept from reader"))
        .await
        .unwrap();
    assert_eq!(
        Reader::unguarded()
            .test(&place.source)
            .await
            .unwrap()
            .warning,
        None
    );
}

/// Signing in costs more than most queries do, so a connection waits for the next query; nothing of the one before
/// is left in it.
#[tokio::test]
async fn the_next_query_has_a_connection_that_is_as_new() {
    let place = Place::new("").await;
    let reader = Reader::unguarded();
    let ask = async |sql: &str| {
        let answer = place.answer_to(&reader, sql, &Values::new()).await;
        answer.map(|answer| Table::from(answer.table).rows.remove(0))
    };
    let who = "select pg_backend_pid() as id, coalesce(current_setting('own.mark', true), '') as mark, \
               (select count(*) from pg_locks where locktype = 'advisory' and pid = pg_backend_pid()) as locks, \
               current_setting('transaction_read_only') as read_only, current_setting('statement_timeout') as patience";
    let first = ask(
        "select pg_backend_pid() as id, set_config('own.mark', 'x', false) as mark, \
                     set_config('statement_timeout', '0', false) as patience, pg_advisory_lock(7)::text as lock",
    );
    let first = first.await.unwrap();
    let next = ask(who).await.unwrap();
    assert_eq!(next[0], first[0], "the same connection");
    let text = |text: &str| Value::Text(text.to_owned());
    assert_eq!(
        next[1..],
        [text(""), Value::Integer(0), text("on"), text("30s")]
    );

    // One in which something failed is not used again.
    ask("select 1 / 0 as one").await.unwrap_err();
    let another = ask(who).await.unwrap();
    assert_ne!(another[0], first[0]);
    // One that its server has ended is not noticed.
    let mut records = place.cluster.connect("asked").await.unwrap();
    let Value::Integer(id) = another[0] else {
        panic!("{another:?}")
    };
    let end = format!("select pg_terminate_backend({id}, 30000)");
    records.execute(AssertSqlSafe(end)).await.unwrap();
    assert_ne!(ask(who).await.unwrap()[0], another[0]);
    // A table that changed in between is read as it is.
    records.execute("create table lately (a int); insert into lately values (1); grant select on lately to public").await.unwrap();
    let all = "select * from lately";
    assert_eq!(ask(all).await.unwrap(), [Value::Integer(1)]);
    records
        .execute("alter table lately alter a type text")
        .await
        .unwrap();
    assert_eq!(ask(all).await.unwrap(), [text("1")]);
    // Another reader has none of this one's.
    let apart = place
        .answer_to(&Reader::unguarded(), who, &Values::new())
        .await
        .unwrap();
    assert_ne!(
        Table::from(apart.table).rows[0][0],
        ask(who).await.unwrap()[0]
    );
}

/// No more wait than the source lets ask at a time, and none for long.
#[tokio::test]
async fn connections_that_wait_are_few_and_closed_when_nobody_comes() {
    let place = Place::new("max-concurrency = 2").await;
    let reader = Reader::unguarded();
    let mut records = place.cluster.connect("asked").await.unwrap();
    for statement in [
        "create table held (n int); grant select on held to public",
        "begin; lock table held",
    ] {
        records.execute(statement).await.unwrap();
    }
    let mut watcher = place.cluster.connect("asked").await.unwrap();
    let mut waiting = async |wanted: i64, what: &str| {
        let count = format!(
            "select count(*) from pg_stat_activity where datname = current_database() and pid <> pg_backend_pid() and {what}"
        );
        let began = std::time::Instant::now();
        loop {
            let count: i64 = sqlx::query_scalar(AssertSqlSafe(count.clone()))
                .fetch_one(&mut watcher)
                .await
                .unwrap();
            if count == wanted {
                return;
            }
            assert!(began.elapsed().as_secs() < 60, "{count} where {what}");
            tokio::time::sleep(std::time::Duration::from_millis(20)).await;
        }
    };
    let none = Values::new();
    let ask = || place.answer_to(&reader, "select n from held", &none);
    let asked = async { tokio::join!(ask(), ask(), ask()) };
    let let_go = async {
        waiting(3, "wait_event_type = 'Lock'").await;
        records.execute("commit").await.unwrap();
    };
    let ((one, two, three), ()) = tokio::join!(asked, let_go);
    for answer in [one, two, three] {
        answer.unwrap();
    }
    let theirs = "usename = 'reader'";
    waiting(2, theirs).await;
    waiting(0, theirs).await;
}

/// A server with a certificate of its own authority: it is trusted by its file alone.
#[tokio::test]
async fn an_encrypted_connection_trusts_the_named_authority_and_no_other() {
    let folder = TempDir::new().unwrap();
    // PostgreSQL's own account has to get through.
    std::fs::set_permissions(folder.path(), std::fs::Permissions::from_mode(0o755)).unwrap();
    let state = folder.path().join("state");
    let cluster = Cluster::start(&state, false).await.unwrap();
    let password = cluster.role("reader").await.unwrap();
    let plain = source(&cluster.address(), "postgres", &password, folder.path(), "");
    let mut admin = cluster.connect("postgres").await.unwrap();
    let command = "openssl req -x509 -newkey rsa:2048 -nodes -days 5 -subj /CN=orrin-sound -addext subjectAltName=IP:127.0.0.1 \
                   -addext basicConstraints=critical,CA:FALSE -keyout server.key -out server.crt 2>/dev/null && chmod 600 server.key";
    admin
        .execute(AssertSqlSafe(format!(
            "copy (select 1) to program '{command}'"
        )))
        .await
        .unwrap();
    admin.execute("alter system set ssl = on").await.unwrap();
    admin.execute("select pg_reload_conf()").await.unwrap();
    let authority = state.join("postgresql/server.crt");
    let with = |tls: &str| {
        let mut source = plain.clone();
        let SourceKind::Postgresql(settings) = &mut source.kind else {
            panic!()
        };
        settings.tls = if tls == "verify-full" {
            Tls::VerifyFull
        } else {
            Tls::Require
        };
        settings.ca_file = (tls == "verify-full").then(|| authority.display().to_string());
        source
    };
    // The server takes a moment to read its configuration anew.
    let mut answer = Reader::unguarded().test(&with("verify-full")).await;
    for _ in 0..100 {
        if answer.is_ok() {
            break;
        }
        tokio::time::sleep(std::time::Duration::from_millis(50)).await;
        answer = Reader::unguarded().test(&with("verify-full")).await;
    }
    assert!(answer.unwrap().found.contains("signed in as reader"));
    let mut another = with("verify-full");
    let SourceKind::Postgresql(settings) = &mut another.kind else {
        panic!()
    };
    settings.ca_file = None;
    let said = Reader::unguarded()
        .test(&another)
        .await
        .unwrap_err()
        .to_string();
    assert!(
        said.contains("cannot be reached") && said.contains("certificate"),
        "{said}"
    );
    assert!(Reader::unguarded().test(&with("require")).await.is_ok());
}

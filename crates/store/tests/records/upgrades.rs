//! A populated database of every earlier schema is brought up to date without losing anything.
//!
//! `schema/NNNN.sql` puts rows into what step NNNN of the schema adds, as a place had them that ran then.

use std::{
    collections::{BTreeMap, BTreeSet},
    path::Path,
};

use maple_lark_api::{ChannelType, Words};
use maple_lark_store::Migrator;
use sea_orm::Database;
use sea_orm_migration::MigratorTrait;
use sqlx::{AssertSqlSafe, Executor, PgConnection};

use super::*;

/// Tables that follow from others, or of the upgrade itself: they may change.
const DERIVED: [&str; 6] = [
    "seaql_migrations",
    "run_counts",
    "run_hours",
    "delivery_counts",
    "definition_versions",
    "definitions_version",
];
/// A column that a later step writes anew: it had the day behind the kind.
const REWRITTEN: [(&str, &str); 1] = [("notices", "kind")];

/// What a table holds: how many rows, and a digest of their cells in these columns.
#[derive(Debug, PartialEq)]
struct Holds {
    columns: Vec<String>,
    rows: i64,
    digest: Option<String>,
}

async fn columns(records: &mut PgConnection) -> BTreeMap<String, Vec<String>> {
    let all: Vec<(String, String)> = sqlx::query_as(
        "select c.table_name::text, c.column_name::text from information_schema.columns c \
         join information_schema.tables t using (table_schema, table_name) \
         where c.table_schema = 'public' and t.table_type = 'BASE TABLE' order by c.table_name, c.ordinal_position",
    )
    .fetch_all(records)
    .await
    .unwrap();
    let mut tables = BTreeMap::<String, Vec<String>>::new();
    for (table, column) in all {
        let rewritten = REWRITTEN.contains(&(table.as_str(), column.as_str()));
        if !DERIVED.contains(&table.as_str()) && !rewritten {
            tables.entry(table).or_default().push(column);
        }
    }
    tables
}

/// What is in the named columns of each table.
async fn holds(
    records: &mut PgConnection,
    tables: &BTreeMap<String, Vec<String>>,
) -> BTreeMap<String, Holds> {
    let mut all = BTreeMap::new();
    for (table, columns) in tables {
        let cells: Vec<String> = columns
            .iter()
            .map(|column| format!("\"{column}\""))
            .collect();
        let sql = format!(
            "select count(*), md5(string_agg(cells, ',' order by cells)) from (select md5(row({})::text) as cells from {table}) one",
            cells.join(", ")
        );
        let (rows, digest) = sqlx::query_as(AssertSqlSafe(sql))
            .fetch_one(&mut *records)
            .await
            .unwrap_or_else(|error| panic!("{table} is no longer what it was: {error}"));
        let columns = columns.clone();
        all.insert(
            table.clone(),
            Holds {
                columns,
                rows,
                digest,
            },
        );
    }
    all
}

fn rows_of(step: usize) -> Option<String> {
    let folder = Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/records/schema");
    std::fs::read_to_string(folder.join(format!("{step:04}.sql"))).ok()
}

/// A database as it was at a step, with the rows of all steps up to it.
async fn populated(cluster: &TestCluster, step: usize) -> (String, PgConnection) {
    let name = format!("schema_{step:04}");
    let secret = cluster.database(&name, "maple_lark").await.unwrap();
    let url = cluster.url_for("maple_lark", &secret, &name);
    let mut records = cluster.connect(&name).await.unwrap();
    let db = Database::connect(&url).await.unwrap();
    for one in 1..=step {
        Migrator::up(&db, Some(1)).await.unwrap();
        if let Some(sql) = rows_of(one) {
            let filled = records.execute(AssertSqlSafe(sql)).await;
            filled.unwrap_or_else(|error| panic!("the rows of step {one}: {error}"));
        }
    }
    db.close().await.unwrap();
    (url, records)
}

/// The hours have as many runs as there are.
async fn hours_are_of_runs(records: &mut PgConnection) {
    let wrong: i64 = sqlx::query_scalar(
        "with there as (select date_trunc('hour', scheduled_for, 'UTC'), report, state, team, count(*) from runs group by 1, 2, 3, 4), \
           kept as (select hour, report, state, team, sum(count)::bigint from run_hours group by 1, 2, 3, 4 having sum(count) <> 0) \
         select count(*) from ((table there except table kept) union all (table kept except table there)) wrong",
    )
    .fetch_one(records)
    .await
    .unwrap();
    assert_eq!(wrong, 0);
}

#[tokio::test]
async fn every_earlier_schema_is_brought_up_to_date_with_all_that_it_holds() {
    let cluster = TestCluster::new().await.unwrap();
    let newest = Migrator::migrations().len();
    for step in 1..=newest {
        let (url, mut records) = populated(&cluster, step).await;
        let tables = columns(&mut records).await;
        let before = holds(&mut records, &tables).await;
        // Each table has rows from the step on that makes it, so that a later step meets some.
        for (table, holds) in &before {
            let made_of_nothing = ["body_parts"];
            assert!(
                holds.rows > 0 || made_of_nothing.contains(&table.as_str()),
                "schema/{step:04}.sql must have rows for {table}"
            );
        }
        let store = Store::open(&url, 2).await.unwrap();
        assert!(store.ready().await.unwrap());
        let mut after = holds(&mut records, &tables).await;
        for (table, before) in &before {
            // Rows may come to a table, as the first version of each definition did; none may go or change.
            let after = after.remove(table).unwrap();
            assert_eq!(&after, before, "{table}, from schema {step}");
        }
        // And it is read as any other.
        let run = Uuid::parse_str("01890000-0000-7000-8000-000000000101").unwrap();
        let run = store.run(run).await.unwrap().unwrap();
        assert_eq!(run.report, "ferry-daily");
        if (5..31).contains(&step) {
            assert_eq!(
                run.status.as_deref(),
                Some("critical"),
                "from schema {step}"
            );
        }
        if step < 15 {
            let version = store.version("report", "ferry-daily", 1).await.unwrap();
            assert!(version.is_some(), "its first version, from schema {step}");
        }
        let kinds: Vec<String> = sqlx::query_scalar("select kind from notices")
            .fetch_all(&mut records)
            .await
            .unwrap();
        assert!(kinds.iter().all(|kind| kind == "failed"), "{kinds:?}");
        hours_are_of_runs(&mut records).await;
        assert!(store.verify_audit().await.unwrap().broken.is_empty());
    }
}

/// While a new version takes over, processes of the version before go on: what they write has none of the new
/// columns, and is taken all the same.
#[tokio::test]
async fn what_earlier_versions_write_is_taken_by_the_newest_schema() {
    let cluster = TestCluster::new().await.unwrap();
    let secret = cluster.database("newest", "maple_lark").await.unwrap();
    let url = cluster.url_for("maple_lark", &secret, "newest");
    let store = Store::open(&url, 2).await.unwrap();
    let mut records = cluster.connect("newest").await.unwrap();
    for step in 1..=Migrator::migrations().len() {
        let Some(sql) = rows_of(step) else {
            continue;
        };
        // Since step 9 the day stands in a column of its own.
        let sql = sql.replace("'failed 2026-01-06'", "'failed'");
        let written = records.execute(AssertSqlSafe(sql)).await;
        written.unwrap_or_else(|error| panic!("as schema {step} has it: {error}"));
    }
    let run = Uuid::parse_str("01890000-0000-7000-8000-000000000102").unwrap();
    assert_eq!(store.run(run).await.unwrap().unwrap().report, "ferry-daily");
    hours_are_of_runs(&mut records).await;
    assert!(store.verify_audit().await.unwrap().broken.is_empty());
}

/// Waits until the records answer a question with yes.
async fn until(records: &mut PgConnection, question: &'static str) {
    while !sqlx::query_scalar::<_, bool>(question)
        .fetch_one(&mut *records)
        .await
        .unwrap()
    {
        tokio::time::sleep(std::time::Duration::from_millis(5)).await;
    }
}

/// A process of the version before has read a run, and changes it while the runs are counted: it waits for the
/// upgrade, and the upgrade does not wait for it.
#[tokio::test]
async fn work_that_is_under_way_and_an_upgrade_do_not_stop_one_another() {
    let cluster = TestCluster::new().await.unwrap();
    let (url, mut watching) = populated(&cluster, 43).await;
    let mut working = cluster.connect("schema_0043").await.unwrap();
    working
        .execute("begin; select from runs for share")
        .await
        .unwrap();
    let upgrade = tokio::spawn(async move {
        let db = Database::connect(&url).await.unwrap();
        Migrator::up(&db, None).await
    });
    let locked = "select exists (select from pg_locks where relation = 'runs'::regclass and mode = 'ShareRowExclusiveLock' and granted) \
                  or to_regclass('run_hours') is not null";
    until(&mut watching, locked).await;
    working
        .execute("update runs set state = 'held' where state = 'failed'; commit")
        .await
        .unwrap();
    upgrade.await.unwrap().unwrap();
    hours_are_of_runs(&mut watching).await;
}

/// A process of the version before has read deliveries and goes on to a run, as an upgrade has the runs and goes on to
/// the deliveries: each would wait for the other.
#[tokio::test]
async fn an_upgrade_gives_way_to_work_that_it_would_wait_for_in_a_circle() {
    let cluster = TestCluster::new().await.unwrap();
    let (url, mut watching) = populated(&cluster, 41).await;
    let mut working = cluster.connect("schema_0041").await.unwrap();
    working
        .execute("begin; select from deliveries for share")
        .await
        .unwrap();
    let refused = Store::open(&url, 2).await.err().unwrap();
    assert!(refused.may_pass(), "{refused}");
    assert!(
        refused.to_string().contains("pg_stat_activity"),
        "{refused}"
    );
    let upgrade = tokio::spawn(async move {
        loop {
            match Store::open(&url, 2).await {
                Err(error) if error.may_pass() => {}
                opened => return opened.map(drop),
            }
        }
    });
    let has_the_runs = "select exists (select from pg_locks where relation = 'runs'::regclass \
                        and mode = 'AccessExclusiveLock' and granted)";
    until(&mut watching, has_the_runs).await;
    working
        .execute("update runs set state = 'held' where state = 'failed'; commit")
        .await
        .unwrap();
    upgrade.await.unwrap().unwrap();
    hours_are_of_runs(&mut watching).await;
}

/// What each column may hold that may hold some words only: the constraint's table, its name and what it says.
async fn word_lists(records: &mut PgConnection) -> Vec<(String, String, String)> {
    sqlx::query_as(
        "select conrelid::regclass::text, conname::text, \
                regexp_replace(pg_get_constraintdef(oid), ' NOT VALID$', '') \
         from pg_constraint \
         where contype = 'c' and conrelid <> 0 and pg_get_constraintdef(oid) like '% = ANY (%' and conislocal \
         order by 1, 2",
    )
    .fetch_all(records)
    .await
    .unwrap()
}

/// A list of words that a column may hold is as long as it was when its table was made; what came to it since is
/// taken by a place that was there before, too.
#[tokio::test]
async fn what_a_column_may_hold_grows_with_the_words() {
    let cluster = TestCluster::new().await.unwrap();
    let newest = Migrator::migrations().len();
    let (url, mut records) = populated(&cluster, newest).await;
    drop(Store::open(&url, 2).await.unwrap());
    let before = word_lists(&mut records).await;
    assert_eq!(before.len(), 14, "{before:#?}");
    for (table, name, says) in &before {
        let first = says.find('\'').unwrap();
        let word = says[first..].split(':').next().unwrap();
        let column = &name[table.len() + 1..name.len() - "_check".len()];
        let narrow = format!(
            "alter table {table} drop constraint {name}, \
             add constraint {name} check ({column} = any (array[{word}])) not valid"
        );
        records.execute(AssertSqlSafe(narrow)).await.unwrap();
    }
    drop(Store::open(&url, 2).await.unwrap());
    let words = |says: &str| {
        let parts = says.split('\'').skip(1).step_by(2);
        parts.map(str::to_owned).collect::<BTreeSet<_>>()
    };
    for (before, after) in before.iter().zip(word_lists(&mut records).await) {
        assert_eq!((&after.0, &after.1), (&before.0, &before.1));
        assert_eq!(words(&after.2), words(&before.2), "{} {}", after.0, after.1);
    }
    for channel in ChannelType::ALL {
        let taken = sqlx::query("update deliveries set channel = $1")
            .bind(channel.word())
            .execute(&mut records)
            .await;
        assert!(taken.unwrap().rows_affected() > 0, "{channel}");
    }
    let other = "update deliveries set channel = 'pigeon'";
    assert!(records.execute(other).await.is_err());
}

/// A newer version may have let a column hold a word that this one does not know.
#[tokio::test]
async fn a_word_that_this_version_does_not_know_stays_allowed() {
    let cluster = TestCluster::new().await.unwrap();
    let newest = Migrator::migrations().len();
    let (url, mut records) = populated(&cluster, newest).await;
    let other = "alter table deliveries drop constraint deliveries_channel_check; \
                 alter table deliveries add constraint deliveries_channel_check check (channel in ('mail', 'pigeon')) not valid";
    records.execute(other).await.unwrap();
    drop(Store::open(&url, 2).await.unwrap());
    for word in ["pigeon", "snmp"] {
        let taken = sqlx::query("update deliveries set channel = $1")
            .bind(word)
            .execute(&mut records)
            .await;
        assert!(taken.unwrap().rows_affected() > 0, "{word}");
    }
}

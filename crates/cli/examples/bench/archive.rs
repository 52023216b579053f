//! The archive with 100,000 documents: how long a search takes, against a plain full-text query on the
//! same rows; and how many reports are made beside deleting, against the same without.

use std::time::Instant;

use maple_lark_demo::{Cluster, MailServer, mail_server::Behaviour};
use serde_json::json;
use sqlx::{AssertSqlSafe, Executor, PgConnection};

use crate::{
    Done, Goals,
    running::{OFTEN, Running, until},
};

const DOCUMENTS: usize = 100_000;
/// So often each search is made.
const ROUNDS: usize = 15;
/// The longest that a search may take at the median, in milliseconds.
const MOST: f64 = 300.0;
/// Days that are backfilled, once without and once beside deleting.
const DAYS: i64 = 390;
/// What is looked for: in a hundred documents, in some hundred, in few, and in all.
const WORDS: [&str; 4] = ["\"host 417\"", "word99", "host 417 word99", "availability"];

pub async fn measure(goals: &mut Goals) -> Done<()> {
    use std::os::unix::fs::PermissionsExt;
    println!(
        "The archive; the baselines are a plain full-text query, and reports without deleting:"
    );
    let folder = tempfile::tempdir()?;
    std::fs::set_permissions(folder.path(), std::fs::Permissions::from_mode(0o755))?;
    let cluster = Cluster::start(&folder.path().join("state"), false).await?;
    let mailbox = folder.path().join("mailbox");
    let mail = MailServer::start("127.0.0.1:0", mailbox, Behaviour::default()).await?;
    let running = Running::start(folder.path(), &cluster, mail.address.port()).await?;
    let dashboard = "[dashboard]\nname = \"small\"\ntitle = \"Small\"\n[[query]]\nname = \"q\"\nsource = \"operations\"\nsql = \"select 1 as one\"\n\
                     [[section]]\ntitle = \"All\"\n[[section.block]]\nshow = \"table\"\ntitle = \"Rows\"\nquery = \"q\"\n";
    let report = "[report]\nname = \"daily\"\ntitle = \"Daily\"\ntime-zone = \"UTC\"\ndashboards = [\"small\"]\nformats = [\"html\", \"csv\"]\n[window]\nprevious = \"day\"\n[schedule]\nevery = \"day\"\nat = \"01:00\"\n";
    running
        .apply(vec![
            Running::source(&cluster, ""),
            json!({ "file": "dashboard.toml", "text": dashboard }),
            json!({ "file": "report.toml", "text": report }),
        ])
        .await?;
    let mut records = cluster.connect("maple_lark").await?;
    fill(&mut records).await?;
    searches(&running, &mut records, goals).await?;
    deleting(&running, &mut records, goals).await
}

/// Puts documents on record, one every five minutes up to now, each with what it says.
async fn fill(records: &mut PgConnection) -> Done<()> {
    let began = Instant::now();
    let sql = format!(
        "set session_replication_role = replica;
         insert into runs (id, report, title, scheduled_for, cause, deliver, state, definitions, window_from, window_to, time_zone, created_at, started_at, finished_at)
         select gen_random_uuid(), 'report-' || n % 20, 'Report', t, 'schedule', true, 'delivered', '[]', t, t, 'UTC', t, t, t
         from (select n, now() - n * interval '5 minutes' as t from generate_series(1, {DOCUMENTS}) n) past;
         insert into snapshots (id, run_id, values_key, sha256, body, created_at, status, searchable)
         select gen_random_uuid(), id, 'k', 'x', '', created_at, 'ok', true from runs;
         insert into documents (id, run_id, snapshot_id, format, file_name, media_type, sha256, size, body, created_at)
         select gen_random_uuid(), run_id, id, 'html', 'report.html', 'text/html', 'x', 4000, convert_to(repeat('0123456789', 400), 'UTF8'), created_at from snapshots;
         insert into holdings (run_id, report, ended_at, document_bytes) select id, report, created_at, 4000 from runs;
         insert into document_texts (snapshot_id, text)
         select id, 'availability of host ' || n % 1000 || ' ' || (select string_agg('word' || abs(hashtext(n || ':' || i)) % 20000, ' ') from generate_series(1, 60) i)
         from (select id, row_number() over () as n from snapshots) numbered;
         set session_replication_role = origin;
         analyze"
    );
    for statement in sql.split(';') {
        records.execute(AssertSqlSafe(statement.to_owned())).await?;
    }
    println!(
        "  {DOCUMENTS} documents were put on record in {:.0} s",
        began.elapsed().as_secs_f64()
    );
    Ok(())
}

fn median(mut times: Vec<f64>) -> f64 {
    times.sort_by(f64::total_cmp);
    times[times.len() / 2]
}

async fn searches(running: &Running, records: &mut PgConnection, goals: &mut Goals) -> Done<()> {
    let plain = "select d.id from documents d join document_texts t on t.snapshot_id = d.snapshot_id \
                 where t.words @@ websearch_to_tsquery('simple', $1) order by d.created_at desc, d.id desc limit 25";
    let (mut ours, mut bare) = (Vec::new(), Vec::new());
    for words in WORDS {
        let encoded = words.replace(' ', "%20").replace('"', "%22");
        let (mut own, mut baseline) = (Vec::new(), Vec::new());
        for _ in 0..ROUNDS {
            let began = Instant::now();
            running.get(&format!("/archive?words={encoded}")).await?;
            own.push(began.elapsed().as_secs_f64() * 1000.0);
            let began = Instant::now();
            sqlx::query(plain)
                .bind(words)
                .fetch_all(&mut *records)
                .await?;
            baseline.push(began.elapsed().as_secs_f64() * 1000.0);
        }
        println!(
            "  {words}: {:.1} ms found, counted and shown; {:.1} ms by the plain query",
            median(own.clone()),
            median(baseline.clone())
        );
        ours.extend(own);
        bare.extend(baseline);
    }
    let (ours, bare) = (median(ours), median(bare));
    println!("  at the median {:.1} times the plain query", ours / bare);
    goals.check(
        "a search among 100,000 documents, median",
        ours,
        "ms",
        ours < MOST,
        "less than 300",
    );
    Ok(())
}

/// Reports a minute of a backfill that ends so many days ago.
async fn backfilled(running: &Running, records: &mut PgConnection, ago: i64) -> Done<f64> {
    const MADE: &str = "select count(*) from runs where report = 'daily' and state = 'completed'";
    let there: i64 = sqlx::query_scalar(MADE).fetch_one(&mut *records).await?;
    let to = chrono::Utc::now() - chrono::TimeDelta::days(ago);
    let order = json!({ "from": to - chrono::TimeDelta::days(DAYS), "to": to });
    let began = Instant::now();
    running.post("/reports/daily/backfill", &order).await?;
    until(records, OFTEN, MADE, there + DAYS).await?;
    Ok(DAYS as f64 * 60.0 / began.elapsed().as_secs_f64())
}

async fn deleting(running: &Running, records: &mut PgConnection, goals: &mut Goals) -> Done<()> {
    let removed = async |records: &mut PgConnection| -> Done<i64> {
        let asked = "select count(*) from removals";
        Ok(sqlx::query_scalar(asked).fetch_one(records).await?)
    };
    let without = backfilled(running, records, 1).await?;
    running
        .put("/keeping", &json!({ "documents": "P30D" }))
        .await?;
    // It is looked now and then what is old enough.
    until(records, OFTEN, "select count(*) from removals", 1).await?;
    let before = removed(records).await?;
    let beside = backfilled(running, records, 1 + DAYS).await?;
    let gone = removed(records).await? - before;
    println!(
        "  {without:.0} reports a minute, {beside:.0} while the documents of {gone} runs are deleted"
    );
    if gone == 0 {
        return Err("nothing was deleted meanwhile".into());
    }
    let ratio = beside / without;
    goals.check(
        "reports beside deleting against without",
        ratio,
        "times as many",
        ratio >= 0.7,
        "at least 0.7",
    );
    Ok(())
}

//! What reads cost with years on record; the baseline is the same service with a hundredth of it.

use std::time::Instant;

use maple_lark_demo::{Cluster, MailServer, mail_server::Behaviour};
use serde_json::json;
use sqlx::{AssertSqlSafe, Executor, PgConnection};

use crate::{Done, Goals, running::Running};

/// Runs on record; each has two deliveries of five attempts.
const RUNS: [usize; 2] = [10_000, 1_000_000];
const REPORTS: usize = 20;
/// So often each read is made.
const ROUNDS: usize = 100;
/// The longest that a read may take at the 95th percentile, in milliseconds.
const MOST: f64 = 100.0;

pub async fn measure(goals: &mut Goals) -> Done<()> {
    use std::os::unix::fs::PermissionsExt;
    println!("Reads with years on record; the baseline is a hundredth of them:");
    let folder = tempfile::tempdir()?;
    std::fs::set_permissions(folder.path(), std::fs::Permissions::from_mode(0o755))?;
    let cluster = Cluster::start(&folder.path().join("state"), false).await?;
    let mailbox = folder.path().join("mailbox");
    let mail = MailServer::start("127.0.0.1:0", mailbox, Behaviour::default()).await?;
    let running = Running::start(folder.path(), &cluster, mail.address.port()).await?;
    running.apply(definitions(&cluster)).await?;
    let mut records = cluster.connect("maple_lark").await?;
    let mut before: Vec<f64> = Vec::new();
    let mut had = 0;
    for runs in RUNS {
        fill(&mut records, had, runs).await?;
        had = runs;
        let run: uuid::Uuid =
            sqlx::query_scalar("select id from runs order by created_at desc offset 100 limit 1")
                .fetch_one(&mut records)
                .await?;
        let reads = [
            "/overview".to_owned(),
            "/reports".to_owned(),
            "/runs?size=25".to_owned(),
            "/runs?report=report-3&state=failed".to_owned(),
            format!("/runs/{run}"),
            "/notices".to_owned(),
            "/agenda?from=2026-11-01&to=2026-12-01".to_owned(),
            "/../../metrics".to_owned(),
        ];
        let mut slowest: Vec<f64> = Vec::new();
        for read in &reads {
            slowest.push(percentile(&running, read).await?);
        }
        if before.is_empty() {
            before = slowest;
            continue;
        }
        let began = Instant::now();
        drop(running.another(folder.path()).await?);
        let ready = began.elapsed().as_secs_f64();
        let what = format!("another process with {runs} runs on record, from its start to ready");
        goals.check(&what, ready, "s", ready < 2.0, "under 2");
        for ((read, now), then) in reads.iter().zip(&slowest).zip(&before) {
            let read = read.trim_start_matches("/../..");
            let read = read.split(&run.to_string()).next().unwrap_or(read);
            let what = format!("GET {read} with {runs} runs on record, 95th percentile");
            goals.check(&what, *now, "ms", *now < MOST, "less than 100");
            println!("    {:.1} times as long as with {}", now / then, RUNS[0]);
        }
    }
    Ok(())
}

fn definitions(cluster: &Cluster) -> Vec<serde_json::Value> {
    let dashboard = "[dashboard]\nname = \"small\"\ntitle = \"Small\"\n[[query]]\nname = \"q\"\nsource = \"operations\"\nsql = \"select 1 as one\"\n\
                     [[section]]\ntitle = \"All\"\n[[section.block]]\nshow = \"table\"\ntitle = \"Rows\"\nquery = \"q\"\n";
    let mut files = vec![
        Running::source(cluster, ""),
        json!({ "file": "dashboard.toml", "text": dashboard }),
    ];
    files.extend((0..REPORTS).map(|n| {
        let text = format!("[report]\nname = \"report-{n}\"\ntitle = \"Report {n}\"\ntime-zone = \"UTC\"\ndashboards = [\"small\"]\nformats = [\"csv\"]\n[window]\nprevious = \"day\"\n[schedule]\nevery = \"year\"\non = [\"01-02\"]\nat = \"01:00\"\n");
        json!({ "file": format!("report-{n}.toml"), "text": text })
    }));
    files
}

/// An identifier that sorts by its time, as the service's do.
const ID: &str = "(lpad(to_hex((extract(epoch from t) * 1000)::bigint), 12, '0') || substr(md5(random()::text), 1, 20))::uuid";
/// The tables that get most rows.
const FILLED: &str = "('runs', 'snapshots', 'deliveries', 'delivery_attempts')";

/// Puts runs on record, one every half minute up to now, until there are `to` of them.
async fn fill(records: &mut PgConnection, from: usize, to: usize) -> Done<()> {
    let began = Instant::now();
    // Without looking up what each row refers to; what is counted is counted afterwards.
    let sql = format!(
        "alter system set max_wal_size = '8GB';
         select pg_reload_conf();
         set synchronous_commit = off;
         set maintenance_work_mem = '512MB';
         set work_mem = '256MB';
         set session_replication_role = replica;
         insert into runs (id, report, title, scheduled_for, cause, deliver, state, definitions, window_from, window_to, time_zone, created_at, started_at, finished_at)
         select {ID}, 'report-' || n % {REPORTS}, 'Report', t, 'schedule', true,
                case n % 50 when 0 then 'failed' when 1 then 'quiet' when 2 then 'partly-delivered' when 3 then 'completed' else 'delivered' end,
                '[]', t, t, 'UTC', t, t, t
         from (select n, now() - n * interval '30 seconds' as t from generate_series({to}, {}, -1) n) past;
         insert into notices (kind, subject, run_id, text, created_at, told_at)
         select 'failed', report, id, 'it failed', created_at, created_at from runs where state = 'failed' on conflict do nothing;
         insert into snapshots (id, run_id, values_key, sha256, body, created_at, status)
         select {ID}, id, 'k', 'x', '', t, 'ok'
         from (select id, created_at as t from runs where not exists (select from snapshots where run_id = runs.id)) new;
         insert into deliveries (id, run_id, snapshot_id, audience, channel, recipient, state, message_id, next_attempt_at, created_at, settled_at)
         select {ID}, run_id, id, 'all', 'mail', p, 'accepted', gen_random_uuid()::text, t, t, t
         from (select run_id, id, created_at as t from snapshots s where not exists (select from deliveries where run_id = s.run_id)) new,
              unnest(array['one@orrin-sound.example', 'two@orrin-sound.example']) p;
         insert into delivery_attempts (delivery_id, started_at, ended_at, outcome)
         select id, created_at, created_at, o from deliveries d, unnest(array['postponed', 'postponed', 'postponed', 'postponed', 'accepted']) o
         where not exists (select from delivery_attempts where delivery_id = d.id);
         set session_replication_role = origin;
         delete from run_counts;
         delete from delivery_counts;
         delete from run_hours;
         insert into run_counts (report, state, count) select report, state, count(*) from runs group by report, state;
         insert into run_hours
         select date_trunc('hour', scheduled_for, 'UTC'), report, state, team, count(*), min(scheduled_for), max(scheduled_for), true
         from runs group by 1, 2, 3, 4;
         insert into delivery_counts select state, count(*) from deliveries group by state",
        from + 1
    );
    // Indexes are made of all rows at once: that takes a fraction of the time. What the service looks at again and
    // again has partial ones, which stay.
    let indexes: Vec<(String, String)> = sqlx::query_as(AssertSqlSafe(format!(
        "select indexname, indexdef from pg_indexes where schemaname = current_schema() and tablename in {FILLED} \
         and indexname not in (select conname from pg_constraint) and indexdef not like '% WHERE %'"
    )))
    .fetch_all(&mut *records)
    .await?;
    let drops = indexes
        .iter()
        .map(|(name, _)| format!("drop index \"{name}\""));
    let fills = sql.split(';').map(str::to_owned);
    let makes = indexes.iter().map(|(_, makes)| makes.clone());
    let all = drops.chain(fills).chain(makes);
    // As they are once the database has tidied up behind what was written.
    for statement in all.chain(["vacuum analyze".to_owned()]) {
        records.execute(AssertSqlSafe(statement)).await?;
    }
    println!(
        "  {to} runs and {} attempts were put on record in {:.0} s",
        to * 10,
        began.elapsed().as_secs_f64()
    );
    Ok(())
}

/// Milliseconds that a read takes at the 95th percentile.
async fn percentile(running: &Running, read: &str) -> Done<f64> {
    let mut all = Vec::new();
    for _ in 0..ROUNDS {
        let began = Instant::now();
        running.get(read).await?;
        all.push(began.elapsed().as_secs_f64() * 1000.0);
    }
    all.sort_by(f64::total_cmp);
    Ok(all[ROUNDS * 95 / 100])
}

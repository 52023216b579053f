//! A place that has grown: three processes on one database, a process that dies under load, many people who
//! follow runs. The baseline of the three is one of them with the same work.

use std::{
    collections::HashMap,
    time::{Duration, Instant},
};

use chrono::{DateTime, TimeDelta, Utc};
use maple_lark_demo::{Cluster, RealMailServer};
use serde_json::{Value, json};
use sqlx::PgConnection;

use crate::{
    Done, Goals,
    delivery::{DASHBOARD, report},
    running::{Running, SELDOM, computed, until},
};

/// Reports that are due at one instant.
const AT_ONCE: usize = 1_000;
/// Reports that are due within an hour.
const IN_AN_HOUR: usize = 10_000;
/// For how many minutes of that hour it is tried, if nothing else is said.
const MINUTES: &str = "5";
/// People who follow runs.
const FOLLOWERS: usize = 100;
/// How long they are watched.
const REST: Duration = Duration::from_secs(20);

pub async fn measure(goals: &mut Goals) -> Done<()> {
    let one = at_one_instant(goals, 1, false).await?;
    let three = at_one_instant(goals, 3, false).await?;
    println!(
        "    three processes on this machine take {:.1} times as long as one",
        three / one
    );
    at_one_instant(goals, 3, true).await?;
    within_an_hour(goals).await?;
    followers(goals).await
}

/// A place of its own: a database, a real mail server, processes.
struct Place {
    _folder: tempfile::TempDir,
    cluster: Cluster,
    mail: RealMailServer,
    processes: Vec<Running>,
}

impl Place {
    async fn of(processes: usize) -> Done<Self> {
        use std::os::unix::fs::PermissionsExt;
        let folder = tempfile::tempdir()?;
        std::fs::set_permissions(folder.path(), std::fs::Permissions::from_mode(0o755))?;
        let cluster = Cluster::start(&folder.path().join("state"), true).await?;
        let mail = RealMailServer::start()?;
        let first = Running::start(folder.path(), &cluster, mail.port).await?;
        let mut all = vec![first];
        for _ in 1..processes {
            let another = all[0].another(folder.path()).await?;
            all.push(another);
        }
        Ok(Self {
            _folder: folder,
            cluster,
            mail,
            processes: all,
        })
    }

    /// Applies a report for each line of a schedule.
    async fn apply(&self, schedules: &[String]) -> Done<()> {
        let base = vec![
            Running::source(&self.cluster, "max-concurrency = 8\n"),
            json!({ "file": "dashboard.toml", "text": DASHBOARD }),
        ];
        self.processes[0].apply(base).await?;
        // In parts: a request has its limit.
        for (part, schedules) in schedules.chunks(1_000).enumerate() {
            let files = schedules.iter().enumerate().map(|(n, schedule)| {
                let name = format!("r{}", part * 1_000 + n);
                let to = [format!("{name}@orrin-sound.example")];
                json!({ "file": format!("{name}.toml"), "text": report(&name, schedule, &to) })
            });
            self.processes[0].apply(files.collect()).await?;
        }
        Ok(())
    }

    /// How long the processes of the service and of the database have computed so far, in seconds.
    fn computed(&self) -> Done<(f64, f64)> {
        let service = self.processes.iter().map(Running::computed);
        let service: Done<Vec<f64>> = service.collect();
        Ok((service?.iter().sum(), of_database(self.cluster.process())?))
    }

    async fn records(&self) -> Done<PgConnection> {
        Ok(self.cluster.connect("maple_lark").await?)
    }

    /// How many messages each address got, those of one message counted once and in all.
    fn arrived(&self) -> (HashMap<String, usize>, usize) {
        let (mut different, mut all) = (HashMap::<String, Vec<String>>::new(), 0);
        for (to, message) in self.mail.messages() {
            let text = String::from_utf8_lossy(&message).into_owned();
            let id = text
                .lines()
                .find_map(|line| line.strip_prefix("Message-ID:"))
                .unwrap_or_default();
            let ids = different.entry(to).or_default();
            if !ids.iter().any(|known| known == id) {
                ids.push(id.to_owned());
            }
            all += 1;
        }
        let counted = different.into_iter().map(|(to, ids)| (to, ids.len()));
        (counted.collect(), all)
    }
}

/// Every day at a minute that is far enough ahead for everything to be applied before.
fn daily(ahead: TimeDelta) -> (DateTime<Utc>, String) {
    let at = Utc::now() + ahead + TimeDelta::minutes(1);
    let at = DateTime::from_timestamp(at.timestamp() / 60 * 60, 0).unwrap_or(at);
    (
        at,
        format!(
            "[schedule]\nevery = \"day\"\nat = \"{}\"\n",
            at.format("%H:%M")
        ),
    )
}

const DELIVERED: &str = "select count(*) from runs where state = 'delivered'";

/// How long it takes from one instant until a thousand reports that are due at it are accepted by the mail server.
async fn at_one_instant(goals: &mut Goals, processes: usize, dies: bool) -> Done<f64> {
    let mut place = Place::of(processes).await?;
    let (at, schedule) = daily(TimeDelta::seconds(60));
    place.apply(&vec![schedule; AT_ONCE]).await?;
    let mut records = place.records().await?;
    tokio::time::sleep((at - Utc::now()).to_std().unwrap_or_default()).await;
    let before = if dies { None } else { Some(place.computed()?) };
    if dies {
        until(&mut records, SELDOM, DELIVERED, AT_ONCE as i64 / 2).await?;
        place.processes[2].kill()?;
    }
    until(&mut records, SELDOM, DELIVERED, AT_ONCE as i64).await?;
    let last: DateTime<Utc> = sqlx::query_scalar("select max(settled_at) from deliveries")
        .fetch_one(&mut records)
        .await?;
    let seconds = (last - at).num_milliseconds() as f64 / 1000.0;
    let (arrived, all) = place.arrived();
    let lost = AT_ONCE - arrived.len().min(AT_ONCE);
    let doubled: usize = arrived.values().map(|count| count - 1).sum();
    let what = match (processes, dies) {
        (1, _) => "one process".to_owned(),
        (more, false) => format!("{more} processes"),
        (more, true) => format!("{more} processes, one of which is killed half-way"),
    };
    let what = format!("{AT_ONCE} reports due at one instant, {what}: until the last is accepted");
    if dies {
        // Until the others take what it had, its lease has to run out.
        println!("  {what}: {seconds:.1} s");
        let wrong = (lost + doubled) as f64;
        goals.check(
            "of them lost or sent twice",
            wrong,
            "",
            wrong == 0.0,
            "none",
        );
        println!(
            "    {} came again under the same Message-ID, as it was not known whether they had arrived",
            all - arrived.values().sum::<usize>()
        );
    } else {
        goals.check(&what, seconds, "s", seconds < 20.0, "under 20");
        if let Some(before) = before {
            let after = place.computed()?;
            println!(
                "    the service computed for {:.1} s, the database for {:.1} s; the mail server had the rest",
                after.0 - before.0,
                after.1 - before.1
            );
        }
    }
    Ok(seconds)
}

/// As many reports a minute as come to ten thousand in an hour, on three processes.
async fn within_an_hour(goals: &mut Goals) -> Done<()> {
    let minutes: usize = std::env::var("MAPLE_LARK_BENCH_MINUTES")
        .unwrap_or_else(|_| MINUTES.to_owned())
        .parse()?;
    let place = Place::of(3).await?;
    let (first, _) = daily(TimeDelta::seconds(60 + 12 * minutes as i64));
    let each = IN_AN_HOUR / 60;
    let schedules: Vec<String> = (0..minutes * each)
        .map(|n| {
            let at = first + TimeDelta::minutes((n / each) as i64);
            format!(
                "[schedule]\nevery = \"day\"\nat = \"{}\"\n",
                at.format("%H:%M")
            )
        })
        .collect();
    place.apply(&schedules).await?;
    let mut records = place.records().await?;
    // Minutes go by before the first of them is due.
    tokio::time::sleep((first - Utc::now()).to_std().unwrap_or_default()).await;
    until(&mut records, SELDOM, DELIVERED, schedules.len() as i64).await?;
    let late: f64 = sqlx::query_scalar(
        "select percentile_cont(0.95) within group (order by extract(epoch from d.settled_at - r.scheduled_for))::float8 \
         from deliveries d join runs r on r.id = d.run_id",
    )
    .fetch_one(&mut records)
    .await?;
    let (arrived, _) = place.arrived();
    println!(
        "  {} reports due in {minutes} min ({IN_AN_HOUR} in an hour) on three processes; {} arrived",
        schedules.len(),
        arrived.len()
    );
    goals.check(
        "from its instant until a report is accepted, 95th percentile",
        late,
        "s",
        late < 60.0,
        "before the next are due, under 60",
    );
    Ok(())
}

/// What it costs that many people follow runs to which nothing happens.
async fn followers(goals: &mut Goals) -> Done<()> {
    let place = Place::of(1).await?;
    let service = &place.processes[0];
    place.apply(&[String::new()]).await?;
    let mut runs = Vec::new();
    for _ in 0..10 {
        let run: Value = service
            .post("/reports/r0/runs", &json!({ "deliver": false }))
            .await?;
        runs.push(run["id"].as_str().ok_or("no run")?.to_owned());
    }
    let mut records = place.records().await?;
    until(
        &mut records,
        SELDOM,
        "select count(*) from runs where state = 'completed'",
        10,
    )
    .await?;
    // They await somebody, so that nothing ends them.
    sqlx::query("update runs set state = 'awaiting-approval'")
        .execute(&mut records)
        .await?;
    tokio::time::sleep(REST / 4).await;
    let server = place.cluster.process();
    let alone = rest(service, server).await?;
    let mut streams = Vec::new();
    for n in 0..FOLLOWERS {
        let mut stream = service.follow(&runs[n % runs.len()]).await?;
        stream.chunk().await?.ok_or("nothing is told")?;
        streams.push(stream);
    }
    tokio::time::sleep(REST / 4).await;
    let followed = rest(service, server).await?;
    drop(streams);
    let share = (followed.0 - alone.0).max(0.0) * 100.0;
    println!(
        "  {FOLLOWERS} people follow runs: the database computes {:.1} % of a core more",
        (followed.1 - alone.1).max(0.0) * 100.0
    );
    goals.check(
        "what the service computes more for them",
        share,
        "% of a core",
        share < 5.0,
        "under 5",
    );
    Ok(())
}

/// Which share of a core the service and its database compute at rest.
async fn rest(service: &Running, server: u32) -> Done<(f64, f64)> {
    let began = Instant::now();
    let before = (service.computed()?, of_database(server)?);
    tokio::time::sleep(REST).await;
    let seconds = began.elapsed().as_secs_f64();
    Ok((
        (service.computed()? - before.0) / seconds,
        (of_database(server)? - before.1) / seconds,
    ))
}

/// What the processes of a database's server have computed.
fn of_database(server: u32) -> Done<f64> {
    let mut all = computed(server)?;
    for process in procfs::process::all_processes()?.flatten() {
        let own = process.stat().is_ok_and(|stat| stat.ppid == server as i32);
        if own {
            all += computed(process.pid as u32).unwrap_or_default();
        }
    }
    Ok(all)
}

//! A whole year by a simulated clock: both changes of the hour, an outage of three days and
//! a calendar of holidays; and clocks and zones that change unforeseen.

use maple_lark_fixtures as fixtures;
use std::{
    collections::BTreeSet,
    sync::{
        Arc,
        atomic::{AtomicI64, Ordering},
    },
    time::Instant,
};

use chrono::{DateTime, Utc};
use maple_lark_service::{Clock, Config, EngineHandle, start};
use tokio::task::JoinHandle;

use crate::place::{PATIENCE, Place};

/// Which run each instant of 2026 should become, worked out with another language's date
/// library from nothing but the rules in the guide: instant, report, state, and the window
/// from and to in UTC.
const EXPECTED: &str = include_str!("year-2026.txt");

const HOLIDAYS: [&str; 11] = [
    "20260101", "20260402", "20260403", "20260406", "20260501", "20260601", "20260728", "20260729",
    "20261224", "20261225", "20261231",
];

const SCHEDULES: [(&str, &str); 3] = [
    (
        "nightly",
        "[window]\nprevious = \"day\"\n[schedule]\nevery = \"day\"\nat = \"01:30\"\n",
    ),
    (
        "working",
        "[window]\nprevious = \"day\"\n[schedule]\nevery = \"weekday\"\nat = \"07:30\"\ncalendar = \"holidays\"\nmissed = \"all\"\n",
    ),
    (
        "monthly",
        "[window]\nprevious = \"month\"\n[schedule]\nevery = \"month\"\non = \"1\"\nat = \"06:00\"\ncalendar = \"holidays\"\non-calendar-day = \"next-working-day\"\nmissed = \"none\"\n",
    ),
];

fn calendar() -> String {
    let events: String = HOLIDAYS
        .iter()
        .map(|day| {
            format!("BEGIN:VEVENT\r\nSUMMARY:Holiday\r\nDTSTART;VALUE=DATE:{day}\r\nEND:VEVENT\r\n")
        })
        .collect();
    format!(
        "BEGIN:VCALENDAR\r\nVERSION:2.0\r\nPRODID:-//Orrin Sound Ferries//EN\r\n{events}END:VCALENDAR\r\n"
    )
}

/// Scheduled for, report, state, and the window's ends.
type Row = (DateTime<Utc>, String, String, DateTime<Utc>, DateTime<Utc>);

/// One service in this process, by the clock of the test.
struct Service {
    clock: Arc<AtomicI64>,
    engine: EngineHandle,
    task: JoinHandle<()>,
}

impl Service {
    async fn start(place: &Place, clock: &Arc<AtomicI64>) -> Self {
        // Hundreds of runs have nothing to say that the tests do not look at.
        let _ =
            tracing::subscriber::set_global_default(tracing::subscriber::NoSubscriber::default());
        let config = Config::read(&place.config_for_this_process()).unwrap();
        let running = start(config, Clock::Simulated(clock.clone()))
            .await
            .unwrap();
        let engine = running.handle();
        let task = tokio::spawn(async move { running.run().await.unwrap() });
        let began = Instant::now();
        while !place.lark(&["sign-in"]).status.success() {
            assert!(began.elapsed() < PATIENCE, "the service does not start");
        }
        Self {
            clock: clock.clone(),
            engine,
            task,
        }
    }

    /// Moves the clock from one instant at which something is due to the next, up to `end`,
    /// and lets the engine finish what is due before it goes on.
    async fn live_until(&self, end: &str, records: &mut sqlx::PgConnection) {
        let end: DateTime<Utc> = end.parse().unwrap();
        loop {
            let due: Option<DateTime<Utc>> =
                sqlx::query_scalar("select min(next_instant) from schedule_states")
                    .fetch_one(&mut *records)
                    .await
                    .unwrap();
            let next = due
                .filter(|due| *due <= end)
                .unwrap_or(end)
                .max(self.engine.now());
            self.clock.store(next.timestamp_micros(), Ordering::Release);
            let began = Instant::now();
            loop {
                self.engine.wake();
                let busy: bool = sqlx::query_scalar(
                    "select exists (select from schedule_states where next_instant <= $1) or exists (select from runs where state not in ('completed', 'skipped', 'failed', 'held'))",
                )
                .bind(next)
                .fetch_one(&mut *records)
                .await
                .unwrap();
                if !busy {
                    break;
                }
                assert!(
                    began.elapsed() < PATIENCE,
                    "the engine does not come to rest at {next}"
                );
                tokio::time::sleep(std::time::Duration::from_millis(5)).await;
            }
            if next == end {
                return;
            }
        }
    }

    /// Ends it as a power cut would: nothing is finished or released.
    async fn cut_off(self) {
        self.task.abort();
        let _ = self.task.await;
    }
}

#[tokio::test(flavor = "multi_thread", worker_threads = 4)]
async fn a_year_of_runs_is_what_was_written_down_before() {
    let place = Place::new().await;
    let clock = Arc::new(AtomicI64::new(
        "2026-01-01T00:00:00Z"
            .parse::<DateTime<Utc>>()
            .unwrap()
            .timestamp_micros(),
    ));
    let service = Service::start(&place, &clock).await;
    let mut files = vec![
        (
            "dashboard.toml".to_owned(),
            crate::place::small_dashboard("select :from as a, :to as b").to_string(),
        ),
        ("source.toml".to_owned(), place.source_for_this_process()),
        ("holidays.ics".to_owned(), calendar()),
    ];
    files.extend(SCHEDULES.map(|(name, schedule)| {
        let report = fixtures::report(name, "small")
            .key("time-zone", "Atlantic/Faroe")
            .list("formats", &["csv"])
            .instead_of("[window]", schedule);
        (format!("{name}.toml"), report.to_string())
    }));
    let applied = place.apply(
        &files
            .iter()
            .map(|(name, text)| (name.as_str(), text.as_str()))
            .collect::<Vec<_>>(),
    );
    assert!(
        applied.status.success(),
        "{}",
        String::from_utf8_lossy(&applied.stderr)
    );

    let mut records = place.records().await;
    service
        .live_until("2026-05-01T12:00:00Z", &mut records)
        .await;
    service.cut_off().await;
    clock.store(
        "2026-05-04T12:00:00Z"
            .parse::<DateTime<Utc>>()
            .unwrap()
            .timestamp_micros(),
        Ordering::Release,
    );
    let service = Service::start(&place, &clock).await;
    service
        .live_until("2026-12-31T23:59:00Z", &mut records)
        .await;

    let rows: Vec<Row> = sqlx::query_as("select scheduled_for, report, state, window_from, window_to from runs order by scheduled_for, report")
        .fetch_all(&mut records)
        .await
        .unwrap();
    let line = |(at, report, state, from, to): &Row| {
        format!(
            "{} {report} {state} {}/{}",
            at.format("%Y-%m-%dT%H:%MZ"),
            from.format("%m-%dT%H:%M"),
            to.format("%m-%dT%H:%M")
        )
    };
    let ran: Vec<String> = rows.iter().map(line).collect();
    assert_eq!(
        ran.len(),
        ran.iter().collect::<BTreeSet<_>>().len(),
        "an instant ran twice"
    );
    let apart = ran
        .iter()
        .map(String::as_str)
        .zip(EXPECTED.lines())
        .find(|(ran, expected)| ran != expected);
    let problems: Vec<String> = sqlx::query_scalar(
        "select distinct problem from runs where state in ('failed', 'held') and problem is not null limit 9",
    )
    .fetch_all(&mut records)
    .await
    .unwrap();
    assert_eq!(
        apart, None,
        "the first that ran otherwise, and what was expected; what went wrong: {problems:?}"
    );
    assert_eq!(ran.len(), EXPECTED.lines().count());
    service.cut_off().await;
}

/// A report at every full hour, on a clock that the test moves as it likes.
#[tokio::test(flavor = "multi_thread", worker_threads = 4)]
async fn a_clock_that_goes_back_runs_nothing_twice_and_one_that_jumps_ahead_misses_on_record() {
    let place = Place::new().await;
    let at = |text: &str| text.parse::<DateTime<Utc>>().unwrap();
    let clock = Arc::new(AtomicI64::new(
        at("2026-06-01T10:30:00Z").timestamp_micros(),
    ));
    let service = Service::start(&place, &clock).await;
    let report = "[report]\nname = \"hourly\"\ntitle = \"Hourly\"\ntime-zone = \"UTC\"\ndashboards = [\"small\"]\nformats = [\"csv\"]\n[window]\nprevious = \"hour\"\n[schedule]\nevery = \"PT1H\"\n";
    let dashboard = crate::place::small_dashboard("select 1 as one");
    let applied = place.apply(&[
        ("source.toml", &place.source_for_this_process()),
        ("dashboard.toml", &dashboard),
        ("report.toml", report),
    ]);
    assert!(
        applied.status.success(),
        "{}",
        String::from_utf8_lossy(&applied.stderr)
    );
    let mut records = place.records().await;
    service
        .live_until("2026-06-01T12:30:00Z", &mut records)
        .await;
    clock.store(
        at("2026-06-01T10:45:00Z").timestamp_micros(),
        Ordering::Release,
    );
    service
        .live_until("2026-06-01T13:30:00Z", &mut records)
        .await;
    // Four hours at once, as after a laptop's sleep.
    clock.store(
        at("2026-06-01T17:30:00Z").timestamp_micros(),
        Ordering::Release,
    );
    service
        .live_until("2026-06-01T17:31:00Z", &mut records)
        .await;
    let runs: Vec<(DateTime<Utc>, String)> =
        sqlx::query_as("select scheduled_for, state from runs order by scheduled_for")
            .fetch_all(&mut records)
            .await
            .unwrap();
    let runs: Vec<String> = runs
        .iter()
        .map(|(at, state)| format!("{} {state}", at.format("%H:%M")))
        .collect();
    assert_eq!(
        runs,
        [
            "11:00 completed",
            "12:00 completed",
            "13:00 completed",
            "14:00 skipped",
            "15:00 skipped",
            "16:00 skipped",
            "17:00 completed"
        ]
    );
    service.cut_off().await;
}

/// As when a newer zone database says that the clocks of a place have been changed by law.
#[tokio::test(flavor = "multi_thread", worker_threads = 4)]
async fn instants_to_come_are_computed_anew_when_the_service_starts() {
    let place = Place::new().await;
    let service = place.serve();
    place.sign_in();
    place.apply_small(&crate::place::small_report().daily_at("07:30", ""));
    let mut records = place.records().await;
    let next = || async {
        let mut records = place.records().await;
        sqlx::query_scalar::<_, DateTime<Utc>>("select next_instant from schedule_states")
            .fetch_one(&mut records)
            .await
            .unwrap()
    };
    let right = next().await;
    assert!(service.stop().success());
    sqlx::query("update schedule_states set next_instant = next_instant + interval '1 hour'")
        .execute(&mut records)
        .await
        .unwrap();
    let service = place.serve();
    let began = Instant::now();
    while next().await != right {
        assert!(
            began.elapsed() < PATIENCE,
            "{} instead of {right}",
            next().await
        );
        tokio::time::sleep(std::time::Duration::from_millis(50)).await;
    }
    assert!(
        service.log().contains("due at other instants than before"),
        "{}",
        service.log()
    );
}

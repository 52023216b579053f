//! Runs that wait for their data, stay quiet, or go side by side.

use maple_lark_fixtures::{self as fixtures, Fixture};
use std::time::{Duration, Instant};

use serde_json::Value;
use sqlx::{Executor, PgConnection};

use crate::place::{
    PATIENCE, Place, operations, small_dashboard, small_report, small_report_for, text,
};

/// A report that was due at the last midnight, once a test says so.
fn scheduled(name: &str, extra: &str) -> Fixture {
    small_report_for("a@orrin-sound.example")
        .key("name", name)
        .key("time-zone", "UTC")
        .table(extra)
        .daily_at("00:00", "")
}

fn readiness(every: &str, deadline: &str, then: &str) -> String {
    format!(
        "[readiness]\nsource = \"operations\"\nsql = \"select ready from data where :from < :to\"\nevery = \"{every}\"\ndeadline = \"{deadline}\"\nat-deadline = \"{then}\""
    )
}

fn apply(place: &Place, sql: &str, reports: &[(&str, &str)]) {
    let dashboard = small_dashboard(sql);
    let source = operations().key("timeout", "PT5M");
    let mut files = vec![("source.toml", &*source), ("dashboard.toml", &*dashboard)];
    files.extend(reports);
    let output = place.apply(&files);
    assert!(output.status.success(), "{}", text(&output.stderr));
}

/// Makes every report due since the last midnight; the service looks every few seconds.
async fn make_due(records: &mut PgConnection) {
    records
        .execute("update schedule_states set next_instant = date_trunc('day', now(), 'UTC')")
        .await
        .unwrap();
}

/// The only run of a report, once `settled` says so of it.
async fn run_of(place: &Place, report: &str, wanted: impl Fn(&Value) -> bool) -> Value {
    let began = Instant::now();
    loop {
        let found = place.json(&["runs", "--report", report]);
        if let Some(run) = found["items"].get(0) {
            let run = place.json(&["show", run["id"].as_str().unwrap()]);
            if wanted(&run) {
                return run;
            }
            assert!(began.elapsed() < PATIENCE, "{run:#}");
        }
        assert!(began.elapsed() < PATIENCE, "no run of {report} was made");
        tokio::time::sleep(Duration::from_millis(100)).await;
    }
}

fn settled(run: &Value) -> bool {
    run["settled"] == true
}

async fn data_that_is_not_ready(place: &Place) -> PgConnection {
    let mut data = place.cluster.connect("orrin_ops").await.unwrap();
    data.execute("create table data (ready boolean); insert into data values (false); grant select on data to orrin_reader").await.unwrap();
    data
}

#[tokio::test(flavor = "multi_thread")]
async fn a_run_waits_in_sight_until_its_data_is_ready() {
    let place = Place::new().await;
    let _service = place.serve();
    place.sign_in();
    let mut operations = data_that_is_not_ready(&place).await;
    apply(
        &place,
        "select 1 as one",
        &[(
            "report.toml",
            &scheduled("late", &readiness("PT1S", "PT100H", "hold")),
        )],
    );
    make_due(&mut place.records().await).await;
    let waiting = run_of(&place, "late", |run| {
        run["state"] == "waiting"
            && run["steps"][0]["detail"]
                .as_str()
                .is_some_and(|detail| detail.contains("2 times"))
    })
    .await;
    let step = &waiting["steps"][0];
    assert_eq!(
        (step["kind"].as_str(), step["state"].as_str()),
        (Some("wait"), Some("running"))
    );
    let detail = step["detail"].as_str().unwrap();
    assert!(
        detail.contains("the query said no") && detail.contains("waits until"),
        "{detail}"
    );
    assert_eq!(waiting["settled"], false);
    // A run that somebody asks for does not wait.
    assert_eq!(
        place.json(&["run", "late", "--no-delivery"])["state"],
        "completed"
    );

    operations
        .execute("update data set ready = true")
        .await
        .unwrap();
    let id = waiting["id"].as_str().unwrap();
    let run = place.settled(id);
    assert_eq!(
        (run["state"].as_str(), run["incomplete"].is_null()),
        (Some("delivered"), true),
        "{run:#}"
    );
    assert!(
        run["steps"][0]["detail"]
            .as_str()
            .unwrap()
            .starts_with("ready when asked for the"),
        "{run:#}"
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn a_run_whose_wait_is_over_is_marked_held_or_skipped_as_chosen() {
    let place = Place::new().await;
    let _service = place.serve();
    place.sign_in();
    let _operations = data_that_is_not_ready(&place).await;
    let reports =
        ["run", "hold", "skip"].map(|then| scheduled(then, &readiness("PT1S", "PT2S", then)));
    apply(
        &place,
        "select 1 as one",
        &[
            ("a.toml", &reports[0]),
            ("b.toml", &reports[1]),
            ("c.toml", &reports[2]),
        ],
    );
    make_due(&mut place.records().await).await;

    let run = run_of(&place, "run", settled).await;
    assert_eq!(run["state"], "delivered");
    let incomplete = run["incomplete"].as_str().unwrap();
    assert!(
        incomplete.starts_with("the data was not ready by")
            && incomplete.ends_with("the query said no"),
        "{incomplete}"
    );
    let held = run_of(&place, "hold", settled).await;
    assert_eq!(
        (held["state"].as_str(), held["good"].as_bool()),
        (Some("held"), Some(false))
    );
    let skipped = run_of(&place, "skip", settled).await;
    assert_eq!(skipped["state"], "skipped");
    assert!(
        skipped["problem"]
            .as_str()
            .unwrap()
            .contains("the query said no")
    );

    let messages = place.mail.messages();
    assert_eq!(messages.len(), 1, "only the one that is to run is sent");
    let mail = mail_parser::MessageParser::default()
        .parse(&messages[0])
        .unwrap();
    for body in [mail.body_text(0).unwrap(), mail.body_html(0).unwrap()] {
        assert!(body.contains("The data may be incomplete"), "{body}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_run_that_waits_can_be_cancelled() {
    let place = Place::new().await;
    let _service = place.serve();
    place.sign_in();
    let mut operations = data_that_is_not_ready(&place).await;
    apply(
        &place,
        "select 1 as one",
        &[(
            "report.toml",
            &scheduled("late", &readiness("PT1S", "PT100H", "run")),
        )],
    );
    make_due(&mut place.records().await).await;
    let waiting = run_of(&place, "late", |run| run["state"] == "waiting").await;
    let id = waiting["id"].as_str().unwrap();
    assert_eq!(place.json(&["cancel", id])["state"], "cancelled");
    operations
        .execute("update data set ready = true")
        .await
        .unwrap();
    tokio::time::sleep(Duration::from_secs(2)).await;
    assert_eq!(place.json(&["show", id])["state"], "cancelled");
    assert_eq!(place.mail.messages().len(), 0);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_quiet_run_is_on_record_and_only_who_has_rows_gets_a_mail() {
    let place = Place::new().await;
    let _service = place.serve();
    place.sign_in();
    let dashboard = small_dashboard("select 1 as one where :port = 'havnes'").table(
        "[[parameter]]\nname = \"port\"\n[[query]]\nname = \"unseen\"\nof = \"unseen_rows\"",
    );
    let dashboard =
        dashboard.replacen("[[section]]", "[[query]]\nname = \"unseen_rows\"\nsource = \"operations\"\nsql = \"select 1 as n where false\"\n[[section]]", 1);
    let audience = |port: &str| {
        format!(
            "[[audience]]\nname = \"{port}\"\nto = [\"{port}@orrin-sound.example\"]\nparameters = {{ port = \"{port}\" }}\n"
        )
    };
    let report = |ports: &[&str]| {
        let audiences: String = ports.iter().map(|port| audience(port)).collect();
        small_report()
            .instead_of("[[audience]]", &audiences)
            .table("[send]\nwhen = \"rows\"\nqueries = [\"q\"]")
    };
    let apply = |report: &str| {
        let output = place.apply(&[
            ("source.toml", &operations()),
            ("dashboard.toml", &dashboard),
            ("report.toml", report),
        ]);
        assert!(output.status.success(), "{}", text(&output.stderr));
    };
    apply(&report(&["ostrey"]));
    let run = place.json(&["run", "small"]);
    assert_eq!(
        (
            run["state"].as_str(),
            run["problem"].as_str(),
            run["good"].as_bool()
        ),
        (Some("quiet"), Some("no rows in \"q\""), Some(true))
    );
    assert_eq!(place.mail.messages().len(), 0);

    apply(&report(&["ostrey", "havnes"]));
    let run = place.json(&["run", "small"]);
    assert_eq!(run["state"], "delivered");
    assert_eq!(
        run["deliveries"]
            .as_array()
            .unwrap()
            .iter()
            .map(|one| one["recipient"].as_str().unwrap())
            .collect::<Vec<_>>(),
        ["havnes@orrin-sound.example"]
    );
    let quiet = run["steps"]
        .as_array()
        .unwrap()
        .iter()
        .find(|step| step["kind"] == "send")
        .unwrap()
        .clone();
    assert_eq!(
        (quiet["subject"].as_str(), quiet["state"].as_str()),
        (Some("ostrey"), Some("quiet"))
    );

    // What decides need not be shown by any block.
    apply(&report(&["havnes"]).replace("[\"q\"]", "[\"unseen\"]"));
    let run = place.json(&["run", "small"]);
    assert_eq!(
        (run["state"].as_str(), run["problem"].as_str()),
        (Some("quiet"), Some("no rows in \"unseen\"")),
        "{run:#}"
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn runs_of_a_report_that_may_overlap_go_side_by_side() {
    let place = Place::new().await;
    let _service = place.serve();
    place.sign_in();
    let report = small_report().key("overlap", true);
    apply(
        &place,
        "select pg_sleep(200)::text as nap",
        &[("report.toml", &report)],
    );
    let ids = [(); 2].map(|()| {
        place.json(&["run", "small", "--detach"])["id"]
            .as_str()
            .unwrap()
            .to_owned()
    });
    let began = Instant::now();
    while !ids
        .iter()
        .all(|id| place.json(&["show", id])["state"] == "collecting")
    {
        assert!(
            began.elapsed() < PATIENCE,
            "the second run waits for the first"
        );
        tokio::time::sleep(Duration::from_millis(100)).await;
    }
    for id in ids {
        place.json(&["cancel", &id]);
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_source_is_asked_no_more_at_a_time_than_it_allows() {
    let place = Place::new().await;
    let _service = place.serve();
    place.sign_in();
    let mut data = place.cluster.connect("orrin_ops").await.unwrap();
    let asks = "sql = \"select (select count(*) from pg_stat_activity where datname = current_database() and query like '%pg_sl' || 'eep%' and state = 'active') as busy, pg_sleep(0.4)::text as nap\"";
    let dashboard = (0..5).fold(fixtures::dashboard("small"), |all, n| {
        all.query(&format!("q{n}"), "operations", asks)
    });
    let source = operations().key("max-concurrency", 2);
    let output = place.apply(&[
        ("source.toml", &source),
        ("dashboard.toml", &dashboard),
        ("report.toml", &small_report()),
    ]);
    assert!(output.status.success(), "{}", text(&output.stderr));
    let id = place.json(&["run", "small", "--no-delivery", "--detach"])["id"]
        .as_str()
        .unwrap()
        .to_owned();
    let mut most = 0;
    let began = Instant::now();
    while place.json(&["show", &id])["settled"] == false {
        let busy: i64 = sqlx::query_scalar("select count(*) from pg_stat_activity where datname = current_database() and usename = 'orrin_reader' and state = 'active'")
            .fetch_one(&mut data)
            .await
            .unwrap();
        most = most.max(busy);
        assert!(began.elapsed() < PATIENCE);
    }
    assert_eq!(most, 2);
}

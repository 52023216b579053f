//! Every template that comes with the program, made for its real counterpart: a PostgreSQL
//! server, metrics, files, checks from this machine, and the service itself.

use std::{collections::BTreeSet, time::Instant};

use serde_json::Value;
use sqlx::Executor;

use crate::{
    place::{PATIENCE, Place, text},
    questions::{place_with_everything, store_own_token},
};

/// What each template is given here: its source, and the values of inputs without a default.
fn given(template: &str, database: &str) -> (&'static str, Vec<String>) {
    let value = |pairs: &[(&str, &str)]| {
        pairs
            .iter()
            .map(|(name, value)| format!("{name}={value}"))
            .collect()
    };
    match template {
        "postgresql-one-table" => ("operations", value(&[("table", "public.host_samples")])),
        "postgresql-top-of-table" => (
            "operations",
            value(&[
                ("table", "kiosk_sales"),
                ("label", "kiosk"),
                ("value", "sold"),
            ]),
        ),
        "postgresql-table-over-time" => (
            "operations",
            value(&[
                ("table", "host_samples"),
                ("time", "at"),
                ("value", "cpu_percent"),
                ("group", "host"),
            ]),
        ),
        "postgresql-jobs" => (
            "operations",
            value(&[
                ("table", "batch_runs"),
                ("job", "job"),
                ("began", "started_at"),
                ("outcome", "outcome"),
            ]),
        ),
        "reports-on-record" => ("own-records", Vec::new()),
        "reports-delivered" => ("maple-lark", Vec::new()),
        "metrics-host" | "metrics-process" => ("machine", Vec::new()),
        "metrics-counter" => (
            "gates",
            value(&[("metric", "gate_scans_total"), ("label", "port")]),
        ),
        "metrics-gauge" => (
            "gates",
            value(&[("metric", "gate_queue_passengers"), ("label", "port")]),
        ),
        "metrics-histogram" => (
            "gates",
            value(&[("metric", "gate_scan_seconds_bucket"), ("label", "port")]),
        ),
        "checks-connections" | "checks-certificates" => {
            ("this-machine", vec![format!("targets={database}")])
        }
        "checks-pages" => ("this-machine", value(&[("targets", "http://127.0.0.1:9/")])),
        "checks-names" => ("this-machine", value(&[("targets", "localhost")])),
        "checks-disks" => ("this-machine", value(&[("targets", "/")])),
        "checks-machine" => ("this-machine", Vec::new()),
        "files-table" => ("inventory", value(&[("file", "kiosks.csv")])),
        "files-by-group" => (
            "inventory",
            value(&[
                ("file", "kiosks.csv"),
                ("group", "model"),
                ("count", "kiosk"),
            ]),
        ),
        "files-top" => (
            "inventory",
            value(&[("file", "sizes.csv"), ("label", "name"), ("value", "size")]),
        ),
        "files-jobs" => (
            "inventory",
            value(&[
                ("file", "backups.csv"),
                ("job", "job"),
                ("ended", "ended_at"),
                ("outcome", "outcome"),
            ]),
        ),
        postgresql if postgresql.starts_with("postgresql-") => ("operations", Vec::new()),
        other => panic!("the template {other} is new; say here what it is tried with"),
    }
}

async fn prepared() -> (Place, impl Sized) {
    let (place, services) = place_with_everything().await;
    let inventory = place.folder.path().join("inventory");
    let yesterday = chrono::Utc::now() - chrono::TimeDelta::minutes(10);
    std::fs::write(inventory.join("sizes.csv"), "name,size\na,10\nb,30\na,5\n").unwrap();
    std::fs::write(
        inventory.join("backups.csv"),
        format!(
            "job,ended_at,outcome\nnightly,{0},ok\nweekly,{0},failed\n",
            yesterday.to_rfc3339()
        ),
    )
    .unwrap();
    let mut operations = place.cluster.connect("orrin_ops").await.unwrap();
    operations
        .execute("create extension pg_stat_statements")
        .await
        .unwrap();
    let mut records = place.cluster.connect("maple_lark").await.unwrap();
    records
        .execute("grant usage on schema public to orrin_reader; grant select on runs, deliveries to orrin_reader")
        .await
        .unwrap();
    let own = "[source]\nname = \"own-records\"\ntitle = \"Own records\"\nkind = \"postgresql\"\naddress = \"env:ORRIN_OPS_ADDRESS\"\ndatabase = \"env:LARK_DATABASE\"\nuser = \"orrin_reader\"\npassword = \"env:ORRIN_READER_PASSWORD\"\ntls = \"off\"\n";
    let machine = format!(
        "[source]\nname = \"machine\"\ntitle = \"A machine\"\nkind = \"open-metrics\"\nurl = \"{}\"\n",
        services.url("/machine/metrics")
    );
    let service = place.serve();
    place.sign_in();
    store_own_token(&place);
    assert!(place.apply_demo().status.success());
    let output = place.apply(&[("own.toml", own), ("machine.toml", &machine)]);
    assert!(output.status.success(), "{}", text(&output.stderr));
    (place, (service, services))
}

/// Blocks that failed, or that say that there is nothing.
fn troubles(document: &Value) -> Vec<String> {
    let sections = document["sections"].as_array().unwrap().iter();
    let blocks = sections.flat_map(|section| section["blocks"].as_array().unwrap());
    blocks
        .filter(|block| block["kind"] == "failed")
        .map(|block| format!("{}: {}", block["title"], block["reason"]))
        .collect()
}

#[tokio::test(flavor = "multi_thread")]
async fn every_template_makes_a_dashboard_of_its_real_counterpart() {
    let (place, _running) = prepared().await;
    let all = place.json(&["templates"]);
    let names: Vec<&str> = all
        .as_array()
        .unwrap()
        .iter()
        .map(|template| template["name"].as_str().unwrap())
        .collect();
    assert!(names.len() >= 24, "{names:?}");
    let database = place.cluster.address();
    let mut samplers = BTreeSet::new();
    for name in &names {
        let (source, values) = given(name, &database);
        let mut order = vec!["use", name, "--source", source];
        for value in &values {
            order.extend(["--value", value]);
        }
        let made = place.json(&order);
        assert_eq!(made["dashboard"], **name, "{made}");
        for file in made["files"].as_array().unwrap() {
            let file = file["file"].as_str().unwrap();
            if let Some(sampler) = file.strip_prefix("samplers/") {
                samplers.insert(sampler.trim_end_matches(".toml").to_owned());
            }
        }
    }
    assert!(samplers.len() > 8, "{samplers:?}");
    let began = Instant::now();
    loop {
        let kept = place.json(&["samplers"]);
        let waiting: Vec<&Value> = kept
            .as_array()
            .unwrap()
            .iter()
            .filter(|one| samplers.contains(one["name"].as_str().unwrap()))
            .filter(|one| one["samples"].as_i64().unwrap() < 1)
            .collect();
        if waiting.is_empty() {
            break;
        }
        assert!(began.elapsed() < PATIENCE, "{waiting:?}");
        tokio::time::sleep(std::time::Duration::from_millis(200)).await;
    }
    // Something is on record.
    place.json(&["run", "failed-jobs", "--no-delivery"]);
    let folder = place.folder.path().join("seen");
    for name in &names {
        let into = folder.join(name);
        let output = place.lark(&[
            "preview",
            name,
            "--window",
            "last = \"PT24H\"",
            "--format",
            "json",
            "--into",
            into.to_str().unwrap(),
        ]);
        assert!(output.status.success(), "{name}: {}", text(&output.stderr));
        let file = std::fs::read_dir(&into).unwrap().next().unwrap().unwrap();
        let document: Value = serde_json::from_slice(&std::fs::read(file.path()).unwrap()).unwrap();
        assert_eq!(troubles(&document), Vec::<String>::new(), "{name}");
        let rows: usize = document["tables"]
            .as_array()
            .unwrap()
            .iter()
            .map(|table| table["rows"].as_array().unwrap().len())
            .sum();
        let figures = document["sections"].to_string().contains("\"figures\":[{");
        assert!(rows > 0 || figures, "{name} shows nothing");
    }
    // Made once more it is another dashboard, and knows its template.
    let again = place.json(&["use", "postgresql-cache", "--source", "operations"]);
    assert_eq!(again["dashboard"], "postgresql-cache-2");
    let one = place.json(&["templates", "postgresql-cache"]);
    assert_eq!(
        one["used_by"],
        serde_json::json!(["postgresql-cache", "postgresql-cache-2"])
    );
    // A dashboard of one's own becomes a template that others use.
    let made = place.json(&[
        "templates",
        "--from",
        "postgresql-top-of-table",
        "--as",
        "top-of-ours",
        "--question",
        "Which is largest?",
        "--purpose",
        "inventory",
        "--input",
        "table=kiosk_sales",
    ]);
    assert_eq!(made["file"], "templates/top-of-ours.toml");
    let own = place.json(&["templates", "top-of-ours"]);
    assert_eq!(
        (&own["own"], &own["inputs"][0]["example"]),
        (&true.into(), &"kiosk_sales".into())
    );
    place.json(&[
        "use",
        "top-of-ours",
        "--source",
        "operations",
        "--value",
        "table=kiosk_sales",
    ]);
    let several = place.lark(&[
        "templates",
        "--from",
        "estate-overview",
        "--as",
        "x",
        "--question",
        "Q?",
        "--purpose",
        "unit",
    ]);
    assert_eq!(several.status.code(), Some(5));
    assert!(text(&several.stderr).contains("a template reads one source"));
    // Its next version is offered to the dashboards that were made of it, and taken when asked.
    let newer = made["text"]
        .as_str()
        .unwrap()
        .replace("version = 1", "version = 2")
        .replace("\"The largest\"", "\"Largest\"");
    assert!(place.apply(&[("ours.toml", &newer)]).status.success());
    let updates = place.json(&["templates", "--updates"]);
    assert_eq!(
        (&updates[0]["dashboard"], &updates[0]["latest"]),
        (&"top-of-ours".into(), &2.into())
    );
    assert!(
        updates[0]["diff"]
            .as_str()
            .unwrap()
            .contains("+title = \"Largest\""),
        "{updates}"
    );
    place.json(&["templates", "--update", "top-of-ours"]);
    assert_eq!(
        place.json(&["templates", "--updates"]),
        serde_json::json!([])
    );
}

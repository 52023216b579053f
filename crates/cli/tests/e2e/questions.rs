//! Asking sources of every kind, alone and in a report, through the command line.

use maple_lark_demo::{WebServices, web_services::TELEMETRY_TOKEN};

use crate::place::{PATIENCE, Place, text};

const DEMO: &str = concat!(env!("CARGO_MANIFEST_DIR"), "/../../demo");

pub async fn place_with_everything() -> (Place, WebServices) {
    let mut place = Place::new().await;
    place.add_to_configuration_head("sources-may-measure = [\"/\", \"machine\"]\n");
    let services = WebServices::start().await.unwrap();
    let inventory = place.folder.path().join("inventory");
    std::fs::create_dir(&inventory).unwrap();
    let kiosks: Vec<String> = (1..=4)
        .map(|n| format!("havnes-kiosk-{n},K-{n}00,2024-01-0{n}\n"))
        .collect();
    std::fs::write(
        inventory.join("kiosks.csv"),
        format!("kiosk,model,installed\n{}", kiosks.concat()),
    )
    .unwrap();
    std::fs::write(
        inventory.join("archive-clean-up.jsonl"),
        "{\"step\":\"Before\",\"bytes\":1000}\n{\"step\":\"Logs\",\"bytes\":250}\n",
    )
    .unwrap();
    let work_orders = inventory.join("work-orders.db");
    maple_lark_demo::scenario::work_orders::write(&work_orders, chrono::Utc::now()).unwrap();
    for (name, value) in [
        ("ORRIN_WORK_ORDERS", work_orders.display().to_string()),
        ("ORRIN_WEB", services.url("")),
        ("ORRIN_PORT_OFFICE", services.url("/port-office")),
        (
            "ORRIN_PORT_OFFICE_PASSWORD",
            maple_lark_demo::live_page::PASSWORD.to_owned(),
        ),
        ("ORRIN_GATES", services.url("/gates/metrics")),
        ("ORRIN_TELEMETRY_TOKEN", TELEMETRY_TOKEN.to_owned()),
        ("ORRIN_INVENTORY", inventory.display().to_string()),
        ("LARK_METRICS", format!("http://{}/metrics", place.address)),
    ] {
        place.environment.insert(name, value);
    }
    place.with_data().await;
    (place, services)
}

pub fn store_own_token(place: &Place) {
    let token = place.token();
    let output = place.lark_with_input(&["secret", "set", "own-metrics"], &token);
    assert!(output.status.success(), "{}", text(&output.stderr));
    assert!(!text(&output.stdout).contains(&token));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_report_joins_what_sources_of_every_kind_say() {
    let (place, _services) = place_with_everything().await;
    let service = place.serve();
    place.sign_in();
    store_own_token(&place);
    assert!(place.apply_demo().status.success());
    for source in [
        "operations",
        "gates",
        "telemetry",
        "inventory",
        "this-machine",
        "maple-lark",
    ] {
        let test = place.json(&["test", source]);
        assert_eq!(test["works"], true, "{test}");
    }
    // The sampler is asked at once and keeps what it is told.
    let began = std::time::Instant::now();
    let sampler = || {
        place
            .json(&["samplers"])
            .as_array()
            .unwrap()
            .iter()
            .find(|one| one["name"] == "gate-scans")
            .unwrap()
            .clone()
    };
    while sampler()["samples"].as_i64().unwrap() < 1 {
        assert!(began.elapsed() < PATIENCE, "{}", sampler());
        tokio::time::sleep(std::time::Duration::from_millis(200)).await;
    }
    assert_eq!(
        (sampler()["works"].as_bool(), sampler()["detail"].as_str()),
        (Some(true), Some("12 rows"))
    );

    let at = (chrono::Utc::now() + chrono::TimeDelta::days(0)).to_rfc3339();
    let run = place.json(&["run", "estate-daily", "--no-delivery", "--at", &at]);
    assert_eq!(run["state"], "completed", "{run:#}\n{}", service.log());
    let folder = place.folder.path().join("documents");
    place.json(&[
        "download",
        run["id"].as_str().unwrap(),
        "--into",
        folder.to_str().unwrap(),
    ]);
    let csv = |part: &str| {
        let file = std::fs::read_dir(&folder)
            .unwrap()
            .map(|entry| entry.unwrap().path())
            .find(|path| path.to_string_lossy().contains(part));
        let mut reader =
            csv::Reader::from_path(file.unwrap_or_else(|| panic!("no file {part}"))).unwrap();
        reader
            .records()
            .map(|record| {
                record
                    .unwrap()
                    .iter()
                    .map(str::to_owned)
                    .collect::<Vec<_>>()
            })
            .collect::<Vec<_>>()
    };
    // The whole equals the sum of its parts, to the byte.
    let estate = csv("data-on-disks");
    let bytes = |row: &[String]| row[2].parse::<i64>().unwrap();
    let whole = bytes(&estate[0]);
    assert_eq!(estate[0][0], "All ports");
    let ports: Vec<_> = estate[1..].iter().filter(|row| row[1].is_empty()).collect();
    assert_eq!(
        (ports.len(), ports.iter().map(|row| bytes(row)).sum::<i64>()),
        (6, whole)
    );
    assert_eq!(
        estate[1..]
            .iter()
            .filter(|row| !row[1].is_empty())
            .map(|row| bytes(row))
            .sum::<i64>(),
        whole
    );
    // Only the kiosks of the file have a model; the others are a group of their own.
    let models = csv("failed-sales-by-model");
    assert_eq!(models.len(), 6, "{models:?}");
    assert_eq!(models[0][0], "All models");
    // A block of another dashboard, with all its rows in CSV and five in the documents.
    assert!(csv("five-kiosks").len() > 5);
    let left: Vec<Vec<String>> = csv("clean-up-freed")
        .into_iter()
        .map(|row| row[1..].to_vec())
        .collect();
    assert_eq!(
        left,
        [
            ["1000", "1000", "100"],
            ["250", "750", "25"],
            ["750", "750", "75"]
        ]
    );
    assert!(
        !folder.read_dir().unwrap().any(|entry| entry
            .unwrap()
            .file_name()
            .to_string_lossy()
            .contains("own-runs")),
        "a hidden block is nowhere"
    );
    let log = service.log();
    assert!(
        !log.contains(TELEMETRY_TOKEN)
            && !log.contains(&place.environment["ORRIN_READER_PASSWORD"])
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn a_query_is_tried_before_anything_is_built_on_it() {
    let (place, _services) = place_with_everything().await;
    let _service = place.serve();
    place.sign_in();
    assert!(place.apply_demo().status.success());
    let tried = place.json(&[
        "query",
        "operations",
        "select code, name from ports where code = any(:ports) order by 1",
        "--value",
        "ports=havnes,ostrey",
    ]);
    assert_eq!(
        (
            tried["row_count"].as_i64(),
            tried["rows"][0][1].as_str(),
            tried["columns"][0]["kind"].as_str()
        ),
        (Some(2), Some("Havnes"), Some("text"))
    );
    assert_eq!(
        tried["sent"],
        "select code, name from ports where code = any($1) order by 1"
    );
    let code = place.json(&[
        "query",
        "operations",
        "select :code || '!' as code, :n + 1 as n",
        "--value",
        "code=0100",
        "--value",
        "n=41",
    ]);
    assert_eq!(
        (code["rows"][0][0].as_str(), code["rows"][0][1].as_str()),
        (Some("0100!"), Some("42"))
    );
    let of_a_dashboard = place.json(&[
        "query",
        "--query",
        "ferry-operations/fullest_disks",
        "--value",
        "port=havnes",
        "--rows",
        "2",
    ]);
    assert_eq!(
        (
            of_a_dashboard["row_count"].as_i64(),
            of_a_dashboard["rows"].as_array().unwrap().len()
        ),
        (Some(4), 2)
    );
    let file = place.folder.path().join("query.toml");
    std::fs::write(&file, "[query]\nsource = \"inventory\"\nfile = \"*.csv\"\nthen = [{ do = \"limit\", rows = 1 }]\n").unwrap();
    let typed = place.json(&["query", "--file", file.to_str().unwrap()]);
    assert_eq!(typed["row_count"], 1);
    assert!(
        typed["fields"]
            .as_str()
            .unwrap()
            .contains("name = \"installed\"\nkind = \"date\"")
    );
    // Picked, and as it would be written by hand, which gives the same.
    let pick = "[query]\nsource = \"operations\"\n[query.pick]\ntable = \"hosts\"\nmeasure = [{ column = \"*\" }]\ngroup = \"role\"\nfilter = [{ column = \"port\", is = [\"havnes\"] }]\n";
    std::fs::write(&file, pick).unwrap();
    let picked = place.json(&["query", "--file", file.to_str().unwrap()]);
    let by_hand = place.json(&["query", "operations", picked["by_hand"].as_str().unwrap()]);
    assert_eq!(picked["rows"], by_hand["rows"]);
    assert_eq!(picked["rows"].as_array().unwrap().len(), 3);

    let parameters = place.json(&["parameters", "estate-overview", "--value", "port=havnes"]);
    assert_eq!(parameters[0]["choices"].as_array().unwrap().len(), 7);
    assert_eq!(parameters[1]["depends_on"][0], "port");
    assert!(
        parameters[1]["choices"]
            .as_array()
            .unwrap()
            .iter()
            .skip(1)
            .all(|choice| choice["value"].as_str().unwrap().starts_with("havnes-"))
    );
    let tables = place.json(&["catalogue", "operations", "kiosk"]);
    assert_eq!(
        tables
            .as_array()
            .unwrap()
            .iter()
            .map(|entry| entry["name"].as_str().unwrap())
            .collect::<Vec<_>>(),
        ["kiosk_sales", "kiosks"]
    );

    for (arguments, wanted) in [
        (
            vec!["query", "operations", "select 1; drop table ports"],
            "more than one statement",
        ),
        (
            vec!["query", "operations", "select * from portz"],
            "relation \"portz\" does not exist",
        ),
        (
            vec!["query", "operation", "select 1"],
            "there is no source \"operation\". Did you mean \"operations\"?",
        ),
        (
            vec!["query", "operations", "select :x"],
            "the query asks for :x, which has no value",
        ),
        (
            vec!["query", "--query", "ferry-operations/nothing"],
            "query \"nothing\" in that dashboard",
        ),
        (vec!["catalogue", "nothing"], "source \"nothing\""),
    ] {
        let output = place.lark(&arguments);
        assert!(
            !output.status.success() && text(&output.stderr).contains(wanted),
            "{arguments:?}: {}",
            text(&output.stderr)
        );
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn secrets_are_kept_sealed_and_shown_nowhere() {
    let (place, _services) = place_with_everything().await;
    let service = place.serve();
    place.sign_in();
    store_own_token(&place);
    let listed = place.json(&["secret", "list"]);
    assert_eq!(
        (listed.as_array().unwrap().len(), listed[0]["name"].as_str()),
        (1, Some("own-metrics"))
    );
    let token = place.token();
    let sealed: Vec<u8> = sqlx::query_scalar("select sealed from secrets")
        .fetch_one(&mut place.records().await)
        .await
        .unwrap();
    assert!(
        !sealed
            .windows(token.len())
            .any(|part| part == token.as_bytes())
    );
    let source = std::fs::read_to_string(format!("{DEMO}/sources/maple-lark.toml")).unwrap();
    assert!(place.apply(&[("s.toml", &source)]).status.success());
    assert_eq!(place.json(&["test", "maple-lark"])["works"], true);
    assert!(
        place
            .lark(&["secret", "remove", "own-metrics", "--yes"])
            .status
            .success()
    );
    let after = place.lark(&["test", "maple-lark"]);
    assert!(
        text(&after.stdout).contains("the secret \"own-metrics\" is not kept here"),
        "{}",
        text(&after.stdout)
    );
    let refused = place.lark_with_input(&["secret", "set", "Not A Name"], "x");
    assert!(
        text(&refused.stderr).contains("small letters, digits and hyphens"),
        "{}",
        text(&refused.stderr)
    );
    assert!(!service.log().contains(&token));
}

/// Four sources answer while a fifth hangs; it costs its own timeout and nobody else's.
#[tokio::test(flavor = "multi_thread")]
async fn a_source_that_hangs_does_not_keep_the_others() {
    let (place, services) = place_with_everything().await;
    let _service = place.serve();
    place.sign_in();
    let slow = format!(
        "[source]\nname = \"slow\"\nkind = \"http-json\"\nurl = \"{}\"\ntimeout = \"PT2S\"\n",
        services.url("")
    );
    let operations = std::fs::read_to_string(format!("{DEMO}/sources/operations.toml")).unwrap();
    let mut dashboard = "[dashboard]\nname = \"many\"\ntitle = \"Many\"\n[[query]]\nname = \"hangs\"\nsource = \"slow\"\npath = \"/slow\"\nrows = \"$[*]\"\nfield = [{ name = \"n\", path = \"$\" }]\n".to_owned();
    let mut blocks = "[[section]]\ntitle = \"All\"\n[[section.block]]\nshow = \"table\"\ntitle = \"hangs\"\nquery = \"hangs\"\n".to_owned();
    for n in 0..20 {
        dashboard += &format!(
            "[[query]]\nname = \"q{n}\"\nsource = \"operations\"\nsql = \"select {n} as n\"\n"
        );
        blocks +=
            &format!("[[section.block]]\nshow = \"table\"\ntitle = \"q{n}\"\nquery = \"q{n}\"\n");
    }
    let report = "[report]\nname = \"many\"\ntitle = \"Many\"\ntime-zone = \"UTC\"\ndashboards = [\"many\"]\non-failed-block = \"send\"\n[window]\nprevious = \"day\"\n";
    let applied = place.apply(&[
        ("slow.toml", &slow),
        ("operations.toml", &operations),
        ("d.toml", &(dashboard + &blocks)),
        ("r.toml", report),
    ]);
    assert!(applied.status.success(), "{}", text(&applied.stderr));
    let run = place.json(&["run", "many", "--no-delivery"]);
    let steps = run["steps"].as_array().unwrap();
    let hung = steps
        .iter()
        .find(|step| step["subject"] == "many / hangs")
        .unwrap();
    assert!(
        hung["detail"]
            .as_str()
            .unwrap()
            .contains("did not answer within 2 s"),
        "{hung}"
    );
    let ended = |step: &serde_json::Value| {
        step["ended_at"]
            .as_str()
            .unwrap()
            .parse::<chrono::DateTime<chrono::Utc>>()
            .unwrap()
    };
    let others: Vec<_> = steps
        .iter()
        .filter(|step| step["kind"] == "collect" && step["state"] == "done")
        .collect();
    assert_eq!(others.len(), 20);
    assert!(
        others.iter().all(|step| ended(step) < ended(hung)),
        "all others had ended before"
    );
}

/// What is too old goes, and of what has grown old one answer stays in each step.
#[tokio::test(flavor = "multi_thread")]
async fn a_history_is_thinned_out_and_forgotten() {
    let place = Place::new().await;
    let _service = place.serve();
    place.sign_in();
    let mut records = place.records().await;
    let now = chrono::Utc::now();
    let step = now.timestamp().div_euclid(600) * 600 - 9 * 600;
    let at = |seconds: i64| chrono::DateTime::from_timestamp(seconds, 0).unwrap();
    let answer = |value: f64| serde_json::json!({ "columns": [{ "name": "target", "kind": "text" }, { "name": "used_percent", "kind": "number" }], "rows": [["/", value]], "truncated": false });
    for (seconds, value) in [
        (step - 7200, 9.0),
        (step, 1.0),
        (step + 200, 3.0),
        (step + 599, 8.0),
        (step + 600, 5.0),
        (step + 8 * 600, 7.0),
        (step + 8 * 600 + 1, 7.5),
    ] {
        sqlx::query("insert into samples (sampler, at, body) values ('disks', $1, $2)")
            .bind(at(seconds))
            .bind(answer(value))
            .execute(&mut records)
            .await
            .unwrap();
    }
    let source = "[source]\nname = \"here\"\nkind = \"local-checks\"\n";
    let sampler = "[sampler]\nname = \"disks\"\nevery = \"P1D\"\nkeep = \"PT3H\"\n[sampler.downsample]\nafter = \"PT1H\"\nto = \"PT10M\"\nwith = \"mean\"\n[query]\nsource = \"here\"\ncheck = \"disk\"\ntargets = [\"/\"]\n";
    let applied = place.apply(&[("s.toml", source), ("d.toml", sampler)]);
    assert!(applied.status.success(), "{}", text(&applied.stderr));
    let began = std::time::Instant::now();
    let kept = loop {
        let kept: Vec<(chrono::DateTime<chrono::Utc>, serde_json::Value)> =
            // Without the answer that the sampler itself is given now, which has more columns.
            sqlx::query_as("select at, body from samples where sampler = 'disks' and at > $1 and jsonb_array_length(body -> 'columns') = 2 order by at")
                .bind(at(step - 9000))
                .fetch_all(&mut records)
                .await
                .unwrap();
        if kept.len() == 4 {
            break kept;
        }
        assert!(began.elapsed() < PATIENCE, "{kept:#?}");
        tokio::time::sleep(std::time::Duration::from_millis(200)).await;
    };
    // The mean of the three answers of one step, at the last one's instant; young ones stay.
    assert_eq!(kept[0], (at(step + 599), answer(4.0)));
    assert_eq!(
        kept[1..]
            .iter()
            .map(|(_, body)| body["rows"][0][1].as_f64().unwrap())
            .collect::<Vec<_>>(),
        [5.0, 7.0, 7.5]
    );
    let tried_file = place.folder.path().join("q.toml");
    std::fs::write(&tried_file, "[query]\nsampler = \"disks\"\n").unwrap();
    let tried = place.json(&[
        "query",
        "--file",
        tried_file.to_str().unwrap(),
        "--from",
        &at(step).to_rfc3339(),
        "--to",
        &at(step + 1200).to_rfc3339(),
    ]);
    assert_eq!(tried["columns"][0]["name"], "at");
    assert_eq!(
        tried["rows"]
            .as_array()
            .unwrap()
            .iter()
            .map(|row| row[2].as_str().unwrap())
            .collect::<Vec<_>>(),
        ["4", "5"]
    );
}

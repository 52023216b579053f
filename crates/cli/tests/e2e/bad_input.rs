//! Whatever is wrong is said once, clearly, and nothing is half done.

use crate::place::{Place, operations, small_dashboard, small_report, small_report_for, text};

/// A file in the place of a folder is named as what it is.
#[tokio::test(flavor = "multi_thread")]
async fn a_file_is_no_folder_of_definitions() {
    let place = Place::new().await;
    let _service = place.serve();
    place.sign_in();
    let file = place.folder.path().join("report.toml");
    std::fs::write(&file, &*small_report()).unwrap();
    let output = place.lark(&["apply", file.to_str().unwrap(), "--yes"]);
    let said = text(&output.stderr);
    assert!(!output.status.success());
    assert!(
        said.contains("is a file; give the folder that its definitions are in"),
        "{said}"
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn definitions_with_problems_change_nothing_and_say_where() {
    let place = Place::new().await;
    let _service = place.serve();
    place.sign_in();
    let dashboard = small_dashboard("select 1 as one");
    let cases = [
        (
            operations().to_string().replace("database =", "databse ="),
            small_report().to_string(),
            "source.toml:6:1: source.databse: unknown key \"databse\". Did you mean \"database\"?",
        ),
        (
            operations().to_string(),
            small_report()
                .key("time-zone", "Atlantic/Farroe")
                .to_string(),
            "report.toml:4:13: report.time-zone: \"Atlantic/Farroe\" is not an IANA time zone. Did you mean \"Atlantic/Faroe\"?",
        ),
        (
            operations().to_string(),
            small_report().list("dashboards", &["smal"]).to_string(),
            "report.toml:5:15: report.dashboards[1]: there is no dashboard \"smal\". Did you mean \"small\"?",
        ),
        (
            operations().to_string(),
            small_report().key("title", 7).to_string(),
            "report.toml:3:9: report.title: must be a text in quotes, but is an integer",
        ),
        (
            operations().to_string(),
            small_report_for("a b@orrin-sound.example").to_string(),
            "is not a mail address",
        ),
    ];
    for (source, report, expected) in cases {
        let output = place.apply(&[
            ("source.toml", &source),
            ("dashboard.toml", &dashboard),
            ("report.toml", &report),
        ]);
        let said = text(&output.stderr);
        assert_eq!(output.status.code(), Some(5), "{said}");
        assert!(said.contains(expected), "wanted: {expected}\nsaid: {said}");
        assert!(said.contains("nothing was changed"));
    }
    assert_eq!(
        place.json(&["sources"]).as_array().unwrap().len(),
        0,
        "not even the valid files were applied"
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn a_failed_query_holds_the_run_and_its_documents_say_why() {
    let place = Place::new().await;
    let _service = place.serve();
    place.sign_in();
    let apply = |dashboard: &str, report: &str| {
        let output = place.apply(&[
            ("source.toml", &operations()),
            ("dashboard.toml", dashboard),
            ("report.toml", report),
        ]);
        assert!(output.status.success(), "{}", text(&output.stderr));
    };
    apply(
        &small_dashboard("select colour from nowhere"),
        &small_report(),
    );
    let output = place.lark(&["run", "small", "--output", "json"]);
    assert_eq!(output.status.code(), Some(1));
    let run: serde_json::Value = serde_json::from_slice(&output.stdout).unwrap();
    assert_eq!(run["state"], "held");
    let problem = run["problem"].as_str().unwrap();
    assert!(
        problem.contains("\"Rows\" could not be made")
            && problem.contains("relation \"nowhere\" does not exist"),
        "{problem}"
    );
    assert_eq!(place.mail.messages().len(), 0, "a held report is not sent");
    let html = run["documents"]
        .as_array()
        .unwrap()
        .iter()
        .find(|document| document["format"] == "html")
        .unwrap();
    let into = place.folder.path().join("held");
    place.json(&[
        "download",
        run["id"].as_str().unwrap(),
        "--format",
        "html",
        "--into",
        into.to_str().unwrap(),
    ]);
    let page = std::fs::read_to_string(into.join(html["file_name"].as_str().unwrap())).unwrap();
    assert!(page.contains("This block could not be made") && page.contains("nowhere"));

    // The author may choose to send it all the same, plainly marked.
    apply(
        &small_dashboard("select colour from nowhere"),
        &small_report().key("on-failed-block", "send"),
    );
    assert_eq!(place.json(&["run", "small"])["state"], "delivered");
    assert!(text(&place.mail.messages()[0]).contains("could not be made"));

    // Reading is read-only whatever the query says, and bounded in time.
    apply(
        &small_dashboard("with gone as (delete from pg_class returning 1) select * from gone"),
        &small_report(),
    );
    let run: serde_json::Value =
        serde_json::from_slice(&place.lark(&["run", "small", "--output", "json"]).stdout).unwrap();
    assert_eq!(run["state"], "held", "{run:#}");
    let slow = operations().key("timeout", "PT1S");
    let output = place.apply(&[
        ("source.toml", &slow),
        (
            "dashboard.toml",
            &small_dashboard("select pg_sleep(60)::text as nap"),
        ),
        ("report.toml", &small_report()),
    ]);
    assert!(output.status.success());
    let run: serde_json::Value =
        serde_json::from_slice(&place.lark(&["run", "small", "--output", "json"]).stdout).unwrap();
    assert!(
        run["problem"]
            .as_str()
            .unwrap()
            .contains("did not answer within 1 s"),
        "{run:#}"
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn a_source_that_refuses_says_why_without_a_secret() {
    let mut place = Place::new().await;
    place
        .environment
        .insert("WRONG_PASSWORD", "hunter2hunter2".to_owned());
    let service = place.serve();
    place.sign_in();
    let cases = [
        (
            operations().key("address", "127.0.0.1:9"),
            "127.0.0.1:9 cannot be reached",
        ),
        (
            operations().key("password", "env:WRONG_PASSWORD"),
            "refused the sign-in: password authentication failed for user \"orrin_reader\"",
        ),
        (
            operations().key("password", "env:NOT_SET"),
            "password refers to env:NOT_SET, which is not set",
        ),
        (
            operations().key("database", "nothing_ops"),
            "database \"nothing_ops\" does not exist",
        ),
    ];
    for (source, expected) in cases {
        assert!(place.apply(&[("source.toml", &source)]).status.success());
        let output = place.lark(&["test", "operations"]);
        let said = text(&output.stdout);
        assert_eq!(output.status.code(), Some(1), "{said}");
        assert!(said.contains(expected), "wanted: {expected}\nsaid: {said}");
        assert!(!said.contains("hunter2"));
    }
    assert!(!service.log().contains("hunter2"));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_refused_recipient_stops_nobody_else_and_a_postponed_one_is_tried_again() {
    let place = Place::new().await;
    let _service = place.serve();
    place.sign_in();
    place.apply_small(&small_report());
    place.mail.behave(|behaviour| {
        drop(behaviour.refuse.insert(
            "b@orrin-sound.example".into(),
            (550, "No such person here".into()),
        ))
    });
    let output = place.lark(&["run", "small", "--output", "json"]);
    let run: serde_json::Value = serde_json::from_slice(&output.stdout).unwrap();
    assert_eq!(
        (run["state"].as_str(), output.status.code()),
        (Some("partly-delivered"), Some(1))
    );
    let states: Vec<_> = run["deliveries"]
        .as_array()
        .unwrap()
        .iter()
        .map(|delivery| {
            (
                delivery["recipient"].as_str().unwrap(),
                delivery["state"].as_str().unwrap(),
            )
        })
        .collect();
    assert_eq!(
        states,
        [
            ("a@orrin-sound.example", "accepted"),
            ("b@orrin-sound.example", "refused")
        ]
    );
    assert!(
        run["deliveries"][1]["problem"]
            .as_str()
            .unwrap()
            .contains("No such person here")
    );
    assert_eq!(place.mail.messages().len(), 1);

    place.mail.behave(|behaviour| {
        drop(behaviour.refuse.insert(
            "b@orrin-sound.example".into(),
            (451, "Come back later".into()),
        ))
    });
    let id = place.json(&["run", "small", "--detach"])["id"]
        .as_str()
        .unwrap()
        .to_owned();
    let waiting = loop {
        let run = place.json(&["show", &id]);
        let attempts = run["deliveries"]
            .as_array()
            .unwrap()
            .iter()
            .find(|delivery| delivery["recipient"] == "b@orrin-sound.example")
            .map(|delivery| delivery["attempts"].clone());
        if attempts.is_some_and(|attempts| {
            attempts
                .as_array()
                .unwrap()
                .iter()
                .any(|attempt| attempt["outcome"] == "postponed")
        }) {
            break run;
        }
    };
    assert_eq!(waiting["settled"], false);
    place.mail.behave(|behaviour| behaviour.refuse.clear());
    let run = place.settled(&id);
    assert_eq!(run["state"], "delivered");
    assert_eq!(place.mail.messages().len(), 3);
}

#[tokio::test(flavor = "multi_thread")]
async fn exit_codes_say_what_went_wrong() {
    let place = Place::new().await;
    let unreachable = place.lark(&["sign-in"]);
    assert_eq!(
        unreachable.status.code(),
        Some(3),
        "{}",
        text(&unreachable.stderr)
    );
    let _service = place.serve();
    let output = place.lark(&["reports"]);
    assert_eq!(output.status.code(), Some(4));
    assert!(text(&output.stderr).contains("maple-lark sign-in"));
    place.sign_in();
    assert_eq!(place.lark(&["run", "nothing"]).status.code(), Some(5));
    assert_eq!(
        place.lark(&["runs", "--size", "many"]).status.code(),
        Some(2)
    );
    assert_eq!(place.lark(&["sign-out"]).status.code(), Some(0));
    assert_eq!(place.lark(&["reports"]).status.code(), Some(4));
}

#[test]
fn a_reader_that_has_seen_enough_is_no_fault() {
    use std::process::{Command, Stdio};
    let mut child = Command::new(env!("CARGO_BIN_EXE_maple-lark"))
        .arg("openapi")
        .stdout(Stdio::piped())
        .stderr(Stdio::piped())
        .spawn()
        .unwrap();
    drop(child.stdout.take());
    let output = child.wait_with_output().unwrap();
    assert!(
        output.status.success() && output.stderr.is_empty(),
        "{}",
        String::from_utf8_lossy(&output.stderr)
    );
}

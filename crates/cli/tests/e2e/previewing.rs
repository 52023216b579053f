//! What a dashboard or a report would show, before anything is kept or sent.

use reqwest::{Client, StatusCode, header};
use serde_json::{Value, json};

use crate::{
    console::{Driver, click, see, signed_in_at},
    documents::barriers,
    forms::Hands,
    place::{Place, applied, operations, ready, small_report, text},
};

const BY_PORT: &str = r#"
[dashboard]
name = "by-port"
title = "By port"
[[parameter]]
name = "port"
title = "Port"
kind = "choice"
choices = ["havnes", "ostrey"]
[[parameter]]
name = "least"
title = "At least"
kind = "number"
default = 1
[[query]]
name = "q"
source = "operations"
sql = "select :port as port, :least::int as least, :from::timestamptz as begins, :to::timestamptz as ends"
[[query]]
name = "before"
source = "operations"
same-for-all = true
sql = "select :compare_from::timestamptz as compared"
[[section]]
title = "All"
[[section.block]]
show = "table"
title = "Rows"
query = "q"
[[section.block]]
show = "table"
title = "Compared"
query = "before"
"#;

const REPORT: &str = r#"
[report]
name = "ports"
title = "Ports"
time-zone = "Atlantic/Faroe"
dashboards = ["by-port"]
[window]
previous = "day"
compare = "window-before"
[parameters]
least = 3
[[audience]]
name = "Havnes"
to = ["a@orrin-sound.example"]
parameters = { port = "havnes" }
"#;

async fn asked(place: &Place, order: Value) -> (StatusCode, String, String) {
    let request = Client::new()
        .post(format!("http://{}/api/v1/preview", place.address))
        .bearer_auth(place.token())
        .json(&order);
    let answer = request.send().await.unwrap();
    let kind = answer.headers()[header::CONTENT_TYPE]
        .to_str()
        .unwrap()
        .to_owned();
    (answer.status(), kind, answer.text().await.unwrap())
}

async fn shown(place: &Place, order: Value) -> String {
    let (status, kind, text) = asked(place, order.clone()).await;
    assert_eq!(status, StatusCode::OK, "{order}: {text}");
    assert!(kind.starts_with("text/html"), "{order}: {kind}");
    plain(&text)
}

/// HTML with the slashes that its escaping takes away.
fn plain(html: &str) -> String {
    html.replace("&#x2f;", "/")
}

async fn refused(place: &Place, order: Value) -> String {
    let (status, kind, text) = asked(place, order.clone()).await;
    assert!(
        status.is_client_error() && kind == "application/problem+json",
        "{order}: {status} {text}"
    );
    let problem: Value = serde_json::from_str(&text).unwrap();
    let problems: Vec<&str> = problem["problems"]
        .as_array()
        .into_iter()
        .flatten()
        .filter_map(|one| one["message"].as_str())
        .collect();
    if problems.is_empty() {
        problem["detail"].as_str().unwrap().to_owned()
    } else {
        problems.join("; ")
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_dashboard_is_shown_for_any_window_and_values_and_nothing_is_kept() {
    let (place, _service) = ready().await;
    applied(
        &place,
        &[
            ("source.toml", &operations()),
            ("dashboard.toml", BY_PORT),
            ("report.toml", REPORT),
        ],
    );

    // The night on which clocks go back has 25 hours.
    let order = json!({ "dashboard": "by-port", "time_zone": "Atlantic/Faroe", "window": { "interval": "2026-10-25/2026-10-26" }, "values": { "port": "ostrey" } });
    let html = shown(&place, order).await;
    assert!(
        html.contains("<h1>By port</h1>") && html.contains("Sunday 25 October 2026"),
        "{html}"
    );
    assert!(
        html.contains("2026-10-25T00:00:00+01:00/2026-10-26T00:00:00+00:00"),
        "{html}"
    );
    assert!(html.contains("ostrey") && !html.contains("havnes"));
    // It asks with a comparison window, so it is given one.
    assert!(
        html.contains("<dt>Compared</dt>") && html.contains("<td>23 Oct 23:00</td>"),
        "{html}"
    );

    // A report has its own window, and an audience its values; those given come first.
    let order = json!({ "report": "ports", "audience": "Havnes", "at": "2026-03-02T07:30:00Z", "values": { "least": 7 } });
    let html = shown(&place, order).await;
    assert!(
        html.contains("Sunday 1 March 2026") && html.contains("havnes") && html.contains(">7<"),
        "{html}"
    );

    // A text that was never applied, as it would be.
    let draft = BY_PORT.replace("By port", "Draft").replace(
        "[[section.block]]\nshow = \"table\"\ntitle = \"Rows\"",
        "[[section.block]]\nshow = \"table\"\ntitle = \"Other rows\"",
    );
    let html = shown(
        &place,
        json!({ "definition": draft, "values": { "port": "havnes" } }),
    )
    .await;
    assert!(html.contains("<h1>Draft</h1>") && html.contains("Other rows"));
    let html = shown(&place, json!({ "definition": REPORT.replace("title = \"Ports\"", "title = \"Ports, redrafted\""), "audience": "Havnes" })).await;
    assert!(html.contains("<h1>Ports, redrafted</h1>"));

    // A block that fails says so in its place; the others are there.
    let broken = BY_PORT.replace(
        "select :compare_from::timestamptz as compared",
        "select 1 / 0 as compared, :compare_from::timestamptz as at",
    );
    let html = shown(
        &place,
        json!({ "definition": broken, "values": { "port": "havnes" } }),
    )
    .await;
    assert!(
        html.contains("This block could not be made")
            && html.contains("division by zero")
            && html.contains(">havnes<"),
        "{html}"
    );

    assert_eq!(place.json(&["runs"])["total"], 0, "nothing was run");
    assert_eq!(place.json(&["dashboards"]).as_array().unwrap().len(), 1);
    assert_eq!(
        place.json(&["dashboards"])[0]["title"],
        "By port",
        "what was shown is not applied"
    );
    assert!(place.mail.messages().is_empty());
}

#[tokio::test(flavor = "multi_thread")]
async fn what_cannot_be_shown_says_why() {
    let (place, _service) = ready().await;
    applied(
        &place,
        &[
            ("source.toml", &operations()),
            ("dashboard.toml", BY_PORT),
            ("report.toml", REPORT),
        ],
    );
    let dashboard = |more: Value| {
        let mut order = json!({ "dashboard": "by-port" });
        order
            .as_object_mut()
            .unwrap()
            .extend(more.as_object().unwrap().clone());
        order
    };
    let cases = [
        (json!({}), "give one of report, dashboard and definition"),
        (
            json!({ "dashboard": "by-port", "report": "ports" }),
            "give one of report, dashboard and definition",
        ),
        (json!({ "dashboard": "nowhere" }), "dashboard \"nowhere\""),
        (json!({ "report": "nowhere" }), "report \"nowhere\""),
        (
            dashboard(json!({})),
            "the parameter \"port\" (Port) needs a value",
        ),
        (
            dashboard(json!({ "values": { "port": "havnse" } })),
            "the value of \"port\": \"havnse\" is not one of \"havnes\", \"ostrey\". Did you mean \"havnes\"?",
        ),
        (
            dashboard(json!({ "values": { "port": "havnes", "lest": 1 } })),
            "there is no parameter \"lest\" here. Did you mean \"least\"?",
        ),
        (
            dashboard(json!({ "values": { "port": "havnes", "least": "many" } })),
            "the value of \"least\": must be a number",
        ),
        (
            dashboard(json!({ "values": { "port": "havnes" }, "window": { "previous": "dya" } })),
            "\"dya\" is not one of",
        ),
        (
            dashboard(json!({ "values": { "port": "havnes" }, "time_zone": "Atlantic/Faro" })),
            "Did you mean \"Atlantic/Faroe\"?",
        ),
        (
            dashboard(json!({ "values": { "port": "havnes" }, "theme": "none-such" })),
            "theme \"none-such\"",
        ),
        (
            dashboard(json!({ "values": { "port": "havnes" }, "format": "doc" })),
            "\"doc\" is not a format; there are pdf, html",
        ),
        (
            json!({ "report": "ports", "audience": "Havnse" }),
            "this report has no audience \"Havnse\". Did you mean \"Havnes\"?",
        ),
        (
            json!({ "definition": BY_PORT.replace("query = \"before\"", "query = \"befor\"") }),
            "there is no query \"befor\" in this dashboard. Did you mean \"before\"?",
        ),
        (
            json!({ "definition": BY_PORT.replace("source = \"operations\"", "source = \"operatoins\"") }),
            "Did you mean \"operations\"?",
        ),
        (
            json!({ "definition": &*operations() }),
            "a source shows nothing by itself",
        ),
    ];
    for (order, words) in cases {
        let said = refused(&place, order.clone()).await;
        assert!(said.contains(words), "{order}: {said}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn the_command_line_writes_a_preview_in_any_format() {
    let (place, _service) = ready().await;
    applied(
        &place,
        &[
            ("source.toml", &operations()),
            ("dashboard.toml", BY_PORT),
            ("report.toml", REPORT),
        ],
    );
    let into = place.folder.path().join("previews");
    let folder = into.to_str().unwrap();
    let written = |arguments: &[&str]| {
        let saved = place.json(&[&["preview"], arguments, &["--into", folder]].concat());
        let path = saved[0].as_str().unwrap().to_owned();
        let bytes = std::fs::read(&path).unwrap();
        assert_eq!(saved[1], bytes.len());
        (path, bytes)
    };
    let (path, html) = written(&[
        "by-port",
        "--value",
        "port=havnes",
        "--time-zone",
        "Atlantic/Faroe",
        "--window",
        "last = \"PT6H\"",
        "--at",
        "2026-10-25T06:00:00Z",
    ]);
    assert!(
        path.ends_with(".html")
            && plain(&text(&html)).contains("2026-10-25T01:00:00+01:00/2026-10-25T06:00:00+00:00"),
        "{path}: {}",
        text(&html)
    );
    let (path, pdf) = written(&[
        "--report",
        "ports",
        "--audience",
        "Havnes",
        "--format",
        "pdf",
    ]);
    assert!(
        path.ends_with(".pdf") && pdf.starts_with(b"%PDF-"),
        "{path}"
    );
    // Several tables of CSV come together.
    let (path, zip) = written(&["by-port", "--value", "port=havnes", "--format", "csv"]);
    assert!(
        path.ends_with("preview.csv.zip") && zip.starts_with(b"PK"),
        "{path}"
    );
    let draft = place.folder.path().join("draft.toml");
    std::fs::write(&draft, BY_PORT.replace("By port", "Draft")).unwrap();
    let (_, html) = written(&["--file", draft.to_str().unwrap(), "--value", "port=havnes"]);
    assert!(plain(&text(&html)).contains("<h1>Draft</h1>"));

    for (arguments, code, words) in [
        (vec!["preview"], 2, "required"),
        (
            vec!["preview", "by-port", "--report", "ports"],
            2,
            "cannot be used with",
        ),
        (
            vec!["preview", "by-port", "--window", "previous ="],
            1,
            "--window is not valid",
        ),
        (
            vec!["preview", "by-port"],
            5,
            "the parameter \"port\" (Port) needs a value",
        ),
        (
            vec!["preview", "--file", "/nowhere.toml"],
            1,
            "/nowhere.toml cannot be read",
        ),
    ] {
        let output = place.lark(&arguments);
        assert_eq!(
            output.status.code(),
            Some(code),
            "{arguments:?}: {}",
            text(&output.stderr)
        );
        assert!(
            text(&output.stderr).contains(words),
            "{arguments:?}: {}",
            text(&output.stderr)
        );
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_dashboard_is_opened_in_the_console_with_its_pickers() {
    let place = Place::new().await;
    let _service = place.serve();
    place.sign_in();
    applied(
        &place,
        &[
            ("source.toml", &operations()),
            ("dashboard.toml", BY_PORT),
            ("report.toml", REPORT),
            (
                "small.toml",
                &small_report()
                    .key("name", "by-port")
                    .list("dashboards", &["by-port"])
                    .instead_of(
                        "[window]",
                        "[window]\ncompare = \"window-before\"\nprevious = \"day\"",
                    )
                    .table("[parameters]\nport = \"ostrey\""),
            ),
        ],
    );
    let driver = Driver::start();
    let profile = tempfile::tempdir().unwrap();
    let browser = driver.browser(profile.path()).await;
    signed_in_at(&browser, &place, "/dashboards").await;
    see(&browser, "//td[@data-label='In reports']//a[.='ports']").await;
    click(&browser, "//a[.='By port']").await;

    // A required value is asked for in words, and picked; then every block is there at once.
    see(&browser, "//p[.='Still to be given: Port.']").await;
    click(
        &browser,
        "//label[contains(., 'Port')]//div[contains(@class, 'el-select__wrapper')]",
    )
    .await;
    click(
        &browser,
        "//li[contains(@class, 'el-select-dropdown__item')][.='ostrey']",
    )
    .await;
    see(&browser, "//section//iframe[@title='Rows']")
        .await
        .enter_frame()
        .await
        .unwrap();
    see(&browser, "//td[.='ostrey']").await;
    browser.enter_parent_frame().await.unwrap();

    // The same as a document.
    click(&browser, "//summary[.='As a document']").await;
    click(&browser, "//button[.='Preview']").await;
    see(&browser, "//iframe[@title='The preview']")
        .await
        .enter_frame()
        .await
        .unwrap();
    see(&browser, "//h1[.='By port']").await;
    see(&browser, "//td[.='ostrey']").await;
    browser.enter_parent_frame().await.unwrap();
    see(&browser, "//button[contains(., 'Download as')]").await;

    // A text is shown before it is applied.
    browser
        .goto(&format!(
            "http://{}/definitions/dashboard/by-port",
            place.address
        ))
        .await
        .unwrap();
    see(
        &browser,
        "//section[@aria-labelledby='preview']//button[.='Preview']",
    )
    .await;
    let text = see(&browser, "//textarea").await;
    text.send_keys("\n# not applied yet").await.unwrap();
    see(&browser, "//button[.='Apply' and not(@disabled)]").await;
    let values = see(&browser, "//input[@aria-label='Values of parameters']").await;
    values
        .send_keys("port=havnes; least=5\u{e007}")
        .await
        .unwrap();
    see(&browser, "//iframe[@title='The preview']")
        .await
        .enter_frame()
        .await
        .unwrap();
    see(&browser, "//td[.='havnes']").await;
    see(&browser, "//td[.='5']").await;
    browser.enter_parent_frame().await.unwrap();
    // The key that shows it applies nothing.
    see(&browser, "//button[.='Apply' and not(@disabled)]").await;
    browser.close().await.unwrap();
    let folder = place.folder.path().join("exported");
    assert!(
        place
            .lark(&["export", folder.to_str().unwrap()])
            .status
            .success()
    );
    assert!(
        !std::fs::read_to_string(folder.join("dashboard.toml"))
            .unwrap()
            .contains("not applied yet")
    );
}

/// Audiences that are rows of a query are known when a run begins; until then the page says so.
#[tokio::test(flavor = "multi_thread")]
async fn a_report_whose_audiences_a_query_names_says_so_and_is_shown_with_values() {
    let place = Place::new().await;
    let _service = place.serve();
    place.sign_in();
    let audiences = "[[audiences-from]]\nsource = \"operations\"\nsql = \"select 'A' as name, 'havnes' as code, 'a@orrin-sound.example' as address\"\nname = \"name\"\nto = \"address\"\nparameters = { port = \"code\" }\n";
    let report = format!(
        "{}{audiences}",
        REPORT.split("[[audience]]").next().unwrap()
    );
    applied(
        &place,
        &[
            ("source.toml", &operations()),
            ("dashboard.toml", BY_PORT),
            ("report.toml", &report),
        ],
    );
    let view = place.json(&["reports"]);
    assert_eq!(
        (&view[0]["audiences"], &view[0]["audiences_from"]),
        (&json!([]), &json!(["operations"]))
    );
    assert_eq!(
        refused(&place, json!({ "report": "ports" })).await,
        "the parameter \"port\" (Port) needs a value"
    );
    assert!(
        shown(
            &place,
            json!({ "report": "ports", "values": { "port": "ostrey" } })
        )
        .await
        .contains("ostrey")
    );

    let driver = Driver::start();
    let profile = tempfile::tempdir().unwrap();
    let browser = driver.browser(profile.path()).await;
    signed_in_at(&browser, &place, "/reports").await;
    see(&browser, "//div[contains(., 'to everybody a query names')]").await;
    click(&browser, "//a[.='Ports']").await;
    see(
        &browser,
        "//dd[.='One for each row of a query to operations']",
    )
    .await;
    see(&browser, "//input[@aria-label='Values of parameters']")
        .await
        .send_keys("port=ostrey")
        .await
        .unwrap();
    click(
        &browser,
        "//section[@aria-labelledby='preview']//button[.='Preview']",
    )
    .await;
    // Block by block, as they come.
    see(
        &browser,
        "//section[@aria-labelledby='preview']//iframe[@title='Rows']",
    )
    .await
    .enter_frame()
    .await
    .unwrap();
    see(&browser, "//td[.='ostrey']").await;
    browser.enter_parent_frame().await.unwrap();
    browser.close().await.unwrap();
    // Looking made no run and no mail; running makes one for each row.
    assert_eq!(place.json(&["runs"])["total"], 0);
    assert_eq!(place.json(&["run", "ports"])["state"], "delivered");
    assert_eq!(place.mail.messages().len(), 1);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_dashboard_is_published_from_its_page_and_opened_without_signing_in() {
    let (place, _service) = ready().await;
    place.apply_small(&small_report());
    let driver = Driver::start();
    let browser = driver.browser(&place.folder.path().join("profile")).await;
    signed_in_at(&browser, &place, "/dashboards/small").await;
    let hands = Hands::at(&browser);
    hands.press("//button[contains(., 'Publish …')]").await;
    see(&browser, "//input[@aria-label='For how many days']").await;
    hands
        .press("//footer//button[contains(., 'Publish')]")
        .await;
    let address = see(&browser, "//code[contains(., '/view/')]").await;
    let address = address.text().await.unwrap();
    hands.press("//a[contains(., 'What is published')]").await;
    see(&browser, "//td[contains(., 'whoever has the address')]").await;
    assert_eq!(barriers(&browser).await, json!([]));
    browser.close().await.unwrap();

    let browser = driver.browser(&place.folder.path().join("visitor")).await;
    browser.goto(&address).await.unwrap();
    let frame = see(&browser, "//iframe[@title='Small']").await;
    assert_eq!(barriers(&browser).await, json!([]));
    frame.enter_frame().await.unwrap();
    see(&browser, "//th[contains(., 'Begins')]").await;
    browser.enter_parent_frame().await.unwrap();
    browser.close().await.unwrap();

    // The command line lists it with how often it was opened, and ends it.
    let listed = place.json(&["publish", "list"]);
    assert_eq!(listed[0]["opened"], 1, "{listed}");
    let id = listed[0]["id"].as_str().unwrap();
    let ended = place.lark(&["publish", "end", id, "--yes"]);
    assert!(ended.status.success(), "{}", text(&ended.stderr));
    assert!(text(&place.lark(&["publish", "list"]).stdout).contains("ended "));
    let run = crate::place::ran(&place, "small")["id"]
        .as_str()
        .unwrap()
        .to_owned();
    let made = place.json(&[
        "publish",
        "run",
        &run,
        "--signed-in",
        "--title",
        "Yesterday",
    ]);
    assert_eq!(
        (&made["title"], &made["signed_in"]),
        (&json!("Yesterday"), &json!(true))
    );

    // Whoever opens it without being signed in comes to it by way of the sign-in.
    let browser = driver.browser(&place.folder.path().join("member")).await;
    let page = format!("/view/{}", made["id"].as_str().unwrap());
    signed_in_at(&browser, &place, &page).await;
    see(&browser, "//iframe[@title='Yesterday']").await;
    assert_eq!(browser.current_url().await.unwrap().path(), page);
    browser.close().await.unwrap();
}

//! What is done to reports over time: copied, rescheduled, removed, looked ahead at.

use chrono::{Datelike, Days, NaiveDate, Utc};
use maple_lark_fixtures::Fixture;
use serde_json::{Value, json};

use crate::place::{
    PASSWORD, Place, applied, operations, ready, small_dashboard, small_report, text,
};

const CALENDAR: &str = "BEGIN:VCALENDAR\r\nVERSION:2.0\r\nNAME:Our holidays\r\nBEGIN:VEVENT\r\nSUMMARY:Harbour Day\r\nDTSTART;VALUE=DATE:20301127\r\n\
    END:VEVENT\r\nEND:VCALENDAR\r\n";

fn daily(extra: &str) -> Fixture {
    small_report().table(&format!(
        "[schedule] # mornings\nevery = \"day\"\nat = \"07:30\"\n{extra}"
    ))
}

/// The API as a browser uses it.
struct Api {
    client: reqwest::Client,
    site: String,
    cookie: String,
}

impl Api {
    async fn signed_in(place: &Place) -> Self {
        let (client, site) = (reqwest::Client::new(), format!("http://{}", place.address));
        let signed = client
            .post(format!("{site}/api/v1/session"))
            .json(&json!({ "name": "admin", "password": PASSWORD }))
            .send()
            .await
            .unwrap();
        let cookie = signed.headers()["set-cookie"]
            .to_str()
            .unwrap()
            .split(';')
            .next()
            .unwrap()
            .to_owned();
        Self {
            client,
            site,
            cookie,
        }
    }

    async fn call(&self, method: reqwest::Method, path: &str, body: Value) -> (u16, Value) {
        let request = self
            .client
            .request(method, format!("{}/api/v1{path}", self.site))
            .header("Cookie", &self.cookie)
            .header("Origin", &self.site);
        let response = if body.is_null() {
            request
        } else {
            request.json(&body)
        }
        .send()
        .await
        .unwrap();
        (
            response.status().as_u16(),
            response.json().await.unwrap_or_default(),
        )
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_report_is_copied_rescheduled_and_removed() {
    let place = Place::new().await;
    let _service = place.serve();
    place.sign_in();
    place.apply_small(&daily(""));

    let copy = place.json(&["copy", "small", "small-night", "--title", "Small, at night"]);
    assert_eq!(
        (
            copy["title"].as_str(),
            copy["paused"].as_bool(),
            copy["file"].as_str()
        ),
        (
            Some("Small, at night"),
            Some(true),
            Some("small-night.toml")
        )
    );
    let taken = place.lark(&["copy", "small", "small-night"]);
    assert_eq!(
        (
            taken.status.code(),
            text(&taken.stderr).contains("there is a report \"small-night\" already")
        ),
        (Some(5), true)
    );
    let bad = place.lark(&["copy", "small", "Small Night"]);
    assert_eq!(bad.status.code(), Some(5));
    // A copy that was refused leaves no schedule behind.
    let states: i64 = sqlx::query_scalar("select count(*) from schedule_states")
        .fetch_one(&mut place.records().await)
        .await
        .unwrap();
    assert_eq!(states, 2);

    let api = Api::signed_in(&place).await;
    let (status, keys) = api
        .call(
            reqwest::Method::GET,
            "/reports/small-night/schedule",
            Value::Null,
        )
        .await;
    assert_eq!(
        (status, keys),
        (
            200,
            json!({ "time_zone": "Atlantic/Faroe", "window": { "previous": "day" }, "schedule": { "every": "day", "at": "07:30" } })
        )
    );
    let new = json!({ "time-zone": "Europe/Lisbon", "window": { "previous": "week", "compare": "last-year" }, "schedule": { "every": "week", "on": ["monday"], "at": "22:00" } });
    let (status, view) = api
        .call(reqwest::Method::PUT, "/reports/small-night/schedule", new)
        .await;
    assert_eq!(
        (status, view["schedule"].as_str(), view["window"].as_str()),
        (
            200,
            Some("Every Monday at 22:00"),
            Some("the previous complete week, compared with the same dates a year before")
        )
    );
    let wrong = json!({ "time-zone": "Europe/Lisbon", "window": { "previous": "week" }, "schedule": { "every": "year", "on": "02-30", "at": "22:00" } });
    let (status, problem) = api
        .call(reqwest::Method::PUT, "/reports/small-night/schedule", wrong)
        .await;
    assert_eq!(
        (
            status,
            problem["detail"]
                .as_str()
                .unwrap()
                .contains("there is never a 30 February")
        ),
        (422, true),
        "{problem}"
    );
    let exported = place.folder.path().join("exported");
    assert!(
        place
            .lark(&["export", exported.to_str().unwrap()])
            .status
            .success()
    );
    let file = std::fs::read_to_string(exported.join("small-night.toml")).unwrap();
    assert!(
        file.contains("[schedule] # mornings\nevery = \"week\"\n") && file.contains("[[audience]]"),
        "{file}"
    );

    let unsure = place.lark(&["remove", "report", "small-night"]);
    assert!(
        text(&unsure.stderr).contains("nothing was removed"),
        "{}",
        text(&unsure.stderr)
    );
    let run = place.json(&["run", "small-night", "--no-delivery"]);
    place.json(&["remove", "report", "small-night", "--yes"]);
    assert_eq!(place.json(&["reports"]).as_array().unwrap().len(), 1);
    assert_eq!(
        place.json(&["show", run["id"].as_str().unwrap()])["documents"]
            .as_array()
            .unwrap()
            .len(),
        3,
        "what was made stays"
    );
    // What something else still needs stays too.
    let needed = place.lark(&["remove", "dashboard", "small", "--yes"]);
    assert_eq!(
        (
            needed.status.code(),
            text(&needed.stderr).contains("there is no dashboard \"small\"")
        ),
        (Some(5), true),
        "{}",
        text(&needed.stderr)
    );
    assert_eq!(place.json(&["dashboards"]).as_array().unwrap().len(), 1);
    assert_eq!(
        place
            .lark(&["remove", "calendar", "nothing", "--yes"])
            .status
            .code(),
        Some(5)
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn the_agenda_shows_what_ran_what_is_due_and_what_a_calendar_leaves_out() {
    let place = Place::new().await;
    let _service = place.serve();
    place.sign_in();
    let today = Utc::now().date_naive();
    let holiday = today + Days::new(3);
    let ics = CALENDAR.replace("20301127", &holiday.format("%Y%m%d").to_string());
    let report = daily("calendar = \"holidays\"").replace("Atlantic/Faroe", "UTC");
    let output = place.apply(&[
        ("holidays.ics", &ics),
        ("source.toml", &operations()),
        ("dashboard.toml", &small_dashboard("select 1 as one")),
        ("report.toml", &report),
    ]);
    assert!(output.status.success(), "{}", text(&output.stderr));
    let calendars = place.json(&["calendars"]);
    assert_eq!(
        (
            calendars[0]["title"].as_str(),
            calendars[0]["next_days"][0]["name"].as_str()
        ),
        (Some("Our holidays"), Some("Harbour Day"))
    );
    assert_eq!(calendars[0]["used_by"], json!(["small"]));

    let past = today - Days::new(2);
    place.json(&[
        "run",
        "small",
        "--at",
        &format!("{past}T07:30:00Z"),
        "--no-delivery",
    ]);
    let agenda = place.json(&[
        "agenda",
        "--time-zone",
        "UTC",
        "--from",
        &past.to_string(),
        "--to",
        &(today + Days::new(6)).to_string(),
    ]);
    let entries = |date: NaiveDate| {
        let day = agenda["days"]
            .as_array()
            .unwrap()
            .iter()
            .find(|day| day["date"] == date.to_string())
            .unwrap();
        day["entries"]
            .as_array()
            .unwrap()
            .iter()
            .map(|entry| {
                (
                    entry["state"].as_str().unwrap().to_owned(),
                    entry["note"].clone(),
                )
            })
            .collect::<Vec<_>>()
    };
    assert_eq!(agenda["days"].as_array().unwrap().len(), 8);
    assert_eq!(entries(past), [("completed".to_owned(), Value::Null)]);
    assert_eq!(
        entries(today + Days::new(1)),
        [("planned".to_owned(), Value::Null)]
    );
    assert_eq!(
        entries(holiday),
        [("left-out".to_owned(), json!("Harbour Day: skipped"))]
    );
    // A schedule with two runs left is planned for two days, and no more.
    let two = report.replace("calendar = \"holidays\"", "runs = 2");
    assert!(place.apply(&[("report.toml", &two)]).status.success());
    let agenda = place.json(&[
        "agenda",
        "--time-zone",
        "UTC",
        "--from",
        &today.to_string(),
        "--to",
        &(today + Days::new(6)).to_string(),
    ]);
    let planned = agenda["days"]
        .as_array()
        .unwrap()
        .iter()
        .flat_map(|day| day["entries"].as_array().unwrap())
        .filter(|entry| entry["state"] == "planned");
    assert_eq!(planned.count(), 2);
    place.json(&["pause", "small"]);
    let agenda = place.json(&[
        "agenda",
        "--time-zone",
        "UTC",
        "--from",
        &(today + Days::new(1)).to_string(),
        "--to",
        &(today + Days::new(2)).to_string(),
    ]);
    assert_eq!(agenda["days"][0]["entries"][0]["state"], "paused");

    for (arguments, words) in [
        (
            ["--from", "2026-02-30", "--to", "2026-03-01"],
            "invalid value",
        ),
        (
            ["--from", "2026-03-01", "--to", "2026-03-01"],
            "ask for 1 to 400",
        ),
    ] {
        let refused = place.lark(&[&["agenda"], &arguments[..]].concat());
        assert!(
            !refused.status.success() && text(&refused.stderr).contains(words),
            "{}",
            text(&refused.stderr)
        );
    }
    let unknown = place.lark(&["agenda", "--report", "smal"]);
    assert!(
        text(&unknown.stderr).contains("report \"smal\""),
        "{}",
        text(&unknown.stderr)
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn a_schedule_with_a_calendar_is_explained_with_what_it_leaves_out() {
    let place = Place::new().await;
    let _service = place.serve();
    place.sign_in();
    let file = place.folder.path().join("holidays.ics");
    std::fs::write(&file, CALENDAR).unwrap();
    let explain = |calendar: &[&str]| {
        let schedule = "every = \"weekday\", at = \"07:30\", calendar = \"holidays\", on-calendar-day = \"next-working-day\"";
        let window = "previous = \"week\", only-hours = \"08:00-16:00\", only-days = \"weekday\", compare = \"window-before\"";
        let arguments = [
            "explain",
            "--time-zone",
            "UTC",
            "--schedule",
            schedule,
            "--window",
            window,
            "--after",
            "2030-11-26T08:00:00Z",
            "--count",
            "2",
        ];
        [&arguments[..], calendar]
            .concat()
            .into_iter()
            .map(str::to_owned)
            .collect::<Vec<_>>()
    };
    let arguments = explain(&[]);
    let unknown = place.lark(&arguments.iter().map(String::as_str).collect::<Vec<_>>());
    assert!(
        text(&unknown.stderr).contains("there is no calendar \"holidays\""),
        "{}",
        text(&unknown.stderr)
    );
    let arguments = explain(&["--calendar", file.to_str().unwrap()]);
    let said = place.json(&arguments.iter().map(String::as_str).collect::<Vec<_>>());
    assert_eq!(
        said["left_out"],
        json!([{ "local": "2030-11-27T07:30:00+00:00", "day": "Harbour Day", "moved_to": "2030-11-28T07:30:00+00:00" }])
    );
    let first = &said["instants"][0];
    assert_eq!(
        first["local"], "2030-11-28T07:30:00+00:00",
        "the moved run and Thursday's own are one"
    );
    assert_eq!(
        (
            first["window_seconds"].as_i64(),
            first["parts"].as_array().unwrap().len(),
            first["step"].as_str()
        ),
        (Some(5 * 8 * 3600), 5, Some("PT1H"))
    );
    assert_eq!(
        first["compared_with_label"],
        "Week 46, 11 to 17 November 2030, 08:00 to 16:00 Monday to Friday"
    );
    let table = place.lark(&arguments.iter().map(String::as_str).collect::<Vec<_>>());
    assert!(
        text(&table.stdout).contains("Left out by the calendar:")
            && text(&table.stdout).contains("Harbour Day"),
        "{}",
        text(&table.stdout)
    );
    // The calendar was only looked at.
    assert_eq!(place.json(&["calendars"]), json!([]));
    let broken = "BEGIN:VCALENDAR\r\nBEGIN:VEVENT\r\nSUMMARY:Bad\r\nDTSTART:tomorrow\r\nEND:VEVENT\r\nEND:VCALENDAR\r\n";
    let refused = place.apply(&[("holidays.ics", broken)]);
    assert!(
        text(&refused.stderr)
            .contains("holidays.ics:4:1: Bad: DTSTART: \"tomorrow\" is not a date"),
        "{}",
        text(&refused.stderr)
    );
    assert!(
        Utc::now().year() < 2030,
        "the holiday of this test is over; move it"
    );
}

/// Every order is checked against what it is written over, however many come at once.
#[tokio::test(flavor = "multi_thread")]
async fn writers_of_definitions_take_turns() {
    let (place, _service) = ready().await;
    place.apply_small(&small_report());
    let (http, token) = (reqwest::Client::new(), place.token());
    let base = format!("http://{}/api/v1", place.address);
    let post = |path: String, body: Value| {
        let request = http.post(format!("{base}{path}")).bearer_auth(&token);
        async move { request.json(&body).send().await.unwrap().status().as_u16() }
    };

    // Twenty equal orders: one is carried out, and each of the others is told why it is not.
    let copies = (0..20).map(|_| post("/reports/small/copy".to_owned(), json!({ "name": "twin" })));
    let mut answers = futures::future::join_all(copies).await;
    answers.sort_unstable();
    assert_eq!(answers, [&[201][..], &[409; 19]].concat());
    let mut records = place.records().await;
    let paused: Vec<bool> =
        sqlx::query_scalar("select paused from schedule_states where report = 'twin'")
            .fetch_all(&mut records)
            .await
            .unwrap();
    assert!(paused.iter().all(|paused| *paused), "a copy begins paused");

    // A dashboard comes while the source that it needs goes: one of the two is refused.
    for round in 0..6 {
        let name = format!("extra-{round}");
        let source = operations().key("name", &name);
        applied(&place, &[(&format!("{name}.toml"), &source)]);
        let dashboard = small_dashboard("select 1 as one")
            .replace("\"small\"", &format!("\"needs-{name}\""))
            .replace("source = \"operations\"", &format!("source = \"{name}\""));
        let add = post(
            "/definitions/apply".to_owned(),
            json!({ "files": [{ "file": format!("needs-{name}.toml"), "text": dashboard }], "remove_others": false }),
        );
        let remove = http
            .delete(format!("{base}/definitions/source/{name}"))
            .bearer_auth(&token);
        let remove = async { remove.send().await.unwrap().status().as_u16() };
        let (added, removed) = tokio::join!(add, remove);
        assert!(
            matches!((added, removed), (200, 422) | (422, 200)),
            "added {added}, removed {removed}"
        );
    }
    // Whatever happened, the set is valid: the next order is not refused for what is there.
    applied(&place, &[("source.toml", &operations())]);
}

//! The services that are asked by HTTP: the same question has the same answer, whole or in parts.

use maple_lark_demo::{
    WebServices,
    web_services::{TELEMETRY_TOKEN, gate_scans},
};
use reqwest::{Client, Response, StatusCode};
use serde_json::{Value, json};

const DAY: i64 = 86_400;
/// 2026-10-24T00:00:00Z.
const START: i64 = 1_792_800_000;

async fn get(services: &WebServices, path: &str) -> Response {
    let request = Client::builder()
        .redirect(reqwest::redirect::Policy::none())
        .build()
        .unwrap()
        .get(services.url(path))
        .bearer_auth(TELEMETRY_TOKEN);
    request.send().await.unwrap()
}

async fn read(services: &WebServices, path: &str) -> Value {
    get(services, path).await.json().await.unwrap()
}

#[tokio::test]
async fn the_weather_is_the_same_whenever_it_is_asked_and_comes_a_day_a_page() {
    let services = WebServices::start().await.unwrap();
    let page = |from: i64, to: i64, page: i64| {
        let path = format!("/weather/havnes?from={from}&to={to}&page={page}");
        let services = &services;
        async move { read(services, &path).await["hourly"].clone() }
    };
    let first = page(START, START + 2 * DAY, 1).await;
    let second = page(START, START + 2 * DAY, 2).await;
    assert_eq!(first["time"].as_array().unwrap().len(), 24);
    assert_eq!(second, page(START + DAY, START + 2 * DAY, 1).await);
    let after = page(START, START + 2 * DAY, 3).await;
    assert_eq!(after["time"], json!([]), "nothing is left of the window");
    let wind = first["wind"].as_array().unwrap();
    let gust = first["gust"].as_array().unwrap();
    for (wind, gust) in wind.iter().zip(gust) {
        assert!(wind.as_f64() > Some(0.0) && gust.as_f64() > wind.as_f64());
    }
}

#[tokio::test]
async fn telemetry_is_for_those_with_the_token_and_has_a_gap_each_night() {
    let services = WebServices::start().await.unwrap();
    let path = format!(
        "/telemetry/range?expression=speed&start={START}&end={}&step=3600",
        START + DAY
    );
    let answer = read(&services, &path).await;
    let series = answer["answer"]["series"].as_array().unwrap();
    let points = |vessel: &str| {
        let found = series.iter().find(|one| one["labels"]["vessel"] == vessel);
        found.unwrap()["points"].as_array().unwrap().len()
    };
    assert_eq!(
        (series.len(), points("Fulmar"), points("Eider")),
        (9, 24, 22)
    );
    let without = Client::new().get(services.url(&path)).send().await.unwrap();
    assert_eq!(without.status(), StatusCode::UNAUTHORIZED);
    let wrong = Client::new().get(services.url(&path)).bearer_auth("other");
    assert_eq!(wrong.send().await.unwrap().status(), StatusCode::FORBIDDEN);
    let unknown = get(
        &services,
        "/telemetry/range?expression=depth&start=0&end=1&step=1",
    )
    .await;
    assert_eq!(unknown.status(), StatusCode::UNPROCESSABLE_ENTITY);
    assert!(
        unknown
            .text()
            .await
            .unwrap()
            .contains("fuel_rate and speed")
    );
}

#[tokio::test]
async fn the_logbook_counts_what_it_counted_before_and_no_port_twice() {
    let services = WebServices::start().await.unwrap();
    let count = |ports: Value| {
        let question = json!({ "from": START * 1000, "to": (START + DAY) * 1000, "ports": ports });
        let request = Client::new()
            .post(services.url("/logbook/count"))
            .json(&question);
        async move {
            let answer: Value = request.send().await.unwrap().json().await.unwrap();
            let groups = answer["groups"]["by_kind"]["buckets"]
                .as_array()
                .unwrap()
                .clone();
            let hours = groups
                .iter()
                .flat_map(|group| group["over_time"]["buckets"].as_array().unwrap())
                .map(|hour| hour["entries"]["value"].as_u64().unwrap());
            hours.sum::<u64>()
        }
    };
    let all = count(json!([])).await;
    let mut each = 0;
    for port in [
        "skarvoy", "tornvik", "lyngsund", "havnes", "ostrey", "brimsund",
    ] {
        each += count(json!([port])).await;
    }
    assert!(all > 0);
    assert_eq!(all, each, "the parts are the whole");
    let wrong = Client::new()
        .post(services.url("/logbook/count"))
        .json(&json!({ "from": "yesterday" }));
    let answer = wrong.send().await.unwrap();
    assert_eq!(answer.status(), StatusCode::UNPROCESSABLE_ENTITY);
    assert!(
        answer
            .text()
            .await
            .unwrap()
            .contains("from must be milliseconds")
    );
}

/// A counter that only grows and begins anew once a day is what rates are tried on.
#[test]
fn gates_count_up_and_begin_anew_at_three() {
    let minutes = (0..2 * 24 * 60).map(|minute| gate_scans(START + minute * 60));
    let mut falls = Vec::new();
    let mut before: Option<f64> = None;
    for (minute, gates) in minutes.enumerate() {
        let (gate, port, scans) = &gates[0];
        assert_eq!(
            (gate.as_str(), *port, gates.len()),
            ("skarvoy-gate-01", "skarvoy", 12)
        );
        if before.is_some_and(|before| *scans < before) {
            falls.push(minute);
        }
        before = Some(*scans);
    }
    assert_eq!(falls, [3 * 60, 27 * 60]);
}

#[tokio::test]
async fn metrics_end_as_openmetrics_asks_and_their_buckets_never_fall() {
    let services = WebServices::start().await.unwrap();
    for path in ["/gates/metrics", "/machine/metrics"] {
        let text = get(&services, path).await.text().await.unwrap();
        assert!(text.ends_with("# EOF\n"), "{path}");
        for line in text.lines().filter(|line| !line.starts_with('#')) {
            let value = line.rsplit_once(' ').unwrap().1;
            assert!(value.parse::<f64>().unwrap() >= 0.0, "{line}");
        }
    }
    let text = get(&services, "/gates/metrics").await.text().await.unwrap();
    let buckets: Vec<f64> = text
        .lines()
        .filter(|line| line.starts_with("gate_scan_seconds_bucket{port=\"havnes\""))
        .map(|line| line.rsplit_once(' ').unwrap().1.parse().unwrap())
        .collect();
    assert_eq!(buckets.len(), 5);
    assert!(buckets.is_sorted(), "{buckets:?}");
}

#[tokio::test]
async fn pages_lead_from_one_to_the_next_and_end() {
    let services = WebServices::start().await.unwrap();
    let (mut seen, mut path) = (Vec::new(), "/pages".to_owned());
    loop {
        let page = read(&services, &path).await;
        seen.extend(
            page["rows"]
                .as_array()
                .unwrap()
                .iter()
                .map(|row| row["n"].clone()),
        );
        match page["next"].as_i64() {
            Some(next) => path = format!("/pages?cursor={next}"),
            None => break,
        }
    }
    assert_eq!(json!(seen), json!([0, 1, 2, 3, 4, 5, 6, 7]));
    let linked = get(&services, "/linked?after=3").await;
    let link = linked.headers()["link"].to_str().unwrap().to_owned();
    assert!(
        link.starts_with("</linked?after=6>; rel=\"next\""),
        "{link}"
    );
    let last = get(&services, "/linked?after=6").await;
    assert_eq!(last.headers()["link"], "</linked>; rel=\"first\"");
}

#[tokio::test]
async fn some_misbehave_as_they_are_said_to() {
    let services = WebServices::start().await.unwrap();
    let mut answers = Vec::new();
    for _ in 0..3 {
        answers.push(get(&services, "/busy").await.status().as_u16());
    }
    assert_eq!(answers, [429, 429, 200]);
    let garbage = get(&services, "/garbage").await;
    assert_eq!(garbage.status(), StatusCode::OK);
    assert!(garbage.json::<Value>().await.is_err());
    let moved = get(&services, "/moved").await;
    assert_eq!(moved.headers()["location"], "http://169.254.1.1/elsewhere");
}

#[tokio::test]
async fn the_kiosks_of_another_department_are_all_there() {
    let services = WebServices::start().await.unwrap();
    let text = get(&services, "/exports/kiosks.csv")
        .await
        .text()
        .await
        .unwrap();
    let mut lines = text.split("\r\n").filter(|line| !line.is_empty());
    assert_eq!(lines.next(), Some("kiosk;port;model;installed"));
    let rows: Vec<Vec<&str>> = lines.map(|line| line.split(';').collect()).collect();
    assert_eq!(rows.len(), 24);
    assert!(
        rows.iter()
            .all(|row| row.len() == 4 && row[0].starts_with(row[1]))
    );
}

//! The board of the port office: it opens for those who sign in, and shows the span it is asked for.

use maple_lark_demo::{
    WebServices,
    live_page::{PASSWORD, USER},
};
use reqwest::{Client, Response, StatusCode, redirect::Policy};
use serde_json::Value;

const SPAN: &str = "from=2026-10-19T00:00:00Z&to=2026-10-26T00:00:00Z";

/// A visitor with the cookie that the board gives.
struct Visitor<'s> {
    services: &'s WebServices,
    client: Client,
    cookie: Option<String>,
}

impl<'s> Visitor<'s> {
    fn new(services: &'s WebServices) -> Self {
        let client = Client::builder().redirect(Policy::none());
        Self {
            services,
            client: client.build().unwrap(),
            cookie: None,
        }
    }

    async fn get(&self, path: &str) -> Response {
        let url = self.services.url(&format!("/port-office{path}"));
        let cookie = self.cookie.clone().unwrap_or_default();
        let request = self.client.get(url).header("Cookie", cookie);
        request.send().await.unwrap()
    }

    async fn sign_in(&mut self, password: &str) -> Response {
        let answer = self
            .client
            .post(self.services.url("/port-office/sign-in"))
            .header("Content-Type", "application/x-www-form-urlencoded")
            .body(format!("user={USER}&password={password}"))
            .send()
            .await
            .unwrap();
        self.cookie = answer
            .headers()
            .get("set-cookie")
            .and_then(|cookie| cookie.to_str().ok()?.split(';').next().map(str::to_owned));
        answer
    }
}

fn leads_to(answer: &Response) -> &str {
    answer.headers()["location"].to_str().unwrap()
}

#[tokio::test]
async fn the_board_opens_for_whoever_signed_in_until_sessions_end() {
    let services = WebServices::start().await.unwrap();
    let mut visitor = Visitor::new(&services);
    assert_eq!(leads_to(&visitor.get("/").await), "/port-office/board");
    assert_eq!(
        leads_to(&visitor.get("/board").await),
        "/port-office/sign-in"
    );
    let wrong = visitor.sign_in("guess").await;
    assert!(visitor.cookie.is_none());
    // A page that repeats what was typed is what captures must keep out of their pictures.
    assert!(wrong.text().await.unwrap().contains("and password: guess"));
    assert_eq!(
        leads_to(&visitor.sign_in(PASSWORD).await),
        "/port-office/board"
    );
    let board = visitor.get("/board").await;
    assert_eq!(board.status(), StatusCode::OK);
    assert!(board.text().await.unwrap().contains("board.js"));
    let other = Visitor::new(&services);
    assert_eq!(leads_to(&other.get("/board").await), "/port-office/sign-in");
    let ended = visitor
        .client
        .post(services.url("/port-office/end-sessions"));
    assert_eq!(ended.send().await.unwrap().status(), StatusCode::OK);
    assert_eq!(
        leads_to(&visitor.get("/board").await),
        "/port-office/sign-in"
    );
    visitor.sign_in(PASSWORD).await;
    let count = visitor.get("/sign-ins").await.text().await.unwrap();
    assert_eq!(count, "2");
}

#[tokio::test]
async fn panels_are_of_the_span_in_the_address_and_of_nobody_else() {
    let services = WebServices::start().await.unwrap();
    let mut visitor = Visitor::new(&services);
    let closed = visitor.get(&format!("/data/calls?{SPAN}")).await;
    assert_eq!(closed.status(), StatusCode::UNAUTHORIZED);
    visitor.sign_in(PASSWORD).await;
    for panel in [
        "numbers",
        "calls",
        "passengers",
        "late",
        "turnaround",
        "wind",
        "occupancy",
    ] {
        let answer = visitor.get(&format!("/data/{panel}?{SPAN}")).await;
        let data: Value = answer.json().await.unwrap();
        assert!(!data.as_array().unwrap().is_empty(), "{panel}");
        let again: Value = visitor
            .get(&format!("/data/{panel}?{SPAN}"))
            .await
            .json()
            .await
            .unwrap();
        assert_eq!(data, again, "{panel} is the same whenever it is asked");
    }
    for wrong in [
        "from=2026-10-26T00:00:00Z&to=2026-10-19T00:00:00Z",
        "from=yesterday&to=today",
        "from=2020-01-01T00:00:00Z&to=2026-01-01T00:00:00Z",
    ] {
        let answer = visitor.get(&format!("/data/calls?{wrong}")).await;
        assert_eq!(answer.status(), StatusCode::BAD_REQUEST, "{wrong}");
    }
    let unknown = visitor.get(&format!("/data/tides?{SPAN}")).await;
    assert_eq!(unknown.status(), StatusCode::NOT_FOUND);
}

/// The numbers above, the table and its file are three views of the same berths.
#[tokio::test]
async fn table_and_file_and_numbers_agree() {
    let services = WebServices::start().await.unwrap();
    let mut visitor = Visitor::new(&services);
    visitor.sign_in(PASSWORD).await;
    let read = async |panel: &str| -> Value {
        let answer = visitor.get(&format!("/data/{panel}?{SPAN}")).await;
        answer.json().await.unwrap()
    };
    let berths = read("berths").await;
    let berths = berths.as_array().unwrap();
    let numbers = read("numbers").await;
    let calls: i64 = berths
        .iter()
        .map(|berth| berth["calls"].as_i64().unwrap())
        .sum();
    assert_eq!(numbers[0]["value"], calls);
    assert_eq!(numbers[1]["value"], berths.len());
    let file = visitor.get(&format!("/berths.csv?{SPAN}")).await;
    assert_eq!(
        file.headers()["content-disposition"],
        "attachment; filename=\"berths.csv\""
    );
    let text = file.text().await.unwrap();
    let rows: Vec<Vec<&str>> = text
        .lines()
        .skip(1)
        .map(|line| line.split(',').collect())
        .collect();
    assert_eq!(rows.len(), berths.len());
    for (row, berth) in rows.iter().zip(berths) {
        assert_eq!(berth["berth"], row[0]);
        assert_eq!(berth["calls"], row[2].parse::<i64>().unwrap());
        assert_eq!(berth["stay"], row[3].parse::<f64>().unwrap());
    }
}

#[tokio::test]
async fn it_says_what_it_was_signed_in_with() {
    let services = WebServices::start().await.unwrap();
    let answer = Client::new()
        .get(services.url("/port-office/let-in"))
        .basic_auth("a", Some("b"))
        .header("X-Key", "k")
        .send()
        .await
        .unwrap();
    let text = answer.text().await.unwrap();
    assert!(
        text.contains("authorization: Basic YTpi; x-key: k; cookie: none"),
        "{text}"
    );
}

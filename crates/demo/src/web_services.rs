//! Stand-ins for outside services of the ferry line that answer by HTTP: the weather at the
//! ports, telemetry of the vessels, a logbook that counts, the metrics of the ticket gates.
//!
//! What they say follows from the time and a fixed seed, so that it is the same whenever it
//! is asked. Some addresses misbehave on purpose, for tests.

use std::{
    net::SocketAddr,
    sync::{
        Arc,
        atomic::{AtomicUsize, Ordering},
    },
    time::Duration,
};

use anyhow::Result;
use chrono::Utc;
use rocket::{
    Request, State, get,
    http::{ContentType, Header, Status},
    outcome::Outcome,
    post,
    request::{self, FromRequest},
    response::Responder,
    routes,
    serde::json::Json,
};
use serde_json::{Value, json};

use crate::{
    scenario::{
        company::{PORTS, VESSELS},
        noise,
    },
    stand_in::StandIn,
};

/// Whom the telemetry answers.
pub const TELEMETRY_TOKEN: &str = "orrin-telemetry-reader";

/// Running services; they end with this.
pub struct WebServices {
    pub address: SocketAddr,
    _stand_in: StandIn,
}

impl WebServices {
    /// Listens on any free port of loopback.
    pub async fn start() -> Result<Self> {
        let address = StandIn::free()?;
        let built = StandIn::built(address)
            .manage(Arc::new(Asked::default()))
            .mount(
                "/",
                routes![
                    weather, telemetry, measures, logbook, gates, machine, kiosks, busy, slow,
                    garbage, moved, pages, linked
                ],
            )
            .manage(Arc::new(crate::live_page::Sessions::default()))
            .mount("/port-office", crate::live_page::routes());
        Ok(Self {
            _stand_in: StandIn::start(address, built).await?,
            address,
        })
    }

    pub fn url(&self, path: &str) -> String {
        format!("http://{}{path}", self.address)
    }
}

#[derive(Default)]
struct Asked {
    busy: AtomicUsize,
}

const HOUR: i64 = 3600;
const DAY: i64 = 24 * HOUR;

/// Hourly wind as lists that run side by side, a day a page.
#[get("/weather/<port>?<from>&<to>&<page>")]
fn weather(port: &str, from: i64, to: i64, page: i64) -> Json<Value> {
    let start = from.div_euclid(HOUR) * HOUR + (page - 1) * DAY;
    let hours: Vec<i64> = (0..24)
        .map(|hour| start + hour * HOUR)
        .filter(|at| (from..to).contains(at))
        .collect();
    let wind = |at: &i64| {
        ((9.0 + 5.0 * noise::drift(&format!("wind {port}"), at.div_euclid(HOUR), 18)).max(0.3)
            * 10.0)
            .round()
            / 10.0
    };
    let gust = |at: &i64| (wind(at) * (1.3 + 0.2 * noise::even(port, *at)) * 10.0).round() / 10.0;
    Json(json!({
        "station": port,
        "hourly": { "time": hours, "wind": hours.iter().map(wind).collect::<Vec<_>>(), "gust": hours.iter().map(gust).collect::<Vec<_>>() },
    }))
}

struct Token(String);

#[rocket::async_trait]
impl<'r> FromRequest<'r> for Token {
    type Error = ();

    async fn from_request(request: &'r Request<'_>) -> request::Outcome<Self, ()> {
        match request
            .headers()
            .get_one("Authorization")
            .and_then(|value| value.strip_prefix("Bearer "))
        {
            Some(token) => Outcome::Success(Token(token.to_owned())),
            None => Outcome::Error((Status::Unauthorized, ())),
        }
    }
}

/// Series of points with labels, as services of metrics answer a question about a range.
#[get("/telemetry/range?<expression>&<start>&<end>&<step>")]
fn telemetry(
    token: Token,
    expression: &str,
    start: f64,
    end: f64,
    step: f64,
) -> Result<Json<Value>, (Status, String)> {
    if token.0 != TELEMETRY_TOKEN {
        return Err((Status::Forbidden, "this token may not read".to_owned()));
    }
    let Some(measure) = ["fuel_rate", "speed"]
        .into_iter()
        .find(|known| expression.starts_with(known))
    else {
        return Err((
            Status::UnprocessableEntity,
            format!("unknown measure in \"{expression}\"; known are fuel_rate and speed"),
        ));
    };
    let step = (step as i64).max(60);
    let first = (start as i64).div_euclid(step) * step;
    let series: Vec<Value> = VESSELS
        .iter()
        .map(|(vessel, port)| {
            let points: Vec<Value> = (0..)
                .map(|n| first + n * step)
                .skip_while(|at| (*at as f64) < start)
                .take_while(|at| (*at as f64) < end)
                // The Eider's transmitter is silent every night from one to three.
                .filter(|at| *vessel != "Eider" || !(HOUR..3 * HOUR).contains(&at.rem_euclid(DAY)))
                .map(|at| json!([at as f64, format!("{:.1}", sailing(measure, vessel, at))]))
                .collect();
            json!({ "labels": { "vessel": vessel, "home": port }, "points": points })
        })
        .collect();
    Ok(Json(
        json!({ "status": "success", "answer": { "shape": "series", "series": series } }),
    ))
}

/// What the telemetry can be asked about, as such services list it.
#[get("/telemetry/measures")]
fn measures(_token: Token) -> Json<Value> {
    let measure = |name: &str, unit: &str, help: &str| json!({ "name": name, "type": "gauge", "unit": unit, "help": help, "labels": ["vessel", "home"] });
    Json(
        json!({ "status": "success", "measures": [measure("fuel_rate", "l/h", "Fuel burnt by both engines"), measure("speed", "kn", "Speed over ground")] }),
    )
}

fn sailing(measure: &str, vessel: &str, at: i64) -> f64 {
    let hour = at.rem_euclid(DAY) as f64 / HOUR as f64;
    let under_way = ((hour - 13.0) / 8.0).abs() < 1.0;
    let base = if measure == "speed" { 14.0 } else { 310.0 };
    let swing = 1.0 + 0.12 * noise::drift(&format!("{measure} {vessel}"), at.div_euclid(600), 9);
    if under_way {
        base * swing
    } else {
        base * 0.04 * swing
    }
}

/// Counts in groups inside of groups, as services that search answer.
#[post("/logbook/count", data = "<question>")]
fn logbook(question: Json<Value>) -> Result<Json<Value>, (Status, String)> {
    let time = |key: &str| {
        question[key].as_i64().ok_or_else(|| {
            (
                Status::UnprocessableEntity,
                format!("{key} must be milliseconds since 1970"),
            )
        })
    };
    let (from, to) = (time("from")?, time("to")?);
    let ports: Vec<&str> = question["ports"]
        .as_array()
        .into_iter()
        .flatten()
        .filter_map(Value::as_str)
        .collect();
    let bucket = |kind: &str| {
        let hours = (from.div_euclid(HOUR * 1000)..to.div_euclid(HOUR * 1000)).map(|hour| {
            let entries: usize = PORTS
                .iter()
                .filter(|(code, _)| ports.is_empty() || ports.contains(code))
                .filter(|(code, _)| noise::even(&format!("{kind} {code}"), hour) > 0.93)
                .count();
            json!({ "key": hour * HOUR * 1000, "entries": { "value": entries } })
        });
        json!({ "key": kind, "over_time": { "buckets": hours.collect::<Vec<_>>() } })
    };
    let kinds = ["engine", "navigation", "passenger", "weather"];
    Ok(Json(
        json!({ "took": 3, "groups": { "by_kind": { "buckets": kinds.map(bucket) } } }),
    ))
}

/// Gate, port and how many tickets it has scanned since it was started. A gate is started
/// anew each day at three, so that its counter begins at zero.
pub fn gate_scans(at: i64) -> Vec<(String, &'static str, f64)> {
    let gates = PORTS
        .iter()
        .flat_map(|(port, _)| (1..=2).map(move |gate| (format!("{port}-gate-{gate:02}"), *port)));
    gates
        .map(|(gate, port)| {
            let start = (at - 3 * HOUR).div_euclid(DAY) * DAY + 3 * HOUR;
            // Passengers come in two waves, before the morning's and the afternoon's unsubscribes.
            let until = |hour: f64, middle: f64| ((hour - middle) / 1.6).tanh() + 1.0;
            let hour = (at - start) as f64 / HOUR as f64 + 3.0;
            let crowd = 220.0 + 160.0 * noise::even(&gate, start.div_euclid(DAY));
            let scans = crowd * (until(hour, 7.5) + 0.8 * until(hour, 16.5));
            (gate, port, scans.floor())
        })
        .collect()
}

/// A server and the process on it, under the names that most of them use.
#[get("/machine/metrics")]
fn machine() -> (ContentType, String) {
    let now = Utc::now().timestamp();
    let drift = |what: &str| noise::drift(what, now.div_euclid(60), 30).abs();
    let mut text = String::new();
    for (name, kind, value) in [
        (
            "process_resident_memory_bytes",
            "gauge",
            3e8 + 1e8 * drift("memory"),
        ),
        ("process_cpu_seconds", "counter", now as f64 * 0.3),
        (
            "process_open_fds",
            "gauge",
            (60.0 + 20.0 * drift("files")).round(),
        ),
        ("node_load1", "gauge", 0.4 + drift("load")),
        (
            "node_memory_MemAvailable_bytes",
            "gauge",
            6e9 + 1e9 * drift("free"),
        ),
    ] {
        let total = if kind == "counter" { "_total" } else { "" };
        text += &format!("# TYPE {name} {kind}\n{name}{total} {value}\n");
    }
    text += "# TYPE node_filesystem_avail_bytes gauge\n";
    for (place, free) in [("/", 4e10), ("/var", 9e9)] {
        text += &format!("node_filesystem_avail_bytes{{mountpoint=\"{place}\"}} {free}\n");
    }
    (ContentType::Plain, text + "# EOF\n")
}

/// The gates' counters and gauges, as OpenMetrics.
#[get("/gates/metrics")]
fn gates() -> (ContentType, String) {
    let now = Utc::now().timestamp();
    let mut text = String::from(
        "# TYPE gate_scans counter\n# HELP gate_scans Tickets scanned since the gate was started.\n",
    );
    for (gate, port, scans) in gate_scans(now) {
        text += &format!("gate_scans_total{{port=\"{port}\",gate=\"{gate}\"}} {scans}\n");
    }
    text += "# TYPE gate_queue_passengers gauge\n# HELP gate_queue_passengers Passengers waiting at the gates of a port.\n";
    for (port, _) in PORTS {
        let queue = (18.0 + 14.0 * noise::drift(port, now.div_euclid(60), 12))
            .max(0.0)
            .round();
        text += &format!("gate_queue_passengers{{port=\"{port}\"}} {queue}\n");
    }
    text += "# TYPE gate_scan_seconds histogram\n# UNIT gate_scan_seconds seconds\n# HELP gate_scan_seconds How long one scan takes.\n";
    for (port, _) in PORTS {
        let all = now.rem_euclid(DAY) as f64;
        let fast = 0.90 - 0.3 * noise::even(port, 7);
        for (bound, share) in [
            ("0.25", fast * 0.6),
            ("0.5", fast),
            ("1.0", 0.97),
            ("2.5", 0.995),
            ("+Inf", 1.0),
        ] {
            text += &format!(
                "gate_scan_seconds_bucket{{port=\"{port}\",le=\"{bound}\"}} {}\n",
                (all * share).floor()
            );
        }
        text += &format!("gate_scan_seconds_count{{port=\"{port}\"}} {all}\n");
    }
    text += "# EOF\n";
    (ContentType::new("application", "openmetrics-text"), text)
}

/// A list as another department would export it: semicolons, decimal points, a note.
#[get("/exports/kiosks.csv")]
fn kiosks() -> (ContentType, String) {
    let rows = crate::scenario::company::kiosks()
        .into_iter()
        .enumerate()
        .map(|(n, (name, port))| {
            format!(
                "{name};{port};K-{:03};{}.{:02}.2023\r\n",
                100 + n,
                1 + n % 28,
                1 + n % 12
            )
        });
    (
        ContentType::CSV,
        format!("kiosk;port;model;installed\r\n{}", rows.collect::<String>()),
    )
}

#[derive(Responder)]
#[response(status = 429)]
struct Busy(&'static str, Header<'static>);

/// Asks for patience twice, then answers.
#[get("/busy")]
fn busy(asked: &State<Arc<Asked>>) -> Result<Json<Value>, Busy> {
    if asked.busy.fetch_add(1, Ordering::SeqCst) < 2 {
        Err(Busy("wait a little", Header::new("Retry-After", "0")))
    } else {
        Ok(Json(json!([{ "n": 1 }])))
    }
}

#[get("/slow")]
async fn slow() -> Json<Value> {
    tokio::time::sleep(Duration::from_secs(60)).await;
    Json(json!([]))
}

#[get("/garbage")]
fn garbage() -> &'static str {
    "<html>not what was asked for"
}

#[derive(Responder)]
#[response(status = 302)]
struct Moved((), Header<'static>);

#[get("/moved")]
fn moved() -> Moved {
    Moved((), Header::new("Location", "http://169.254.1.1/elsewhere"))
}

/// Three rows a page; what follows is asked for with a cursor.
#[get("/pages?<cursor>")]
fn pages(cursor: Option<i64>) -> Json<Value> {
    let from = cursor.unwrap_or(0);
    let next = (from + 3 < 8).then_some(from + 3);
    Json(
        json!({ "rows": (from..(from + 3).min(8)).map(|n| json!({ "n": n })).collect::<Vec<_>>(), "next": next }),
    )
}

#[derive(Responder)]
struct Linked(Json<Value>, Header<'static>);

/// The same, with what follows in a Link header.
#[get("/linked?<after>")]
fn linked(after: Option<i64>) -> Linked {
    let from = after.unwrap_or(0);
    let link = if from + 3 < 8 {
        format!(
            "</linked?after={}>; rel=\"next\", </linked>; rel=\"first\"",
            from + 3
        )
    } else {
        "</linked>; rel=\"first\"".to_owned()
    };
    Linked(
        Json(json!(
            (from..(from + 3).min(8))
                .map(|n| json!({ "n": n }))
                .collect::<Vec<_>>()
        )),
        Header::new("Link", link),
    )
}

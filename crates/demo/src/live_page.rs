//! A live dashboard of another office, as stakeholders have them: behind a sign-in, with the time
//! range in its address, drawn by script, and with one panel that is slow. Other addresses show
//! who was let in how, or misbehave on purpose, for tests.

use std::{
    collections::HashSet,
    sync::{Arc, Mutex, PoisonError},
    time::Duration,
};

use chrono::{DateTime, TimeDelta, Timelike, Utc};
use rocket::{
    FromForm, Request, Route, State,
    form::Form,
    get,
    http::{ContentType, Cookie, CookieJar, Header, Status, uri::Host},
    outcome::Outcome,
    post,
    request::{self, FromRequest},
    response::{Redirect, Responder, content::RawHtml},
    routes,
    serde::json::Json,
};
use serde_json::{Value, json};

use crate::{
    pages::page,
    scenario::{company::PORTS, noise},
};

/// Who may look at the board.
pub const USER: &str = "harbour-watch";
/// With which password.
pub const PASSWORD: &str = "berth-and-quay";

const COOKIE: &str = "port_office";
/// How long the slow panel takes.
const SLOW: Duration = Duration::from_millis(1200);

/// Those who have signed in, by the value of their cookie.
#[derive(Default)]
pub struct Sessions {
    open: Mutex<HashSet<String>>,
    signed_in: Mutex<usize>,
}

pub(crate) fn routes() -> Vec<Route> {
    routes![
        entrance,
        astray,
        board,
        closed_board,
        style,
        script,
        door,
        enter,
        end_sessions,
        sign_ins,
        figures,
        berths_csv,
        let_in,
        looping,
        greedy,
        windows,
        silent,
        circle,
        dialogs,
        reaching,
        sleeper,
        long,
        clock
    ]
}

/// Somebody who has signed in.
struct Known;

#[rocket::async_trait]
impl<'r> FromRequest<'r> for Known {
    type Error = ();

    async fn from_request(request: &'r Request<'_>) -> request::Outcome<Self, ()> {
        let sessions = request.rocket().state::<Arc<Sessions>>();
        let cookie = request.cookies().get(COOKIE);
        let known = sessions.zip(cookie).is_some_and(|(sessions, cookie)| {
            let open = sessions.open.lock().unwrap_or_else(PoisonError::into_inner);
            open.contains(cookie.value())
        });
        if known {
            Outcome::Success(Known)
        } else {
            Outcome::Forward(Status::Unauthorized)
        }
    }
}

/// Where somebody arrives who knows no more than the address.
#[get("/")]
fn entrance() -> Redirect {
    Redirect::to("/port-office/board")
}

#[get("/board")]
fn board(_known: Known) -> RawHtml<&'static str> {
    RawHtml(include_str!("../live/board.html"))
}

#[get("/board", rank = 2)]
fn closed_board() -> Redirect {
    Redirect::to("/port-office/sign-in")
}

#[get("/board.css")]
fn style() -> (ContentType, &'static str) {
    (ContentType::CSS, include_str!("../live/board.css"))
}

#[get("/board.js")]
fn script() -> (ContentType, &'static str) {
    (ContentType::JavaScript, include_str!("../live/board.js"))
}

fn form(wrong: &str) -> RawHtml<String> {
    page(
        include_str!("../live/sign-in.html"),
        &json!({ "wrong": wrong }),
    )
}

#[get("/sign-in")]
fn door() -> RawHtml<String> {
    form("")
}

/// Sends on to the same door on what browsers take for another host.
#[get("/astray")]
fn astray(host: &Host<'_>) -> Redirect {
    let port = host.port().unwrap_or(80);
    Redirect::to(format!("http://localhost:{port}/port-office/sign-in"))
}

#[derive(FromForm)]
struct Entry<'r> {
    user: &'r str,
    password: &'r str,
}

#[post("/sign-in", data = "<entry>")]
fn enter(
    entry: Form<Entry<'_>>,
    cookies: &CookieJar<'_>,
    sessions: &State<Arc<Sessions>>,
) -> Result<Redirect, RawHtml<String>> {
    if (entry.user, entry.password) != (USER, PASSWORD) {
        return Err(form(&format!(
            "There is nobody of that name and password: {}",
            entry.password
        )));
    }
    let mut count = sessions
        .signed_in
        .lock()
        .unwrap_or_else(PoisonError::into_inner);
    *count += 1;
    let value = format!("visit-{count}");
    let mut open = sessions.open.lock().unwrap_or_else(PoisonError::into_inner);
    open.insert(value.clone());
    cookies.add(Cookie::build((COOKIE, value)).path("/"));
    Ok(Redirect::to("/port-office/board"))
}

/// Signs everybody out, as time does.
#[post("/end-sessions")]
fn end_sessions(sessions: &State<Arc<Sessions>>) {
    let mut open = sessions.open.lock().unwrap_or_else(PoisonError::into_inner);
    open.clear();
}

/// How often somebody has signed in.
#[get("/sign-ins")]
fn sign_ins(sessions: &State<Arc<Sessions>>) -> String {
    let count = sessions
        .signed_in
        .lock()
        .unwrap_or_else(PoisonError::into_inner);
    count.to_string()
}

type Span = (DateTime<Utc>, DateTime<Utc>);

fn span(from: &str, to: &str) -> Option<Span> {
    let read = |text: &str| text.parse::<DateTime<Utc>>().ok();
    let span = (read(from)?, read(to)?);
    (span.0 < span.1 && span.1 - span.0 <= TimeDelta::days(400)).then_some(span)
}

/// A value every so often, smooth over a day.
fn series(what: &str, (from, to): Span, base: f64, swing: f64) -> Vec<(DateTime<Utc>, f64)> {
    let step = ((to - from) / 120).max(TimeDelta::minutes(10));
    (0..)
        .map(|n| from + step * n)
        .take_while(|at| *at < to)
        .map(|at| {
            let hour = at.timestamp() / 3600;
            let day = (f64::from(at.hour()) - 13.0).abs() / 13.0;
            let value = base + swing * (noise::drift(what, hour, 9) * 0.4 + 1.0 - day);
            (at, (value.max(0.0) * 10.0).round() / 10.0)
        })
        .collect()
}

/// Calls at one of a harbour's berths.
struct Berth {
    name: String,
    harbour: &'static str,
    calls: i64,
    stay: f64,
    last: DateTime<Utc>,
}

fn berths((from, to): Span) -> Vec<Berth> {
    let days = (to - from).num_hours() as f64 / 24.0;
    let of_port = |(place, (code, harbour)): (usize, &(&'static str, &'static str))| {
        let code = *code;
        let harbour = *harbour;
        (1..=2).map(move |n| {
            let name = format!("{}{n}", code[..2].to_uppercase());
            let noise =
                |what: &str| noise::even(&format!("{what} {name}"), from.timestamp() / 86400);
            Berth {
                calls: (days * (4.0 + place as f64 + 3.0 * noise("calls"))).round() as i64,
                stay: ((18.0 + 14.0 * noise("stay")) * 10.0).round() / 10.0,
                last: to - TimeDelta::minutes(20 + (300.0 * noise("last")) as i64),
                name,
                harbour,
            }
        })
    };
    PORTS.iter().enumerate().flat_map(of_port).collect()
}

fn bars(span: Span, what: &str, base: f64) -> Value {
    let (from, to) = span;
    let days = (to - from).num_hours() as f64 / 24.0;
    let row = |(code, name): &(&str, &str)| {
        let share = 0.5 + noise::even(&format!("{what} {code}"), from.timestamp() / 86400);
        json!({"label": name, "value": (days * base * share).round()})
    };
    PORTS.iter().map(row).collect()
}

#[get("/data/<panel>?<from>&<to>")]
async fn figures(_known: Known, panel: &str, from: &str, to: &str) -> Result<Json<Value>, Status> {
    let span = span(from, to).ok_or(Status::BadRequest)?;
    let curves = |what: &str, base: f64, swing: f64, most: usize| -> Value {
        let ports = PORTS.iter().take(most);
        ports
            .map(|(code, name)| json!({"name": name, "values": series(&format!("{what} {code}"), span, base, swing)}))
            .collect()
    };
    let answer = match panel {
        "numbers" => {
            let berths = berths(span);
            let calls: i64 = berths.iter().map(|berth| berth.calls).sum();
            let stay = berths.iter().map(|berth| berth.stay).sum::<f64>() / berths.len() as f64;
            json!([
                {"label": "port calls", "value": calls},
                {"label": "berths", "value": berths.len()},
                {"label": "minutes at a berth, mean", "value": format!("{stay:.1}")},
                {"label": "harbours", "value": PORTS.len()},
            ])
        }
        "calls" => bars(span, "calls", 9.0),
        "passengers" => bars(span, "passengers", 410.0),
        "late" => bars(span, "late", 1.4),
        "turnaround" => curves("turnaround", 16.0, 14.0, 4),
        "wind" => curves("wind", 5.0, 6.0, 5),
        "queue" => {
            tokio::time::sleep(SLOW).await;
            curves("queue", 2.0, 30.0, 3)
        }
        "occupancy" => PORTS
            .iter()
            .map(|(code, name)| {
                let hour = |hour: i64| {
                    let near = 1.0 - (hour as f64 - 14.0).abs() / 14.0;
                    (100.0 * (0.15 + 0.6 * near + 0.2 * noise::even(code, hour))).min(100.0).round()
                };
                json!({"name": name, "values": (0..24).map(hour).collect::<Vec<_>>()})
            })
            .collect(),
        "berths" => berths(span)
            .into_iter()
            .map(|berth| json!({"berth": berth.name, "harbour": berth.harbour, "calls": berth.calls, "stay": berth.stay, "last": berth.last}))
            .collect(),
        _ => return Err(Status::NotFound),
    };
    Ok(Json(answer))
}

#[derive(Responder)]
struct File {
    text: String,
    kind: ContentType,
    name: Header<'static>,
}

#[get("/berths.csv?<from>&<to>")]
fn berths_csv(_known: Known, from: &str, to: &str) -> Result<File, Status> {
    let span = span(from, to).ok_or(Status::BadRequest)?;
    let mut text = "berth,harbour,calls,stay_minutes,last_call\n".to_owned();
    for berth in berths(span) {
        text += &format!(
            "{},{},{},{:.1},{}\n",
            berth.name,
            berth.harbour,
            berth.calls,
            berth.stay,
            berth.last.to_rfc3339()
        );
    }
    Ok(File {
        text,
        kind: ContentType::CSV,
        name: Header::new("Content-Disposition", "attachment; filename=\"berths.csv\""),
    })
}

/// What a request was signed in with.
struct Shown(String);

#[rocket::async_trait]
impl<'r> FromRequest<'r> for Shown {
    type Error = ();

    async fn from_request(request: &'r Request<'_>) -> request::Outcome<Self, ()> {
        let header = |name: &str| request.headers().get_one(name).unwrap_or("none").to_owned();
        Outcome::Success(Self(format!(
            "authorization: {}; x-key: {}; cookie: {}",
            header("authorization"),
            header("x-key"),
            header("cookie")
        )))
    }
}

#[get("/let-in")]
fn let_in(shown: Shown) -> RawHtml<String> {
    page(
        include_str!("../live/let-in.html"),
        &json!({ "shown": shown.0 }),
    )
}

#[get("/looping")]
fn looping() -> RawHtml<&'static str> {
    RawHtml(
        "<title>Loops</title><p>at it</p><script>setTimeout(() => { for (;;) {} }, 50)</script>",
    )
}

#[get("/greedy")]
fn greedy() -> RawHtml<&'static str> {
    RawHtml(
        "<title>Greedy</title><script>const all = []; setInterval(() => { for (let n = 0; n < 4; n++) all.push(new Uint8Array(16000000).fill(7)) }, 10)</script>",
    )
}

#[get("/windows")]
fn windows() -> RawHtml<&'static str> {
    RawHtml(
        "<title>Windows</title><p id=done>still here</p><script>for (let n = 0; n < 20; n++) window.open('/port-office/let-in', `w${n}`)</script>",
    )
}

#[get("/silent")]
async fn silent() -> &'static str {
    tokio::time::sleep(Duration::from_secs(600)).await;
    "at last"
}

#[get("/circle")]
fn circle() -> Redirect {
    Redirect::to("/port-office/circle")
}

#[get("/dialogs")]
fn dialogs() -> RawHtml<&'static str> {
    RawHtml(
        "<title>Dialogs</title><script>alert('stop'); confirm('sure?'); prompt('who?'); onbeforeunload = () => 'stay'</script><p id=done>past the dialogs</p>",
    )
}

/// Asks for what the page itself was not asked for: other addresses, other schemes.
#[get("/reaching?<at>")]
fn reaching(at: &str) -> RawHtml<String> {
    page(include_str!("../live/reaching.html"), &json!({ "at": at }))
}

/// Never stops asking for something.
#[get("/sleeper")]
fn sleeper() -> RawHtml<&'static str> {
    RawHtml(
        "<title>Sleeper</title><p class=spinner>wait</p><p id=late hidden>here now</p><script>
        setTimeout(() => { document.getElementById('late').hidden = false; document.querySelector('.spinner').remove(); window.isReady = true }, 400);
        setInterval(() => fetch('/port-office/let-in'), 50)</script>",
    )
}

/// Longer than a sheet: blocks that are not to be cut.
#[get("/long")]
fn long() -> RawHtml<&'static str> {
    RawHtml(include_str!("../live/long.html"))
}

/// What the page is told of its viewer.
#[get("/clock")]
fn clock() -> RawHtml<&'static str> {
    RawHtml(
        "<!doctype html><title>Clock</title><p id=told></p><script>
        const dark = matchMedia('(prefers-color-scheme: dark)').matches;
        document.body.style.background = dark ? '#000' : '#fff';
        document.body.style.color = dark ? '#fff' : '#000';
        document.getElementById('told').textContent = [Intl.DateTimeFormat().resolvedOptions().timeZone, navigator.language, new Date(Date.UTC(2026, 6, 1, 12)).toLocaleTimeString(), dark ? 'dark' : 'light', matchMedia('print').matches ? 'print' : 'screen', matchMedia('(prefers-reduced-motion: reduce)').matches ? 'still' : 'moving', innerWidth, devicePixelRatio].join(' | ')</script>",
    )
}

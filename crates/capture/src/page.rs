//! One capture from its first request to what is kept.

use std::{
    sync::{Mutex, PoisonError, atomic::Ordering},
    time::{Duration, Instant},
};

use base64::{Engine, engine::general_purpose::STANDARD};
use chromiumoxide::cdp::browser_protocol::{
    browser::{
        BrowserContextId, DownloadProgressState, SetDownloadBehaviorBehavior,
        SetDownloadBehaviorParams,
    },
    network::{CookieParam, TimeSinceEpoch},
    page::{
        AddScriptToEvaluateOnNewDocumentParams, CaptureScreenshotFormat, CaptureScreenshotParams,
        PrintToPdfParams, Viewport,
    },
    storage::{GetCookiesParams, SetCookiesParams},
};
use maple_lark_definition::{Finished, Keep, PageStep};
use serde::Deserialize;
use serde_json::json;

use crate::{
    Act, Captured, Failed, Kept, Order, Part, Problem, StepTime,
    running::{Running, Session, Sessions},
    steps::shown,
    tab::Tab,
};

/// A page is kept up to so many CSS pixels from its top.
const MOST_HEIGHT: u32 = 16_000;
/// A picture that is longer is not drawn right.
const MOST_PIXELS_DOWN: u32 = 16_000;
/// How long a picture of a failure may take.
const PICTURE: Duration = Duration::from_secs(5);
/// How often it is looked whether a page shows its sign-in form.
const DOOR: Duration = Duration::from_millis(150);
/// CSS pixels of an inch.
const INCH: f64 = 96.0;

/// What is done, each with its time.
#[derive(Default)]
struct Log(Mutex<Vec<(String, Instant, Option<Duration>)>>);

impl Log {
    fn begin(&self, what: impl Into<String>) {
        let mut steps = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(last) = steps.last_mut() {
            last.2.get_or_insert(last.1.elapsed());
        }
        steps.push((what.into(), Instant::now(), None));
    }

    fn steps(&self) -> Vec<StepTime> {
        let steps = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        steps
            .iter()
            .map(|(what, began, took)| StepTime {
                what: what.clone(),
                took: took.unwrap_or_else(|| began.elapsed()),
            })
            .collect()
    }

    fn last(&self) -> String {
        let steps = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        steps
            .last()
            .map_or_else(String::new, |(what, _, _)| what.clone())
    }
}

/// What came of an order, and the context that was used for it, which is still to be disposed of.
pub(crate) async fn capture(
    sessions: &Sessions,
    running: &Running,
    order: &Order,
) -> (Result<Captured, Box<Failed>>, Option<BrowserContextId>) {
    let log = Log::default();
    log.begin("open a page of its own");
    let killed = running.process.ended_for_memory();
    let opening = tokio::time::timeout(order.limit, Tab::open(running, order));
    let opened = tokio::select! {
        opened = opening => opened,
        () = running.process.end() => Ok(Err(Problem::Ended)),
    };
    let tab = match opened {
        Ok(Ok(tab)) => tab,
        Ok(Err(problem)) => return (Err(without_picture(problem, &log)), None),
        Err(_) => {
            running.hangs.store(true, Ordering::Release);
            return (Err(without_picture(late(&log, order), &log)), None);
        }
    };
    let work = tokio::time::timeout(order.limit, keep(sessions, &tab, &log));
    let kept = tokio::select! {
        kept = work => kept.unwrap_or_else(|_| Err(late(&log, order))),
        () = tab.crash.happens() => Err(Problem::Crashed),
        () = running.process.end() => Err(Problem::Ended),
    };
    // Another page may have been ended meanwhile; this one was if it crashed, too.
    let crashed = tab.crash.has_happened();
    let kept = if crashed && running.process.ended_for_memory() > killed {
        Err(Problem::Memory {
            megabytes: running.most_memory / 1_000_000,
        })
    } else {
        kept
    };
    let result = match kept {
        Ok(captured) => Ok(captured),
        Err(problem) => {
            let steps = log.steps();
            let picture = instead(&tab).await;
            Err(Box::new(Failed {
                problem,
                steps,
                picture,
            }))
        }
    };
    (result, Some(tab.context))
}

fn without_picture(problem: Problem, log: &Log) -> Box<Failed> {
    Box::new(Failed {
        problem,
        steps: log.steps(),
        picture: None,
    })
}

fn late(log: &Log, order: &Order) -> Problem {
    Problem::Timeout {
        step: log.last(),
        seconds: order.limit.as_secs(),
    }
}

/// What was there instead, with its fields blank. A page that does not answer has no picture.
async fn instead(tab: &Tab<'_>) -> Option<Vec<u8>> {
    if tab.crash.has_happened() || tab.running.process.has_ended() {
        return None;
    }
    let picture = async {
        let acts = tab.order.sign_in.iter().chain(&tab.order.steps);
        let secrets: Vec<&str> = acts
            .filter_map(|act| match act {
                PageStep::Fill { with, .. } if with.is_secret() && !with.text.is_empty() => {
                    Some(with.text.as_str())
                }
                _ => None,
            })
            .collect();
        tab.look::<serde_json::Value>(&format!("blank({})", json!(secrets)))
            .await?;
        let view = &tab.order.view;
        tab.resize(view.height, 1).await?;
        screenshot(tab, 0, 0, view.width, view.height).await
    };
    tokio::time::timeout(PICTURE, picture).await.ok()?.ok()
}

async fn keep(sessions: &Sessions, tab: &Tab<'_>, log: &Log) -> Result<Captured, Problem> {
    let order = tab.order;
    let began = Instant::now();
    prepare(tab).await?;
    // What the steps download may be small and quick.
    let folder = match order.keep {
        Keep::Download => Some(allow_download(tab).await?),
        _ => None,
    };
    arrive(sessions, tab, log).await?;
    if let Some(folder) = folder {
        log.begin("wait for the file");
        let file = downloaded(tab, folder.path()).await?;
        return captured(tab, log, began.elapsed(), Kept::Download(file), None).await;
    }
    let finished_after = began.elapsed();
    for selector in &order.must_have {
        if !tab
            .look::<bool>(&format!("has({})", json!(selector)))
            .await?
        {
            return Err(Problem::NoPart(selector.clone()));
        }
    }
    if let Keep::Table(selector) = &order.keep {
        log.begin("read the table");
        let call = format!("table({}, {})", json!(selector), order.most_rows + 1);
        let rows: Option<Vec<Vec<String>>> = tab.look(&call).await?;
        let rows = rows.ok_or_else(|| Problem::NoPart(selector.clone()))?;
        return captured(tab, log, finished_after, Kept::Table(rows), None).await;
    }
    tab.look::<serde_json::Value>(&format!("hide({})", json!(order.hide)))
        .await?;
    log.begin("keep how it looks");
    let (kept, note) = look(tab).await?;
    captured(tab, log, finished_after, kept, note).await
}

async fn captured(
    tab: &Tab<'_>,
    log: &Log,
    finished_after: Duration,
    kept: Kept,
    note: Option<String>,
) -> Result<Captured, Problem> {
    let outline = if tab.order.outline {
        tab.look("outline()").await?
    } else {
        Vec::new()
    };
    let refused = tab.gate.all_refused();
    let left_out = refused.first().map(|(address, reason)| {
        format!("{address}, which the page asks for, may not be reached: {reason}")
    });
    let notes: Vec<String> = note.into_iter().chain(left_out).collect();
    let (title, address): (String, String) = tab.look("name()").await?;
    Ok(Captured {
        title,
        address: url::Url::parse(&address).map_or(address, |address| shown(&address)),
        browser: tab.running.version.clone(),
        finished_after,
        steps: log.steps(),
        note: (!notes.is_empty()).then(|| notes.join("; ")),
        kept,
        outline,
    })
}

/// Cookies of the source.
async fn prepare(tab: &Tab<'_>) -> Result<(), Problem> {
    let cookies: Vec<CookieParam> = tab
        .order
        .cookies
        .iter()
        .map(|(name, value)| {
            let mut cookie = CookieParam::new(name.clone(), value.clone());
            cookie.url = Some(tab.order.address.origin().ascii_serialization());
            cookie
        })
        .collect();
    set_cookies(tab, cookies).await
}

async fn set_cookies(tab: &Tab<'_>, cookies: Vec<CookieParam>) -> Result<(), Problem> {
    if cookies.is_empty() {
        return Ok(());
    }
    let mut set = SetCookiesParams::new(cookies);
    set.browser_context_id = Some(tab.context.clone());
    tab.running.browser.execute(set).await?;
    Ok(())
}

/// Comes to the page, signed in if one must be, and is there when it has finished. What the last
/// sign-in has left is used as long as the page does not ask again.
async fn arrive(sessions: &Sessions, tab: &Tab<'_>, log: &Log) -> Result<(), Problem> {
    let order = tab.order;
    if order.sign_in.is_empty() {
        return reach(tab, log).await;
    }
    if let Some(session) = sessions.of(&order.session) {
        restore(tab, session).await?;
        match reach(tab, log).await {
            Err(Problem::SignedOut) => {}
            other => return other,
        }
        sessions.keep(&order.session, None);
        log.begin("the sign-in has ended; sign in anew");
    }
    sign_in(sessions, tab, log).await?;
    let reached = reach(tab, log).await;
    if reached == Err(Problem::SignedOut) {
        sessions.keep(&order.session, None);
    }
    reached
}

/// The field that a secret is typed into.
fn door(order: &Order) -> Option<&str> {
    order.sign_in.iter().find_map(|act| match act {
        PageStep::Fill { field, with } if with.is_secret() => Some(field.as_str()),
        _ => None,
    })
}

async fn still_asks(tab: &Tab<'_>) -> bool {
    match door(tab.order) {
        Some(door) => tab.shows_door(door).await,
        None => false,
    }
}

/// Loads the page, does the steps and waits until it has finished.
///
/// # Errors
/// That it asks for a sign-in, whatever else is wrong then.
async fn reach(tab: &Tab<'_>, log: &Log) -> Result<(), Problem> {
    let order = tab.order;
    let door = door(order);
    let there = async {
        log.begin("load the page");
        tab.go(&order.address).await?;
        for act in &order.steps {
            log.begin(act.in_words());
            tab.act(act, &order.address).await?;
        }
        log.begin("wait until it has finished");
        tab.finish(&order.finished).await
    };
    let Some(door) = door else { return there.await };
    // A page may show its sign-in form by itself, a moment after it has begun.
    let asks = async {
        loop {
            tokio::time::sleep(DOOR).await;
            if tab.shows_door(door).await {
                return;
            }
        }
    };
    let reached = tokio::select! {
        reached = there => reached,
        () = asks => return Err(Problem::SignedOut),
    };
    let refused = matches!(&reached, Err(Problem::NotLoaded { words, .. }) if words.ends_with("401") || words.ends_with("403"));
    if refused || tab.shows_door(door).await {
        return Err(Problem::SignedOut);
    }
    reached
}

async fn sign_in(sessions: &Sessions, tab: &Tab<'_>, log: &Log) -> Result<(), Problem> {
    let order = tab.order;
    if order.sign_in.is_empty() {
        return Ok(());
    }
    if !matches!(order.sign_in.first(), Some(Act::Open(_))) {
        log.begin("load the page");
        tab.go(&order.address).await?;
    }
    for act in &order.sign_in {
        log.begin(format!("sign in: {}", act.in_words()));
        match tab.act(act, &order.address).await {
            Err(Problem::NotFinished { .. }) if still_asks(tab).await => {
                return Err(Problem::SignedOut);
            }
            done => done?,
        }
    }
    // What was pressed may still be under way, unless the last step waits for what comes of it.
    if !matches!(order.sign_in.last(), Some(Act::WaitFor(_))) {
        let settled = Finished {
            quiet_milliseconds: 300,
            limit_seconds: 10,
            ..Finished::default()
        };
        match tab.finish(&settled).await {
            Ok(()) | Err(Problem::NotFinished { .. }) => {}
            Err(problem) => return Err(problem),
        }
    }
    let get = GetCookiesParams {
        browser_context_id: Some(tab.context.clone()),
    };
    let cookies = tab.running.browser.execute(get).await?.result.cookies;
    let session = Session {
        cookies: cookies.into_iter().map(as_parameter).collect(),
        storage: tab.look("kept()").await?,
    };
    sessions.keep(&order.session, Some(session));
    Ok(())
}

fn as_parameter(cookie: chromiumoxide::cdp::browser_protocol::network::Cookie) -> CookieParam {
    let mut parameter = CookieParam::new(cookie.name, cookie.value);
    parameter.domain = Some(cookie.domain);
    parameter.path = Some(cookie.path);
    parameter.secure = Some(cookie.secure);
    parameter.http_only = Some(cookie.http_only);
    parameter.same_site = cookie.same_site;
    parameter.expires = (!cookie.session).then(|| TimeSinceEpoch::new(cookie.expires));
    parameter
}

async fn restore(tab: &Tab<'_>, session: Session) -> Result<(), Problem> {
    set_cookies(tab, session.cookies).await?;
    if session.storage.is_empty() {
        return Ok(());
    }
    let origin = tab.order.address.origin().ascii_serialization();
    let script = format!(
        "if (location.origin === {}) for (const [key, value] of {}) if (localStorage.getItem(key) === null) localStorage.setItem(key, value);",
        json!(origin),
        json!(session.storage)
    );
    tab.page
        .execute(AddScriptToEvaluateOnNewDocumentParams::new(script))
        .await?;
    Ok(())
}

async fn allow_download(tab: &Tab<'_>) -> Result<tempfile::TempDir, Problem> {
    let folder = tempfile::tempdir().map_err(|error| Problem::Protocol(error.to_string()))?;
    let allow = SetDownloadBehaviorParams::builder()
        .behavior(SetDownloadBehaviorBehavior::AllowAndName)
        .browser_context_id(tab.context.clone())
        .download_path(folder.path().display().to_string())
        .events_enabled(true)
        .build()
        .map_err(Problem::Protocol)?;
    tab.running.browser.execute(allow).await?;
    Ok(folder)
}

/// The file that the steps have asked for, once it is whole.
async fn downloaded(tab: &Tab<'_>, folder: &std::path::Path) -> Result<Vec<u8>, Problem> {
    let failed = |error: std::io::Error| Problem::Protocol(error.to_string());
    let too_large = Problem::TooLarge {
        megabytes: tab.order.most_bytes.div_ceil(1_000_000),
    };
    let began = Instant::now();
    let limit = Duration::from_secs(tab.order.finished.limit_seconds);
    loop {
        let progress = {
            let seen = tab.seen.download.lock();
            seen.unwrap_or_else(PoisonError::into_inner).clone()
        };
        // Other captures download, too.
        let own = progress.filter(|progress| folder.join(&progress.guid).exists());
        match own {
            Some(progress) if progress.received_bytes > tab.order.most_bytes as f64 => {
                return Err(too_large);
            }
            Some(progress) if progress.state == DownloadProgressState::Completed => {
                let path = folder.join(&progress.guid);
                let size = tokio::fs::metadata(&path).await.map_err(failed)?.len();
                if size > tab.order.most_bytes {
                    return Err(too_large);
                }
                return tokio::fs::read(&path).await.map_err(failed);
            }
            _ if began.elapsed() > limit => return Err(Problem::NoDownload),
            _ => tokio::time::sleep(Duration::from_millis(25)).await,
        }
    }
}

#[derive(Deserialize)]
struct Size {
    width: u32,
    height: u32,
}

#[derive(Deserialize)]
struct Found {
    asked: Option<usize>,
    title: String,
    text: String,
    x: u32,
    y: u32,
    width: u32,
    height: u32,
    cuts: Vec<u32>,
}

/// Pictures of the parts, and the printed page.
async fn look(tab: &Tab<'_>) -> Result<(Kept, Option<String>), Problem> {
    let order = tab.order;
    let Keep::Look { parts, printed } = &order.keep else {
        return Err(Problem::Protocol("nothing is to be kept".to_owned()));
    };
    let height = whole_height(tab).await?;
    let shown = height.min(MOST_HEIGHT);
    let note = (height > MOST_HEIGHT)
        .then(|| format!("the page is {height} pixels long; the first {MOST_HEIGHT} are kept"));
    let selectors: Vec<&str> = parts.iter().map(|part| part.selector.as_str()).collect();
    let found: Vec<Found> = tab.look(&format!("parts({})", json!(selectors))).await?;
    for (place, selector) in selectors.iter().enumerate() {
        if !found.iter().any(|part| part.asked == Some(place)) {
            return Err(Problem::NoPart((*selector).to_owned()));
        }
    }
    let width = order.view.width;
    let (mut kept, mut bytes) = (Vec::new(), 0);
    for part in found {
        let part = picture(tab, part, width, shown).await?;
        bytes += part.png.len() as u64;
        within(order, bytes)?;
        kept.push(part);
    }
    let printed = if *printed {
        let pdf = print(tab, shown).await?;
        within(order, bytes + pdf.len() as u64)?;
        Some(pdf)
    } else {
        None
    };
    let kept = Kept::Look {
        parts: kept,
        width,
        height: shown,
        printed,
    };
    Ok((kept, note))
}

/// A part with its picture, as far as it lies on what is kept of the page.
async fn picture(tab: &Tab<'_>, part: Found, width: u32, height: u32) -> Result<Part, Problem> {
    let (x, y) = (part.x.min(width - 1), part.y.min(height - 1));
    let (width, height) = (
        part.width.clamp(1, width - x),
        part.height.clamp(1, height - y),
    );
    let cuts = part.cuts.iter().filter_map(|cut| cut.checked_sub(y));
    Ok(Part {
        asked: part.asked,
        title: part.title,
        text: part.text,
        x,
        y,
        width,
        height,
        cuts: cuts.filter(|cut| (1..height).contains(cut)).collect(),
        png: screenshot(tab, x, y, width, height).await?,
    })
}

fn within(order: &Order, bytes: u64) -> Result<(), Problem> {
    if bytes <= order.most_bytes {
        return Ok(());
    }
    Err(Problem::TooLarge {
        megabytes: order.most_bytes.div_ceil(1_000_000),
    })
}

/// Makes the view as long as the page, so that all of it is drawn, also what draws itself only
/// when it comes into view; and waits for that.
async fn whole_height(tab: &Tab<'_>) -> Result<u32, Problem> {
    let order = tab.order;
    let mut view = order.view.height;
    let (mut height, mut scale) = (view, order.view.scale);
    for _ in 0..3 {
        let size: Size = tab.look("size()").await?;
        debug_assert!(size.width > 0);
        height = size.height.max(1);
        let wanted = height.max(order.view.height).min(MOST_HEIGHT);
        let fits = (MOST_PIXELS_DOWN / wanted).max(1).min(scale);
        if wanted == view && fits == scale {
            break;
        }
        (view, scale) = (wanted, fits);
        tab.resize(view, scale).await?;
        let again = Finished {
            after_milliseconds: order.finished.after_milliseconds.min(500),
            quiet_milliseconds: order.finished.quiet_milliseconds.min(500),
            ..order.finished.clone()
        };
        tab.finish(&again).await?;
    }
    Ok(height)
}

async fn screenshot(
    tab: &Tab<'_>,
    x: u32,
    y: u32,
    width: u32,
    height: u32,
) -> Result<Vec<u8>, Problem> {
    let clip = Viewport {
        x: f64::from(x),
        y: f64::from(y),
        width: f64::from(width),
        height: f64::from(height),
        scale: 1.0,
    };
    let params = CaptureScreenshotParams::builder()
        .format(CaptureScreenshotFormat::Png)
        // It is packed outside of the browser, where nothing waits for it.
        .optimize_for_speed(true)
        .clip(clip)
        .capture_beyond_viewport(false)
        .build();
    let base64: String = tab.page.execute(params).await?.result.data.into();
    STANDARD
        .decode(base64)
        .map_err(|error| Problem::Protocol(error.to_string()))
}

/// The whole page as one page of PDF of the page's own size.
async fn print(tab: &Tab<'_>, height: u32) -> Result<Vec<u8>, Problem> {
    let params = PrintToPdfParams::builder()
        .print_background(true)
        .paper_width(f64::from(tab.order.view.width) / INCH)
        .paper_height(f64::from(height) / INCH)
        .margin_top(0.0)
        .margin_bottom(0.0)
        .margin_left(0.0)
        .margin_right(0.0)
        .page_ranges("1")
        .build();
    Ok(tab.page.pdf(params).await?)
}

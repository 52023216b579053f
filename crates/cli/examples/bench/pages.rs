//! Live pages against the bare browser: the same page, driven over the protocol alone, and a
//! browser started for each page.

use std::{
    path::Path,
    sync::Arc,
    time::{Duration, Instant},
};

use chromiumoxide::{
    Page,
    cdp::browser_protocol::page::{CaptureScreenshotFormat, CaptureScreenshotParams, Viewport},
    handler::viewport,
    page::ScreenshotParams,
};
use futures::{StreamExt, stream};
use maple_lark_capture::{Act, Browser, Captured, Gate, Kept, Order, Settings, Typed};
use maple_lark_definition::{Finished, PageStep, PageView};
use maple_lark_demo::{WebServices, live_page};
use tokio::task::JoinHandle;

use crate::{Done, Goals};

const WIDTH: u32 = 1200;
const HEIGHT: u32 = 800;
const SCALE: u32 = 2;
const ROUNDS: usize = 7;
/// What people print pages with who have nothing else.
pub const CHROMIUM: &str = "/usr/bin/chromium";
const BOARD: &str = "/port-office/board?from=2026-07-06T00:00:00Z&to=2026-07-13T00:00:00Z";
const FOUR: [&str; 4] = ["long", "clock", "let-in", "sign-in"];

pub async fn measure(goals: &mut Goals) -> Done<()> {
    let web = WebServices::start().await?;
    one_page(&web, goals).await?;
    many_pages(&web, goals).await
}

fn order(web: &WebServices, path: &str) -> Done<Order> {
    let gate: Gate = Arc::new(|host, port| {
        Box::pin(async move { Ok(tokio::net::lookup_host((host, port)).await?.collect()) })
    });
    Ok(Order {
        view: PageView {
            width: WIDTH,
            height: HEIGHT,
            scale: SCALE,
            ..PageView::default()
        },
        finished: Finished {
            quiet_milliseconds: 0,
            ..Finished::default()
        },
        ..Order::of("bench".to_owned(), web.url(path).parse()?, gate)
    })
}

fn median(mut times: Vec<Duration>) -> f64 {
    times.sort();
    times[times.len() / 2].as_secs_f64()
}

async fn one_page(web: &WebServices, goals: &mut Goals) -> Done<()> {
    let fill = |field: &str, text: &str, secret: bool| PageStep::Fill {
        field: field.to_owned(),
        with: Typed {
            text: text.to_owned(),
            secret_for: secret.then(|| vec!["127.0.0.1".to_owned()]),
        },
    };
    let sign_in: Vec<Act> = vec![
        PageStep::Open("/port-office/sign-in".to_owned()),
        fill("Name", live_page::USER, false),
        fill("Password", live_page::PASSWORD, true),
        PageStep::Press("Sign in".to_owned()),
        PageStep::WaitFor("#berths".to_owned()),
    ];
    let mut board = order(web, BOARD)?;
    board.sign_in = sign_in;
    board.finished.there = vec!["body.complete".to_owned()];
    let browser = Browser::new(Settings::default());
    let mut ours = Vec::new();
    let (mut whole, mut bytes, mut packing) = ((WIDTH, HEIGHT), (0, 0), Vec::new());
    for _ in 0..=ROUNDS {
        let began = Instant::now();
        let captured = browser.capture(&board).await;
        let captured = captured.map_err(|failed| failed.problem.to_string())?;
        let (drawn, before) = (began.elapsed(), size(&captured));
        let captured = tokio::task::spawn_blocking(|| captured.packed()).await?;
        ours.push(began.elapsed());
        packing.push(began.elapsed() - drawn);
        bytes = (before, size(&captured));
        if let Kept::Look { width, height, .. } = captured.kept {
            whole = (width, height);
        }
    }
    let peak = browser.peak_memory().await as f64 / 1e6;
    browser.end().await;
    // The first one signs in.
    ours.remove(0);

    let bare = bare(web, whole).await?;
    let (ours, bare) = (median(ours), median(bare));
    println!(
        "  a page of eight panels: {ours:.2} s captured, {bare:.2} s by the bare browser; the browser takes {peak:.0} MB at most"
    );
    println!(
        "  its picture is {} kB and was {} kB before it was packed, which takes {:.2} s of the whole",
        bytes.1 / 1000,
        bytes.0 / 1000,
        median(packing)
    );
    let ratio = ours / bare;
    goals.check(
        "a capture against the bare browser",
        ratio,
        "times",
        ratio <= 1.3,
        "at most 1.3",
    );
    Ok(())
}

/// The bytes of what was kept.
fn size(captured: &Captured) -> usize {
    match &captured.kept {
        Kept::Look { parts, .. } => parts.iter().map(|part| part.png.len()).sum(),
        _ => 0,
    }
}

/// From navigation to the same picture, over the protocol alone.
async fn bare(web: &WebServices, (width, height): (u32, u32)) -> Done<Vec<Duration>> {
    let profile = tempfile::tempdir()?;
    let program = Settings::default().program();
    let (mut browser, handling) = bare_browser(&program, profile.path(), looking(SCALE)).await?;
    let page = browser
        .new_page(web.url("/port-office/sign-in").as_str())
        .await?;
    let enter = format!(
        "fetch('/port-office/sign-in', {{method: 'POST', headers: {{'Content-Type': 'application/x-www-form-urlencoded'}}, body: 'user={}&password={}'}}).then(() => true)",
        live_page::USER,
        live_page::PASSWORD
    );
    page.evaluate(enter).await?;
    let mut times = Vec::new();
    for _ in 0..=ROUNDS {
        let page = browser.new_page("about:blank").await?;
        let began = Instant::now();
        page.goto(web.url(BOARD).as_str()).await?;
        ready(&page).await?;
        let clip = Viewport {
            x: 0.0,
            y: 0.0,
            width: f64::from(width),
            height: f64::from(height),
            scale: 1.0,
        };
        let picture = CaptureScreenshotParams::builder()
            .format(CaptureScreenshotFormat::Png)
            .clip(clip)
            .capture_beyond_viewport(true)
            .build();
        page.execute(picture).await?;
        times.push(began.elapsed());
        page.close().await?;
    }
    times.remove(0);
    browser.close().await?;
    browser.wait().await?;
    handling.abort();
    Ok(times)
}

async fn ready(page: &Page) -> Done<()> {
    let complete = "document.body.classList.contains('complete')";
    while !page.evaluate(complete).await?.into_value::<bool>()? {
        tokio::time::sleep(Duration::from_millis(25)).await;
    }
    Ok(())
}

async fn many_pages(web: &WebServices, goals: &mut Goals) -> Done<()> {
    let browser = Browser::new(Settings::default());
    let orders: Vec<Order> = FOUR
        .iter()
        .cycle()
        .take(40)
        .map(|page| {
            let mut order = order(web, &format!("/port-office/{page}"))?;
            order.view.scale = 1;
            Ok(order)
        })
        .collect::<Done<_>>()?;
    browser.version().await?;
    let began = Instant::now();
    let captures = stream::iter(&orders).map(|order| browser.capture(order));
    let at_once = Settings::default().most_at_once;
    let captured: Vec<_> = captures.buffer_unordered(at_once).collect().await;
    let ours = began.elapsed().as_secs_f64();
    if let Some(Err(failed)) = captured.into_iter().find(Result::is_err) {
        return Err(failed.problem.to_string().into());
    }
    let peak = browser.peak_memory().await as f64 / 1e6;
    browser.end().await;

    let each = one_for_each(web, Path::new(CHROMIUM), at_once).await?;
    let same = one_for_each(web, &Settings::default().program(), at_once).await?;
    println!(
        "  40 captures of 4 pages: {:.0} a minute, {:.0} with a Chromium for each, {:.0} with a browser for each that is the same as ours; ours takes {peak:.0} MB at most",
        40.0 * 60.0 / ours,
        40.0 * 60.0 / each,
        40.0 * 60.0 / same
    );
    let ratio = each / ours;
    goals.check(
        "captures against a Chromium for each",
        ratio,
        "times as many",
        ratio >= 3.0,
        "at least 3",
    );
    Ok(())
}

/// The seconds of the same captures with a browser that is started for each.
async fn one_for_each(web: &WebServices, program: &Path, at_once: usize) -> Done<f64> {
    let began = Instant::now();
    let addresses = FOUR.iter().cycle().take(40);
    let started = stream::iter(addresses)
        .map(|page| one_browser(program, web.url(&format!("/port-office/{page}"))));
    let pictures: Vec<Done<()>> = started.buffer_unordered(at_once).collect().await;
    pictures.into_iter().collect::<Done<Vec<()>>>()?;
    Ok(began.elapsed().as_secs_f64())
}

/// The same picture, of the whole page, by a browser that is started for it.
async fn one_browser(program: &Path, address: String) -> Done<()> {
    let profile = tempfile::tempdir()?;
    let (mut browser, handling) = bare_browser(program, profile.path(), looking(1)).await?;
    let page = browser.new_page(address.as_str()).await?;
    page.wait_for_navigation().await?;
    let whole = ScreenshotParams::builder()
        .format(CaptureScreenshotFormat::Png)
        .full_page(true);
    page.screenshot(whole.build()).await?;
    browser.close().await?;
    browser.wait().await?;
    handling.abort();
    Ok(())
}

/// A bare browser that is driven over its protocol and takes as long as it needs.
pub async fn bare_browser(
    program: &Path,
    profile: &Path,
    viewport: Option<viewport::Viewport>,
) -> Done<(chromiumoxide::Browser, JoinHandle<()>)> {
    let config = chromiumoxide::BrowserConfig::builder()
        .chrome_executable(program)
        .no_sandbox()
        .user_data_dir(profile)
        .viewport(viewport)
        .request_timeout(Duration::from_mins(5))
        .build()?;
    let (browser, mut handler) = chromiumoxide::Browser::launch(config).await?;
    let handling = tokio::spawn(async move { while handler.next().await.is_some() {} });
    Ok((browser, handling))
}

/// What the pages are looked at with.
fn looking(scale: u32) -> Option<viewport::Viewport> {
    Some(viewport::Viewport {
        width: WIDTH,
        height: HEIGHT,
        device_scale_factor: Some(f64::from(scale)),
        ..viewport::Viewport::default()
    })
}

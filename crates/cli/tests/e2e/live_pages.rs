//! Live pages, from their sign-in to the inbox.

use maple_lark_fixtures::{self as fixtures, Fixture};
use std::time::{Duration, Instant};

use mail_parser::{MessageParser, MimeHeaders};
use maple_lark_demo::{WebServices, live_page};
use serde_json::Value;

use crate::{
    composing::retype,
    console::{Driver, see, signed_in_at},
    documents::barriers,
    first_run::pdf_text,
    forms::Hands,
    place::{Place, Service, applied, browsers_of, mails, ran, text, wait_for},
    questions::{place_with_everything, store_own_token},
};

const DEMO: &str = concat!(env!("CARGO_MANIFEST_DIR"), "/../../demo");

const BOARD: &str = r##"
[dashboard]
name = "board"
title = "The board"

[[query]]
name = "board"
source = "port-office"
page = "/board?from={{ from }}&to={{ to }}"
finished = { there = "body.complete", limit-seconds = 20 }

[[section]]
title = "As it looks"

[[section.block]]
show = "page"
title = "Harbours"
query = "board"
"##;

fn weekly() -> Fixture {
    fixtures::report("board", "board")
        .key("title", "The board")
        .list("formats", &["pdf"])
        .previous("week")
        .to("Readers", &["readers@orrin-sound.example"])
}

/// The page's source with a password of ours.
fn office(place: &Place, password: &str) -> String {
    let source =
        std::fs::read_to_string(format!("{DEMO}/sources/harbours.port-office.toml")).unwrap();
    let file = place.folder.path().join("port-office-password");
    std::fs::write(&file, password).unwrap();
    // For everybody, since there are no teams here.
    let source = source
        .replace("teams = [\"harbours\"]\n", "")
        .replace("harbours.port-office", "port-office");
    source.replace(
        "env:ORRIN_PORT_OFFICE_PASSWORD",
        &format!("file:{}", file.display()),
    )
}

async fn with_demo() -> (Place, WebServices, Service) {
    let (place, services) = place_with_everything().await;
    let service = place.serve();
    place.sign_in();
    store_own_token(&place);
    let output = place.apply_demo();
    assert!(output.status.success(), "{}", text(&output.stderr));
    (place, services, service)
}

fn documents(place: &Place, run: &str) -> Vec<std::path::PathBuf> {
    let into = place.folder.path().join(format!("documents-{run}"));
    let output = place.lark(&["download", run, "--into", into.to_str().unwrap()]);
    assert!(output.status.success(), "{}", text(&output.stderr));
    let mut files: Vec<_> = std::fs::read_dir(into)
        .unwrap()
        .map(|entry| entry.unwrap().path())
        .collect();
    files.sort();
    files
}

fn ending(files: &[std::path::PathBuf], ending: &str) -> Vec<u8> {
    let file = files
        .iter()
        .find(|file| file.extension().is_some_and(|it| it == ending));
    std::fs::read(file.unwrap_or_else(|| panic!("no {ending} among {files:?}"))).unwrap()
}

#[tokio::test(flavor = "multi_thread")]
async fn the_page_that_everybody_likes_is_mailed_as_it_looks_and_can_be_made_again() {
    let (place, services, _service) = with_demo().await;
    let run = ran(&place, "harbours.weekly");
    assert_eq!(run["state"], "delivered", "{run}");
    let id = run["id"].as_str().unwrap();
    let step = run["steps"][0]["detail"].as_str().unwrap();
    assert!(step.contains("1 picture; open a page of its own"), "{step}");
    assert!(step.contains("sign in: press \"Sign in\""), "{step}");
    let test = place.lark(&["test", "harbours.port-office"]);
    assert!(text(&test.stdout).contains("Port office: harbours of the sound"));
    // Printed by the browser: its words can be selected; the window is the report's.
    let files = documents(&place, id);
    let words = pdf_text(&ending(&files, "pdf"));
    for wanted in [
        "Foot passengers a day",
        "Skarvøy",
        "finished after",
        "Chromium",
    ] {
        assert!(words.contains(wanted), "{wanted}: {words}");
    }
    assert!(!words.contains("one cookie"), "left out");
    let html = String::from_utf8(ending(&files, "html")).unwrap();
    assert!(html.contains("src=\"data:image/png;base64,"));
    // The mail has the picture in its body, a link back, and the PDF beside it.
    let mail = &mails(&place, 1)["harbours@orrin-sound.example"][0];
    let mail = MessageParser::default().parse(mail).unwrap();
    let kinds: Vec<String> = mail
        .attachments()
        .filter_map(|part| part.content_type())
        .map(|kind| format!("{}/{}", kind.ctype(), kind.subtype().unwrap_or_default()))
        .collect();
    assert!(kinds.contains(&"image/png".to_owned()), "{kinds:?}");
    assert!(kinds.contains(&"application/pdf".to_owned()), "{kinds:?}");
    let body = mail.body_html(0).unwrap();
    assert!(body.contains("As the page looked: <a href="), "{body}");

    // Two panels and the table of the same page, beside our own figures.
    let run = ran(&place, "harbours.mondays");
    assert_eq!(run["state"], "delivered", "{run}");
    let csv = ending(&documents(&place, run["id"].as_str().unwrap()), "csv");
    let csv = String::from_utf8(csv).unwrap();
    let kiosks: Vec<&str> = csv.lines().collect();
    assert!(kiosks[0].starts_with("Berth,Harbour,Calls"), "{csv}");
    assert_eq!(kiosks.len(), 13);

    // The page is gone; what was sent can be made again, byte for byte.
    drop(services);
    let again = place.folder.path().join("again");
    let output = place.lark(&[
        "render",
        id,
        "--format",
        "pdf",
        "--into",
        again.to_str().unwrap(),
    ]);
    assert!(output.status.success(), "{}", text(&output.stderr));
    let again = std::fs::read_dir(&again).unwrap().next().unwrap().unwrap();
    assert!(std::fs::read(again.path()).unwrap() == ending(&files, "pdf"));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_page_is_captured_once_by_one_command() {
    let (place, services, _service) = with_demo().await;
    let into = place.folder.path().join("captured");
    let folder = into.to_str().unwrap();
    let lark = |line: &[&str]| {
        let output = place.lark(line);
        assert!(output.status.success(), "{}", text(&output.stderr));
        text(&output.stdout)
    };
    let page = "/board?from={{ from }}&to={{ to }}";
    let said = lark(&[
        "capture",
        page,
        "--source",
        "harbours.port-office",
        "--window",
        "previous = \"week\"",
        "--part",
        "#turnaround",
        "--part",
        "#berths",
        "--there",
        "body.complete",
        "--formats",
        "pdf,html",
        "--into",
        folder,
    ]);
    assert_eq!(said.lines().count(), 2, "{said}");
    let pdf = std::fs::read_dir(&into).unwrap().count();
    assert_eq!(pdf, 2);

    // An address that the service has not known, with a sign-in of its own, to somebody.
    place.lark_with_input(&["secret", "set", "board"], live_page::PASSWORD);
    let address = services.url("/port-office/board?from={{ from }}&to={{ to }}");
    let mut line = vec!["capture", &address, "--there", "body.complete"];
    for step in [
        "open=/port-office/sign-in",
        "fill=Name:harbour-watch",
        "fill=Password:secret:board",
        "press=Sign in",
        "wait-for=#berths",
    ] {
        line.extend(["--sign-in", step]);
    }
    lark(&[&line[..], &["--to", "duty@orrin-sound.example"]].concat());
    let mail = &mails(&place, 1)["duty@orrin-sound.example"][0];
    let mail = MessageParser::default().parse(mail).unwrap();
    // It is called as the page calls itself.
    let subject = mail.subject().unwrap();
    assert!(
        subject.contains("Port office: harbours of the sound"),
        "{subject}"
    );
    assert!(mail.attachments().any(|part| {
        part.attachment_name()
            .is_some_and(|name| name.ends_with(".pdf"))
    }));
    // Nothing of it is left but what was sent.
    let names = lark(&["sources"]) + &lark(&["dashboards"]) + &lark(&["reports"]);
    assert!(!names.contains("capture-"), "{names}");

    lark(&[&line[..], &["--save", "kept-board"]].concat());
    assert!(lark(&["reports"]).contains("kept-board"));
    assert_eq!(ran(&place, "kept-board")["state"], "completed");

    let refused = place.lark(&["capture", "/board", "--save", "x"]);
    assert!(text(&refused.stderr).contains("name it with --source"));
    // What is wrong is said, and nothing is written but what was there instead.
    for (line, words) in [
        (
            &["http://169.254.169.254/latest"][..],
            "169.254.169.254:80 may not be reached: it is a link-local address",
        ),
        (
            &[
                "/board",
                "--source",
                "harbours.port-office",
                "--part",
                "#nowhere",
            ][..],
            "the page has no \"#nowhere\"",
        ),
        (
            &[
                "/board",
                "--source",
                "harbours.port-office",
                "--save",
                "other-board",
            ][..],
            "the source \"harbours.port-office\" is for \"harbours\" alone",
        ),
    ] {
        let line = [&["capture", "--into", folder][..], line].concat();
        let refused = place.lark(&line);
        assert!(!refused.status.success());
        let said = text(&refused.stderr);
        assert!(said.contains(words), "{said}");
    }
    assert!(!lark(&["sources"]).contains("capture-"));
    assert_eq!(std::fs::read_dir(&into).unwrap().count(), 3);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_page_that_cannot_be_captured_holds_its_run_and_shows_what_was_there() {
    let (place, services) = place_with_everything().await;
    let _service = place.serve();
    place.sign_in();
    let wrong = "not-the-password";
    applied(
        &place,
        &[
            ("office.toml", &office(&place, wrong)),
            ("board.toml", BOARD),
            ("report.toml", &weekly()),
        ],
    );
    let run = ran(&place, "board");
    assert_eq!(run["state"], "held", "{run}");
    let said = run.to_string();
    assert!(!said.contains(wrong), "{said}");
    let failed = run["steps"][0]["detail"].as_str().unwrap();
    assert!(failed.contains("shows the sign-in form again"), "{failed}");
    let id = run["id"].as_str().unwrap();
    let url = format!("http://{}/api/v1/runs/{id}/failed-pages", place.address);
    let pages: Vec<Value> = reqwest::Client::new()
        .get(url)
        .bearer_auth(place.token())
        .send()
        .await
        .unwrap()
        .json()
        .await
        .unwrap();
    assert_eq!(pages.len(), 1);
    assert_eq!(pages[0]["subject"], "board / board");
    assert!(pages[0]["picture"].as_str().unwrap().starts_with("iVBOR"));

    // Mended, it is sent.
    applied(
        &place,
        &[("office.toml", &office(&place, live_page::PASSWORD))],
    );
    std::fs::write(
        place.folder.path().join("port-office-password"),
        live_page::PASSWORD,
    )
    .unwrap();
    assert_eq!(ran(&place, "board")["state"], "delivered");
    drop(services);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_service_that_is_killed_leaves_no_browser_behind() {
    let (place, _services) = place_with_everything().await;
    let service = place.serve();
    place.sign_in();
    let slow = BOARD.replace("limit-seconds = 20", "after-seconds = 30");
    applied(
        &place,
        &[
            ("office.toml", &office(&place, live_page::PASSWORD)),
            ("board.toml", &slow),
            ("report.toml", &weekly()),
        ],
    );
    let begun = place.json(&["run", "board", "--detach"]);
    let id = begun["id"].as_str().unwrap();
    wait_for(&place, id, "the page is being looked at", |_| {
        !browsers_of(service.child.id()).is_empty()
    });
    let browsers = browsers_of(service.child.id());
    service.kill();
    let began = Instant::now();
    while browsers.iter().any(|pid| is_alive(*pid)) {
        assert!(began.elapsed() < Duration::from_secs(30), "{browsers:?}");
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
}

fn is_alive(pid: i32) -> bool {
    procfs::process::Process::new(pid)
        .and_then(|process| process.stat())
        .is_ok_and(|stat| stat.state != 'Z')
}

#[tokio::test(flavor = "multi_thread")]
async fn without_a_browser_that_is_said_and_everything_else_works() {
    let (place, _services) = place_with_everything().await;
    place.add_to_configuration("[browser]\nprogram = \"/nowhere/chromium\"\n");
    let _service = place.serve();
    place.sign_in();
    store_own_token(&place);
    assert!(place.apply_demo().status.success());
    let test = place.lark(&["test", "harbours.port-office"]);
    let words = text(&test.stdout) + &text(&test.stderr);
    assert!(
        words.contains("/nowhere/chromium") && words.contains("Install Debian's package chromium"),
        "{words}"
    );
    assert_eq!(ran(&place, "harbours.weekly")["state"], "held");
    assert_eq!(ran(&place, "database-server-health")["state"], "delivered");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_page_becomes_a_report_by_presses_and_a_part_is_pressed_on_its_picture() {
    let (place, services, _service) = with_demo().await;
    let driver = Driver::start();
    let profile = tempfile::tempdir().unwrap();
    let browser = driver.browser(profile.path()).await;
    signed_in_at(&browser, &place, "/reports").await;
    let hands = Hands::at(&browser);
    hands
        .press("//button[normalize-space()='New report']")
        .await;
    hands.press("//strong[.='A page I already have']").await;

    // An address as the browser has it: its times give way to the window, its sign-in is a form.
    let address =
        services.url("/port-office/board?from=2026-01-01T00:00:00Z&to=2026-01-02T00:00:00Z");
    hands.fill("Address of the page", &address).await;
    see(
        &browser,
        "//code[contains(., 'from={{ from }}&to={{ to }}')]",
    )
    .await;
    hands.choose("Sign-in", "A form on the page").await;
    for (field, text) in [
        ("What step 2 fills in", live_page::USER),
        ("What step 3 fills in", live_page::PASSWORD),
    ] {
        hands.fill(field, text).await;
    }
    retype(&browser, "Where step 1 does it", "/port-office/sign-in").await;
    hands.press("//button[normalize-space()='Try it']").await;
    see(
        &browser,
        "//img[@alt='The page Port office: harbours of the sound']",
    )
    .await;
    assert_eq!(barriers(&browser).await, serde_json::json!([]));
    hands.fill("Title", "Harbours by presses").await;
    hands
        .press("//button[normalize-space()='Make the report']")
        .await;
    see(&browser, "//h1[normalize-space()='Harbours by presses']").await;
    // The password is kept encrypted and stands in no definition.
    let into = place.folder.path().join("exported");
    assert!(
        place
            .lark(&["export", into.to_str().unwrap()])
            .status
            .success()
    );
    let host = services.address.to_string().replace(['.', ':'], "-");
    let source = std::fs::read_to_string(into.join(format!("sources/{host}.toml"))).unwrap();
    assert!(
        source.contains("with = \"secret:") && !source.contains(live_page::PASSWORD),
        "{source}"
    );
    assert_eq!(ran(&place, "harbours-by-presses")["state"], "completed");

    // A part of the page is pressed on its picture, and is what the block then shows.
    let path = format!(
        "http://{}/dashboards/harbours-by-presses/edit",
        place.address
    );
    browser.goto(&path).await.unwrap();
    hands.press("//article").await;
    hands.press("//button[@role='tab'][.='The data']").await;
    hands
        .press("//button[normalize-space()='Look at the page']")
        .await;
    hands
        .press("//summary[starts-with(., 'Parts of the page')]")
        .await;
    hands
        .press("//li[.//code[.='#wind']]//label[contains(., 'Wind, m/s')]")
        .await;
    see(
        &browser,
        "//input[@aria-label='Title of the part Wind, m/s']",
    )
    .await;
    hands.press("//button[normalize-space()='Save']").await;
    see(&browser, "//*[@role='status'][normalize-space()='Saved']").await;
    let run = ran(&place, "harbours-by-presses");
    let words = pdf_text(&ending(
        &documents(&place, run["id"].as_str().unwrap()),
        "pdf",
    ));
    assert!(
        words.contains("Wind, m/s") && !words.contains("Foot passengers"),
        "{words}"
    );
}

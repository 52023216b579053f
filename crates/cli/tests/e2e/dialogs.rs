//! What opens over a page: named, without barriers, on the screen, and closed by a key.

use fantoccini::{Client, key::Key};
use serde_json::json;

use crate::{
    console::{Driver, click, see, signed_in_at},
    documents::barriers,
    place::{Place, small_report},
};

/// A page, the words of a button on it, and those that the dialog has over it.
const DIALOGS: [(&str, &str, &str); 15] = [
    ("/reports/small", "Copy", "Copy this report"),
    ("/reports/small", "Remove", "Remove this report?"),
    ("/reports/small", "Run and send …", "Run and send"),
    ("/dashboards", "Copy", "Copy this dashboard"),
    ("/dashboards/small", "Publish …", "Publish"),
    (
        "/dashboards/small",
        "Make a template",
        "Make a template of this dashboard",
    ),
    ("/dashboards/small/edit", "Add …", "Add to this dashboard"),
    ("/definitions", "Remove", "Remove"),
    ("/delivery", "Test", "Test"),
    (
        "/agenda",
        "Subscribe …",
        "The agenda in your calendar program",
    ),
    ("/users", "Invite somebody", "Invite somebody"),
    ("/users", "New team", "New team"),
    ("RUN", "Publish …", "Publish"),
    ("RUN", "Keep for good …", "Keep this run for good"),
    ("RUN", "Send again …", "Send this run again"),
];

/// Those of them that only ask something.
const QUESTIONS: [&str; 5] = [
    "Copy",
    "Remove",
    "Run and send …",
    "Test",
    "Keep for good …",
];

/// What is wrong with the dialog that is open, beside what a checker of pages finds.
const AMISS: &str = "
    const dialog = [...document.querySelectorAll('[role=dialog]')].find((one) => one.checkVisibility());
    const said = [];
    const named = dialog.getAttribute('aria-label') || document.getElementById(dialog.getAttribute('aria-labelledby'))?.textContent;
    if (!named?.includes(arguments[0])) said.push(`it is called ${named}`);
    if (!dialog.contains(document.activeElement)) said.push('the keys are elsewhere: ' + document.activeElement.outerHTML.slice(0, 200));
    const box = dialog.querySelector('.el-message-box, .el-dialog').getBoundingClientRect();
    if (box.left < 0 || box.right > innerWidth) said.push(`it goes from ${box.left} to ${box.right} of ${innerWidth}`);
    return said";

async fn opened(browser: &Client, words: &str) {
    let button = format!(
        "//main//button[normalize-space()='{words}' or starts-with(@aria-label, '{words} ')][not(@disabled)]"
    );
    see(browser, &button).await;
    click(browser, &button).await;
    see(browser, OPEN).await;
}

const OPEN: &str =
    ".//*[@role='dialog'][not(ancestor-or-self::*[contains(@style, 'display: none')])]";

/// By rules of others, at a desk in the light and on a phone in the dark.
#[tokio::test(flavor = "multi_thread")]
async fn every_dialog_is_named_is_on_the_screen_and_is_closed_by_a_key() {
    let place = Place::new().await;
    let _service = place.serve();
    place.sign_in();
    place.apply_small(&small_report());
    let run = place.json(&["run", "small"]);
    let run = format!("/runs/{}", run["id"].as_str().unwrap());
    let driver = Driver::start();
    let profile = tempfile::tempdir().unwrap();
    let browser = driver.browser(profile.path()).await;
    signed_in_at(&browser, &place, "/").await;
    see(&browser, "//nav").await;
    let mut found = Vec::new();
    for (look, width) in [("light", 1280), ("dark", 390)] {
        browser.set_window_size(width, 800).await.unwrap();
        let look_at = format!("localStorage.setItem('look', '{look}')");
        browser.execute(&look_at, Vec::new()).await.unwrap();
        let mut at = String::new();
        // Plain questions are the same everywhere; on a phone it is the forms that may not fit.
        let is_form = |words: &str| !QUESTIONS.contains(&words);
        let some = DIALOGS.iter().filter(|one| width > 400 || is_form(one.1));
        for (path, words, named) in some.copied() {
            let path = if path == "RUN" { &run } else { path };
            if at != path {
                let address = format!("http://{}{path}", place.address);
                browser.goto(&address).await.unwrap();
                path.clone_into(&mut at);
            }
            opened(&browser, words).await;
            let mut wrong = barriers(&browser).await;
            let amiss = browser.execute(AMISS, vec![json!(named)]).await.unwrap();
            let more = amiss.as_array().unwrap().iter().cloned();
            wrong.as_array_mut().unwrap().extend(more);
            if wrong != json!([]) {
                found.push(format!("{look} {path} {words}: {wrong:#}"));
            }
            browser
                .active_element()
                .await
                .unwrap()
                .send_keys(&Key::Escape.to_string())
                .await
                .unwrap();
            let closed = format!("//body[not({OPEN})]");
            see(&browser, &closed).await;
        }
    }
    assert!(found.is_empty(), "{}", found.join("\n"));
}

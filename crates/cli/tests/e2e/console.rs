//! The console in headless Chromium.

use std::{
    process::{Child, Command, Stdio},
    time::{Duration, Instant},
};

use fantoccini::{Client, ClientBuilder, Locator};
use hyper_util::client::legacy::connect::HttpConnector;
use serde_json::json;

use crate::place::{PASSWORD, PATIENCE, Place, applied, small_report};

pub struct Driver {
    child: Child,
    port: u16,
}

impl Driver {
    pub fn start() -> Self {
        let port = maple_lark_demo::free_port().unwrap();
        let child = Command::new("chromedriver")
            .arg(format!("--port={port}"))
            .stdout(Stdio::null())
            .stderr(Stdio::null())
            .spawn()
            .expect("chromedriver of Debian's package chromium-driver");
        Self { child, port }
    }

    pub async fn browser(&self, profile: &std::path::Path) -> Client {
        self.opened(profile, json!({})).await
    }

    /// A browser as wide as a phone; a window cannot be made so narrow everywhere.
    pub async fn phone(&self, profile: &std::path::Path) -> Client {
        let metrics = json!({ "width": 390, "height": 844, "pixelRatio": 1 });
        let emulated = json!({ "mobileEmulation": { "deviceMetrics": metrics } });
        self.opened(profile, emulated).await
    }

    async fn opened(&self, profile: &std::path::Path, mut options: serde_json::Value) -> Client {
        let arguments = maple_lark_demo::chromium::arguments(profile, &["--window-size=1280,900"]);
        options["args"] = json!(arguments);
        let capabilities = json!({ "goog:chromeOptions": options });
        for _ in 0..100 {
            let mut builder = ClientBuilder::new(HttpConnector::new());
            if let Ok(browser) = builder
                .capabilities(capabilities.as_object().unwrap().clone())
                .connect(&format!("http://127.0.0.1:{}", self.port))
                .await
            {
                return browser;
            }
            tokio::time::sleep(Duration::from_millis(100)).await;
        }
        panic!("chromedriver does not start a browser");
    }
}

impl Drop for Driver {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

pub async fn see(browser: &Client, xpath: &str) -> fantoccini::elements::Element {
    let began = Instant::now();
    loop {
        let looked = browser.wait().at_most(PATIENCE);
        match looked.for_element(Locator::XPath(xpath)).await {
            Ok(element) => return element,
            // What leads to another page by itself may do so while it is looked at.
            Err(error)
                if error.to_string().contains("aborted by navigation")
                    && began.elapsed() < PATIENCE => {}
            Err(error) => panic!(
                "{xpath}: {error}\n{}",
                browser.source().await.unwrap_or_default()
            ),
        }
    }
}

/// Clicks on something once it can be clicked on: what opens or moves may take a moment.
pub async fn click(browser: &Client, xpath: &str) {
    let began = Instant::now();
    loop {
        match see(browser, xpath).await.click().await {
            Ok(()) => return,
            Err(error) if began.elapsed() > PATIENCE => panic!("{xpath}: {error}"),
            Err(_) => tokio::time::sleep(Duration::from_millis(50)).await,
        }
    }
}

/// Goes to a page by way of the sign-in.
pub async fn signed_in_at(browser: &Client, place: &Place, page: &str) {
    browser
        .goto(&format!("http://{}{page}", place.address))
        .await
        .unwrap();
    see(browser, "//input[@name='name']")
        .await
        .send_keys("admin")
        .await
        .unwrap();
    see(browser, "//input[@name='password']")
        .await
        .send_keys(PASSWORD)
        .await
        .unwrap();
    see(browser, "//button[@type='submit']")
        .await
        .click()
        .await
        .unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn somebody_signs_in_runs_a_report_and_opens_what_was_made() {
    let place = Place::new().await;
    let _service = place.serve();
    place.sign_in();
    place.apply_small(&small_report());
    let driver = Driver::start();
    let profile = tempfile::tempdir().unwrap();
    let browser = driver.browser(profile.path()).await;
    browser
        .goto(&format!("http://{}/reports", place.address))
        .await
        .unwrap();

    // A wrong password is said, the right one leads to where one wanted to go.
    see(&browser, "//input[@name='name']")
        .await
        .send_keys("admin")
        .await
        .unwrap();
    see(&browser, "//input[@name='password']")
        .await
        .send_keys("wrong")
        .await
        .unwrap();
    click(&browser, "//button[@type='submit']").await;
    see(
        &browser,
        "//*[@role='alert'][contains(., 'the name or the password is wrong')]",
    )
    .await;
    see(&browser, "//input[@name='password']")
        .await
        .send_keys(PASSWORD)
        .await
        .unwrap();
    click(&browser, "//button[@type='submit']").await;

    see(&browser, "//a[contains(., 'Small report')]").await;
    // What is searched for stands in the address, so that it can be kept.
    see(&browser, "//input[@aria-label='Search']")
        .await
        .send_keys("nothing like it")
        .await
        .unwrap();
    see(&browser, "//p[contains(., 'No report is like this.')]").await;
    let address = browser.current_url().await.unwrap();
    assert!(address.query().unwrap().contains("search=nothing"));
    click(&browser, "//a[.='Show all']").await;
    // Several are run at once.
    click(
        &browser,
        "//td[contains(@class, 'choose')]//span[contains(@class, 'el-checkbox__inner')]",
    )
    .await;
    see(&browser, "//strong[.='1 chosen']").await;
    click(
        &browser,
        "//*[@role='toolbar']//button[.='Run without sending']",
    )
    .await;
    see(&browser, "//a[.//*[contains(., 'Completed')]]").await;
    click(&browser, "//button[@aria-label='Run Small report']").await;
    click(&browser, "//li[contains(., 'Run and send')]").await;
    // Mail that is out cannot be called back, so it says first who gets it.
    see(
        &browser,
        "//*[@role='dialog'][contains(., 'in one audience')]",
    )
    .await;
    click(
        &browser,
        "//*[@role='dialog']//button[contains(., 'Run and send')]",
    )
    .await;
    let outcome = see(
        &browser,
        "//div[contains(@class, 'progress')]//a[contains(., 'Delivered')]",
    )
    .await;
    outcome.click().await.unwrap();

    // The run's page shows its steps, its deliveries and its documents in place.
    see(&browser, "//h2[.='Step by step']").await;
    see(&browser, "//td[contains(., 'a@orrin-sound.example')]").await;
    see(&browser, "//iframe[contains(@title, 'PDF')]").await;
    let pdf = kind_of_shown(&browser).await;
    assert_eq!(pdf, json!(["application/pdf", "%PDF-"]));
    click(&browser, "//button[contains(., 'HTML')]").await;
    let frame = see(&browser, "//iframe[contains(@title, 'HTML')]").await;
    assert_eq!(
        kind_of_shown(&browser).await,
        json!(["text/html; charset=utf-8", "<!DOC"])
    );
    frame.enter_frame().await.unwrap();
    see(&browser, "//h1[.='Small report']").await;
    see(&browser, "//h2[.='How this was made']").await;
    browser.enter_parent_frame().await.unwrap();

    // The mail is in the demo's mailbox.
    click(&browser, "//nav//a[contains(., 'Mailbox')]").await;
    see(
        &browser,
        "//ul[@aria-label='Messages']//strong[contains(., 'Small report')]",
    )
    .await;
    see(&browser, "//iframe[@title='The message']")
        .await
        .enter_frame()
        .await
        .unwrap();
    see(&browser, "//h1[.='Small report']").await;
    browser.enter_parent_frame().await.unwrap();

    // A source is tested, and signing out closes everything.
    click(&browser, "//nav//a[contains(., 'Sources')]").await;
    click(&browser, "//button[contains(., 'Test')]").await;
    see(
        &browser,
        "//p[contains(., 'It works') and contains(., 'PostgreSQL')]",
    )
    .await;
    click(&browser, "//button[@aria-label='Sign out']").await;
    see(&browser, "//input[@name='password']").await;
    browser.close().await.unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn a_schedule_is_edited_with_its_meaning_in_sight_and_shows_in_the_agenda() {
    let place = Place::new().await;
    let _service = place.serve();
    place.sign_in();
    place.apply_small(&small_report().daily_at("07:30", ""));
    let driver = Driver::start();
    let profile = tempfile::tempdir().unwrap();
    let browser = driver.browser(profile.path()).await;
    signed_in_at(&browser, &place, "/reports/small").await;

    // The sentence and the next instants follow what is typed; what is wrong is said and not saved.
    click(&browser, "//button[.='Schedule']").await;
    see(
        &browser,
        "//p[contains(., 'Every day at 07:30, Atlantic/Faroe')]",
    )
    .await;
    see(
        &browser,
        "//section[@aria-labelledby='says'][count(.//tbody/tr) = 8]",
    )
    .await;
    let at = see(
        &browser,
        "//label[starts-with(normalize-space(.), 'At')]//input",
    )
    .await;
    at.send_keys(", 25:00").await.unwrap();
    see(
        &browser,
        "//*[@role='alert'][contains(., 'is not a time of day')]",
    )
    .await;
    assert!(
        see(&browser, "//button[.='Save']")
            .await
            .attr("disabled")
            .await
            .unwrap()
            .is_some()
    );
    for _ in 0..7 {
        at.send_keys("\u{e003}").await.unwrap();
    }
    at.send_keys(", 22:15").await.unwrap();
    see(
        &browser,
        "//p[contains(., 'Every day at 07:30 and 22:15, Atlantic/Faroe')]",
    )
    .await;
    click(&browser, "//button[.='Save' and not(@disabled)]").await;
    see(
        &browser,
        "//dd[contains(., 'Every day at 07:30 and 22:15')]",
    )
    .await;

    // The definition is checked while it is edited, and the cursor goes to the problem.
    click(&browser, "//button[.='Edit']").await;
    see(&browser, "//input[@aria-label='Owner']").await;
    click(&browser, "//button[.='As text']").await;
    let text = see(&browser, "//textarea[@aria-label='Text of the definition']").await;
    assert!(
        text.prop("value")
            .await
            .unwrap()
            .unwrap()
            .contains("at = [\"07:30\", \"22:15\"]")
    );
    text.send_keys("\nunknown = 1").await.unwrap();
    see(&browser, "//li[contains(., 'unknown key')]//button").await;
    for _ in 0.."\nunknown = 1".len() {
        text.send_keys("\u{e003}").await.unwrap();
    }
    text.send_keys("# looked at").await.unwrap();
    see(&browser, "//pre//span[contains(., '+# looked at')]").await;
    click(&browser, "//button[.='Apply' and not(@disabled)]").await;

    // A copy begins paused; both are in the agenda.
    click(&browser, "//button[.='Copy']").await;
    click(
        &browser,
        "//div[contains(@class, 'el-message-box')]//button[contains(., 'Copy')]",
    )
    .await;
    see(&browser, "//h1[.='Small report (copy)']").await;
    see(&browser, "//dd[contains(., 'Paused')]").await;
    click(&browser, "//nav//a[contains(., 'Agenda')]").await;
    see(
        &browser,
        "//*[@role='cell']//a[contains(., 'Small report (copy)')][.//*[@aria-label='Paused']]",
    )
    .await;
    see(
        &browser,
        "//*[@role='cell']//a[contains(., '22:15')][.//*[@aria-label='Planned']]",
    )
    .await;

    // Removing asks first and says what goes.
    browser
        .goto(&format!("http://{}/reports/small-copy", place.address))
        .await
        .unwrap();
    click(&browser, "//button[.='Remove']").await;
    click(&browser, "//div[contains(@class, 'el-message-box')][contains(., 'Runs and documents that were made stay')]//button[.='Remove']").await;
    see(&browser, "//h1[.='Reports']").await;
    browser.close().await.unwrap();
    assert_eq!(place.json(&["reports"]).as_array().unwrap().len(), 1);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_query_is_picked_asked_and_put_into_a_dashboard() {
    let place = Place::new().await;
    let _service = place.serve();
    place.with_data().await;
    place.sign_in();
    place.apply_small(&small_report());
    let driver = Driver::start();
    let profile = tempfile::tempdir().unwrap();
    let browser = driver.browser(profile.path()).await;
    signed_in_at(&browser, &place, "/sources").await;

    // The catalogue is searched and a table picked from; the query is there to be seen.
    click(&browser, "//a[contains(., 'Browse and query')]").await;
    see(&browser, "//input[@aria-label='Search the catalogue']")
        .await
        .send_keys("kiosk_sales")
        .await
        .unwrap();
    click(
        &browser,
        "//ul[contains(@class, 'entries') and count(li) = 1]//button[contains(., 'kiosk_sales')]",
    )
    .await;
    click(&browser, "//button[contains(., 'Pick from it')]").await;
    let text = see(&browser, "//textarea[@aria-label='The query in TOML']").await;
    click(&browser, "//button[.='Run the query']").await;
    see(
        &browser,
        "//section[@aria-labelledby='answer']//p[starts-with(normalize-space(.), '1 row in')]",
    )
    .await;
    let written = text.prop("value").await.unwrap().unwrap();
    assert!(
        written.contains("column = \"sold\"") && written.contains("with = \"mean\""),
        "{written}"
    );
    click(&browser, "//button[.='Write it by hand']").await;
    see(
        &browser,
        "//pre//span[contains(@class, 'hljs-keyword') and .='select']",
    )
    .await;

    // What is wrong is said with its place; nothing that was there is lost.
    text.send_keys("nonsense = 1").await.unwrap();
    click(&browser, "//button[.='Run the query']").await;
    see(
        &browser,
        "//section[@aria-labelledby='answer']//p[contains(., 'unknown key')]",
    )
    .await;
    for _ in 0.."nonsense = 1".len() {
        text.send_keys("\u{e003}").await.unwrap();
    }
    click(&browser, "//button[.='Run the query']").await;
    see(
        &browser,
        "//section[@aria-labelledby='answer']//th[contains(., 'sold')]",
    )
    .await;

    // Into a block in one step: the dashboard in its editor, with the block to be seen, not saved yet.
    click(&browser, "//button[contains(., 'Into a dashboard')]").await;
    see(
        &browser,
        "//label[starts-with(normalize-space(.), 'Title of the block')]//input",
    )
    .await
    .send_keys("Mean sales")
    .await
    .unwrap();
    see(
        &browser,
        "//label[starts-with(normalize-space(.), 'Name of the query')]//input",
    )
    .await
    .send_keys("mean_sales")
    .await
    .unwrap();
    click(&browser, "//label[starts-with(normalize-space(.), 'Dashboard')]//div[contains(@class, 'el-select__wrapper')]").await;
    click(
        &browser,
        "//li[contains(@class, 'el-select-dropdown__item')][contains(., 'Small')]",
    )
    .await;
    click(
        &browser,
        "//button[.='Add to dashboard' and not(@disabled)]",
    )
    .await;
    see(&browser, "//h2[normalize-space(.)='Mean sales']").await;
    click(&browser, "//button[.='Save' and not(@disabled)]").await;
    see(
        &browser,
        "//*[contains(@class, 'el-message')][contains(., 'Saved.')]",
    )
    .await;
    browser.close().await.unwrap();
    let run = place.json(&["run", "small", "--no-delivery"]);
    assert!(
        run["steps"]
            .as_array()
            .unwrap()
            .iter()
            .any(|step| step["subject"] == "small / mean_sales" && step["state"] == "done"),
        "{run:#}"
    );
}

/// The media type and the first bytes of the document in the frame, as the browser gets them.
async fn kind_of_shown(browser: &Client) -> serde_json::Value {
    let script = "const done = arguments[0]; fetch(document.querySelector('iframe.document').src).then(async (a) => done([a.headers.get('content-type'), (await a.text()).slice(0, 5)]))";
    browser.execute_async(script, vec![]).await.unwrap()
}

#[tokio::test(flavor = "multi_thread")]
async fn the_mail_server_is_tried_a_run_released_and_a_delivery_sent_again() {
    let place = Place::new().await;
    let _service = place.serve();
    place.sign_in();
    place.apply_small(&small_report().table("[approval]"));
    place.json(&["run", "small"]);
    let driver = Driver::start();
    let profile = tempfile::tempdir().unwrap();
    let browser = driver.browser(profile.path()).await;
    signed_in_at(&browser, &place, "/delivery").await;
    click(
        &browser,
        "//button[contains(@aria-label, 'Test The service')]",
    )
    .await;
    see(&browser, "//div[contains(@class, 'el-message-box')]//input")
        .await
        .send_keys("runa@orrin-sound.example")
        .await
        .unwrap();
    click(&browser, "//button[contains(., 'Send a test mail')]").await;
    see(
        &browser,
        "//ol[contains(@class, 'steps')]/li[last()][contains(., 'message')][contains(., 'Done')]",
    )
    .await;
    assert_eq!(place.mail.messages().len(), 1);
    // The notice leads to the run that waits.
    click(
        &browser,
        "//section[@aria-labelledby='notices']//a[contains(., 'awaits approval')]",
    )
    .await;
    click(&browser, "//button[contains(., 'Approve and send')]").await;
    click(
        &browser,
        "//*[@role='dialog'][contains(., 'Send this run?')]//button[contains(., 'Send')]",
    )
    .await;
    see(
        &browser,
        "//span[contains(@class, 'how')][contains(., 'Delivered')]",
    )
    .await;
    click(&browser, "//button[contains(., 'Send again')]").await;
    see(
        &browser,
        "//div[@role='dialog']//input[contains(@placeholder, 'a person, a group')]",
    )
    .await
    .send_keys("auditor@orrin-sound.example")
    .await
    .unwrap();
    click(&browser, "//button[contains(., 'Send 1 copy')]").await;
    see(&browser, "//tr[contains(., 'auditor@orrin-sound.example')][contains(., 'copy, asked for by admin')][contains(., 'Accepted')]").await;
    // A message is shown with its values while it is written.
    browser
        .goto(&format!(
            "http://{}/definitions/report/small",
            place.address
        ))
        .await
        .unwrap();
    see(
        &browser,
        "//section[@aria-labelledby='mail']//strong[starts-with(., 'Small report: ')]",
    )
    .await;
    // Somebody new is there once saved; what is wrong is said beside the field.
    browser
        .goto(&format!("http://{}/new/person", place.address))
        .await
        .unwrap();
    see(&browser, "//h1[.='New person']").await;
    for (label, text) in [("Title", "Tove Lund"), ("Mail address", "tove.lund")] {
        see(&browser, &format!("//input[@aria-label='{label}']"))
            .await
            .send_keys(text)
            .await
            .unwrap();
    }
    click(&browser, "//button[.='Save' and not(@disabled)]").await;
    see(
        &browser,
        "//label[.//input[@aria-label='Mail address']]//span[@role='alert'][contains(., '\"tove.lund\"')]",
    )
    .await;
    see(&browser, "//input[@aria-label='Mail address']")
        .await
        .send_keys("@orrin-sound.example")
        .await
        .unwrap();
    click(&browser, "//button[.='Save' and not(@disabled)]").await;
    see(
        &browser,
        "//section[@aria-labelledby='people']//a[.='Tove Lund']",
    )
    .await;
    browser.close().await.unwrap();
    assert_eq!(place.mail.messages().len(), 4);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_look_is_shown_on_a_sample_as_it_is_typed() {
    let place = Place::new().await;
    let _service = place.serve();
    place.sign_in();
    applied(
        &place,
        &[("theme.toml", "[theme]\nname = \"day\"\ntitle = \"Day\"\n")],
    );
    let driver = Driver::start();
    let profile = tempfile::tempdir().unwrap();
    let browser = driver.browser(profile.path()).await;
    signed_in_at(&browser, &place, "/definitions/theme/day").await;
    // The picture is really there: a page that is upright, then one that lies.
    let shape = async |wide: bool| {
        let began = Instant::now();
        loop {
            let script = "const i = document.querySelector('img.sample'); return i && i.naturalWidth > 0 ? i.naturalWidth / i.naturalHeight : 0";
            let ratio = browser
                .execute(script, vec![])
                .await
                .unwrap()
                .as_f64()
                .unwrap();
            if ratio > 0.0 && (ratio > 1.0) == wide {
                return;
            }
            assert!(
                began.elapsed() < PATIENCE,
                "the sample is not shown: {ratio}"
            );
            tokio::time::sleep(Duration::from_millis(50)).await;
        }
    };
    shape(false).await;
    see(&browser, "//textarea")
        .await
        .send_keys("orientation = \"landscape\"\n")
        .await
        .unwrap();
    shape(true).await;
    browser.close().await.unwrap();
}

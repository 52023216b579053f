//! Dashboards composed in the console: what is pressed there, what the definition says then, and
//! that nobody's work is lost.

use std::time::{Duration, Instant};

use fantoccini::{Client, Locator, key::Key};
use mail_parser::{MessageParser, MimeHeaders};
use serde_json::Value;

use crate::{
    console::{Driver, click, see, signed_in_at},
    documents::barriers,
    forms::Hands,
    place::{PATIENCE, Place, Service, text},
    questions::{place_with_everything, store_own_token},
};

/// A dashboard with a comment, a block that shows the first ten of its rows, and a second section.
const DISKS: &str = "# Looked at every Monday\n[dashboard]\nname = \"disks\"\ntitle = \"Disks\"\n\n[[query]]\nname = \"fullest\"\nsource = \"operations\"\n\n[query.pick]\ntable = \"host_samples\"\ntime = \"at\"\ngroup = [\"host\"]\ntop = 10 # enough for a page\nmeasure = [{ column = \"disk_percent\", with = \"max\", name = \"used\" }]\n\n[[section]]\ntitle = \"Full\"\n\n# the worst first\n[[section.block]]\nshow = \"bar\"\ntitle = \"Fullest\"\nquery = \"fullest\"\nlabel = \"host\"\nvalue = \"used\"\n\n[[section]]\ntitle = \"Words\"\n\n[[section.block]]\nshow = \"text\"\ntext = \"Ask before you delete.\"\n";

struct Composer {
    place: Place,
    _services: maple_lark_demo::WebServices,
    _service: Service,
    driver: Driver,
}

impl Composer {
    async fn new() -> Self {
        let (place, services) = place_with_everything().await;
        let service = place.serve();
        place.sign_in();
        store_own_token(&place);
        assert!(place.apply_demo().status.success());
        // One of the demo's own is due every quarter of an hour, and would be the next mail then.
        for report in place.json(&["reports"]).as_array().unwrap() {
            place.lark(&["pause", report["name"].as_str().unwrap()]);
        }
        Self {
            place,
            _services: services,
            _service: service,
            driver: Driver::start(),
        }
    }

    /// A browser of its own, signed in at a page.
    async fn browser(&self, name: &str, page: &str) -> Client {
        let browser = self
            .driver
            .browser(&self.place.folder.path().join(name))
            .await;
        signed_in_at(&browser, &self.place, page).await;
        see(&browser, "//nav").await;
        browser
    }

    fn apply(&self, name: &str, definition: &str) {
        let file = format!("{name}.toml");
        let applied = self.place.apply(&[(&file, definition)]);
        assert!(applied.status.success(), "{}", text(&applied.stderr));
    }

    fn stored(&self, name: &str) -> String {
        let into = self.place.folder.path().join(format!("export-{}", uuid()));
        let exported = self.place.lark(&["export", into.to_str().unwrap()]);
        assert!(exported.status.success(), "{}", text(&exported.stderr));
        let file = format!("{name}.toml");
        std::fs::read_to_string(into.join("dashboards").join(&file))
            .or_else(|_| std::fs::read_to_string(into.join(&file)))
            .unwrap()
    }
}

fn uuid() -> u128 {
    std::time::SystemTime::now()
        .duration_since(std::time::UNIX_EPOCH)
        .unwrap()
        .as_nanos()
}

/// Puts a text in the place of what a field has.
pub async fn retype(browser: &Client, label: &str, words: &str) {
    let xpath = format!("//*[self::input or self::textarea][@aria-label='{label}']");
    let field = see(browser, &xpath).await;
    field.click().await.unwrap();
    let keys = format!(
        "{}a{}{}{words}",
        char::from(Key::Control),
        char::from(Key::Null),
        char::from(Key::Delete)
    );
    field.send_keys(&keys).await.unwrap();
}

async fn saved(browser: &Client) {
    click(browser, "//button[normalize-space()='Save']").await;
    see(browser, "//*[@role='status'][normalize-space()='Saved']").await;
}

/// What the picture of a block says, once it has one that says it.
async fn pictured(browser: &Client, title: &str, words: &str) {
    let began = Instant::now();
    let frame = format!("//iframe[@title='{title}']");
    let script =
        "return arguments[0].contentDocument ? arguments[0].contentDocument.body.textContent : ''";
    loop {
        if let Ok(element) = browser.find(Locator::XPath(&frame)).await
            && let Ok(element) = serde_json::to_value(&element)
            && let Ok(Value::String(said)) = browser.execute(script, vec![element]).await
            && said.contains(words)
        {
            return;
        }
        assert!(
            began.elapsed() < PATIENCE,
            "{title} does not say {words}: {}",
            browser.source().await.unwrap_or_default()
        );
        tokio::time::sleep(Duration::from_millis(100)).await;
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_dashboard_is_composed_of_a_database_metrics_and_a_file() {
    let composer = Composer::new().await;
    let browser = composer.browser("a", "/new/dashboard").await;
    let hands = Hands::at(&browser);
    retype(&browser, "Title of the dashboard", "Hosts and gates").await;
    let add = async |source: &str, entry: &str| {
        hands.press("//button[normalize-space()='Add …']").await;
        hands.choose("Source", source).await;
        hands
            .press(&format!(
                "//ul[@class='entries']//button[.//strong[normalize-space()='{entry}']]"
            ))
            .await;
    };

    // A table with instants is drawn as lines; for each host, the highest, where it is no gate.
    add("Ferry operations database", "host_samples").await;
    see(&browser, "//article[contains(., 'Lines of cpu_percent')]").await;
    hands.press("//button[@role='tab'][.='The data']").await;
    hands.choose("How measure 1 is worked out", "Highest").await;
    hands.choose("For each", "host").await;
    browser
        .active_element()
        .await
        .unwrap()
        .send_keys(&char::from(Key::Escape).to_string())
        .await
        .unwrap();
    hands.press("//button[normalize-space()='+ step']").await;
    hands
        .press("//li[normalize-space()='Keep only rows where']")
        .await;
    see(&browser, "//*[contains(., 'Before this step')]").await;
    hands
        .press("//button[normalize-space()='Remove step']")
        .await;
    hands
        .press("//button[@role='tab'][.='What is shown']")
        .await;
    hands.press("//input[@aria-label='A line for each']/ancestor::div[contains(@class, 'el-select__wrapper')]").await;
    hands
        .press("//ul[@aria-label='A line for each']//li[.//span[.='host']]")
        .await;
    retype(&browser, "Title", "Busiest processors").await;
    pictured(&browser, "Busiest processors", "highest at the end").await;

    // A metric and a file begin as what suits their rows.
    add("Ticket gates", "gate_scans").await;
    see(&browser, "//article[contains(., 'from gate_scans')]").await;
    add("Inventory files", "kiosks.csv").await;
    pictured(&browser, "Kiosks", "havnes-kiosk-1").await;
    assert_eq!(barriers(&browser).await, serde_json::json!([]));
    saved(&browser).await;

    // The page goes on with the dashboard that it has made.
    let to_the_top = "window.scrollTo(0, 0)";
    browser.execute(to_the_top, Vec::new()).await.unwrap();
    click(
        &browser,
        "//button[normalize-space()='Title and parameters']",
    )
    .await;
    retype(&browser, "Summary", "Made by hand").await;
    saved(&browser).await;

    let stored = composer.stored("hosts-and-gates");
    assert!(stored.contains("summary = \"Made by hand\""), "{stored}");
    for part in [
        "title = \"Hosts and gates\"",
        "table = \"host_samples\"",
        "with = \"max\"",
        "group = [\"host\"]",
        "metric = \"gate_scans\"",
        "file = \"kiosks.csv\"",
        "series = \"host\"",
    ] {
        assert!(stored.contains(part), "{part}: {stored}");
    }
    let page = composer.place.folder.path().join("page");
    let shown = composer.place.lark(&[
        "preview",
        "hosts-and-gates",
        "--window",
        "last = \"PT24H\"",
        "--into",
        page.to_str().unwrap(),
    ]);
    assert!(shown.status.success(), "{}", text(&shown.stderr));
    browser.close().await.unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn text_and_form_are_one_draft_and_keep_each_others_words() {
    let composer = Composer::new().await;
    composer.apply("disks", DISKS);
    let browser = composer.browser("a", "/dashboards/disks/edit").await;
    pictured(&browser, "Fullest", "archive-01").await;

    // All rows in one press.
    click(&browser, "//article[contains(@aria-label, 'Fullest')]").await;
    click(&browser, "//button[normalize-space()='Show all rows']").await;
    let more = "//button[normalize-space()='Show all rows']";
    browser
        .wait()
        .at_most(PATIENCE)
        .for_element(Locator::XPath(
            "//*[@role='status'][normalize-space()='Not saved yet']",
        ))
        .await
        .unwrap();
    assert!(browser.find(Locator::XPath(more)).await.is_err());
    click(&browser, "//button[normalize-space()='Undo']").await;
    see(&browser, more).await;
    click(&browser, "//button[normalize-space()='Redo']").await;

    // By text, and by form again.
    click(&browser, "//button[normalize-space()='As text']").await;
    let field = see(&browser, "//textarea[@aria-label='The definition as text']").await;
    let typed = field.prop("value").await.unwrap().unwrap();
    assert!(
        !typed.contains("top = 10") && typed.contains("# the worst first"),
        "{typed}"
    );
    field
        .send_keys(&format!(
            "{}{}{}\n# by hand\n[[section.block]]\nshow = \"page-break\"\n",
            char::from(Key::Control),
            char::from(Key::End),
            char::from(Key::Null)
        ))
        .await
        .unwrap();
    see(
        &browser,
        "//article[contains(@aria-label, 'What follows begins on a new page')]",
    )
    .await;
    click(&browser, "//button[normalize-space()='As a form']").await;
    retype(&browser, "Title", "Disks that are full").await;
    see(
        &browser,
        "//article[contains(@aria-label, 'Disks that are full')]",
    )
    .await;
    saved(&browser).await;
    let stored = composer.stored("disks");
    for part in [
        "# Looked at every Monday\n[dashboard]",
        "# the worst first\n[[section.block]]",
        "title = \"Disks that are full\"",
        "# by hand\n[[section.block]]\nshow = \"page-break\"",
    ] {
        assert!(stored.contains(part), "{part}: {stored}");
    }

    // Two at once: whoever saves second is told, and may keep theirs.
    let other = composer.browser("b", "/dashboards/disks/edit").await;
    see(&other, "//article").await;
    click(
        &other,
        "//article[contains(@aria-label, 'Disks that are full')]",
    )
    .await;
    retype(&other, "Remark", "Of the second").await;
    click(
        &browser,
        "//article[contains(@aria-label, 'Disks that are full')]",
    )
    .await;
    retype(&browser, "Title", "First saved").await;
    saved(&browser).await;
    click(&other, "//button[normalize-space()='Save']").await;
    see(&other, "//*[contains(., 'was changed by admin')]").await;
    assert!(
        composer.stored("disks").contains("First saved"),
        "nothing was overwritten"
    );
    click(&other, "//button[normalize-space()='Keep mine']").await;
    see(&other, "//*[@role='status'][normalize-space()='Saved']").await;
    let stored = composer.stored("disks");
    assert!(
        stored.contains("Of the second") && !stored.contains("First saved"),
        "{stored}"
    );
    // What the first had saved is a version that can be restored.
    let restored = composer
        .place
        .lark(&["restore", "dashboard", "disks", "3", "--yes"]);
    assert!(restored.status.success(), "{}", text(&restored.stderr));
    assert!(composer.stored("disks").contains("First saved"));
    for one in [browser, other] {
        one.close().await.unwrap();
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_dashboard_is_cut_in_two_and_moved_by_keyboard_alone() {
    let composer = Composer::new().await;
    composer.apply("disks", DISKS);
    let browser = composer.browser("a", "/dashboards/disks/edit").await;
    let press = async |keys: &[char]| {
        let keys: String = keys.iter().collect();
        let focused = browser.active_element().await.unwrap();
        focused.send_keys(&keys).await.unwrap();
    };
    let (alt, shift, null) = (
        char::from(Key::Alt),
        char::from(Key::Shift),
        char::from(Key::Null),
    );
    let focused = async || {
        let script = "return document.activeElement.getAttribute('aria-label') ?? document.activeElement.textContent.trim()";
        let said = browser.execute(script, Vec::new()).await.unwrap();
        said.as_str().unwrap_or_default().to_owned()
    };
    see(&browser, "//article").await;
    let until = async |words: &str| {
        for _ in 0..60 {
            if format!("{}\n", focused().await).starts_with(words) {
                return;
            }
            press(&[char::from(Key::Tab)]).await;
        }
        panic!("Tab does not reach {words}");
    };
    until("Fullest").await;
    // Narrower, then into the section below, and open.
    press(&[alt, shift, char::from(Key::Left), null]).await;
    press(&[alt, char::from(Key::Down), null]).await;
    see(
        &browser,
        "//section[@aria-label='Words']//article[contains(@aria-label, 'Fullest')]",
    )
    .await;
    press(&[char::from(Key::Enter)]).await;
    until("Title\n").await;
    press(&"Fullest!".chars().collect::<Vec<_>>()).await;
    see(&browser, "//article[contains(@aria-label, 'Fullest!')]").await;
    press(&[char::from(Key::Control), 's', null]).await;
    see(&browser, "//*[@role='status'][normalize-space()='Saved']").await;
    let stored = composer.stored("disks");
    let (words, moved) = (
        stored.find("Words").unwrap(),
        stored.find("Fullest!").unwrap(),
    );
    assert!(words < moved && stored.contains("width = 8"), "{stored}");
    assert!(
        stored.contains("# the worst first\n[[section.block]]\nshow = \"bar\""),
        "{stored}"
    );

    let to_the_top = "window.scrollTo(0, 0)";
    browser.execute(to_the_top, Vec::new()).await.unwrap();
    click(&browser, "//button[normalize-space()='Cut in two …']").await;
    click(&browser, "//article[contains(@aria-label, 'Fullest!')]").await;
    click(&browser, "//button[normalize-space()='Cut 1 block out']").await;
    see(&browser, "//*[@class='el-message-box__input']//input")
        .await
        .send_keys("The full ones")
        .await
        .unwrap();
    click(&browser, "//button[normalize-space()='Cut and save']").await;
    see(&browser, "//*[contains(., 'Saved as two dashboards')]").await;
    let (rest, other) = (composer.stored("disks"), composer.stored("the-full-ones"));
    assert!(
        !rest.contains("fullest") && rest.contains("Ask before you delete."),
        "{rest}"
    );
    assert!(
        other.contains("title = \"The full ones\"")
            && other.contains("table = \"host_samples\"")
            && other.contains("Fullest!"),
        "{other}"
    );
    browser.close().await.unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn other_ready_made_reports_reach_the_inbox_by_presses_alone() {
    let composer = Composer::new().await;
    let browser = composer.browser("a", "/templates").await;
    let hands = Hands::at(&browser);
    // Entries of a list, fields that are typed, and what the mail's subject says.
    for (template, chosen, typed, subject) in [
        (
            "files-table",
            &[("Source", "Inventory files"), ("File", "kiosks.csv")][..],
            None,
            "kiosks.csv",
        ),
        (
            "metrics-gauge",
            &[
                ("Source", "Ticket gates"),
                ("Gauge", "gate_queue_passengers"),
                ("By", "port"),
            ][..],
            None,
            "gate queue passengers",
        ),
        (
            "checks-disks",
            &[("Source", "Checks from this machine")][..],
            Some(("Folders", "/")),
            "File systems",
        ),
    ] {
        let before = composer.place.mail.messages().len();
        let page = format!("http://{}/templates/{template}", composer.place.address);
        browser.goto(&page).await.unwrap();
        see(&browser, "//h2[.='What it reads']").await;
        for (label, entry) in chosen {
            hands.choose(label, entry).await;
        }
        if let Some((label, words)) = typed {
            retype(&browser, label, words).await;
        }
        hands
            .press("//label[contains(@class, 'el-checkbox')][.='CSV']")
            .await;
        let to = see(&browser, "//input[@aria-label='To']").await;
        let typed = format!("desk@orrin-sound.example{}", char::from(Key::Enter));
        to.send_keys(&typed).await.unwrap();
        hands.press("//button[.='Make dashboard and report']").await;
        hands.press("//button[contains(., 'Run and send')]").await;
        hands
            .press("//div[contains(@class, 'el-message-box')]//button[.='Run and send']")
            .await;
        let mail = composer.place.next_mail(before).await;
        let mail = MessageParser::default().parse(&mail).unwrap();
        let names: Vec<&str> = mail
            .attachments()
            .filter_map(MimeHeaders::attachment_name)
            .collect();
        assert!(
            names.iter().any(|name| name.ends_with(".pdf"))
                && names.iter().any(|name| name.ends_with(".csv")),
            "{template}: {names:?}"
        );
        let said = mail.subject().unwrap();
        assert!(
            said.to_lowercase().contains(&subject.to_lowercase()),
            "{template}: {said}"
        );
    }
    browser.close().await.unwrap();
}

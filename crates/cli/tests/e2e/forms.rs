//! A first report by forms alone, from an empty installation to the inbox.

use std::sync::atomic::{AtomicUsize, Ordering};

use fantoccini::{Client, key::Key};
use mail_parser::{MessageParser, MimeHeaders};
use sqlx::Executor;

use crate::{
    console::{Driver, click, see, signed_in_at},
    documents::barriers,
    place::{Place, small_report},
};

/// Somebody at the console, whose presses and filled fields are counted.
pub struct Hands<'b> {
    pub browser: &'b Client,
    presses: AtomicUsize,
    fields: AtomicUsize,
}

impl<'b> Hands<'b> {
    pub fn at(browser: &'b Client) -> Self {
        Self {
            browser,
            presses: AtomicUsize::new(0),
            fields: AtomicUsize::new(0),
        }
    }

    pub async fn press(&self, xpath: &str) {
        self.presses.fetch_add(1, Ordering::Relaxed);
        click(self.browser, xpath).await;
    }

    pub async fn fill(&self, label: &str, text: &str) {
        self.fields.fetch_add(1, Ordering::Relaxed);
        let field = see(self.browser, &format!("//input[@aria-label='{label}']")).await;
        field.send_keys(text).await.unwrap();
    }

    /// Opens a list and takes an entry of it. A list that still moves while it opens may let a
    /// press go by, as it may for a person, who then presses again.
    pub async fn choose(&self, label: &str, entry: &str) {
        self.presses.fetch_add(2, Ordering::Relaxed);
        for _ in 0..5 {
            let list = format!(
                "//input[@aria-label='{label}']/ancestor::div[contains(@class, 'el-select__wrapper')]"
            );
            click(self.browser, &list).await;
            let item = format!("//ul[@aria-label='{label}']//li[normalize-space()='{entry}']");
            click(self.browser, &item).await;
            if self.has_chosen(label, entry).await {
                return;
            }
        }
        panic!("\"{entry}\" is not chosen in \"{label}\"");
    }

    /// Whether a list shows an entry, or is gone because it was chosen.
    async fn has_chosen(&self, label: &str, entry: &str) -> bool {
        let script = "const field = document.querySelector(`input[aria-label=\"${arguments[0]}\"]`); const list = field?.closest('.el-select__wrapper'); return !list?.offsetParent || list.textContent.includes(arguments[1])";
        for _ in 0..40 {
            let asked = vec![label.into(), entry.into()];
            if self.browser.execute(script, asked).await.unwrap() == true {
                return true;
            }
            tokio::time::sleep(std::time::Duration::from_millis(50)).await;
        }
        false
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_first_report_reaches_the_inbox_by_forms_alone() {
    let place = Place::new().await;
    let _service = place.serve();
    // A table that nobody here has heard of.
    let mut shop = place.cluster.connect("orrin_ops").await.unwrap();
    shop.execute("create table cargo_bookings (customer text, tonnes numeric); insert into cargo_bookings values ('Reyn Fisheries', 40.5), ('Skarvoy Salt', 12), ('Reyn Fisheries', 3); grant usage on schema public to orrin_reader; grant select on cargo_bookings to orrin_reader")
        .await
        .unwrap();
    let driver = Driver::start();
    let profile = tempfile::tempdir().unwrap();
    let browser = driver.browser(profile.path()).await;
    signed_in_at(&browser, &place, "/").await;
    let hands = Hands::at(&browser);

    see(&browser, "//h2[.='Your first report']").await;
    hands.press("//nav//a[contains(., 'Reports')]").await;
    see(&browser, "//h2[.='There are no reports yet']").await;
    hands.press("//button[.='Ready-made reports']").await;
    hands.press("//a[.='Top of any table']").await;
    // There is nothing to read yet, which is asked for at this point.
    hands.press("//a[.='New source']").await;
    see(&browser, "//h1[.='New source']").await;
    hands.fill("Title", "Cargo office").await;
    hands
        .fill("Host and port", &place.environment["ORRIN_OPS_ADDRESS"])
        .await;
    hands
        .fill("Database", &place.environment["ORRIN_OPS_DATABASE"])
        .await;
    hands.fill("User", "orrin_reader").await;
    hands
        .fill("Password", &place.environment["ORRIN_READER_PASSWORD"])
        .await;
    hands
        .choose("Encryption", "None (only on this machine)")
        .await;
    hands.press("//button[.='Save and test']").await;
    see(&browser, "//p[contains(., '● It works')]").await;
    hands.press("//a[.='Ready-made reports for it']").await;
    hands.press("//a[.='Top of any table']").await;
    hands.choose("Table", "cargo_bookings").await;
    hands.choose("Names", "customer").await;
    hands.choose("Amount", "tonnes").await;
    hands.press("//button[.='Preview']").await;
    let shown = see(&browser, "//iframe[@title='The preview']").await;
    let html = shown.attr("srcdoc").await.unwrap().unwrap();
    assert!(
        html.contains("Reyn Fisheries") && html.contains("43.5"),
        "{html}"
    );
    hands
        .press("//label[contains(@class, 'el-checkbox')][.='CSV']")
        .await;
    hands.fill("To", "cargo@orrin-sound.example").await;
    see(&browser, "//input[@aria-label='To']")
        .await
        .send_keys(&Key::Enter.to_string())
        .await
        .unwrap();
    see(&browser, "//p[contains(@class, 'said')][contains(., 'as PDF and CSV goes to cargo@orrin-sound.example.')]").await;
    hands.press("//button[.='Make dashboard and report']").await;
    hands.press("//button[contains(., 'Run and send')]").await;
    hands
        .press("//div[contains(@class, 'el-message-box')]//button[.='Run and send']")
        .await;

    let mail = place.next_mail(0).await;
    let mail = MessageParser::default().parse(&mail).unwrap();
    let names: Vec<&str> = mail
        .attachments()
        .filter_map(|part| part.attachment_name())
        .collect();
    assert!(
        names.iter().any(|name| name.ends_with(".pdf"))
            && names.iter().any(|name| name.ends_with(".csv")),
        "{names:?}"
    );
    assert!(
        mail.subject().unwrap().contains("Tonnes by customer"),
        "{:?}",
        mail.subject()
    );
    let (presses, fields) = (
        hands.presses.load(Ordering::Relaxed),
        hands.fields.load(Ordering::Relaxed),
    );
    println!("{presses} presses and {fields} fields");
    assert!(
        presses + fields < 60,
        "{presses} presses and {fields} fields"
    );
    // The password is stored where it is never shown, and the definition refers to it.
    place.sign_in();
    let folder = place.folder.path().join("exported");
    let output = place.lark(&["export", folder.to_str().unwrap()]);
    assert!(output.status.success());
    let source = std::fs::read_to_string(folder.join("sources/cargo-office.toml")).unwrap();
    assert!(
        source.contains("password = \"secret:source-cargo-office-password\"")
            && !source.contains(&place.environment["ORRIN_READER_PASSWORD"]),
        "{source}"
    );
}

/// By rules of others, on every page, at a desk and on a phone, in the light and in the dark.
#[tokio::test(flavor = "multi_thread")]
async fn the_console_has_no_barriers_that_a_checker_finds() {
    let place = Place::new().await;
    let _service = place.serve();
    place.sign_in();
    place.apply_small(&small_report());
    let run = place.json(&["run", "small", "--no-delivery"]);
    let run = format!("/runs/{}", run["id"].as_str().unwrap());
    let driver = Driver::start();
    let profile = tempfile::tempdir().unwrap();
    let browser = driver.browser(profile.path()).await;
    signed_in_at(&browser, &place, "/").await;
    see(&browser, "//nav").await;
    let mut found = Vec::new();
    let pages = [
        (
            "light",
            &[
                "/",
                "/reports",
                "/reports/small",
                "/reports/small/schedule",
                "/dashboards",
                "/dashboards/small",
                "/templates",
                "/templates/postgresql-top-of-table",
                "/new/source?kind=postgresql",
                "/forms/report/small",
                "/agenda",
                "/runs",
                &run,
                "/sources",
                "/delivery",
                "/condition",
                "/users",
                "/archive",
                "/published",
                "/definitions",
                "/new/dashboard",
                "/dashboards/small/edit",
                "/new/sampler",
                "/new/theme",
            ][..],
        ),
        (
            "dark",
            &[
                "/",
                "/reports",
                "/templates",
                "/agenda",
                "/users",
                "/forms/report/small",
                "/definitions",
                "/dashboards/small/edit",
            ][..],
        ),
    ];
    for (look, paths) in pages {
        browser
            .execute(
                &format!("localStorage.setItem('look', '{look}')"),
                Vec::new(),
            )
            .await
            .unwrap();
        for path in paths {
            browser
                .goto(&format!("http://{}{path}", place.address))
                .await
                .unwrap();
            see(&browser, "//h1").await;
            for width in [1280, 390] {
                browser.set_window_size(width, 800).await.unwrap();
                let barriers = barriers(&browser).await;
                if barriers != serde_json::json!([]) {
                    found.push(format!("{look} {width} {path}: {barriers:#}"));
                }
            }
        }
    }
    assert!(found.is_empty(), "{}", found.join("\n"));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_new_definition_is_asked_for_at_a_terminal() {
    let place = Place::new().await;
    let _service = place.serve();
    place.sign_in();
    // Where nobody sits, the service says what is missing.
    let refused = place.lark(&["new", "person", "ada-berg", "--title", "Ada Berg"]);
    let said = String::from_utf8_lossy(&refused.stderr).into_owned();
    assert!(
        !refused.status.success() && said.contains("address"),
        "{said}"
    );

    let made = place.lark_at_a_terminal(
        "new person ada-berg --title 'Ada Berg'",
        "\nada@orrin-sound.example\n",
    );
    assert!(
        made.contains("Mail address: ") && made.contains("ada-berg is there"),
        "{made}"
    );
    let made = place.lark_at_a_terminal(
        "new group duty",
        "On duty\nada-berg, desk@orrin-sound.example\n",
    );
    assert!(
        made.contains("members = [\"ada-berg\", \"desk@orrin-sound.example\"]"),
        "{made}"
    );
    // What a kind needs is what the service says; an answer that will not do is asked for again.
    let made = place.lark_at_a_terminal(
        "new source people",
        "People\npigeon\nldap\ndirectory\ndirectory.orrin-sound.example:636\ndc=orrin-sound\n",
    );
    for said in [
        "Kind: postgresql, mysql",
        "\"pigeon\" is not one of",
        "\"directory\" is not host:port",
        "below which is searched",
        "people is there",
        "base = \"dc=orrin-sound\"",
    ] {
        assert!(made.contains(said), "{said} is missing in: {made}");
    }
    let made = place.lark_at_a_terminal(
        "new source shop kind=postgresql address=db1:5432 database=shop",
        "Shop\nreader\nsecret:shop\n",
    );
    assert!(
        made.contains("Where its password is") && made.contains("password = \"secret:shop\""),
        "{made}"
    );
}

//! Users: invited by mail, who choose a password in the browser, and are let go again.

use mail_parser::MessageParser;
use serde_json::json;

use crate::{
    console::{Driver, see},
    documents::barriers,
    forms::Hands,
    place::{PASSWORD, Place, mails, text},
};

const CHOSEN: &str = "ferry tide lantern crow";

#[tokio::test(flavor = "multi_thread")]
async fn somebody_who_is_invited_by_mail_signs_in_and_is_let_go_again() {
    let place = Place::new().await;
    let _service = place.serve();
    place.sign_in();
    let says = |arguments: &[&str]| {
        let output = place.lark(arguments);
        assert!(output.status.success(), "{}", text(&output.stderr));
        text(&output.stdout)
    };
    let address = "runa@orrin-sound.example";
    let invite = ["users", "invite", "runa.holm", "--role", "author"];
    let said = says(&[&invite[..], &["--email", address]].concat());
    assert!(said.contains(&format!("was mailed to {address}")), "{said}");
    let listed = says(&["users"]);
    assert!(
        listed.contains("○ invited") && listed.contains("● active"),
        "{listed}"
    );

    let mail = &mails(&place, 1)[address][0];
    let mail = MessageParser::default().parse(mail).unwrap();
    let words = mail.body_text(0).unwrap();
    assert!(words.contains("You sign in as \"runa.holm\""), "{words}");
    let link = words.lines().find(|line| line.contains("/invitation#"));
    let driver = Driver::start();
    let profile = place.folder.path().join("profile");
    let browser = driver.browser(&profile).await;
    browser.goto(link.unwrap().trim()).await.unwrap();
    see(&browser, "//*[contains(., 'You sign in as')]").await;
    assert!(!browser.current_url().await.unwrap().as_str().contains('#'));
    assert_eq!(barriers(&browser).await, json!([]));
    let hands = Hands::at(&browser);
    hands.fill("New password", "1234567890").await;
    hands.fill("The same again", "1234567890").await;
    let set = "//button[contains(., 'Set the password')]";
    hands.press(set).await;
    see(&browser, "//*[@role='alert'][contains(., 'tried first')]").await;
    // What stands there already is the beginning of it.
    hands.fill("New password", CHOSEN).await;
    hands.fill("The same again", CHOSEN).await;
    hands.press(set).await;
    see(
        &browser,
        "//h1[contains(., 'Overview')] | //a[@aria-current='page'][contains(., 'Overview')]",
    )
    .await;

    hands.press("//a[contains(@title, 'Your sign-in')]").await;
    see(
        &browser,
        "//td[contains(., 'Chromium on Linux') and contains(., '(this one)')]",
    )
    .await;
    assert_eq!(barriers(&browser).await, json!([]));
    assert!(says(&["users"]).contains("runa.holm"));
    says(&["users", "role", "runa.holm", "administrator"]);
    browser.refresh().await.unwrap();
    hands.press("//nav//a[contains(., 'Users')]").await;
    see(
        &browser,
        "//td[contains(., 'runa.holm') and contains(., '(you)')]",
    )
    .await;
    assert_eq!(barriers(&browser).await, json!([]));
    // Somebody without an address is handed the link.
    hands
        .press("//button[contains(., 'Invite somebody')]")
        .await;
    hands.fill("Name to sign in with", "old.mate").await;
    hands.press("//footer//button[contains(., 'Invite')]").await;
    see(
        &browser,
        "//strong[contains(., 'Hand this link to old.mate')]",
    )
    .await;

    says(&["users", "disable", "runa.holm"]);
    browser.refresh().await.unwrap();
    see(&browser, "//button[contains(., 'Sign in')]").await;
    browser.close().await.unwrap();

    // The command line changes a password, too, and says why not.
    let change = |input: String| place.lark_with_input(&["password"], &input);
    let refused = change(format!("wrong\n{CHOSEN}\n"));
    assert!(
        text(&refused.stderr).contains("nothing was changed"),
        "{}",
        text(&refused.stderr)
    );
    let changed = change(format!("{PASSWORD}\n{CHOSEN}\n"));
    assert!(changed.status.success(), "{}", text(&changed.stderr));
    let last = place.lark(&["users", "remove", "admin", "--yes"]);
    let why = text(&last.stderr);
    assert!(why.contains("the last administrator"), "{why}");
}

//! How long things are kept: set, shown before it goes, gone, and still known.

use mail_parser::MessageParser;
use maple_lark_fixtures::{self as fixtures, Fixture};
use serde_json::{Value, json};

use crate::{
    console::{Driver, see, signed_in_at},
    documents::barriers,
    forms::Hands,
    place::{Place, ran, ready, text, until},
};

fn small() -> Fixture {
    fixtures::report("small", "small")
        .list("formats", &["csv", "html"])
        .to("everyone", &["a@orrin-sound.example"])
}

fn says(place: &Place, arguments: &[&str]) -> String {
    let output = place.lark(arguments);
    assert!(
        output.status.success(),
        "{arguments:?}: {}",
        text(&output.stderr)
    );
    text(&output.stdout)
}

fn refuses(place: &Place, arguments: &[&str]) -> String {
    let output = place.lark(arguments);
    assert!(!output.status.success(), "{}", text(&output.stdout));
    text(&output.stderr)
}

/// When the documents of a run went, once they did.
fn went(place: &Place, run: &str, what: &str) -> Value {
    until("it goes", || {
        let shown = place.json(&["show", run]);
        let at = shown[what][0]["removed_at"].clone();
        at.is_string().then_some(at)
    })
}

#[tokio::test(flavor = "multi_thread")]
async fn a_key_by_which_documents_go_is_not_set_without_a_yes() {
    let (place, _service) = ready().await;
    place.apply_small(&small());
    let first = ran(&place, "small")["id"].as_str().unwrap().to_owned();
    ran(&place, "small");
    let order = ["set", "report", "small", "keep.most-runs=1"];
    let goes = "these go at once and for good: the documents of 1 run (";
    let check = says(&place, &[&order[..], &["--check"]].concat());
    assert!(
        check.contains(goes) && check.contains("most-runs = 1"),
        "{check}"
    );
    let declined = place.lark_with_input(&order, "n\n");
    assert!(text(&declined.stdout).contains(goes), "{declined:?}");
    assert!(text(&declined.stderr).contains("nothing was changed and nothing went"));
    let nothing = says(
        &place,
        &["set", "report", "small", "keep.most-runs=2", "--check"],
    );
    assert!(!nothing.contains("go at once"), "{nothing}");
    says(&place, &[&order[..], &["--yes"]].concat());
    went(&place, &first, "documents");
}

#[tokio::test(flavor = "multi_thread")]
async fn what_has_been_kept_for_long_enough_goes_and_is_still_known() {
    let (place, _service) = ready().await;
    place.apply_small(&small());
    let first = ran(&place, "small")["id"].as_str().unwrap().to_owned();
    let second = ran(&place, "small")["id"].as_str().unwrap().to_owned();
    let folder = place.folder.path().join("sent");
    let into = ["--into", folder.to_str().unwrap()];
    says(
        &place,
        &[&["download", &first, "--format", "html"][..], &into].concat(),
    );
    let file = std::fs::read_dir(&folder)
        .unwrap()
        .next()
        .unwrap()
        .unwrap()
        .path();
    let file = file.to_str().unwrap();

    // Nobody has set anything: nothing goes, and a run can be kept all the same.
    assert!(says(&place, &["keeping"]).contains("Documents are kept  for good"));
    let kept = ["keeping", "add", &second, "--because", "audit of 2026"];
    says(&place, &kept);
    assert!(refuses(&place, &kept).contains("somebody keeps this run for good already"));
    assert!(says(&place, &["keeping", "kept"]).contains("audit of 2026"));
    let wrong = ["keeping", "set", "--snapshots", "P1Y", "--yes"];
    assert!(refuses(&place, &wrong).contains("snapshots go after documents"));

    // What goes is shown before, and nothing goes without a yes.
    let terms = ["keeping", "set", "--documents", "PT1S"];
    let planned = until("it is old enough", || {
        let said = says(&place, &[&terms[..], &["--check"]].concat());
        said.contains(&first).then_some(said)
    });
    assert!(
        planned.contains("old enough") && !planned.contains(&second),
        "{planned}"
    );
    let declined = place.lark_with_input(&terms, "n\n");
    assert!(text(&declined.stderr).contains("nothing was changed and nothing went"));
    assert!(says(&place, &["keeping"]).contains("Documents are kept  for good"));
    let set = place.lark_with_input(&terms, "y\n");
    assert!(set.status.success(), "{}", text(&set.stderr));
    went(&place, &first, "documents");

    // The documents are gone for everybody, are not sent again, and can be made again.
    let download = ["download", &first, "--into", folder.to_str().unwrap()];
    assert!(refuses(&place, &download).contains("after as long as they are kept"));
    let again = refuses(&place, &["resend", &first, "--to", "a@orrin-sound.example"]);
    assert!(again.contains("after as long as they are kept"), "{again}");
    let made = [
        "render",
        &first,
        "--format",
        "html",
        "--into",
        folder.to_str().unwrap(),
    ];
    says(&place, &made);
    let verified = says(&place, &["verify", file]);
    assert!(
        verified.contains("unaltered") && verified.contains("its bytes here went"),
        "{verified}"
    );
    assert!(says(&place, &["archive", "search", "--report", "small"]).contains("went "));
    let shown = place.json(&["show", &second]);
    assert_eq!(shown["documents"][0]["removed_at"], Value::Null);
    assert_eq!(shown["kept"]["because"], "audit of 2026");

    // Then the snapshot, and then the record.
    says(&place, &["keeping", "set", "--snapshots", "PT1S", "--yes"]);
    went(&place, &first, "snapshots");
    assert!(refuses(&place, &made).contains("the snapshots of this run went"));
    let verified = says(&place, &["verify", file]);
    assert!(verified.contains("its snapshot went"), "{verified}");
    says(&place, &["keeping", "set", "--records", "PT1S", "--yes"]);
    until("the record goes", || {
        let output = place.lark(&["show", &first]);
        text(&output.stderr).contains("no run").then_some(())
    });
    let known = refuses(&place, &["verify", file]);
    assert!(
        known.contains("this was made here, for small in the run"),
        "{known}"
    );
    let gone = says(&place, &["keeping", "gone"]);
    for what in ["documents", "snapshots", "record"] {
        assert!(gone.contains(what), "{gone}");
    }
    assert!(says(&place, &["audit"]).contains("set how long things are kept"));

    // In the console: what is set, what is kept and what went; the run goes once it is let go.
    let driver = Driver::start();
    let browser = driver.browser(&place.folder.path().join("profile")).await;
    signed_in_at(&browser, &place, "/archive/kept").await;
    see(
        &browser,
        "//section[@aria-labelledby='kept']//td[contains(., 'audit of 2026')]",
    )
    .await;
    see(
        &browser,
        "//section[@aria-labelledby='gone']//summary[contains(., '2 documents')]",
    )
    .await;
    assert_eq!(barriers(&browser).await, json!([]));
    let hands = Hands::at(&browser);
    hands
        .press("//a[contains(., 'small')][contains(@href, '/runs/')]")
        .await;
    see(&browser, "//*[contains(., 'Kept for good by admin')]").await;
    assert_eq!(barriers(&browser).await, json!([]));
    hands.press("//button[contains(., 'Keep no longer')]").await;
    see(&browser, "//button[contains(., 'Keep for good')]").await;
    let due = says(&place, &["keeping", "due"]);
    assert!(due.contains(&second), "{due}");
}

/// The digest of a sealed day goes to somebody outside, who can compare it later.
#[tokio::test(flavor = "multi_thread")]
async fn the_digest_of_a_sealed_day_is_mailed_and_compared() {
    let place = Place::new().await;
    place.add_to_configuration_head("archive-head-to = \"Auditor <auditor@outside.example>\"\n");
    let service = place.serve();
    place.sign_in();
    place.apply_small(&small());
    assert_eq!(ran(&place, "small")["state"], "delivered");
    drop(service);
    let mut records = place.cluster.connect("maple_lark").await.unwrap();
    let older = "update documents set created_at = created_at - interval '3 days'";
    sqlx::Executor::execute(&mut records, older).await.unwrap();
    let _service = place.serve();
    let mail = place.next_mail(1).await;
    let mail = MessageParser::default().parse(&mail).unwrap();
    assert_eq!(
        mail.to().unwrap().first().unwrap().address(),
        Some("auditor@outside.example")
    );
    let words = mail.body_text(0).unwrap();
    let digest = words
        .split_whitespace()
        .find(|word| word.contains("=") && word.len() > 70);
    let digest = digest
        .unwrap_or_else(|| panic!("{words}"))
        .trim_end_matches('.');
    let verified = place.lark(&["verify", "--archive", "--digest", digest]);
    let said = text(&verified.stdout);
    assert!(
        said.contains("has the digest that was noted"),
        "{said} {}",
        text(&verified.stderr)
    );
    let (day, _) = digest.split_once('=').unwrap();
    let other = format!("{day}={}", "0".repeat(64));
    let verified = place.lark(&["verify", "--archive", "--digest", &other]);
    assert_eq!(verified.status.code(), Some(1));
    assert!(text(&verified.stdout).contains("another digest than was noted"));
    let wrong = place.lark(&["verify", "--archive", "--digest", day]);
    assert!(
        text(&wrong.stderr).contains("is not a day with its digest"),
        "{}",
        text(&wrong.stderr)
    );
}

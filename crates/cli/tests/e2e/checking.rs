//! Everything that must be right before a service starts, looked at by the command line.

use serde_json::Value;
use sqlx::Executor;

use crate::place::{Place, free_port, text};

/// What was found of one thing, in the order that it was looked at.
fn found<'a>(all: &'a Value, what: &str) -> Vec<&'a Value> {
    let list = all.as_array().unwrap().iter();
    list.filter(|one| one["what"] == what).collect()
}

fn checked(place: &Place) -> (Option<i32>, Value) {
    let config = place.config.to_str().unwrap();
    let output = place.lark(&["check", "--config", config, "--output", "json"]);
    let answer = serde_json::from_slice(&output.stdout);
    let answer = answer.unwrap_or_else(|error| panic!("{error}: {}", text(&output.stderr)));
    (output.status.code(), answer)
}

#[tokio::test(flavor = "multi_thread")]
async fn a_configuration_is_checked_before_the_service_starts_and_while_it_runs() {
    let place = Place::new().await;
    let (code, all) = checked(&place);
    assert_eq!(code, Some(0), "{all:#}");
    let one = |what: &str| found(&all, what)[0].clone();
    assert!(
        one("database")["words"]
            .as_str()
            .unwrap()
            .starts_with("PostgreSQL 1"),
        "{all:#}"
    );
    assert_eq!(one("tables")["words"], "up to date");
    assert_eq!(one("mail server")["stands"], "ok");
    assert_eq!(one("clock")["stands"], "ok");
    assert!(
        one("address")["words"]
            .as_str()
            .unwrap()
            .ends_with("is free")
    );
    assert!(place.mail.messages().is_empty(), "nothing is sent");
    let words = place.lark(&["check", "--config", place.config.to_str().unwrap()]);
    let words = text(&words.stdout);
    assert!(words.contains("The service can start"), "{words}");
    // The running service is where it listens.
    let _service = place.serve();
    let (code, all) = checked(&place);
    assert_eq!(code, Some(0), "{all:#}");
    assert!(
        found(&all, "address")[0]["words"]
            .as_str()
            .unwrap()
            .contains("is in use")
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn a_service_that_runs_says_how_it_stands_itself() {
    let place = Place::new().await;
    let _service = place.serve();
    place.sign_in();
    let all = place.json(&["condition"]);
    let findings = &all["findings"];
    for what in ["engine", "database", "tables", "clock", "mail server"] {
        assert_eq!(found(findings, what)[0]["stands"], "ok", "{all:#}");
    }
    // How much there is, is the affair of the machine.
    let room = found(findings, "room")[0]["words"].as_str().unwrap();
    assert!(room.contains(" free of "), "{all:#}");
    // Where it listens is its own, and no finding.
    assert!(found(findings, "address").is_empty(), "{all:#}");
    assert!(place.mail.messages().is_empty(), "nothing is sent");
    place.mail.behave(|behaviour| behaviour.down = true);
    let output = place.lark(&["condition"]);
    let words = text(&output.stdout);
    assert_eq!(output.status.code(), Some(1), "{words}");
    assert!(
        words.contains("◆ problem")
            && words.contains("→ Check host, port")
            && words.contains("Fix 1 problem"),
        "{words}"
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn each_thing_that_is_wrong_is_named_with_its_remedy_and_keeps_none_of_the_others() {
    let place = Place::new().await;
    let folder = place.folder.path();
    let secret = folder.join("mail-password");
    std::fs::write(&secret, "harbour lights\n").unwrap();
    let open = std::os::unix::fs::PermissionsExt::from_mode(0o644);
    std::fs::set_permissions(&secret, open).unwrap();
    place.add_to_configuration_head(&format!(
        "deliver-into = [\"{}\"]\n",
        folder.join("nowhere").display()
    ));
    place.add_to_configuration(&format!(
        "[commands]\ntoken = [\"{}\"]\n[programs]\nship = [\"/no/such/program\"]\n[browser]\nprogram = \"/no/such/browser\"\n",
        secret.display()
    ));
    place.mail_goes_to(free_port());
    let mut text_of = std::fs::read_to_string(&place.config).unwrap();
    text_of = text_of.replace(
        "[mail]\n",
        &format!(
            "[mail]\nuser = \"reports\"\npassword = \"file:{}\"\n",
            secret.display()
        ),
    );
    text_of = text_of.replace("tls = \"off\"", "tls = \"starttls\"");
    std::fs::write(&place.config, text_of).unwrap();
    let mut records = place.records().await;
    records
        .execute("insert into seaql_migrations (version, applied_at) values ('9999_to_come', 0)")
        .await
        .unwrap();
    let (code, all) = checked(&place);
    assert_eq!(code, Some(1), "{all:#}");
    let stands = |what: &str, words: &str, state: &str| {
        let about = found(&all, what);
        let about = about
            .iter()
            .find(|one| one["words"].as_str().unwrap().contains(words));
        let about = about.unwrap_or_else(|| panic!("nothing of {what} says {words}: {all:#}"));
        assert_eq!(about["stands"], state, "{about:#}");
        about["remedy"].as_str().unwrap_or_default().to_owned()
    };
    assert!(stands("tables", "newer version", "problem").contains("Run that version"));
    assert!(stands("secrets", "other accounts", "warning").starts_with("Run: chmod 600 /"));
    stands("deliver-into", "nowhere", "problem");
    stands("mail server", "cannot be reached", "problem");
    stands("programs", "token", "problem");
    stands("programs", "/no/such/program", "problem");
    stands("browser", "/no/such/browser", "warning");
    stands("database", "PostgreSQL", "ok");
    assert!(!all.to_string().contains("harbour lights"), "{all:#}");
    // An older program does not touch what a newer one has made.
    let config = place.config.to_str().unwrap();
    let served = place.lark(&["serve", "--config", config]);
    assert!(!served.status.success());
    let said = text(&served.stderr);
    assert!(
        said.contains("newer version of Maple Lark changed its tables (9999_to_come)"),
        "{said}"
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn a_configuration_that_is_not_understood_is_the_only_finding() {
    let place = Place::new().await;
    std::fs::write(&place.config, "listen = 7\n").unwrap();
    let (code, all) = checked(&place);
    assert_eq!(code, Some(1));
    assert_eq!(all.as_array().unwrap().len(), 1, "{all:#}");
    assert_eq!(all[0]["what"], "configuration");
    // Whoever starts the service knows that it is of no use to start it again.
    let served = place.lark(&["serve", "--config", place.config.to_str().unwrap()]);
    assert_eq!(served.status.code(), Some(78), "{}", text(&served.stderr));
}

#[tokio::test(flavor = "multi_thread")]
async fn the_service_gives_memory_back_at_once_and_stays_the_process_that_was_started() {
    let place = Place::new().await;
    let service = place.serve();
    let process = procfs::process::Process::new(service.child.id() as i32).unwrap();
    let environment = process.environ().unwrap();
    let kept_for = environment.get(std::ffi::OsStr::new("MIMALLOC_PURGE_DELAY"));
    assert_eq!(kept_for.unwrap(), "0");
    let words = process.cmdline().unwrap();
    assert_eq!(words[1], "serve", "{words:?}");
    assert!(service.stop().success());
}

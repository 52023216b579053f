//! Other machines by their own protocols: files by SFTP, either way, and whoever watches by SNMP.

use std::fs;

use maple_lark_demo::{NotificationReceiver, SshServer, notification_receiver as receiver};
use serde_json::Value;

use crate::{
    channels::{by, notices},
    place::{Place, applied, ran, small_dashboard, small_report, text, until, wait_for},
};

fn kept(place: &Place, name: &str, value: &str) {
    let kept = place.lark_with_input(&["secret", "set", name], value);
    assert!(kept.status.success(), "{}", text(&kept.stderr));
}

/// What a test of a channel says, and whether it works.
fn tried(place: &Place, channel: &str) -> (bool, String) {
    let tried = place.lark(&["channels", "test", channel, "--output", "json"]);
    (tried.status.success(), text(&tried.stdout))
}

#[tokio::test(flavor = "multi_thread")]
async fn files_come_from_and_go_to_another_machine_by_sftp() {
    let place = Place::new().await;
    let server = SshServer::start().unwrap();
    let _service = place.serve();
    place.sign_in();
    // A key has several lines.
    kept(
        &place,
        "share-key",
        &fs::read_to_string(server.key()).unwrap(),
    );
    kept(
        &place,
        "strange-key",
        &fs::read_to_string(server.strange_key()).unwrap(),
    );
    let files = server.files();
    let keys = |secret: &str, host_key: &str, folder: &str| {
        format!(
            "kind = \"sftp\"\naddress = \"{}\"\nhost-key = \"{host_key}\"\nuser = \"{}\"\nprivate-key = \"secret:{secret}\"\nfolder = \"{}/{folder}\"\n",
            server.address(),
            server.user,
            files.display()
        )
    };
    let channel = |name: &str, secret: &str, host_key: &str| {
        let keys = keys(secret, host_key, "reports");
        format!("[channel]\nname = \"{name}\"\n{keys}")
    };
    let other = format!("SHA256:{}", "A".repeat(43));
    applied(
        &place,
        &[
            (
                "share.toml",
                &channel("share", "share-key", &server.host_key),
            ),
            ("moved.toml", &channel("moved", "share-key", &other)),
            (
                "stale.toml",
                &channel("stale", "strange-key", &server.host_key),
            ),
            (
                "machine.toml",
                &format!(
                    "[source]\nname = \"machine\"\n{}",
                    keys("share-key", &server.host_key, "in")
                ),
            ),
        ],
    );
    for (channel, works, words) in [
        ("share", true, "files can be written to"),
        ("moved", false, server.host_key.as_str()),
        ("stale", false, "the key is not known there"),
    ] {
        let (worked, said) = tried(&place, channel);
        assert_eq!(worked, works, "{channel}: {said}");
        assert!(said.contains(words), "{channel}: {said}");
        assert!(!said.contains("PRIVATE KEY"), "{said}");
    }

    place.apply_small(&by("[\"share\"]").list("formats", &["csv", "html"]));
    let run = ran(&place, "small");
    assert_eq!(run["state"], "delivered", "{run:#}");
    let documents = run["documents"].as_array().unwrap();
    let folder = files.join("reports/small");
    assert_eq!(fs::read_dir(&folder).unwrap().count(), documents.len());
    for document in documents {
        let bytes = fs::read(folder.join(document["file_name"].as_str().unwrap())).unwrap();
        let digest = <sha2::Sha256 as sha2::Digest>::digest(&bytes);
        assert_eq!(hex::encode(digest), document["sha256"]);
    }

    // And what lies there is asked for.
    fs::create_dir(files.join("in")).unwrap();
    fs::write(
        files.join("in/quays.csv"),
        "quay,boats\nHavnes,3\nSkarvoy,5\n",
    )
    .unwrap();
    let catalogue = place.json(&["catalogue", "machine"]);
    assert!(catalogue.to_string().contains("quays.csv"), "{catalogue:#}");
    let asked = "source = \"machine\"\nfile = \"*.csv\"\n";
    let query = place.folder.path().join("query.toml");
    fs::write(&query, format!("[query]\n{asked}")).unwrap();
    let answer = place.json(&["query", "--file", query.to_str().unwrap()]);
    let rows: &Value = &answer["rows"];
    assert_eq!(rows.as_array().map(Vec::len), Some(2), "{answer:#}");
    assert!(answer.to_string().contains("Skarvoy"), "{answer:#}");

    // Once there are rows enough, the other files are not read: this one is too large.
    let few = format!(
        "[source]\nname = \"few\"\nrow-limit = 1\nmax-size = \"1 kB\"\n{}",
        keys("share-key", &server.host_key, "in")
    );
    applied(&place, &[("few.toml", &few)]);
    let large = format!("quay,boats\n{}", "Havnes,3\n".repeat(200));
    fs::write(files.join("in/tides.csv"), large).unwrap();
    fs::write(
        &query,
        format!("[query]\n{}", asked.replace("machine", "few")),
    )
    .unwrap();
    let answer = place.json(&["query", "--file", query.to_str().unwrap()]);
    assert_eq!(
        answer["rows"].as_array().map(Vec::len),
        Some(1),
        "{answer:#}"
    );

    // A server that is down is tried again, until it is there.
    let (address, host_key) = (server.address(), server.host_key.clone());
    drop(server);
    let run = place.json(&["run", "small", "--detach"]);
    let id = run["id"].as_str().unwrap().to_owned();
    let run = wait_for(&place, &id, "an attempt that fails", |run| {
        let attempts = run["deliveries"][0]["attempts"].as_array();
        // One that is under way has no outcome yet.
        let failed = |one: &Value| one["outcome"].is_string() && one["outcome"] != "accepted";
        attempts.is_some_and(|attempts| attempts.iter().any(failed))
    });
    assert_eq!(run["state"], "delivering", "{run:#}");
    assert!(run.to_string().contains(&address), "{run:#}");
    assert!(!run.to_string().contains(&host_key), "{run:#}");
}

#[tokio::test(flavor = "multi_thread")]
async fn who_watches_by_snmp_is_told_of_reports_and_of_trouble() {
    let place = Place::new().await;
    let watcher = NotificationReceiver::start("0x8000000001020304").unwrap();
    place.add_to_configuration("[notices]\nchannels = [\"watch\"]\ngather = \"PT1S\"\n");
    let _service = place.serve();
    place.sign_in();
    kept(&place, "community", receiver::COMMUNITY);
    kept(&place, "proof", receiver::PASSWORD);
    kept(&place, "private", receiver::PRIVACY_PASSWORD);
    kept(&place, "wrong", "not-the-one-it-knows");
    let channel = |name: &str, address: &str, keys: &str| {
        format!(
            "[channel]\nname = \"{name}\"\nkind = \"snmp\"\naddress = \"{address}\"\ntimeout = \"PT5S\"\n{keys}"
        )
    };
    let community = "version = \"2c\"\ncommunity = \"secret:community\"\n";
    let user = |proof: &str| {
        format!(
            "version = \"3\"\nuser = \"{}\"\nauthentication = \"sha256\"\nauthentication-password = \"secret:{proof}\"\nprivacy = \"aes128\"\nprivacy-password = \"secret:private\"\n",
            receiver::USER
        )
    };
    let trap = |keys: &str| format!("notification = \"trap\"\n{keys}");
    let address = watcher.address();
    applied(
        &place,
        &[
            ("watch.toml", &channel("watch", &address, community)),
            ("signed.toml", &channel("signed", &address, &user("proof"))),
            ("forged.toml", &channel("forged", &address, &user("wrong"))),
            ("trap.toml", &channel("trap", &address, &trap(community))),
            (
                "signed-trap.toml",
                &channel("signed-trap", &address, &trap(&user("proof"))),
            ),
            (
                "nobody.toml",
                &channel("nobody", "127.0.0.1:9", &user("proof")),
            ),
        ],
    );
    for (channel, works, words) in [
        ("watch", true, "confirmed"),
        ("signed", true, "confirmed"),
        ("forged", false, "does it know the user"),
        ("trap", true, "nobody confirms a trap"),
        ("nobody", false, "nobody listens there"),
    ] {
        let (worked, said) = tried(&place, channel);
        assert_eq!(worked, works, "{channel}: {said}");
        assert!(said.contains(words), "{channel}: {said}");
        assert!(!said.contains(receiver::PASSWORD) && !said.contains(receiver::COMMUNITY));
    }
    let heard = |words: &str| {
        until(words, || {
            Some(watcher.heard()).filter(|heard| heard.contains(words))
        })
    };
    let test = ".1.3.6.1.4.1.32473.1.0.3";
    let heard_tests = until("three tests", || {
        Some(watcher.heard()).filter(|heard| heard.matches(test).count() == 3)
    });
    assert!(
        heard_tests.contains("A test from Maple Lark"),
        "{heard_tests}"
    );

    // A trap is signed by the engine that the place is.
    let (_, said) = tried(&place, "signed-trap");
    let engine = said.split("its engine is ").nth(1).unwrap();
    let engine = engine.split('"').next().unwrap();
    let other = NotificationReceiver::start(engine).unwrap();
    let address = other.address();
    let keys = trap(&user("proof"));
    applied(
        &place,
        &[("signed-trap.toml", &channel("signed-trap", &address, &keys))],
    );
    assert!(tried(&place, "signed-trap").0);
    until("the signed trap", || {
        Some(other.heard()).filter(|heard| heard.contains(test))
    });

    place.apply_small(&by("[\"watch\", \"signed\", \"trap\"]").list("formats", &["csv"]));
    let run = ran(&place, "small");
    assert_eq!(run["state"], "delivered", "{run:#}");
    let report = ".1.3.6.1.4.1.32473.1.0.1";
    let said = until("three notifications", || {
        Some(watcher.heard()).filter(|heard| heard.matches(report).count() == 3)
    });
    let line = said.lines().rfind(|line| line.contains(report)).unwrap();
    for (object, value) in [
        (1, "STRING: \"small\"".to_owned()),
        (3, format!("STRING: {}", run["id"])),
        (4, "STRING: \"everyone\"".to_owned()),
        (5, "INTEGER: 0".to_owned()),
    ] {
        let told = format!(".1.3.6.1.4.1.32473.1.1.{object}.0 = {value}");
        assert!(line.contains(&told), "{told} in {line}");
    }

    place.apply_small(&small_report());
    applied(
        &place,
        &[(
            "dashboard.toml",
            &small_dashboard("select * from there_is_no_such_table"),
        )],
    );
    ran(&place, "small");
    // A text that has signs beyond ASCII is written down in octets.
    let said = heard(".1.3.6.1.4.1.32473.1.0.2");
    let line = said
        .lines()
        .rfind(|line| line.contains(".32473.1.0.2"))
        .unwrap();
    assert!(
        line.contains(".32473.1.1.9.0 = STRING: \"small\""),
        "{line}"
    );
    assert!(
        line.contains(".32473.1.1.10.0 = STRING: \"held\""),
        "{line}"
    );
    until("the record", || {
        Some(notices(&place, "held")).filter(|held| {
            !held.is_empty() && held.iter().all(|notice| !notice["told_at"].is_null())
        })
    });
}

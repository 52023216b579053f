//! Channels beside mail, and what happens when one of them is slow, full, limited or gone.

use maple_lark_fixtures::Fixture;
use std::process::Command;

use base64::{Engine, engine::general_purpose::STANDARD};
use maple_lark_demo::{ObjectStorage, WebReceiver, object_storage, receivers::start_syslog};
use serde_json::{Value, json};

use crate::place::{
    Place, applied, ran, ready, small_dashboard, small_report, text, until, wait_for,
};

/// A report that goes by channels alone.
pub fn by(channels: &str) -> Fixture {
    let audience = format!("[[audience]]\nname = \"everyone\"\nchannels = {channels}");
    small_report().instead_of("[[audience]]", &audience)
}

#[tokio::test(flavor = "multi_thread")]
async fn documents_go_into_folders_uploads_web_hooks_and_the_system_log() {
    let place = Place::new().await;
    let outside = tempfile::TempDir::new().unwrap();
    let (folder, web, log) = (
        outside.path().join("reports"),
        outside.path().join("web"),
        outside.path().join("log"),
    );
    let receiver = WebReceiver::start("127.0.0.1:0", web).await.unwrap();
    let syslog = start_syslog("127.0.0.1:0", log.clone()).await.unwrap();
    place.add_to_configuration_head(&format!("deliver-into = [\"{}\"]\n", folder.display()));
    let _service = place.serve();
    place.sign_in();
    let secret = place.lark_with_input(&["secret", "set", "hook-key"], "a key nobody knows\n");
    assert!(secret.status.success(), "{}", text(&secret.stderr));
    let url = format!("http://{}", receiver.address);
    let files = [
        (
            "folder.toml",
            format!(
                "[channel]\nname = \"files\"\nkind = \"folder\"\nfolder = \"{}\"\nkeep = 2\n",
                folder.display()
            ),
        ),
        (
            "elsewhere.toml",
            "[channel]\nname = \"elsewhere\"\nkind = \"folder\"\nfolder = \"/etc\"\n".to_owned(),
        ),
        (
            "upload.toml",
            format!("[channel]\nname = \"share\"\nkind = \"upload\"\nurl = \"{url}/share\"\n"),
        ),
        (
            "hook.toml",
            format!(
                "[channel]\nname = \"hook\"\nkind = \"webhook\"\nurl = \"{url}/hook\"\nkey = \"secret:hook-key\"\n"
            ),
        ),
        (
            "chat.toml",
            format!(
                "[channel]\nname = \"chat\"\nkind = \"webhook\"\nurl = \"{url}/chat\"\ntext = \"{{{{ report.title }}}}: {{{{ summary }}}}\"\n"
            ),
        ),
        (
            "shape.toml",
            format!(
                "[channel]\nname = \"shape\"\nkind = \"webhook\"\nurl = \"{url}/shape\"\ntext = \"{{{{ summary }}}}\"\nbody = '{{\"message\": \"*{{{{ title }}}}* {{{{ text }}}}\", \"level\": \"{{{{ status }}}}\", \"link\": {{\"to\": \"{{{{ url }}}}\"}}}}'\n"
            ),
        ),
        (
            "log.toml",
            format!("[channel]\nname = \"log\"\nkind = \"syslog\"\naddress = \"{syslog}\"\n"),
        ),
    ];
    let files: Vec<(&str, &str)> = files
        .iter()
        .map(|(name, text)| (*name, text.as_str()))
        .collect();
    applied(&place, &files);
    place.apply_small(
        &by("[\"files\", \"share\", \"hook\", \"chat\", \"shape\", \"log\"]")
            .list("formats", &["csv"]),
    );
    receiver.refuse(&[503]);
    let run = ran(&place, "small");
    assert_eq!(run["state"], "delivered", "{run:#}");
    let attempts: usize = run["deliveries"]
        .as_array()
        .unwrap()
        .iter()
        .map(|one| one["attempts"].as_array().unwrap().len())
        .sum();
    assert_eq!(
        attempts, 7,
        "one was refused for now and tried again: {run:#}"
    );

    let name = run["documents"][0]["file_name"].as_str().unwrap();
    let kept = std::fs::read(folder.join("small").join(name)).unwrap();
    assert_eq!(
        hex::encode(<sha2::Sha256 as sha2::Digest>::digest(&kept)),
        run["documents"][0]["sha256"]
    );
    assert_eq!(
        std::fs::read(receiver.folder.join("uploads/share/small").join(name)).unwrap(),
        kept
    );
    let received = receiver.received();
    let put = received
        .iter()
        .rfind(|request| request.method == "PUT")
        .unwrap();
    let digest = STANDARD.encode(<sha2::Sha256 as sha2::Digest>::digest(&kept));
    assert_eq!(
        put.header("repr-digest"),
        Some(&*format!("sha-256=:{digest}:"))
    );
    let hook = received
        .iter()
        .rfind(|request| request.path == "/hook")
        .unwrap();
    let message: Value = serde_json::from_slice(&hook.body).unwrap();
    assert_eq!(
        (&message["report"], &message["run"], &message["status"]),
        (&json!("small"), &run["id"], &json!("ok"))
    );
    assert_eq!(message["documents"][0]["file_name"], name);
    // Worked out here once more, from what the specification says.
    let signed = format!(
        "{}.{}.{}",
        hook.header("webhook-id").unwrap(),
        hook.header("webhook-timestamp").unwrap(),
        text(&hook.body)
    );
    assert_eq!(
        hook.header("webhook-signature"),
        Some(&*format!(
            "v1,{}",
            hmac_by_openssl("a key nobody knows", &signed)
        ))
    );
    let chat = received
        .iter()
        .rfind(|request| request.path == "/chat")
        .unwrap();
    assert_eq!(
        serde_json::from_slice::<Value>(&chat.body).unwrap(),
        json!({ "text": "Small report: For your information" })
    );
    let shaped = received
        .iter()
        .rfind(|request| request.path == "/shape")
        .unwrap();
    let shaped: Value = serde_json::from_slice(&shaped.body).unwrap();
    let link = shaped["link"]["to"].as_str().unwrap().to_owned();
    assert!(
        link.ends_with(&format!("/runs/{}", run["id"].as_str().unwrap())),
        "{link}"
    );
    assert_eq!(
        shaped,
        json!({ "message": "*Small report* For your information", "level": "ok", "link": { "to": link } })
    );
    let line = std::fs::read_to_string(log.join("syslog.log")).unwrap();
    assert!(
        line.starts_with("<134>1 ")
            && line.contains(" maple-lark - report [run@32473 report=\"small\""),
        "{line}"
    );

    // The folder keeps the last two runs; each is of another day, so names differ.
    for day in ["2026-03-03", "2026-03-04", "2026-03-05"] {
        let run = place.json(&["run", "small", "--at", &format!("{day}T08:00:00Z")]);
        assert_eq!(run["state"], "delivered", "{run:#}");
    }
    let left = std::fs::read_dir(folder.join("small")).unwrap().count();
    assert_eq!(left, 2, "of four runs the last two are kept");

    for (channel, works, words) in [
        ("files", true, "files can be written to"),
        (
            "elsewhere",
            false,
            "/etc is not a folder that documents may go into; an administrator can allow it in the configuration: deliver-into = [\\\"/etc\\\"]",
        ),
        ("share", true, "201"),
        ("hook", true, "204"),
        ("log", true, "sent"),
    ] {
        let output = place.lark(&["channels", "test", channel, "--output", "json"]);
        assert_eq!(
            output.status.success(),
            works,
            "{channel}: {}",
            text(&output.stdout)
        );
        assert!(
            text(&output.stdout).contains(words),
            "{channel}: {}",
            text(&output.stdout)
        );
        assert!(!text(&output.stdout).contains("nobody knows"));
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn documents_go_into_a_bucket_once_it_answers() {
    let place = Place::new().await;
    let storage = ObjectStorage::start().await.unwrap();
    let _service = place.serve();
    place.sign_in();
    for (name, secret) in [
        ("objects", object_storage::SECRET_KEY),
        ("old", "not-that-one"),
    ] {
        let kept = place.lark_with_input(&["secret", "set", name], &format!("{secret}\n"));
        assert!(kept.status.success(), "{}", text(&kept.stderr));
    }
    let channel = |name: &str, bucket: &str, secret: &str| {
        format!(
            "[channel]\nname = \"{name}\"\nkind = \"object-storage\"\nurl = \"{}\"\nregion = \"{}\"\nbucket = \"{bucket}\"\nprefix = \"reports\"\naccess-key = \"{}\"\nsecret-key = \"secret:{secret}\"\n",
            storage.endpoint(),
            object_storage::REGION,
            object_storage::ACCESS_KEY,
        )
    };
    let bucket = object_storage::BUCKET;
    applied(
        &place,
        &[
            ("bucket.toml", &channel("bucket", bucket, "objects")),
            (
                "nowhere.toml",
                &channel("nowhere", "no-such-bucket", "objects"),
            ),
            ("stale.toml", &channel("stale", bucket, "old")),
        ],
    );
    place.apply_small(&by("[\"bucket\"]").list("formats", &["csv", "html"]));
    // A storage that is down is tried again; what was put by then is put once more.
    storage.fail(true);
    let run = place.json(&["run", "small", "--detach"]);
    let id = run["id"].as_str().unwrap().to_owned();
    wait_for(&place, &id, "an attempt that fails", |run| {
        let attempts = run["deliveries"][0]["attempts"].as_array();
        // One that is under way has no outcome yet.
        let failed = |one: &Value| one["outcome"].is_string() && one["outcome"] != "accepted";
        attempts.is_some_and(|attempts| attempts.iter().any(failed))
    });
    storage.fail(false);
    let run = wait_for(&place, &id, "the delivery", |run| {
        run["state"] == "delivered"
    });
    let documents = run["documents"].as_array().unwrap();
    let objects = storage.objects();
    assert_eq!((documents.len(), objects.len()), (2, 2), "{run:#}");
    for document in documents {
        let name = format!("reports/small/{}", document["file_name"].as_str().unwrap());
        let digest = <sha2::Sha256 as sha2::Digest>::digest(&objects[&name]);
        assert_eq!(hex::encode(digest), document["sha256"], "{name}");
    }
    for (channel, works, words) in [
        (
            "bucket",
            true,
            "files can be put into the bucket orrin-documents",
        ),
        ("nowhere", false, "check url and bucket"),
        ("stale", false, "check access-key and secret-key"),
    ] {
        let tried = place.lark(&["channels", "test", channel, "--output", "json"]);
        let said = text(&tried.stdout);
        assert_eq!(tried.status.success(), works, "{channel}: {said}");
        assert!(said.contains(words), "{channel}: {said}");
        assert!(!said.contains(object_storage::SECRET_KEY) && !said.contains("not-that-one"));
    }
    assert_eq!(storage.objects().len(), 2, "what was tried with is gone");
}

/// HMAC by a program that is not ours.
fn hmac_by_openssl(key: &str, message: &str) -> String {
    let folder = tempfile::TempDir::new().unwrap();
    let path = folder.path().join("message");
    std::fs::write(&path, message).unwrap();
    let key = format!("hexkey:{}", hex::encode(key));
    let output = Command::new("openssl")
        .args([
            "dgst", "-sha256", "-mac", "HMAC", "-macopt", &key, "-binary",
        ])
        .arg(&path)
        .output()
        .unwrap();
    STANDARD.encode(output.stdout)
}

#[tokio::test(flavor = "multi_thread")]
async fn one_channel_that_hangs_holds_up_no_other() {
    let (place, _service) = ready().await;
    // It takes connections and never says a word.
    let silent = std::net::TcpListener::bind("127.0.0.1:0").unwrap();
    let address = silent.local_addr().unwrap();
    let server = format!(
        "[channel]\nname = \"silent\"\nkind = \"mail-server\"\nhost = \"127.0.0.1\"\nport = {}\ntls = \"off\"\nfrom = \"x@orrin-sound.example\"\ntimeout = \"PT2M\"\n",
        address.port()
    );
    let slow = small_report()
        .key("name", "slow")
        .table("[deliver]\nmail-server = \"silent\"");
    applied(&place, &[("silent.toml", &server)]);
    place.apply_small(&small_report());
    applied(&place, &[("slow.toml", &slow)]);
    let waiting = place.json(&["run", "slow", "--detach"])["id"]
        .as_str()
        .unwrap()
        .to_owned();
    wait_for(&place, &waiting, "the outbox", |run| {
        run["state"] == "delivering"
    });
    assert_eq!(ran(&place, "small")["state"], "delivered");
    let channels = place.json(&["channels"]);
    let silent_one = channels
        .as_array()
        .unwrap()
        .iter()
        .find(|channel| channel["name"] == "silent")
        .unwrap();
    assert_eq!(
        (&silent_one["waiting"], &silent_one["used_by"]),
        (&json!(2), &json!(["slow"]))
    );
    assert_eq!(place.json(&["show", &waiting])["state"], "delivering");
    assert!(place.lark(&["cancel", &waiting]).status.success());
}

pub fn notices(place: &Place, kind: &str) -> Vec<Value> {
    place
        .json(&["notices"])
        .as_array()
        .unwrap()
        .iter()
        .filter(|notice| notice["kind"] == kind)
        .cloned()
        .collect()
}

#[tokio::test(flavor = "multi_thread")]
async fn a_window_made_up_for_later_pushes_nothing_newer_out_of_a_folder() {
    let place = Place::new().await;
    let outside = tempfile::TempDir::new().unwrap();
    place.add_to_configuration_head(&format!(
        "deliver-into = [\"{}\"]\n",
        outside.path().display()
    ));
    let _service = place.serve();
    place.sign_in();
    applied(
        &place,
        &[(
            "folder.toml",
            &format!(
                "[channel]\nname = \"files\"\nkind = \"folder\"\nfolder = \"{}\"\nkeep = 2\n",
                outside.path().display()
            ),
        )],
    );
    place.apply_small(&by("[\"files\"]").list("formats", &["csv"]));
    let names = || {
        let mut names: Vec<String> = std::fs::read_dir(outside.path().join("small"))
            .unwrap()
            .map(|entry| entry.unwrap().file_name().into_string().unwrap())
            .collect();
        names.sort();
        names
    };
    let made = |day: &str| {
        place.json(&["run", "small", "--at", &format!("{day}T08:00:00Z")])["id"]
            .as_str()
            .unwrap()
            .to_owned()
    };
    let first = made("2026-03-03");
    made("2026-03-04");
    made("2026-03-05");
    assert_eq!(
        names(),
        ["small_2026-03-03_rows.csv", "small_2026-03-04_rows.csv"]
    );
    // It was asked for, so it is there; the two that follow it in time stay.
    made("2026-02-01");
    assert_eq!(
        names(),
        [
            "small_2026-01-31_rows.csv",
            "small_2026-03-03_rows.csv",
            "small_2026-03-04_rows.csv"
        ]
    );
    // A copy of an old run comes back and takes nothing away.
    assert!(place.lark(&["resend", &first]).status.success());
    until("the copy", || {
        names()
            .contains(&"small_2026-03-02_rows.csv".to_owned())
            .then_some(())
    });
    assert_eq!(names().len(), 4);
    // The next one that is new tidies up again.
    made("2026-03-06");
    let left = names();
    assert!(
        left.contains(&"small_2026-03-04_rows.csv".to_owned())
            && left.contains(&"small_2026-03-05_rows.csv".to_owned()),
        "{left:?}"
    );
    assert!(
        !left.contains(&"small_2026-03-03_rows.csv".to_owned()),
        "{left:?}"
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn notices_reach_the_system_log_and_a_chat_too() {
    let place = Place::new().await;
    let outside = tempfile::TempDir::new().unwrap();
    let receiver = WebReceiver::start("127.0.0.1:0", outside.path().join("web"))
        .await
        .unwrap();
    let log = outside.path().join("log");
    let syslog = start_syslog("127.0.0.1:0", log.clone()).await.unwrap();
    place.add_to_configuration(
        "[notices]\nchannels = [\"log\", \"chat\", \"hook\"]\ngather = \"PT1S\"\n",
    );
    let _service = place.serve();
    place.sign_in();
    applied(
        &place,
        &[
            (
                "log.toml",
                &format!("[channel]\nname = \"log\"\nkind = \"syslog\"\naddress = \"{syslog}\"\n"),
            ),
            (
                "chat.toml",
                &format!(
                    "[channel]\nname = \"chat\"\nkind = \"webhook\"\nurl = \"http://{}/chat\"\ntext = \"{{{{ summary }}}}\"\n",
                    receiver.address
                ),
            ),
            (
                "hook.toml",
                &format!(
                    "[channel]\nname = \"hook\"\nkind = \"webhook\"\nurl = \"http://{}/hook\"\n",
                    receiver.address
                ),
            ),
        ],
    );
    place.apply_small(&small_report());
    applied(
        &place,
        &[(
            "dashboard.toml",
            &small_dashboard("select * from there_is_no_such_table"),
        )],
    );
    let id = ran(&place, "small")["id"].as_str().unwrap().to_owned();
    let line = until("the line", || {
        std::fs::read_to_string(log.join("syslog.log"))
            .ok()
            .filter(|text| text.contains("is held"))
    });
    // Facility local0, severity error.
    assert!(
        line.starts_with("<131>1 ")
            && line.contains(" maple-lark - notice [run@32473 subject=\"small\" notice=\"held\"]"),
        "{line}"
    );
    let posted = |path: &str| {
        let path = path.to_owned();
        until("the message", || {
            receiver
                .received()
                .into_iter()
                .rfind(|request| request.path == path)
                .map(|request| serde_json::from_slice::<Value>(&request.body).unwrap())
        })
    };
    assert!(
        posted("/chat")["text"]
            .as_str()
            .unwrap()
            .contains("there_is_no_such_table")
    );
    let hook = posted("/hook");
    assert_eq!(
        (&hook["notice"], &hook["subject"]),
        (&json!("held"), &json!("small"))
    );
    // Each who hears of it is on record, and the run is named with the first.
    let told = until("the record", || {
        Some(notices(&place, "held"))
            .filter(|held| held.iter().all(|notice| !notice["told_at"].is_null()))
    });
    assert_eq!(told.len(), 3);
    assert!(
        told.iter()
            .any(|notice| notice["run"] == id.as_str() || notice["run_id"] == id.as_str()),
        "{told:#?}"
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn a_secret_can_come_from_a_command_that_the_configuration_names() {
    let place = Place::new().await;
    let outside = tempfile::TempDir::new().unwrap();
    let receiver = WebReceiver::start("127.0.0.1:0", outside.path().to_owned())
        .await
        .unwrap();
    place.add_to_configuration(
        "[commands]\nshare-token = [\"/bin/echo\", \"made-just-now\"]\nbroken = [\"/bin/false\"]\n",
    );
    let _service = place.serve();
    place.sign_in();
    let share = |command: &str| {
        format!(
            "[channel]\nname = \"share\"\nkind = \"upload\"\nurl = \"http://{}/share\"\n[channel.sign-in]\nkind = \"bearer\"\ntoken = \"command:{command}\"\n",
            receiver.address
        )
    };
    applied(&place, &[("share.toml", &share("share-token"))]);
    place.apply_small(&by("[\"share\"]"));
    assert_eq!(ran(&place, "small")["state"], "delivered");
    let put = receiver
        .received()
        .into_iter()
        .rfind(|request| request.method == "PUT")
        .unwrap();
    assert_eq!(put.header("authorization"), Some("Bearer made-just-now"));
    for (command, words) in [
        ("broken", "command:broken failed: exit status: 1"),
        (
            "unknown",
            "command:unknown is not a command of the service's configuration; add it under [commands]",
        ),
    ] {
        applied(&place, &[("share.toml", &share(command))]);
        let output = place.lark(&["channels", "test", "share"]);
        let said = text(&output.stderr) + &text(&output.stdout);
        assert!(!output.status.success() && said.contains(words), "{said}");
    }
    // Definitions cannot say what is run.
    let sly = place.apply(&[(
        "share.toml",
        &share("share-token").replace("command:share-token", "command:/bin/sh -c id"),
    )]);
    assert!(
        text(&sly.stderr).contains("\"command:\" must be followed by the name of a command"),
        "{}",
        text(&sly.stderr)
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn users_are_people_and_people_can_be_named_when_something_is_sent() {
    let (place, _service) = ready().await;
    place.apply_small(&small_report());
    let alone = place.lark(&["send", "small", "--to", "me"]);
    assert!(
        text(&alone.stderr).contains("nobody in the address book is the user \"admin\"; give a person the line user = \"admin\""),
        "{}",
        text(&alone.stderr)
    );
    applied(
        &place,
        &[
            (
                "ada.toml",
                "[person]\nname = \"ada-berg\"\ntitle = \"Ada Berg\"\naddress = \"ada@orrin-sound.example\"\nuser = \"admin\"\n",
            ),
            (
                "jan.toml",
                "[person]\nname = \"jan\"\naddress = \"jan@orrin-sound.example\"\n",
            ),
            (
                "desk.toml",
                "[group]\nname = \"desk\"\nmembers = [\"jan\", \"ada-berg\"]\n",
            ),
        ],
    );
    assert_eq!(
        place.json(&["send", "small", "--to", "me"])["deliveries"][0]["recipient"],
        "Ada Berg <ada@orrin-sound.example>"
    );
    let run = ran(&place, "small");
    let id = run["id"].as_str().unwrap();
    // Named twice, by the group and by themselves, they get it once.
    assert!(
        place
            .lark(&["resend", id, "--to", "desk", "--to", "me"])
            .status
            .success()
    );
    let after = wait_for(&place, id, "the copies", |run| {
        run["deliveries"]
            .as_array()
            .unwrap()
            .iter()
            .all(|one| one["state"] == "accepted")
    });
    let mut copies: Vec<&str> = after["deliveries"]
        .as_array()
        .unwrap()
        .iter()
        .filter(|one| one["copy"] == 1)
        .map(|one| one["recipient"].as_str().unwrap())
        .collect();
    copies.sort_unstable();
    assert_eq!(
        copies,
        [
            "Ada Berg <ada@orrin-sound.example>",
            "jan <jan@orrin-sound.example>"
        ]
    );
    let unknown = place.lark(&["send", "small", "--to", "ada-brg"]);
    assert!(
        text(&unknown.stderr).contains("Did you mean \"ada-berg\"?"),
        "{}",
        text(&unknown.stderr)
    );
    let twice = place.apply(&[(
        "eve.toml",
        "[person]\nname = \"eve\"\naddress = \"eve@orrin-sound.example\"\nuser = \"admin\"\n",
    )]);
    assert!(
        text(&twice.stderr).contains("\"ada-berg\" is the user \"admin\" already"),
        "{}",
        text(&twice.stderr)
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn a_report_that_was_quiet_for_a_week_says_so_once() {
    let (place, _service) = ready().await;
    let quiet = small_report()
        .key("owner", "owner@orrin-sound.example")
        .table("[send]\nwhen = \"rows\"\nqueries = [\"q\"]\nconfirm-quiet = true");
    place.apply_small(&quiet);
    applied(
        &place,
        &[(
            "dashboard.toml",
            &small_dashboard("select 1 as one where false"),
        )],
    );
    assert_eq!(ran(&place, "small")["state"], "quiet");
    assert!(
        notices(&place, "still-quiet").is_empty(),
        "a week has not passed"
    );
    let mut records = place.records().await;
    sqlx::query("update runs set created_at = created_at - interval '8 days'")
        .execute(&mut records)
        .await
        .unwrap();
    assert_eq!(ran(&place, "small")["state"], "quiet");
    let said = until("the notice", || notices(&place, "still-quiet").pop());
    assert_eq!(ran(&place, "small")["state"], "quiet");
    assert!(
        said["text"]
            .as_str()
            .unwrap()
            .contains("Small report is still quiet: 2 runs since "),
        "{said:#}"
    );
    assert!(
        said["text"].as_str().unwrap().contains("no rows in \"q\""),
        "{said:#}"
    );
    assert_eq!(said["recipient"], "owner@orrin-sound.example");
    assert_eq!(
        notices(&place, "still-quiet").len(),
        1,
        "it is said once a week"
    );
}

/// What may not be read from may not be written to either.
#[tokio::test(flavor = "multi_thread")]
async fn lines_go_nowhere_that_sources_may_not_reach() {
    let (place, _service) = ready().await;
    applied(
        &place,
        &[(
            "log.toml",
            "[channel]\nname = \"log\"\nkind = \"syslog\"\naddress = \"169.254.7.7:514\"\n",
        )],
    );
    let tested = place.lark(&["channels", "test", "log"]);
    let said = format!("{}{}", text(&tested.stdout), text(&tested.stderr));
    assert!(!tested.status.success(), "{said}");
    assert!(
        said.contains("may not be reached: it is a link-local address")
            && said.contains("sources-may-reach"),
        "{said}"
    );
}

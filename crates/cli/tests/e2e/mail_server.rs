//! Against a real mail server from Debian's packages, run by its own account on a port of
//! loopback: what it refuses, what it returns later, and that nothing is lost or doubled
//! whenever a process dies.

use maple_lark_fixtures::Fixture;
use std::{
    collections::BTreeMap,
    fs,
    process::{Command, Stdio},
    time::{Duration, Instant},
};

use mail_parser::MessageParser;
use maple_lark_demo::RealMailServer;
use serde_json::{Value, json};

use crate::place::{PATIENCE, Place, free_port, small_report, text};

/// Waits until so many messages were delivered.
fn wait_for(server: &RealMailServer, count: usize) -> Vec<(String, Vec<u8>)> {
    let began = Instant::now();
    loop {
        let found = server.messages();
        if found.len() >= count {
            return found;
        }
        assert!(
            began.elapsed() < PATIENCE,
            "{} of {count} messages came",
            found.len()
        );
        std::thread::sleep(Duration::from_millis(100));
    }
}

fn place_with(server: &RealMailServer, place: &Place) {
    place.mail_goes_to(server.port);
    place.add_to_configuration(&format!(
        "[bounces]\nmaildir = \"{}\"\nsuppress-after = 2\n",
        server.path("bounces").display()
    ));
}

fn to(addresses: &[&str]) -> Fixture {
    small_report()
        .instead_of("[[audience]]", "")
        .to("everyone", addresses)
}

fn deliveries(run: &Value) -> BTreeMap<String, String> {
    let list = run["deliveries"].as_array().unwrap().iter();
    list.map(|one| {
        (
            one["recipient"].as_str().unwrap().to_owned(),
            one["state"].as_str().unwrap().to_owned(),
        )
    })
    .collect()
}

#[tokio::test(flavor = "multi_thread")]
async fn refusals_concern_one_recipient_and_greylisting_only_takes_longer() {
    let server = RealMailServer::start().unwrap();
    let place = Place::new().await;
    place_with(&server, &place);
    let _service = place.serve();
    place.sign_in();
    place.apply_small(&to(&[
        "Rúna Ærø, desk <runa@orrin-sound.example>",
        "nobody@orrin-sound.example",
        "later@orrin-sound.example",
    ]));
    let id = place.json(&["run", "small", "--detach"])["id"]
        .as_str()
        .unwrap()
        .to_owned();
    let began = Instant::now();
    loop {
        let run = place.json(&["show", &id]);
        let states = deliveries(&run);
        let tried = run["deliveries"]
            .as_array()
            .unwrap()
            .iter()
            .any(|one| one["attempts"][0]["outcome"] == "postponed");
        if tried && states["nobody@orrin-sound.example"] == "refused" {
            assert_eq!(run["state"], "delivering", "one is still to come");
            break;
        }
        assert!(began.elapsed() < PATIENCE, "{run:#}");
        std::thread::sleep(Duration::from_millis(50));
    }
    fs::write(server.path("open"), "").unwrap();
    let run = place.settled(&id);
    assert_eq!(run["state"], "partly-delivered");
    assert_eq!(run["problem"], "1 of 3 deliveries were refused");
    let states = deliveries(&run);
    assert_eq!(states["later@orrin-sound.example"], "accepted");
    let words = run["deliveries"]
        .as_array()
        .unwrap()
        .iter()
        .find_map(|one| one["problem"].as_str())
        .unwrap();
    assert!(words.contains("5.1.1 no such user here"), "{words}");
    let came = wait_for(&server, 2);
    let runa = came
        .iter()
        .find(|(to, _)| to == "runa@orrin-sound.example")
        .unwrap();
    let strict = strictly_parsed(&runa.1);
    assert_eq!(strict["defects"], json!([]));
    assert_eq!(
        strict["to"],
        json!([["Rúna Ærø, desk", "runa@orrin-sound.example"]])
    );
    assert_eq!(strict["types"][0], "multipart/mixed");
    let files = strict["files"].as_array().unwrap();
    assert_eq!(files.len(), 3);
    for (file, document) in files.iter().zip(run["documents"].as_array().unwrap()) {
        assert_eq!(
            (&file[0], &file[1]),
            (&document["file_name"], &document["sha256"])
        );
    }
}

/// By Python's parser with its strictest policy, which is not ours: what is wrong with a
/// message, whom it names, its parts, and its files with their SHA-256.
fn strictly_parsed(message: &[u8]) -> Value {
    const PROGRAM: &str = r#"
import email, email.policy, hashlib, json, sys
m = email.message_from_bytes(sys.stdin.buffer.read(), policy=email.policy.default.clone(raise_on_defect=False))
parts = list(m.walk())
defects = [str(d) for p in parts for d in p.defects] + [str(d) for p in parts for h in p.values() for d in getattr(h, "defects", [])]
print(json.dumps({
    "defects": defects,
    "to": [[a.display_name, a.addr_spec] for a in m["to"].addresses],
    "types": [p.get_content_type() for p in parts],
    "files": [[p.get_filename(), hashlib.sha256(p.get_payload(decode=True)).hexdigest()] for p in m.iter_attachments() if p.get_filename()],
}))
"#;
    let mut child = Command::new("python3")
        .args(["-c", PROGRAM])
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .spawn()
        .unwrap();
    std::io::Write::write_all(&mut child.stdin.take().unwrap(), message).unwrap();
    serde_json::from_slice(&child.wait_with_output().unwrap().stdout).unwrap()
}

#[tokio::test(flavor = "multi_thread")]
async fn mail_that_comes_back_marks_its_recipient_and_sets_the_address_aside() {
    let server = RealMailServer::start().unwrap();
    let place = Place::new().await;
    place_with(&server, &place);
    place.bounces_go_to("bounces@orrin-sound.example");
    let _service = place.serve();
    place.sign_in();
    place.apply_small(
        &to(&["gone@orrin-sound.example", "runa@orrin-sound.example"]).replace(
            "time-zone",
            "owner = \"owner@orrin-sound.example\"\ntime-zone",
        ),
    );
    for round in 1..=2 {
        let id = place.json(&["run", "small"])["id"]
            .as_str()
            .unwrap()
            .to_owned();
        let began = Instant::now();
        loop {
            let run = place.json(&["show", &id]);
            if deliveries(&run)["gone@orrin-sound.example"] == "bounced" {
                let gone = run["deliveries"]
                    .as_array()
                    .unwrap()
                    .iter()
                    .find(|one| one["state"] == "bounced")
                    .unwrap();
                assert!(
                    gone["problem"]
                        .as_str()
                        .unwrap()
                        .starts_with("returned: 5."),
                    "{gone:#}"
                );
                break;
            }
            assert!(began.elapsed() < PATIENCE, "no bounce came: {run:#}");
            std::thread::sleep(Duration::from_millis(100));
        }
        let bounced = place.json(&["recipients"])["bounced"][0].clone();
        assert_eq!(bounced["hard_bounces"], round);
        assert_eq!(bounced["suppressed_at"].is_null(), round == 1);
    }
    let run = place.json(&["run", "small"]);
    assert_eq!(
        deliveries(&run).keys().collect::<Vec<_>>(),
        ["runa@orrin-sound.example"]
    );
    assert!(run["steps"].as_array().unwrap().iter().any(|step| {
        step["detail"]
            .as_str()
            .is_some_and(|detail| detail.contains("is suppressed after 2 bounces"))
    }));
    let notices = place.json(&["notices"]);
    assert!(
        notices
            .as_array()
            .unwrap()
            .iter()
            .any(|notice| notice["kind"] == "suppressed"
                && notice["recipient"] == "owner@orrin-sound.example"),
        "{notices:#}"
    );
    assert!(
        place
            .lark(&["recipients", "restore", "gone@orrin-sound.example"])
            .status
            .success()
    );
    assert_eq!(deliveries(&place.json(&["run", "small"])).len(), 2);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_test_of_the_mail_server_says_which_step_failed_and_what_to_do() {
    let server = RealMailServer::start().unwrap();
    let place = Place::new().await;
    place_with(&server, &place);
    let _service = place.serve();
    place.sign_in();
    let test = |arguments: &[&str]| {
        let output =
            place.lark(&[&["channels", "test"], arguments, &["--output", "json"]].concat());
        serde_json::from_slice::<Value>(&output.stdout)
            .unwrap_or_else(|_| panic!("{}", text(&output.stderr)))
    };
    let good = test(&["--to", "runa@orrin-sound.example"]);
    assert_eq!(good["works"], true, "{good:#}");
    let names: Vec<&str> = good["steps"]
        .as_array()
        .unwrap()
        .iter()
        .filter_map(|step| step["name"].as_str())
        .collect();
    assert_eq!(
        names,
        ["resolve", "connect", "sender", "recipient", "message"]
    );
    assert_eq!(wait_for(&server, 1)[0].0, "runa@orrin-sound.example");
    let refused = test(&["--to", "nobody@orrin-sound.example"]);
    let last = refused["steps"].as_array().unwrap().last().unwrap();
    assert_eq!(
        (&last["name"], &last["works"]),
        (&json!("recipient"), &json!(false))
    );
    assert!(
        last["words"]
            .as_str()
            .unwrap()
            .contains("no such user here")
            && last["remedy"].is_string(),
        "{last:#}"
    );

    let channel = |name: &str, rest: &str| {
        format!(
            "[channel]\nname = \"{name}\"\nkind = \"mail-server\"\nfrom = \"x@orrin-sound.example\"\ntimeout = \"PT5S\"\n{rest}\n"
        )
    };
    let closed = channel(
        "closed",
        &format!(
            "host = \"127.0.0.1\"\nport = {}\ntls = \"off\"",
            free_port()
        ),
    );
    let no_tls = channel(
        "no-tls",
        &format!("host = \"127.0.0.1\"\nport = {}", server.port),
    );
    let no_name = channel(
        "no-name",
        "host = \"no-such-host.invalid\"\nport = 25\ntls = \"off\"",
    );
    let output = place.apply(&[
        ("a.toml", &closed),
        ("b.toml", &no_tls),
        ("c.toml", &no_name),
    ]);
    assert!(output.status.success(), "{}", text(&output.stderr));
    for (name, step, words) in [
        ("closed", "connect", "refused"),
        ("no-tls", "encrypt", "does not offer STARTTLS"),
        ("no-name", "resolve", ""),
    ] {
        let test = test(&[name, "--to", "runa@orrin-sound.example"]);
        let last = test["steps"].as_array().unwrap().last().unwrap();
        assert_eq!(
            (&last["name"], &last["works"]),
            (&json!(step), &json!(false)),
            "{test:#}"
        );
        assert!(
            last["words"].as_str().unwrap().contains(words) && last["remedy"].is_string(),
            "{test:#}"
        );
    }
    let bare = place.apply(&[(
        "d.toml",
        &channel("open", "host = \"h.example\"\ntls = \"off\"\n[channel.sign-in]\nkind = \"password\"\nuser = \"u\"\npassword = \"env:P\""),
    )]);
    assert!(
        text(&bare.stderr).contains("a password would travel for everybody to read"),
        "{}",
        text(&bare.stderr)
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn five_hundred_deliveries_survive_processes_that_are_killed_at_random() {
    let server = RealMailServer::start().unwrap();
    let place = Place::new().await;
    place_with(&server, &place);
    let mut services = vec![place.serve(), place.serve_another()];
    place.sign_in();
    let addresses: Vec<String> = (0..500)
        .map(|index| format!("person{index}@orrin-sound.example"))
        .collect();
    let listed: Vec<&str> = addresses.iter().map(String::as_str).collect();
    place.apply_small(&to(&listed).replace("[\"pdf\", \"html\", \"csv\"]", "[\"csv\"]"));
    let id = place.json(&["run", "small", "--detach"])["id"]
        .as_str()
        .unwrap()
        .to_owned();
    // One of the two dies again and again, the other goes on; the API stays at the first address.
    let mut seed = u64::from_le_bytes(uuid::Uuid::new_v4().as_bytes()[..8].try_into().unwrap());
    for _ in 0..4 {
        seed = seed
            .wrapping_mul(6_364_136_223_846_793_005)
            .wrapping_add(1_442_695_040_888_963_407);
        std::thread::sleep(Duration::from_millis(100 + (seed >> 33) % 900));
        services.pop().unwrap().kill();
        services.push(place.serve_another());
    }
    let first = services.remove(0);
    first.kill();
    services.push(place.serve());
    let run = place.settled(&id);
    assert_eq!(run["state"], "delivered", "{:?}", run["problem"]);
    let list = run["deliveries"].as_array().unwrap();
    assert_eq!(
        list.iter().filter(|one| one["state"] == "accepted").count(),
        500
    );
    let unsure: usize = list
        .iter()
        .flat_map(|one| one["attempts"].as_array().unwrap())
        .filter(|attempt| attempt["outcome"] == "unknown")
        .count();
    let came = wait_for(&server, 500);
    // Whatever is still in the server's own queue comes now.
    std::thread::sleep(Duration::from_secs(1));
    let came = if server.messages().len() > came.len() {
        server.messages()
    } else {
        came
    };
    let mut ids: BTreeMap<&str, Vec<String>> = BTreeMap::new();
    for (to, bytes) in &came {
        let id = MessageParser::default()
            .parse(bytes)
            .unwrap()
            .message_id()
            .unwrap()
            .to_owned();
        ids.entry(to).or_default().push(id);
    }
    assert_eq!(ids.len(), 500, "nobody was forgotten");
    let doubled: usize = ids.values().map(|ids| ids.len() - 1).sum();
    assert!(
        doubled <= unsure,
        "{doubled} doubled, but only {unsure} attempts are on record as unsure"
    );
    for (to, mut ids) in ids {
        ids.dedup();
        assert_eq!(ids.len(), 1, "{to} got it under several ids");
    }
}

/// A message signed with DKIM verifies against its key with another program's arithmetic.
#[tokio::test(flavor = "multi_thread")]
async fn a_message_is_signed_when_there_is_a_key() {
    let server = RealMailServer::start().unwrap();
    let place = Place::new().await;
    place_with(&server, &place);
    let key = place.folder.path().join("dkim.pem");
    let made = Command::new("openssl")
        .args(["genrsa", "-traditional", "-out"])
        .arg(&key)
        .arg("2048")
        .output()
        .unwrap();
    assert!(made.status.success(), "{}", text(&made.stderr));
    let _service = place.serve();
    place.sign_in();
    let channel = format!(
        "[channel]\nname = \"signing\"\nkind = \"mail-server\"\nhost = \"127.0.0.1\"\nport = {}\ntls = \"off\"\nfrom = \"x@orrin-sound.example\"\n\
         [channel.dkim]\ndomain = \"orrin-sound.example\"\nselector = \"lark\"\nkey = \"file:{}\"\n",
        server.port,
        key.display()
    );
    assert!(place.apply(&[("signing.toml", &channel)]).status.success());
    place.apply_small(&to(&["runa@orrin-sound.example"]).replace(
        "[[audience]]",
        "[deliver]\nmail-server = \"signing\"\n[[audience]]",
    ));
    assert_eq!(place.json(&["run", "small"])["state"], "delivered");
    let message = wait_for(&server, 1).remove(0).1;
    let signature = signature(&message);
    assert!(
        signature.contains("d=orrin-sound.example") && signature.contains("s=lark"),
        "{signature}"
    );
    // The digest of the body, worked out here from what RFC 6376 says of "relaxed" bodies.
    let body = String::from_utf8(message).unwrap().replace("\r\n", "\n");
    let body = body.split_once("\n\n").unwrap().1;
    let lines: Vec<String> = body
        .split('\n')
        .map(|line| {
            line.split([' ', '\t'])
                .filter(|part| !part.is_empty())
                .collect::<Vec<_>>()
                .join(" ")
        })
        .collect();
    let relaxed = |line: &str, original: &str| {
        if original.starts_with([' ', '\t']) && !line.is_empty() {
            format!(" {line}")
        } else {
            line.to_owned()
        }
    };
    let lines: Vec<String> = lines
        .iter()
        .zip(body.split('\n'))
        .map(|(line, original)| relaxed(line, original))
        .collect();
    let canonical = format!("{}\r\n", lines.join("\r\n").trim_end_matches("\r\n"));
    let digest = base64::Engine::encode(
        &base64::engine::general_purpose::STANDARD,
        <sha2::Sha256 as sha2::Digest>::digest(canonical.as_bytes()),
    );
    assert!(
        signature.contains(&format!("bh={digest}")),
        "{signature} is not of {digest}"
    );
}

fn signature(message: &[u8]) -> String {
    let text = String::from_utf8_lossy(message).replace("\r\n", "\n");
    let from = text.find("DKIM-Signature:").expect("the message is signed");
    let value = &text[from..];
    let end = value
        .match_indices('\n')
        .find(|(at, _)| !value[at + 1..].starts_with([' ', '\t']))
        .map_or(value.len(), |(at, _)| at);
    value[..end]
        .chars()
        .filter(|c| !c.is_whitespace())
        .collect()
}

//! The right page to the right people, once: audiences, copies, approvals, links, notices.

use std::{
    io::Read,
    time::{Duration, Instant},
};

use mail_parser::{Message, MessageParser, MimeHeaders};
use maple_lark_fixtures::{readable, readable_mail};
use serde_json::{Value, json};
use sqlx::Executor;

use crate::place::{
    PATIENCE, Place, applied, envelope, mails, operations, ran, ready, small_dashboard,
    small_report, small_report_for, text,
};

const PORTS: &str = r#"
[dashboard]
name = "ports"
title = "Ports"
[[parameter]]
name = "port"
title = "Port"
[[query]]
name = "kept"
source = "operations"
sql = "select port, secret, amount from kept_apart where port = :port"
[[section]]
title = "All"
[[section.block]]
show = "figures"
title = "Figures"
query = "kept"
columns = ["amount"]
[[section.block]]
show = "column"
title = "Chart"
query = "kept"
label = "secret"
value = "amount"
[[section.block]]
show = "table"
title = "Rows"
query = "kept"
"#;

const PORTS_REPORT: &str = r#"
[report]
name = "ports"
title = "Ports"
owner = "Operations desk <operations@orrin-sound.example>"
time-zone = "Atlantic/Faroe"
dashboards = ["ports"]
formats = ["pdf", "html", "csv", "xlsx", "json", "txt"]
[window]
previous = "day"
[message]
subject = "{{ report.title }} for {{ audience }}: {{ figures.amount }}"
[[audiences-from]]
source = "operations"
sql = "select port, addresses from kept_apart order by port"
name = "port"
to = "addresses"
parameters = { port = "port" }
"#;

/// Random values, so that nothing is found by chance and nothing is known beforehand.
fn secrets(count: usize) -> Vec<(String, String, String)> {
    (0..count)
        .map(|index| {
            let word = |bytes: &[u8]| {
                bytes
                    .iter()
                    .map(|byte| char::from(b'a' + byte % 26))
                    .collect::<String>()
            };
            let (one, other) = (
                *uuid::Uuid::new_v4().as_bytes(),
                *uuid::Uuid::new_v4().as_bytes(),
            );
            (
                format!("port{}", word(&one[..8])),
                format!("Secret{}", word(&other)),
                format!("office{index}@orrin-sound.example"),
            )
        })
        .collect()
}

/// Who gets a run, and what they see, is asked once: what the answer would be a moment later does not count.
#[tokio::test(flavor = "multi_thread")]
async fn the_audiences_of_a_run_are_asked_for_once() {
    let (place, _service) = ready().await;
    let dashboard = PORTS.replace(
        "select port, secret, amount from kept_apart where port = :port",
        "select :port as secret, 1 as amount",
    );
    let report = PORTS_REPORT.replace(
        "select port, addresses from kept_apart order by port",
        "select clock_timestamp()::text as port, 'office@orrin-sound.example' as addresses",
    );
    applied(
        &place,
        &[
            ("source.toml", &operations()),
            ("ports.toml", &dashboard),
            ("report.toml", &report),
        ],
    );
    let run = ran(&place, "ports");
    assert_eq!(run["state"], "delivered", "{run:#}");
    assert_eq!(run["snapshots"].as_array().unwrap().len(), 1, "{run:#}");
}

#[tokio::test(flavor = "multi_thread")]
async fn nothing_of_one_audience_reaches_another_by_any_way() {
    let (place, _service) = ready().await;
    let secrets = secrets(5);
    let mut data = place.cluster.connect("orrin_ops").await.unwrap();
    data.execute("create table kept_apart (port text, secret text, amount int, addresses text); grant select on kept_apart to orrin_reader").await.unwrap();
    for (index, (port, secret, address)) in secrets.iter().enumerate() {
        let insert = "insert into kept_apart values ($1, $2, $3, $4)";
        sqlx::query(insert)
            .bind(port)
            .bind(secret)
            .bind(7_000_001 + 13 * index as i32)
            .bind(address)
            .execute(&mut data)
            .await
            .unwrap();
    }
    let signed = PORTS_REPORT.replace(
        "[message]",
        "[deliver]\nlink = \"signed\"\nunsubscribe = true\nbody = \"full\"\n[message]",
    );
    applied(
        &place,
        &[
            ("source.toml", &operations()),
            ("ports.toml", PORTS),
            ("report.toml", &signed),
        ],
    );
    let run = ran(&place, "ports");
    assert_eq!(run["state"], "delivered", "{run:#}");
    assert_eq!(run["snapshots"].as_array().unwrap().len(), 5);
    let http = reqwest::Client::new();
    let mails = mails(&place, 5);
    for (index, (port, secret, address)) in secrets.iter().enumerate() {
        let [mail] = &mails[address][..] else {
            panic!("{address} got {} mails", mails[address].len())
        };
        let mut seen = readable_mail(mail);
        let message = MessageParser::default().parse(mail).unwrap();
        assert_eq!(
            message.subject(),
            Some(&*format!(
                "Ports for {port}: {}",
                thousands(7_000_001 + 13 * index)
            ))
        );
        let link = link_in(&message, "/shared/");
        let page = http
            .get(&link)
            .send()
            .await
            .unwrap()
            .error_for_status()
            .unwrap()
            .text()
            .await
            .unwrap();
        for part in page.split("href=\"").skip(1) {
            let path = part.split('"').next().unwrap();
            let file = http
                .get(format!("http://{}{path}", place.address))
                .send()
                .await
                .unwrap()
                .error_for_status()
                .unwrap();
            seen += &readable(&file.bytes().await.unwrap());
        }
        seen += &page;
        assert!(
            seen.contains(secret) && seen.contains(port),
            "what is their own is there"
        );
        for (other_port, other, other_address) in
            secrets.iter().filter(|(other, _, _)| other != port)
        {
            for foreign in [other_port, other, other_address] {
                assert!(
                    !seen.contains(foreign),
                    "{foreign} of another audience reached {address}"
                );
            }
        }
    }
    // The snapshots themselves hold nothing of the others.
    let mut records = place.records().await;
    let snapshots: Vec<Vec<u8>> = sqlx::query_scalar("select body from snapshots")
        .fetch_all(&mut records)
        .await
        .unwrap();
    for body in snapshots {
        let mut plain = String::new();
        flate2::read::GzDecoder::new(&body[..])
            .read_to_string(&mut plain)
            .unwrap();
        assert_eq!(
            secrets
                .iter()
                .filter(|(port, _, _)| plain.contains(port))
                .count(),
            1
        );
        assert_eq!(
            secrets
                .iter()
                .filter(|(_, secret, _)| plain.contains(secret))
                .count(),
            1
        );
        assert_eq!(
            secrets
                .iter()
                .filter(|(_, _, address)| plain.contains(address))
                .count(),
            0
        );
    }
}

/// Whoever is held to values here gets no mail of others, neither by a report nor by hand.
#[tokio::test(flavor = "multi_thread")]
async fn mail_goes_by_the_values_that_its_recipient_is_held_to() {
    let (place, _service) = ready().await;
    let mut data = place.cluster.connect("orrin_ops").await.unwrap();
    data.execute("create table kept_apart (port text, secret text, amount int, addresses text); grant select on kept_apart to orrin_reader; \
         insert into kept_apart values ('havnes', 'puffin', 1, 'office@orrin-sound.example'), ('skarvoy', 'gannet', 2, 'office@orrin-sound.example, free@orrin-sound.example')").await.unwrap();
    applied(
        &place,
        &[
            ("source.toml", &operations()),
            ("ports.toml", PORTS),
            ("report.toml", PORTS_REPORT),
        ],
    );
    let says = |arguments: &[&str]| {
        let output = place.lark(arguments);
        assert!(output.status.success(), "{}", text(&output.stderr));
        text(&output.stdout)
    };
    says(&[
        "users",
        "invite",
        "office",
        "--email",
        "office@orrin-sound.example",
    ]);
    let said = says(&["users", "values", "office", "port=havnes"]);
    assert!(
        said.contains("office sees only what was made for port = havnes"),
        "{said}"
    );
    assert!(says(&["users"]).contains("sees only port = havnes"));
    let run = ran(&place, "ports");
    assert_eq!(run["state"], "delivered", "{run:#}");
    let words = "office@orrin-sound.example may see other values alone";
    assert!(
        run["steps"].to_string().contains(words),
        "{:#}",
        run["steps"]
    );
    // Beside the invitation.
    let got = mails(&place, 3);
    assert_eq!(got["free@orrin-sound.example"].len(), 1);
    let office = got["office@orrin-sound.example"].iter();
    let office: String = office.map(|mail| readable_mail(mail)).collect();
    assert!(
        office.contains("puffin") && !office.contains("gannet"),
        "{office}"
    );
    let id = run["id"].as_str().unwrap();
    let refused = place.lark(&[
        "resend",
        id,
        "--to",
        "office@orrin-sound.example",
        "--audience",
        "skarvoy",
    ]);
    assert!(
        text(&refused.stderr).contains(words),
        "{}",
        text(&refused.stderr)
    );
    let wrong = place.lark(&["users", "values", "office", "havnes"]);
    assert!(
        text(&wrong.stderr).contains("port=havnes,skarvoy"),
        "{}",
        text(&wrong.stderr)
    );
    assert!(says(&["users", "values", "office", "--none"]).contains("held to no values"));
}

fn thousands(number: usize) -> String {
    let digits = number.to_string();
    format!("{},{},{}", &digits[..1], &digits[1..4], &digits[4..])
}

/// The first address in a mail's text that has this in it.
fn link_in(message: &Message<'_>, part: &str) -> String {
    let text = message.body_text(0).unwrap();
    text.split_whitespace()
        .find(|word| word.contains(part))
        .unwrap_or_else(|| panic!("{text}"))
        .to_owned()
}

#[tokio::test(flavor = "multi_thread")]
async fn an_audience_query_that_makes_no_sense_stops_the_run_and_says_where() {
    let (place, _service) = ready().await;
    let mut data = place.cluster.connect("orrin_ops").await.unwrap();
    data.execute("create table kept_apart (port text, secret text, amount int, addresses text); grant select on kept_apart to orrin_reader").await.unwrap();
    applied(
        &place,
        &[
            ("source.toml", &operations()),
            ("ports.toml", PORTS),
            ("report.toml", PORTS_REPORT),
        ],
    );
    for (row, words) in [
        (
            "('a', 's', 1, 'not an address')",
            "row 1 of the audience query: \"not an address\" is not a mail address",
        ),
        (
            "('', 's', 1, 'a@b.example')",
            "row 1 of the audience query: the column \"port\" is empty",
        ),
        (
            "('a', 's', 1, 'a@b.example'), ('a', 's', 2, 'b@b.example')",
            "row 2 of the audience query: there is an audience \"a\" already",
        ),
        (
            "('a', 's', 1, '  ')",
            "the column \"addresses\" names nobody",
        ),
    ] {
        data.execute(sqlx::AssertSqlSafe(format!(
            "truncate kept_apart; insert into kept_apart values {row}"
        )))
        .await
        .unwrap();
        let run = ran(&place, "ports");
        assert_eq!(run["state"], "failed");
        assert!(run["problem"].as_str().unwrap().contains(words), "{run:#}");
    }
    assert!(place.mail.messages().is_empty(), "nobody got anything");
}

const BOOK: [(&str, &str); 4] = [
    (
        "runa.toml",
        "[person]\nname = \"runa-holm\"\ntitle = \"Holm, Rúna\"\naddress = \"runa@orrin-sound.example\"\nnumbers = \"1.234,5\"\ntime-zone = \"America/New_York\"\n",
    ),
    (
        "away.toml",
        "[person]\nname = \"away\"\naddress = \"away@orrin-sound.example\"\nactive = false\n",
    ),
    (
        "inner.toml",
        "[group]\nname = \"inner\"\nmembers = [\"runa-holm\", \"away\", \"c@orrin-sound.example\"]\n",
    ),
    (
        "outer.toml",
        "[group]\nname = \"outer\"\nmembers = [\"inner\", \"Dagur <d@orrin-sound.example>\", \"c@orrin-sound.example\"]\n",
    ),
];

#[tokio::test(flavor = "multi_thread")]
async fn groups_are_opened_and_everybody_reads_in_their_own_way() {
    let (place, _service) = ready().await;
    let dashboard = small_dashboard("select 1234567.5::float8 as amount");
    let report = small_report_for("outer").list("formats", &["txt", "csv"]);
    applied(
        &place,
        &[
            &BOOK[..],
            &[
                ("source.toml", &operations()),
                ("dashboard.toml", &dashboard),
                ("report.toml", &report),
            ],
        ]
        .concat(),
    );
    let run = ran(&place, "small");
    assert_eq!(run["state"], "delivered", "{run:#}");
    let mails = mails(&place, 3);
    assert_eq!(
        mails.keys().collect::<Vec<_>>(),
        [
            "c@orrin-sound.example",
            "d@orrin-sound.example",
            "runa@orrin-sound.example"
        ]
    );
    let attached = |address: &str, kind: &str| {
        let message = MessageParser::default().parse(&mails[address][0]).unwrap();
        let part = message
            .attachments()
            .find(|part| {
                part.attachment_name()
                    .is_some_and(|name| name.ends_with(kind))
            })
            .unwrap();
        String::from_utf8_lossy(part.contents()).into_owned()
    };
    let (usual, own) = (
        attached("c@orrin-sound.example", ".txt"),
        attached("runa@orrin-sound.example", ".txt"),
    );
    assert!(
        usual.contains("1,234,568") && !usual.contains("New_York"),
        "{usual}"
    );
    assert!(
        own.contains("1.234.568") && own.contains("America/New_York"),
        "{own}"
    );
    // Programs get the same numbers, whoever starts them.
    assert_eq!(
        attached("c@orrin-sound.example", ".csv"),
        attached("runa@orrin-sound.example", ".csv")
    );
    let message = MessageParser::default()
        .parse(&mails["runa@orrin-sound.example"][0])
        .unwrap();
    assert_eq!(
        message.to().unwrap().first().unwrap().name(),
        Some("Holm, Rúna")
    );
    assert_eq!(
        run["snapshots"].as_array().unwrap().len(),
        1,
        "it was collected once"
    );

    let book = place.json(&["recipients"]);
    assert_eq!(book["people"][1]["reports"], json!(["small"]));
    assert_eq!(book["groups"][1]["recipients"].as_array().unwrap().len(), 3);
    // Groups that go round in circles, and names that nobody has, are refused.
    let circle = place.apply(&[(
        "inner.toml",
        "[group]\nname = \"inner\"\nmembers = [\"outer\"]\n",
    )]);
    assert!(
        text(&circle.stderr).contains("the group holds itself: "),
        "{}",
        text(&circle.stderr)
    );
    let unknown = place.apply(&[("report.toml", &report.replace("outer", "outre"))]);
    assert!(
        text(&unknown.stderr)
            .contains("there is no person or group \"outre\". Did you mean \"outer\"?"),
        "{}",
        text(&unknown.stderr)
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn one_mail_can_name_them_all_and_hides_blind_copies() {
    let (place, _service) = ready().await;
    let report = small_report().instead_of("[[audience]]", "[[audience]]\nname = \"everyone\"\ntogether = true\ncc = [\"c@orrin-sound.example\"]\nbcc = [\"hidden@orrin-sound.example\"]\nto = [\"a@orrin-sound.example\", \"b@orrin-sound.example\"]");
    place.apply_small(&report);
    let run = ran(&place, "small");
    assert_eq!(run["deliveries"].as_array().unwrap().len(), 4);
    let mails = mails(&place, 4);
    let mut ids = Vec::new();
    for (recipient, messages) in &mails {
        let message = MessageParser::default().parse(&messages[0]).unwrap();
        let list = |found: Option<&mail_parser::Address<'_>>| {
            found
                .unwrap()
                .iter()
                .filter_map(|one| one.address().map(str::to_owned))
                .collect::<Vec<_>>()
        };
        assert_eq!(
            list(message.to()),
            ["a@orrin-sound.example", "b@orrin-sound.example"],
            "{recipient}"
        );
        assert_eq!(list(message.cc()), ["c@orrin-sound.example"]);
        // The envelope of our stand-in is its own addition.
        let text = String::from_utf8_lossy(&messages[0])
            .replace(&format!("X-Envelope-To: {recipient}"), "");
        assert!(!text.contains("hidden@"), "a blind copy shows: {text}");
        ids.push(message.message_id().unwrap().to_owned());
    }
    ids.dedup();
    assert_eq!(ids.len(), 1, "it is one mail, so it has one id");
}

#[tokio::test(flavor = "multi_thread")]
async fn owners_hear_of_trouble_once_and_when_it_is_over() {
    let place = Place::new().await;
    place.add_to_configuration(
        "[notices]\nto = \"desk@orrin-sound.example\"\ngather = \"PT1S\"\nsource-failures = 2\n",
    );
    let _service = place.serve();
    place.sign_in();
    let owned =
        small_report_for("a@orrin-sound.example").key("owner", "Owner <owner@orrin-sound.example>");
    place.apply_small(&owned);
    let broken = small_dashboard("select * from there_is_no_such_table");
    applied(&place, &[("dashboard.toml", &broken)]);
    for _ in 0..2 {
        assert_eq!(ran(&place, "small")["state"], "held");
    }
    let told = |wanted: &str| {
        let began = Instant::now();
        loop {
            let found: Vec<String> = place
                .mail
                .messages()
                .iter()
                .filter(|bytes| envelope(bytes) == wanted)
                .map(|bytes| {
                    let message = MessageParser::default().parse(bytes).unwrap();
                    format!(
                        "{}\n{}",
                        message.subject().unwrap(),
                        message.body_text(0).unwrap()
                    )
                })
                .collect();
            let all = found.join("\n");
            if all.matches("is held").count() >= 2 && all.contains("has failed in 2 runs in a row")
            {
                return all;
            }
            assert!(began.elapsed() < PATIENCE, "{wanted} was told: {all}");
            std::thread::sleep(Duration::from_millis(100));
        }
    };
    for who in ["owner@orrin-sound.example", "desk@orrin-sound.example"] {
        let all = told(who);
        assert!(
            all.contains("there_is_no_such_table") && all.contains("/runs/"),
            "{all}"
        );
    }
    place.apply_small(&owned);
    assert_eq!(ran(&place, "small")["state"], "delivered");
    let began = Instant::now();
    loop {
        let notices = place.json(&["notices"]);
        let kinds: Vec<&str> = notices
            .as_array()
            .unwrap()
            .iter()
            .filter_map(|notice| notice["kind"].as_str())
            .collect();
        let untold = notices
            .as_array()
            .unwrap()
            .iter()
            .filter(|notice| notice["told_at"].is_null())
            .count();
        if kinds.contains(&"recovered")
            && kinds.iter().any(|kind| kind.starts_with("source-up"))
            && untold == 0
        {
            assert_eq!(
                kinds.iter().filter(|kind| **kind == "held").count(),
                4,
                "two runs, two who hear of it: {kinds:?}"
            );
            break;
        }
        assert!(began.elapsed() < PATIENCE, "{notices:#}");
        std::thread::sleep(Duration::from_millis(100));
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_signed_link_opens_its_documents_until_it_is_ended_and_leaving_takes_one_click() {
    let (place, _service) = ready().await;
    let report =
        small_report().table("[deliver]\nlink = \"signed\"\nattach = []\nunsubscribe = true");
    place.apply_small(&report);
    let run = ran(&place, "small");
    let id = run["id"].as_str().unwrap();
    let mails = mails(&place, 2);
    let message = MessageParser::default()
        .parse(&mails["a@orrin-sound.example"][0])
        .unwrap();
    assert_eq!(
        message
            .attachments()
            .filter(|part| part.attachment_name().is_some())
            .count(),
        0
    );
    let link = link_in(&message, "/shared/");
    let http = reqwest::Client::new();
    let opened = http.get(&link).send().await.unwrap();
    assert_eq!(opened.headers()["referrer-policy"], "no-referrer");
    assert!(opened.text().await.unwrap().contains(".pdf"));
    assert_eq!(place.json(&["show", id])["links"][0]["opened"], 1);
    // The part in HTML leads to the same places.
    let html = message.body_html(0).unwrap();
    for part in [&link, &link_in(&message, "/unsubscribe/")] {
        assert!(
            html.contains(&format!("href=\"{part}\"")),
            "{part} in {html}"
        );
    }
    // Another letter of the token, and the token of another purpose, open nothing.
    let token = link.rsplit('/').next().unwrap();
    let leave = link_in(&message, "/unsubscribe/");
    let leave_token = leave.rsplit('/').next().unwrap();
    let last = if token.ends_with('A') { "B" } else { "A" };
    for wrong in [
        format!("{}{last}", &token[..token.len() - 1]),
        leave_token.to_owned(),
        "x".to_owned(),
    ] {
        assert_eq!(
            http.get(format!("http://{}/shared/{wrong}", place.address))
                .send()
                .await
                .unwrap()
                .status(),
            404
        );
    }
    let ended = http
        .delete(format!("http://{}/api/v1/runs/{id}/links", place.address))
        .bearer_auth(place.token())
        .send()
        .await
        .unwrap();
    assert!(ended.status().is_success());
    assert_eq!(
        http.get(&link).send().await.unwrap().status(),
        404,
        "it was revoked"
    );

    // Looking at the address changes nothing; one click does.
    assert_eq!(
        message.header_raw("List-Unsubscribe-Post").map(str::trim),
        Some("List-Unsubscribe=One-Click")
    );
    assert!(
        http.get(&leave)
            .send()
            .await
            .unwrap()
            .text()
            .await
            .unwrap()
            .contains("a@orrin-sound.example")
    );
    assert_eq!(place.json(&["recipients"])["unsubscribes"], json!([]));
    assert!(
        http.post(&leave)
            .body("List-Unsubscribe=One-Click")
            .send()
            .await
            .unwrap()
            .status()
            .is_success()
    );
    assert_eq!(
        place.json(&["recipients"])["unsubscribes"][0]["address"],
        "a@orrin-sound.example"
    );
    let next = ran(&place, "small");
    let recipients: Vec<&str> = next["deliveries"]
        .as_array()
        .unwrap()
        .iter()
        .map(|one| one["recipient"].as_str().unwrap())
        .collect();
    assert_eq!(recipients, ["b@orrin-sound.example"]);
    assert!(
        next["steps"]
            .as_array()
            .unwrap()
            .iter()
            .any(|step| step["detail"] == "a@orrin-sound.example has unsubscribed from this report"),
        "{next:#}"
    );
    let back = place.lark(&[
        "recipients",
        "resubscribe",
        "small",
        "a@orrin-sound.example",
    ]);
    assert!(back.status.success(), "{}", text(&back.stderr));
    assert_eq!(
        ran(&place, "small")["deliveries"].as_array().unwrap().len(),
        2
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn what_is_too_large_for_a_mail_stays_behind_a_link() {
    let (place, _service) = ready().await;
    let rows = small_dashboard(
        "select n, repeat(md5(n::text), 3) as words from generate_series(1, 4000) n",
    );
    place.apply_small(
        &small_report()
            .list("formats", &["html", "csv"])
            .table("[deliver]\nmax-size = \"200 kB\""),
    );
    applied(&place, &[("dashboard.toml", &rows)]);
    assert_eq!(ran(&place, "small")["state"], "delivered");
    let bytes = &mails(&place, 2)["a@orrin-sound.example"][0];
    assert!(bytes.len() < 200_000, "{}", bytes.len());
    let message = MessageParser::default().parse(bytes).unwrap();
    let body = message.body_text(0).unwrap();
    assert!(
        body.contains("The files are too large for a mail (") && body.contains("/runs/"),
        "{body}"
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn messages_are_shown_with_real_values_before_they_are_saved() {
    let (place, _service) = ready().await;
    let mut data = place.cluster.connect("orrin_ops").await.unwrap();
    data.execute(
        "create table kept_apart as select 'x' as port, 's' as secret, 42 as amount, 'a@b.example' as addresses; grant select on kept_apart to orrin_reader",
    )
    .await
    .unwrap();
    applied(
        &place,
        &[
            ("source.toml", &operations()),
            ("ports.toml", PORTS),
            ("report.toml", PORTS_REPORT),
        ],
    );
    let http = reqwest::Client::new();
    let ask = async |subject: Option<&str>| {
        let url = format!(
            "http://{}/api/v1/reports/ports/message-preview",
            place.address
        );
        let answer = http
            .post(url)
            .bearer_auth(place.token())
            .json(&json!({ "subject": subject, "text": "Good morning" }))
            .send()
            .await
            .unwrap();
        (
            answer.status().as_u16(),
            answer.json::<Value>().await.unwrap(),
        )
    };
    assert_eq!(
        ask(Some("{{ figures.amount }}")).await.0,
        409,
        "it has not run yet"
    );
    ran(&place, "ports");
    let (status, preview) = ask(Some("{{ figures.amount }} on {{ window.label }}")).await;
    assert_eq!(status, 200, "{preview:#}");
    assert!(
        preview["subject"].as_str().unwrap().starts_with("42 on "),
        "{preview:#}"
    );
    assert_eq!(preview["figures"], json!({ "amount": "42" }));
    // Without a subject of its own it is the usual one, as in the mail.
    let usual = ask(None).await.1["subject"].clone();
    let said = usual.as_str().unwrap();
    assert!(said.ends_with(" – For your information"), "{said}");
    assert!(
        preview["html"]
            .as_str()
            .unwrap()
            .contains("data:image/png;base64,")
    );
    let (status, problem) = ask(Some("{{ report.titel }}")).await;
    assert_eq!(
        (
            status,
            problem["detail"].as_str().unwrap().contains("report.titel")
        ),
        (422, true)
    );
    // A figure that no block shows is an error before it is saved.
    let output = place.apply(&[(
        "report.toml",
        &PORTS_REPORT.replace("figures.amount", "figures.amonut"),
    )]);
    assert!(
        text(&output.stderr)
            .contains("no key figure of this report is called that. Did you mean \"amount\"?"),
        "{}",
        text(&output.stderr)
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn a_report_speaks_up_only_when_figures_or_the_status_change() {
    let (place, _service) = ready().await;
    let mut data = place.cluster.connect("orrin_ops").await.unwrap();
    data.execute("create table level (amount int); insert into level values (1); grant select on level to orrin_reader").await.unwrap();
    let dashboard = "[dashboard]\nname = \"small\"\ntitle = \"Small\"\n[[query]]\nname = \"q\"\nsource = \"operations\"\nsql = \"select amount from level\"\n\
        [[query.column]]\nname = \"amount\"\ncritical = 100\n[[section]]\ntitle = \"All\"\n[[section.block]]\nshow = \"figures\"\ntitle = \"Level\"\nquery = \"q\"\ncolumns = [\"amount\"]\n";
    let when = |condition: &str| {
        small_report()
            .list("formats", &["txt"])
            .table(&format!("[send]\n{condition}"))
    };
    let state_at = async |data: &mut sqlx::PgConnection, level: i32| {
        sqlx::query("update level set amount = $1")
            .bind(level)
            .execute(data)
            .await
            .unwrap();
        let run = ran(&place, "small");
        (
            run["state"].as_str().unwrap().to_owned(),
            run["problem"].as_str().unwrap_or_default().to_owned(),
        )
    };
    let files = |report: &str| {
        applied(
            &place,
            &[
                ("source.toml", &operations()),
                ("dashboard.toml", dashboard),
                ("report.toml", report),
            ],
        )
    };
    files(&when("when = \"figures\"\nfigures = [\"amount > 50\"]"));
    assert_eq!(
        state_at(&mut data, 50).await,
        (
            "quiet".to_owned(),
            "none of \"amount > 50\" is true".to_owned()
        )
    );
    assert_eq!(state_at(&mut data, 51).await.0, "delivered");
    files(&when("when = \"change\""));
    assert_eq!(
        state_at(&mut data, 60).await,
        (
            "quiet".to_owned(),
            "the status is ok as in the run before".to_owned()
        )
    );
    assert_eq!(state_at(&mut data, 100).await.0, "delivered", "newly bad");
    assert_eq!(state_at(&mut data, 101).await.0, "quiet");
    assert_eq!(state_at(&mut data, 1).await.0, "delivered", "newly well");
    // An audience of its own when it is critical; the mail is marked.
    let boss = format!(
        "{}\n[[audience]]\nname = \"boss\"\nonly-when = \"critical\"\nto = [\"boss@orrin-sound.example\"]\n",
        when("when = \"always\"")
    );
    files(&boss);
    state_at(&mut data, 2).await;
    assert!(!mails(&place, 1).contains_key("boss@orrin-sound.example"));
    state_at(&mut data, 200).await;
    // It was delivered, and it is critical: lists say both.
    let listed = place.json(&["runs", "--size", "1"]);
    let latest = &listed["items"][0];
    assert_eq!(
        (&latest["state"], &latest["status"]),
        (&json!("delivered"), &json!("critical"))
    );
    let shown = text(&place.lark(&["runs", "--size", "1"]).stdout);
    assert!(shown.contains("● delivered, ◆ critical"), "{shown}");
    let reports = text(&place.lark(&["reports"]).stdout);
    assert!(reports.contains("● delivered, ◆ critical,"), "{reports}");
    let all = mails(&place, 3);
    let message = MessageParser::default()
        .parse(&all["boss@orrin-sound.example"][0])
        .unwrap();
    assert_eq!(
        message.header_raw("Importance").map(str::trim),
        Some("high")
    );
    let output = place.apply(&[(
        "report.toml",
        &when("when = \"figures\"\nfigures = [\"amount is high\"]"),
    )]);
    assert!(
        text(&output.stderr).contains("\"amount is high\" is no condition such as"),
        "{}",
        text(&output.stderr)
    );
}

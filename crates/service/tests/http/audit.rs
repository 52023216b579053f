//! Who did what: on record before it is answered, for good, and without a secret in it.

use reqwest::{Client, Method, StatusCode};
use serde_json::{Value, json};

use super::{PASSWORD, PATIENCE, Place, problem};

struct Asking<'p> {
    place: &'p Place,
    client: Client,
    token: String,
}

impl Asking<'_> {
    async fn ask(&self, method: Method, path: &str, body: Value) -> (StatusCode, Value) {
        let request = self.client.request(method.clone(), self.place.url(path));
        let mut request = request.bearer_auth(&self.token);
        if method != Method::GET {
            request = request.json(&body);
        }
        let answer = request.send().await.unwrap();
        (answer.status(), answer.json().await.unwrap_or_default())
    }

    /// The entries that are wanted, the latest first: who, what, to what, and what came of it.
    async fn entries(&self, wanted: &str) -> Vec<[String; 5]> {
        let (status, found) = self
            .ask(Method::GET, &format!("/audit{wanted}"), json!({}))
            .await;
        assert_eq!(status, StatusCode::OK, "{found}");
        let text = |value: &Value| value.as_str().unwrap_or_default().to_owned();
        let items = found["items"].as_array().unwrap().iter();
        items
            .map(|one| {
                ["user", "action", "subject", "detail", "outcome"].map(|key| text(&one[key]))
            })
            .collect()
    }
}

async fn admin(place: &Place) -> Asking<'_> {
    Asking {
        place,
        client: Client::new(),
        token: place.signed_in("administrator").await,
    }
}

fn entry(parts: [&str; 5]) -> [String; 5] {
    parts.map(str::to_owned)
}

#[tokio::test(flavor = "multi_thread")]
async fn what_somebody_does_is_on_record_with_who_and_what() {
    let place = Place::new().await;
    let admin = admin(&place).await;
    place.with_report(&admin.client, &admin.token).await;
    let new = json!({ "name": "runa", "role": "viewer" });
    let (_, invitation) = admin.ask(Method::POST, "/users", new).await;
    let link = invitation["link"].as_str().unwrap().to_owned();
    let secret = link.split_once('#').unwrap().1.to_owned();
    admin
        .ask(Method::PATCH, "/users/runa", json!({ "role": "author" }))
        .await;
    let accepted = json!({ "token": secret, "password": PASSWORD });
    let accepted = admin
        .client
        .post(place.url("/invitations/accept"))
        .json(&accepted);
    assert!(accepted.send().await.unwrap().status().is_success());
    let wrong = json!({ "name": "runa", "password": "not the password", "label": "x" });
    let refused = admin
        .client
        .post(place.url("/tokens"))
        .json(&wrong)
        .send()
        .await;
    assert_eq!(refused.unwrap().status(), StatusCode::UNAUTHORIZED);
    let right = json!({ "name": "runa", "password": PASSWORD, "label": "x" });
    let made = admin
        .client
        .post(place.url("/tokens"))
        .json(&right)
        .send()
        .await;
    let made: Value = made.unwrap().json().await.unwrap();
    let runa = Asking {
        place: &place,
        client: Client::new(),
        token: made["token"].as_str().unwrap().to_owned(),
    };
    let (status, run) = runa
        .ask(Method::POST, "/reports/r/runs", json!({ "deliver": false }))
        .await;
    assert_eq!(status, StatusCode::ACCEPTED, "{run}");
    let id = run["id"].as_str().unwrap();
    let (status, _) = runa
        .ask(
            Method::PUT,
            "/secrets/mine",
            json!({ "value": "s3cret-value" }),
        )
        .await;
    assert_eq!(status, StatusCode::FORBIDDEN);
    let person = "[person]\nname = \"ann\"\naddress = \"ann@orrin-sound.example\"\n";
    let files = json!({ "files": [{ "file": "ann.toml", "text": person }] });
    runa.ask(Method::POST, "/definitions/apply", files).await;
    runa.ask(Method::DELETE, "/definitions/person/ann", json!({}))
        .await;
    // What only looks, and what came to nothing, is not on record.
    runa.ask(Method::GET, "/runs", json!({})).await;
    let (status, _) = runa
        .ask(Method::POST, "/reports/none/runs", json!({}))
        .await;
    assert_eq!(status, StatusCode::NOT_FOUND);

    let of_runa = admin.entries("?user=runa").await;
    let run_words = format!("without sending; run {id}");
    assert_eq!(
        of_runa,
        [
            entry([
                "runa",
                "remove_definition",
                "person ann",
                "remove person ann",
                "done"
            ]),
            entry(["runa", "apply_definitions", "", "add person ann", "done"]),
            entry(["runa", "set_secret", "mine", "", "refused"]),
            entry(["runa", "run_report", "r", &run_words, "done"]),
            entry(["runa", "make_token", "", "as runa; \"x\" for all", "done"]),
            entry(["runa", "accept_invitation", "", "", "done"]),
        ]
    );
    assert_eq!(
        admin.entries("?action=make_token&outcome=failed").await,
        [entry(["", "make_token", "", "as runa", "failed"])]
    );
    assert_eq!(
        admin.entries("?text=author").await,
        [entry([
            "admin",
            "change_user",
            "runa",
            "is author now",
            "done"
        ])]
    );
    assert_eq!(
        admin.entries("?text=%25").await,
        Vec::<[String; 5]>::new(),
        "a sign is itself"
    );
    assert_eq!(
        admin.entries("?to=2020-01-01T00:00:00Z").await,
        Vec::<[String; 5]>::new()
    );
    assert_eq!(
        admin.entries("?size=1&page=2&user=runa").await[0][1],
        "apply_definitions"
    );
    for (wanted, words) in [
        ("?from=yesterday", "is not an instant"),
        ("?action=fly", "no action"),
        ("?outcome=great", "done, refused, failed"),
    ] {
        let (status, said) = admin
            .ask(Method::GET, &format!("/audit{wanted}"), json!({}))
            .await;
        assert_eq!(status, StatusCode::UNPROCESSABLE_ENTITY, "{said}");
        assert!(said["detail"].as_str().unwrap().contains(words), "{said}");
    }
    // As a file: all of it, the earliest first, with no secret anywhere.
    let csv = admin
        .client
        .get(place.url("/audit.csv"))
        .bearer_auth(&admin.token)
        .send()
        .await
        .unwrap();
    assert_eq!(csv.headers()["content-type"], "text/csv; charset=utf-8");
    let csv = csv.text().await.unwrap();
    let lines: Vec<&str> = csv.split("\r\n").collect();
    assert_eq!(
        lines[0],
        "id,at,user,address,action,subject,detail,outcome,sha256"
    );
    assert!(
        lines[1].starts_with("1,20") && lines[1].contains(",admin,127.0.0.1,make_token,"),
        "{csv}"
    );
    let (_, whole) = admin.ask(Method::GET, "/audit?size=200", json!({})).await;
    assert_eq!(lines.len() - 2, whole["total"].as_u64().unwrap() as usize);
    let printed = csv + &whole.to_string();
    for hidden in [
        PASSWORD,
        "not the password",
        "s3cret-value",
        &secret,
        &runa.token,
        &admin.token,
    ] {
        assert!(!printed.contains(hidden), "{hidden}");
    }
    let (status, _) = runa.ask(Method::GET, "/audit", json!({})).await;
    assert_eq!(status, StatusCode::FORBIDDEN);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_document_is_handed_out_only_if_that_is_on_record() {
    let place = Place::new().await;
    let admin = admin(&place).await;
    place.with_report(&admin.client, &admin.token).await;
    let (_, run) = admin
        .ask(Method::POST, "/reports/r/runs", json!({ "deliver": false }))
        .await;
    let path = format!("/runs/{}", run["id"].as_str().unwrap());
    let document = loop {
        let (_, run) = admin.ask(Method::GET, &path, json!({})).await;
        if run["settled"] == true {
            break run["documents"][0]["id"].as_str().unwrap().to_owned();
        }
        tokio::time::sleep(std::time::Duration::from_millis(50)).await;
    };
    let open = async || {
        let request = admin
            .client
            .get(place.url(&format!("/documents/{document}")));
        request.bearer_auth(&admin.token).send().await.unwrap()
    };
    let answer = open().await;
    assert_eq!(answer.status(), StatusCode::OK);
    assert!(answer.text().await.unwrap().contains("one"));
    let entries = admin.entries("?action=get_document").await;
    assert_eq!(entries[0][2], document);
    assert!(entries[0][3].contains(".csv of r, run "), "{entries:?}");
    let mut records = place.cluster.connect("maple_lark").await.unwrap();
    sqlx::query("alter table audit_entries rename to elsewhere")
        .execute(&mut records)
        .await
        .unwrap();
    let (status, detail) = problem(open().await).await;
    assert_eq!(status, StatusCode::SERVICE_UNAVAILABLE);
    assert!(detail.contains("put on record"), "{detail}");
    sqlx::query("alter table elsewhere rename to audit_entries")
        .execute(&mut records)
        .await
        .unwrap();
    assert_eq!(open().await.status(), StatusCode::OK);
}

#[tokio::test(flavor = "multi_thread")]
async fn an_entry_that_is_altered_missing_or_put_in_is_found() {
    let place = Place::new().await;
    let admin = admin(&place).await;
    for name in ["one", "two", "three", "four"] {
        let path = format!("/secrets/{name}");
        admin.ask(Method::PUT, &path, json!({ "value": "x" })).await;
    }
    let proof = async || admin.ask(Method::GET, "/audit/proof", json!({})).await.1;
    let before = proof().await;
    assert_eq!(
        (&before["intact"], &before["broken"]),
        (&json!(true), &json!([]))
    );
    assert_eq!(before["entries"], 5, "a sign-in and four secrets");
    // The digest is as the documentation says, worked out by another program.
    let (_, last) = admin.ask(Method::GET, "/audit?size=2", json!({})).await;
    let (last, previous) = (&last["items"][0], &last["items"][1]);
    assert_eq!(before["head"], last["sha256"]);
    let at = last["at"].as_str().unwrap().trim_end_matches('Z');
    let (seconds, part) = at.split_once('.').unwrap_or((at, ""));
    let text = format!(
        "{}[{}, \"{seconds}.{part:0<6}Z\", \"admin\", \"127.0.0.1\", \"set_secret\", \"four\", null, \"done\"]",
        previous["sha256"].as_str().unwrap(),
        last["id"],
    );
    let digest = maple_lark_data::digest::sha256(text.as_bytes());
    assert_eq!(last["sha256"], digest, "{text}");

    let mut records = place.cluster.connect("maple_lark").await.unwrap();
    for change in [
        "update audit_entries set subject = 'other' where id = 3",
        "delete from audit_entries where id = 3",
        "truncate audit_entries",
    ] {
        let refused = sqlx::query(change).execute(&mut records).await.unwrap_err();
        assert!(
            refused.to_string().contains("not changed or removed"),
            "{change}"
        );
    }
    // Whoever owns the table can take the guard away, and is found out all the same.
    let kept = "create table kept as select * from audit_entries";
    sqlx::query(kept).execute(&mut records).await.unwrap();
    for (change, broken) in [
        (
            "update audit_entries set subject = 'other' where id = 3",
            json!([3]),
        ),
        ("delete from audit_entries where id = 3", json!([4, 5])),
        (
            "insert into audit_entries select 6, at, actor, address, action, 'x', detail, outcome, previous, sha256 from kept where id = 5",
            json!([6]),
        ),
        // Who has noted the head knows that the end is gone.
        ("delete from audit_entries where id = 5", json!([])),
    ] {
        for statement in [
            "alter table audit_entries disable trigger user",
            change,
            "alter table audit_entries enable trigger user",
        ] {
            sqlx::query(statement).execute(&mut records).await.unwrap();
        }
        let after = proof().await;
        assert_eq!(after["broken"], broken, "{change}");
        let whole = after["intact"] == true && after["head"] == before["head"];
        assert!(!whole, "{change}");
        for statement in [
            "alter table audit_entries disable trigger user",
            "truncate audit_entries",
            "insert into audit_entries select * from kept",
            "alter table audit_entries enable trigger user",
        ] {
            sqlx::query(statement).execute(&mut records).await.unwrap();
        }
        assert_eq!(proof().await, before, "as it was");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn every_entry_is_handed_on_to_a_syslog_receiver_in_its_order() {
    let receiver = tokio::net::UdpSocket::bind("127.0.0.1:0").await.unwrap();
    let address = receiver.local_addr().unwrap().to_string();
    let place = Place::with("audit-channel = \"siem\"", std::slice::from_ref(&address)).await;
    let (client, token) = (Client::new(), place.signed_in("administrator").await);
    // As long as there is no such channel, nothing is lost.
    let channel = format!(
        "[channel]\nname = \"siem\"\ntitle = \"Siem\"\nkind = \"syslog\"\naddress = \"{address}\"\n"
    );
    let order =
        json!({ "files": [{ "file": "siem.toml", "text": channel }], "remove_others": false });
    let applied = client
        .post(place.url("/definitions/apply"))
        .bearer_auth(&token)
        .json(&order)
        .send()
        .await
        .unwrap();
    assert_eq!(applied.status(), 200, "{}", applied.text().await.unwrap());
    let stored = client
        .put(place.url("/secrets/mine"))
        .bearer_auth(&token)
        .json(&json!({ "value": "hunter-42" }));
    assert_eq!(stored.send().await.unwrap().status(), 204);
    let mut lines = Vec::new();
    let all = tokio::time::timeout(PATIENCE, async {
        loop {
            let mut line = vec![0; 4096];
            let length = receiver.recv(&mut line).await.unwrap();
            lines.push(String::from_utf8(line[..length].to_vec()).unwrap());
            if lines.last().unwrap().contains("action=\"set_secret\"") {
                break;
            }
        }
    });
    all.await.expect("the entries arrive");
    for (number, line) in lines.iter().enumerate() {
        assert!(
            line.contains(&format!(" id=\"{}\"", number + 1)),
            "{lines:#?}"
        );
        assert!(line.contains(" maple-lark - audit ["), "{line}");
    }
    assert!(
        lines
            .iter()
            .any(|line| line.contains("action=\"apply_definitions\"")),
        "{lines:#?}"
    );
    let last = lines.last().unwrap();
    assert!(
        last.contains("user=\"admin\"") && last.contains("subject=\"mine\""),
        "{last}"
    );
    assert!(!lines.concat().contains("hunter-42"));
}

//! Whoever is held to values sees what was made with them, and nothing else: every operation is asked
//! with the identifiers of all that there is, and everything that comes back is searched.

use std::collections::{BTreeMap, BTreeSet};

use maple_lark_api::WITHIN_VALUES;
use maple_lark_fixtures as fixtures;
use reqwest::{Client, Method, StatusCode};
use serde_json::{Value, json};

use super::{
    Place,
    rights::operations,
    teams::{User, filled},
};

const PORTS: [&str; 3] = ["havnes", "skarvoy", "ostrey"];
const SECRETS: [&str; 3] = ["zqpuffinzq", "zqgannetzq", "zqskuazq"];

/// A word that stands in the rows of one port alone.
fn secret(port: &str) -> &'static str {
    let place = PORTS.iter().position(|one| *one == port);
    place.map(|place| SECRETS[place]).unwrap()
}

fn definitions() -> Vec<Value> {
    let cases: String = PORTS
        .iter()
        .map(|port| {
            format!(
                "when '{port}' then 'zq' || '{}' || 'zq' ",
                secret(port).trim_matches(['z', 'q'])
            )
        })
        .collect();
    let dashboard = fixtures::dashboard("ports")
        .key("title", "Ports")
        .table("[[parameter]]\nname = \"port\"\ntitle = \"Port\"\ndefault = \"havnes\"")
        .query(
            "rows",
            "plain",
            &format!("sql = \"select case :port {cases}end as bird\""),
        )
        .block("show = \"table\"\ntitle = \"Rows\"\nquery = \"rows\"");
    let audience = |port: &str| {
        format!(
            "[[audience]]\nname = \"{port}\"\nto = [\"{port}@orrin-sound.example\", \"office@orrin-sound.example\"]\nparameters = {{ port = \"{port}\" }}"
        )
    };
    let report = PORTS.iter().fold(
        fixtures::report("ports", "ports").list("formats", &["csv", "html"]),
        |report, port| report.table(&audience(port)),
    );
    let whole = fixtures::report("whole", "d").key("title", "Whole");
    // It is asked for one port, and shows the birds of all.
    let careless = fixtures::dashboard("careless")
        .key("title", "Careless")
        .table("[[parameter]]\nname = \"port\"\ntitle = \"Port\"\ndefault = \"havnes\"")
        .query("rows", "plain", "sql = \"select :port as port\"")
        .query(
            "birds",
            "plain",
            "sql = \"select 'zq' || unnest(array['puffin', 'gannet', 'skua']) || 'zq' as bird\"",
        );
    let of_one = fixtures::report("careless", "careless").table(&audience("havnes"));
    vec![
        json!({ "file": "ports.toml", "text": &*dashboard }),
        json!({ "file": "ports-report.toml", "text": &*report }),
        json!({ "file": "whole.toml", "text": &*whole }),
        json!({ "file": "careless.toml", "text": &*careless }),
        json!({ "file": "careless-report.toml", "text": &*of_one }),
    ]
}

fn ids(of: &Value, list: &str) -> Vec<String> {
    let all = of[list].as_array().unwrap().iter();
    all.map(|one| one["id"].as_str().unwrap().to_owned())
        .collect()
}

/// A place with a run of three ports, and somebody who is held to Havnes.
struct Harbour<'p> {
    place: &'p Place,
    admin: User<'p>,
    office: User<'p>,
    run: Value,
}

impl<'p> Harbour<'p> {
    async fn of(place: &'p Place) -> Self {
        let admin = place.admin().await;
        place.with_report(&admin.client, &admin.token).await;
        let files = json!({ "files": definitions() });
        admin.done(Method::POST, "/definitions/apply", files).await;
        let office = place.user(&admin, "office", "viewer", &[]).await;
        let held =
            json!({ "held_to": { "port": ["havnes"] }, "email": "Office@orrin-sound.example" });
        let (status, said) = admin.ask(Method::PATCH, "/users/office", &held).await;
        assert_eq!(status, StatusCode::NO_CONTENT, "{said}");
        let run = admin.ran("ports", false).await;
        assert_eq!(run["state"], "completed", "{run:#}");
        Self {
            place,
            admin,
            office,
            run,
        }
    }

    /// The snapshot of a port.
    fn snapshot(&self, port: &str) -> String {
        let all = self.run["snapshots"].as_array().unwrap().iter();
        let of_it = all.filter(|one| one.to_string().contains(port));
        let mut found: Vec<_> = of_it.map(|one| one["id"].as_str().unwrap()).collect();
        assert_eq!(found.len(), 1, "{:#}", self.run);
        found.remove(0).to_owned()
    }

    async fn publish(&self, order: Value) -> String {
        let view = self.admin.done(Method::POST, "/views", order).await;
        view["id"].as_str().unwrap().to_owned()
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn whoever_is_held_to_values_sees_what_was_made_with_them_and_nothing_else() {
    let place = Place::new().await;
    let harbour = Harbour::of(&place).await;
    let (admin, office) = (&harbour.admin, &harbour.office);
    let whole = admin.ran("whole", false).await;
    let careless = admin.ran("careless", false).await;
    let who = office.done(Method::GET, "/session", json!({})).await;
    assert_eq!(who["held_to"], json!({ "port": ["havnes"] }));

    // What is theirs is there: as it was made, made again, and found by its words.
    let found = office.done(Method::GET, "/archive", json!({})).await;
    let snapshot = harbour.snapshot("havnes");
    let made = harbour.run["documents"].as_array().unwrap().iter();
    let own_count = made.filter(|one| one["snapshot_id"] == *snapshot).count();
    assert_eq!(found["total"], own_count, "{found:#}");
    let own: BTreeSet<String> = found["items"]
        .as_array()
        .unwrap()
        .iter()
        .map(|one| one["document"]["id"].as_str().unwrap().to_owned())
        .collect();
    for id in &own {
        let (status, said) = office
            .ask(Method::GET, &format!("/documents/{id}"), &json!({}))
            .await;
        assert!(
            status == StatusCode::OK && said.contains(secret("havnes")),
            "{said}"
        );
    }
    let (status, said) = office
        .ask(
            Method::GET,
            &format!("/snapshots/{snapshot}/documents/txt"),
            &json!({}),
        )
        .await;
    assert!(
        status == StatusCode::OK && said.contains(secret("havnes")),
        "{said}"
    );

    // Everything else is not, whatever is asked with whatever is there.
    let mut all = ids(&harbour.run, "documents");
    assert_eq!(all.len(), 3 * own_count, "{:#}", harbour.run);
    all.extend(ids(&harbour.run, "snapshots"));
    all.extend(ids(&whole, "documents"));
    all.extend(ids(&whole, "snapshots"));
    all.extend(ids(&careless, "documents"));
    all.extend(ids(&careless, "snapshots"));
    for run in [&harbour.run, &whole, &careless] {
        all.push(run["id"].as_str().unwrap().to_owned());
    }
    let theirs: BTreeSet<String> = own.into_iter().chain([snapshot]).collect();
    all.retain(|id| !theirs.contains(id));
    let values = BTreeMap::from([
        ("id", all),
        (
            "name",
            ["ports", "whole", "plain", "d", "office"]
                .map(str::to_owned)
                .to_vec(),
        ),
        (
            "kind",
            ["report", "dashboard", "source"]
                .map(str::to_owned)
                .to_vec(),
        ),
        ("format", vec!["txt".to_owned(), "csv".to_owned()]),
        ("version", vec!["1".to_owned()]),
        ("day", vec![chrono::Utc::now().date_naive().to_string()]),
        ("address", vec!["office@orrin-sound.example".to_owned()]),
        ("user", vec!["office".to_owned()]),
        ("index", vec!["0".to_owned()]),
    ]);
    let described: Value =
        serde_json::from_str(include_str!("../../../../docs/openapi.json")).unwrap();
    let mut reached = BTreeSet::new();
    for (path, methods) in described["paths"].as_object().unwrap() {
        for (method, about) in methods.as_object().unwrap() {
            let Some(operation) = about["operationId"].as_str() else {
                continue;
            };
            // These end what asks.
            if ["sign_out", "end_session", "revoke_token"].contains(&operation) {
                reached.insert(operation.to_owned());
                continue;
            }
            let base = methods.get("servers").is_some();
            let method: Method = method.to_uppercase().parse().unwrap();
            for path in filled(path, &values) {
                if base && !["/health", "/ready", "/metrics"].contains(&path.as_str()) {
                    continue;
                }
                let (status, said) = office.ask(method.clone(), &path, &json!({})).await;
                let words = format!("{operation} {path}: {status} {said}");
                assert!(!status.is_server_error(), "{words}");
                let of_others = SECRETS.iter().filter(|one| **one != secret("havnes"));
                assert!(
                    of_others.into_iter().all(|one| !said.contains(one)),
                    "{words}"
                );
                let refused = status == StatusCode::FORBIDDEN
                    && (said.contains("your own values") || said.contains("needs the role"));
                if !refused && status != StatusCode::UNAUTHORIZED {
                    reached.insert(operation.to_owned());
                }
                if path.contains(|c: char| c.is_ascii_digit()) && WITHIN_VALUES.contains(&operation)
                {
                    assert!(!status.is_success(), "{words}");
                }
            }
        }
    }
    let open = maple_lark_api::RIGHTS
        .iter()
        .filter(|right| right.least.is_none());
    let open = open.flat_map(|right| right.operations.iter());
    let expected: BTreeSet<String> = WITHIN_VALUES
        .iter()
        .chain(open)
        .map(|one| (*one).to_owned())
        .collect();
    let more: Vec<_> = reached.difference(&expected).collect();
    assert!(more.is_empty(), "{more:?}");
    let unreached: Vec<_> = WITHIN_VALUES
        .iter()
        .filter(|one| !reached.contains(**one))
        .collect();
    assert!(unreached.is_empty(), "{unreached:?}");
    assert!(operations().len() > expected.len() * 3);
}

#[tokio::test(flavor = "multi_thread")]
async fn published_views_show_them_their_own_values() {
    let place = Place::new().await;
    let harbour = Harbour::of(&place).await;
    let run_of = async |port: &str| {
        let order = json!({ "snapshot": harbour.snapshot(port), "signed_in": true });
        harbour.publish(order).await
    };
    let board = async |more: Value| {
        let mut order = json!({ "dashboard": "ports", "signed_in": true });
        for (key, value) in more.as_object().unwrap() {
            order[key] = value.clone();
        }
        harbour.publish(order).await
    };
    let own = [
        run_of("havnes").await,
        board(json!({ "values": { "port": "havnes" } })).await,
        board(json!({ "choices": { "port": ["skarvoy", "havnes"] } })).await,
    ];
    let others = [
        run_of("skarvoy").await,
        board(json!({ "values": { "port": "skarvoy" } })).await,
        board(json!({ "choices": { "port": ["skarvoy", "ostrey"] } })).await,
        // What it shows follows from the dashboard, and may change.
        board(json!({})).await,
        board(json!({ "dashboard": "careless", "values": { "port": "havnes" } })).await,
    ];
    let listed = harbour.office.done(Method::GET, "/views", json!({})).await;
    let listed: BTreeSet<String> = ids(&listed, "items").into_iter().collect();
    assert_eq!(listed, BTreeSet::from(own.clone()));
    let open = async |path: String| {
        let asked = Client::new().get(format!("{}/view/{path}", harbour.place.base));
        let answer = asked
            .bearer_auth(&harbour.office.token)
            .send()
            .await
            .unwrap();
        (answer.status(), answer.text().await.unwrap())
    };
    for id in &own {
        let (status, said) = open(format!("{id}/content")).await;
        assert!(
            status == StatusCode::OK && said.contains(secret("havnes")),
            "{said}"
        );
    }
    for id in &others {
        for of in ["", "/content"] {
            assert_eq!(open(format!("{id}{of}")).await.0, StatusCode::NOT_FOUND);
        }
    }
    // Of what can be chosen, theirs is left.
    let (_, page) = open(own[2].clone()).await;
    assert!(
        page.contains("havnes") && !page.contains("skarvoy"),
        "{page}"
    );
    let (status, _) = open(format!("{}/content?port=skarvoy", own[2])).await;
    assert_eq!(status, StatusCode::NOT_FOUND);
}

#[tokio::test(flavor = "multi_thread")]
async fn values_are_for_viewers_and_are_said_where_users_are_listed() {
    let place = Place::new().await;
    let harbour = Harbour::of(&place).await;
    let admin = &harbour.admin;
    let change = async |body: Value| admin.ask(Method::PATCH, "/users/office", &body).await;
    for (body, status, words) in [
        (
            json!({ "held_to": { "port": [] } }),
            StatusCode::UNPROCESSABLE_ENTITY,
            "1 to 200 values",
        ),
        (
            json!({ "held_to": { "": ["a"] } }),
            StatusCode::UNPROCESSABLE_ENTITY,
            "a parameter has a name",
        ),
        (
            json!({ "held_to": { "port": ["a"] }, "role": "author" }),
            StatusCode::UNPROCESSABLE_ENTITY,
            "only viewers",
        ),
        (
            json!({ "role": "author" }),
            StatusCode::CONFLICT,
            "held to values",
        ),
    ] {
        let (found, said) = change(body.clone()).await;
        assert!(
            found == status && said.contains(words),
            "{body}: {found} {said}"
        );
    }
    let users = admin.done(Method::GET, "/users", json!({})).await;
    let listed = users["items"].as_array().unwrap().iter();
    let held: Vec<_> = listed.filter(|one| one["held_to"] != json!({})).collect();
    assert_eq!(held.len(), 1, "{users:#}");
    // Held to none, they see what everybody sees.
    assert_eq!(
        harbour
            .office
            .ask(Method::GET, "/reports", &json!({}))
            .await
            .0,
        StatusCode::FORBIDDEN
    );
    assert_eq!(
        change(json!({ "held_to": {} })).await.0,
        StatusCode::NO_CONTENT
    );
    assert_eq!(
        harbour
            .office
            .ask(Method::GET, "/reports", &json!({}))
            .await
            .0,
        StatusCode::OK
    );
    let trail = admin
        .done(Method::GET, "/audit?action=change_user", json!({}))
        .await;
    let trail = trail.to_string();
    assert!(
        trail.contains("held to port = havnes") && trail.contains("held to no values"),
        "{trail}"
    );
}

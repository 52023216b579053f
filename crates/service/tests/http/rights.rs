//! Who may do what: every operation of the interface, asked by everybody.

use std::collections::BTreeSet;

use maple_lark_api::{RIGHTS, Right, Role, TokenScope, Words, right_to};
use reqwest::{Client, Method, StatusCode};
use serde_json::{Value, json};

use super::{Place, problem};

/// Every operation with its method and a path that leads to nothing.
pub(super) fn operations() -> Vec<(String, Method, String)> {
    let described: Value =
        serde_json::from_str(include_str!("../../../../docs/openapi.json")).unwrap();
    let mut all = Vec::new();
    for (path, methods) in described["paths"].as_object().unwrap() {
        // What is below another server is asked without the path of the API.
        let base = if methods.get("servers").is_some() {
            ""
        } else {
            "/api/v1"
        };
        for (method, about) in methods.as_object().unwrap() {
            let Some(operation) = about["operationId"].as_str() else {
                continue;
            };
            let mut path = path.replace("{id}", "019a0000-0000-7000-8000-000000000000");
            while let (Some(begin), Some(end)) = (path.find('{'), path.find('}')) {
                path.replace_range(begin..=end, "nothing");
            }
            all.push((
                operation.to_owned(),
                method.to_uppercase().parse().unwrap(),
                format!("{base}{path}"),
            ));
        }
    }
    all
}

#[test]
fn every_operation_has_its_right() {
    let described: BTreeSet<String> = operations().into_iter().map(|(name, ..)| name).collect();
    let known = RIGHTS.iter().flat_map(|right| right.operations);
    assert_eq!(described, known.map(|name| (*name).to_owned()).collect());
}

/// Asks every operation as somebody, whose token is made anew where one of them ends it, and says
/// of which they were refused, against which they may.
async fn asked_for_all(
    place: &Place,
    who: &str,
    token: impl AsyncFn() -> String,
    may: impl Fn(&Right) -> bool,
) {
    let client = Client::new();
    let mut current = token().await;
    let mut count = 0;
    for (operation, method, path) in operations() {
        if operation.contains("sign_out") || operation.contains("revoke") {
            current = token().await;
        }
        // What follows without end is not waited for.
        if operation == "follow_run" {
            continue;
        }
        let mut request = client.request(method, format!("{}{path}", place.base));
        if !current.is_empty() {
            request = request.bearer_auth(&current);
        }
        let answer = request.json(&json!({})).send().await.unwrap();
        let status = answer.status();
        let said = answer.text().await.unwrap();
        assert!(!status.is_server_error(), "{operation}: {said}");
        let refused = [StatusCode::UNAUTHORIZED, StatusCode::FORBIDDEN].contains(&status);
        let right = right_to(&operation).unwrap();
        // A sign-in without a password, or an agenda without its address, is refused, too.
        let signs_in = ["sign_in", "make_token", "agenda_feed"].contains(&operation.as_str());
        assert!(
            refused != may(right) || signs_in,
            "{operation} by {who}: {status} {said}"
        );
        count += 1;
    }
    assert!(count > 80, "{count}");
}

#[tokio::test(flavor = "multi_thread")]
async fn everybody_may_do_what_their_role_says_and_nothing_else() {
    let place = Place::new().await;
    asked_for_all(
        &place,
        "nobody",
        async || String::new(),
        |right| right.least.is_none(),
    )
    .await;
    for role in Role::ALL {
        let token = async || place.signed_in(role.word()).await;
        asked_for_all(&place, role.word(), token, |right| {
            right.least.is_none_or(|least| least <= *role)
        })
        .await;
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_token_is_good_for_its_scope_and_for_its_time() {
    let place = Place::new().await;
    let client = Client::new();
    let own = place.signed_in("administrator").await;
    let issued = async |order: Value| {
        let answer = client
            .post(place.url("/session/tokens"))
            .bearer_auth(&own)
            .json(&order)
            .send()
            .await
            .unwrap();
        let status = answer.status();
        (status, answer.json::<Value>().await.unwrap())
    };
    for scope in [TokenScope::Read, TokenScope::Run, TokenScope::All] {
        let token = async || {
            let order = json!({ "label": "a script", "scope": scope, "days": 30 });
            issued(order).await.1["token"].as_str().unwrap().to_owned()
        };
        let who = format!("a token for {scope}");
        asked_for_all(&place, &who, token, |right| {
            right.least.is_none() || right.allows(scope)
        })
        .await;
    }
    for (order, said) in [
        (json!({ "label": "x", "days": 0 }), "1 to 3660 days"),
        (json!({ "label": "x", "days": 3_661 }), "1 to 3660 days"),
        (
            json!({ "label": "x", "scope": "agenda" }),
            "subscribe on the page of the agenda",
        ),
    ] {
        let (status, problem) = issued(order).await;
        assert_eq!(status, StatusCode::UNPROCESSABLE_ENTITY);
        assert!(
            problem["detail"].as_str().unwrap().contains(said),
            "{problem}"
        );
    }
    // One whose time is over is none any more.
    let (_, made) = issued(json!({ "label": "short", "scope": "read", "days": 1 })).await;
    let token = made["token"].as_str().unwrap();
    let listed = async || {
        let asked = client.get(place.url("/tokens")).bearer_auth(token);
        let answer = asked.send().await.unwrap();
        (answer.status(), answer.json::<Value>().await.unwrap())
    };
    let (status, all) = listed().await;
    assert_eq!(status, StatusCode::OK);
    let one = all
        .as_array()
        .unwrap()
        .iter()
        .find(|one| one["label"] == "short")
        .unwrap();
    assert_eq!(
        (&one["scope"], &one["expires_at"]),
        (&json!("read"), &made["expires_at"])
    );
    let mut records = place.cluster.connect("maple_lark").await.unwrap();
    sqlx::query(
        "update api_tokens set expires_at = expires_at - interval '1 day' where name = 'short'",
    )
    .execute(&mut records)
    .await
    .unwrap();
    assert_eq!(listed().await.0, StatusCode::UNAUTHORIZED);
}

#[tokio::test(flavor = "multi_thread")]
async fn sources_and_channels_are_the_administrators_and_files_stay_in_their_folder() {
    let place = Place::new().await;
    let client = Client::new();
    let source = "[source]\nname = \"plain\"\nkind = \"files\"\nfolder = \"/etc\"\n";
    let apply = async |token: &str, file: &str, text: &str, based_on: Option<&str>| {
        let mut one = json!({ "file": file, "text": text });
        if let Some(based_on) = based_on {
            one["based_on"] = based_on.into();
        }
        client
            .post(place.url("/definitions/apply"))
            .bearer_auth(token)
            .json(&json!({ "files": [one] }))
            .send()
            .await
            .unwrap()
    };
    let author = place.signed_in("author").await;
    let (status, detail) = problem(apply(&author, "plain.toml", source, None).await).await;
    assert_eq!(status, StatusCode::FORBIDDEN);
    assert!(
        detail.contains("authors-may-change = [\"sources\"]"),
        "{detail}"
    );

    let administrator = place.signed_in("administrator").await;
    assert!(
        apply(&administrator, "plain.toml", source, None)
            .await
            .status()
            .is_success()
    );
    let tested = client
        .post(place.url("/sources/plain/test"))
        .bearer_auth(&administrator)
        .send()
        .await
        .unwrap();
    let tested: Value = tested.json().await.unwrap();
    let said = tested["detail"].as_str().unwrap();
    assert!(said.contains("sources-may-read = [\"/etc\"]"), "{said}");

    let long = format!("{}.toml", "x".repeat(5000));
    for bad in [
        "../../x.toml",
        "/etc/x.toml",
        "a//b.toml",
        ".hidden.toml",
        "x.txt",
        "a\\b.toml",
        &long,
    ] {
        let answer = apply(&administrator, bad, source, None).await;
        let (status, _) = problem(answer).await;
        assert_eq!(status, StatusCode::UNPROCESSABLE_ENTITY, "{bad}");
    }
    let person =
        "[person]\nname = \"ann\"\ntitle = \"Ann\"\naddress = \"ann@orrin-sound.example\"\n";
    // A file holds one definition, and a new one takes nobody's place.
    assert_eq!(
        apply(&author, "plain.toml", person, None).await.status(),
        422
    );
    assert!(
        apply(&author, "ann.toml", person, Some(""))
            .await
            .status()
            .is_success()
    );
    assert_eq!(
        apply(&author, "people/ann.toml", person, Some(""))
            .await
            .status(),
        422
    );

    // What was changed meanwhile is not written over.
    let read = client
        .get(place.url("/definitions/person/ann"))
        .bearer_auth(&author)
        .send()
        .await
        .unwrap();
    let read: Value = read.json().await.unwrap();
    let based_on = read["based_on"].as_str().unwrap();
    let (first, second) = (
        person.replace("Ann\"", "Ann A.\""),
        person.replace("Ann\"", "Ann B.\""),
    );
    assert!(
        apply(&author, "ann.toml", &first, Some(based_on))
            .await
            .status()
            .is_success()
    );
    let (status, detail) = problem(apply(&author, "ann.toml", &second, Some(based_on)).await).await;
    assert_eq!(status, StatusCode::PRECONDITION_FAILED);
    assert!(
        detail.contains("-title = \"Ann B.\"") && detail.contains("+title = \"Ann A.\""),
        "{detail}"
    );
    // What was removed meanwhile does not come back by a late save.
    let removed = client
        .delete(place.url("/definitions/person/ann"))
        .bearer_auth(&author)
        .send()
        .await
        .unwrap();
    assert!(removed.status().is_success());
    let (status, detail) = problem(apply(&author, "ann.toml", &second, Some(based_on)).await).await;
    assert_eq!(status, StatusCode::PRECONDITION_FAILED);
    assert!(detail.contains("was removed"), "{detail}");

    // A file of an earlier time, whose name would be refused today, prevents no other change.
    let mut records = place.cluster.connect("maple_lark").await.unwrap();
    sqlx::query("update definitions set file = '../old.toml' where name = 'plain'; ")
        .execute(&mut records)
        .await
        .unwrap();
    sqlx::query("update definitions_version set version = version + 1")
        .execute(&mut records)
        .await
        .unwrap();
    assert!(
        apply(&author, "ann.toml", person, None)
            .await
            .status()
            .is_success()
    );
    let removed = client
        .delete(place.url("/definitions/person/ann"))
        .bearer_auth(&administrator)
        .send()
        .await
        .unwrap();
    assert!(
        removed.status().is_success(),
        "{}",
        removed.text().await.unwrap()
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn every_save_is_kept_and_what_was_can_be_again() {
    let place = Place::new().await;
    let client = Client::new();
    let token = place.signed_in("author").await;
    let person = |title: &str| {
        format!(
            "[person]\nname = \"ann\"\ntitle = \"{title}\"\naddress = \"ann@orrin-sound.example\"\n"
        )
    };
    let call = async |method: Method, path: &str, program: &'static str, body: Value| {
        let answer = client
            .request(method, place.url(path))
            .bearer_auth(&token)
            .header("User-Agent", program)
            .json(&body)
            .send()
            .await
            .unwrap();
        (answer.status(), answer.json::<Value>().await.unwrap())
    };
    for (title, program) in [("Ann", "maple-lark/0.1"), ("Ann A.", "curl/8")] {
        let body = json!({ "files": [{ "file": "ann.toml", "text": person(title) }], "message": format!("now {title}") });
        let (status, said) = call(Method::POST, "/definitions/apply", program, body).await;
        assert_eq!(status, StatusCode::OK, "{said}");
    }
    let (status, said) = call(
        Method::DELETE,
        "/definitions/person/ann",
        "curl/8",
        json!({}),
    )
    .await;
    assert_eq!(status, StatusCode::OK, "{said}");
    let (_, found) = call(
        Method::GET,
        "/definitions/person/ann/versions",
        "",
        json!({}),
    )
    .await;
    let items = found["items"].as_array().unwrap();
    let told: Vec<(i64, &str, bool, Option<&str>)> = items
        .iter()
        .map(|one| {
            (
                one["version"].as_i64().unwrap(),
                one["saved_from"].as_str().unwrap(),
                one["removed"].as_bool().unwrap(),
                one["message"].as_str(),
            )
        })
        .collect();
    assert_eq!(
        told,
        [
            (3, "api", true, None),
            (2, "api", false, Some("now Ann A.")),
            (1, "command-line", false, Some("now Ann")),
        ]
    );
    let diff = items[1]["diff"].as_str().unwrap();
    assert!(
        diff.contains("-title = \"Ann\"") && diff.contains("+title = \"Ann A.\""),
        "{diff}"
    );
    let (_, one) = call(
        Method::GET,
        "/definitions/person/ann/versions/2",
        "",
        json!({}),
    )
    .await;
    assert_eq!(
        (&one["text"], &one["diff"]),
        (&json!(person("Ann A.")), &items[1]["diff"])
    );
    let long = json!({ "files": [], "message": "x".repeat(1_001) });
    let (status, _) = call(Method::POST, "/definitions/apply", "", long).await;
    assert_eq!(status, StatusCode::UNPROCESSABLE_ENTITY);
    // There is nothing to restore in its end; before it there is.
    let path = |version: i32| format!("/definitions/person/ann/versions/{version}/restore");
    let (status, said) = call(Method::POST, &path(3), "", json!({})).await;
    assert_eq!(status, StatusCode::UNPROCESSABLE_ENTITY, "{said}");
    let (status, said) = call(Method::POST, &path(9), "", json!({})).await;
    assert_eq!(status, StatusCode::NOT_FOUND, "{said}");
    let (status, said) = call(Method::POST, &path(1), "", json!({})).await;
    assert_eq!(status, StatusCode::OK, "{said}");
    let (_, now) = call(Method::GET, "/definitions/person/ann", "", json!({})).await;
    assert_eq!(now["text"], person("Ann"));
    let (_, found) = call(
        Method::GET,
        "/definitions/person/ann/versions?size=1",
        "",
        json!({}),
    )
    .await;
    assert_eq!(found["items"][0]["message"], "restored from version 1");
    assert_eq!(found["items"][0]["version"], 4);
}

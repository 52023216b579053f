//! Who may do what: every operation of the interface, asked by everybody.

use std::collections::BTreeMap;

use reqwest::{Client, Method, StatusCode};
use serde_json::{Value, json};

use super::{Place, problem};

/// Those that nobody has to be signed in for.
// Whoever has the address of an agenda reads it; whoever has none is refused.
const OPEN: [&str; 7] = [
    "sign_in",
    "make_token",
    "health",
    "ready",
    "agenda_feed",
    "get_invitation",
    "accept_invitation",
];
const AUTHOR: [&str; 41] = [
    "address_book",
    "apply_definitions",
    "backfill_report",
    "cancel_run",
    "change_definition",
    "draft_definition",
    "list_definition_names",
    "copy_definition",
    "copy_report",
    "fill_template",
    "forget_bounces",
    "get_definition",
    "get_definition_keys",
    "get_version",
    "list_definitions",
    "look_at_page",
    "list_template_updates",
    "list_versions",
    "make_definition",
    "make_template",
    "pause_report",
    "failed_pages",
    "plan_definitions",
    "preview",
    "preview_message",
    "preview_theme",
    "release_run",
    "remove_definition",
    "reschedule_report",
    "resend_run",
    "restore_version",
    "resume_report",
    "revoke_links",
    "run_definitions",
    "run_report",
    "source_catalogue",
    "test_channel",
    "test_mail",
    "test_source",
    "try_query",
    "use_template",
];
const ADMINISTRATOR: [&str; 9] = [
    "change_user",
    "invite_user",
    "list_secrets",
    "list_users",
    "remove_secret",
    "remove_unsubscribe",
    "remove_user",
    "renew_invitation",
    "set_secret",
];

/// What the least role is that may do something; everything else is for all who are signed in.
fn least(operation: &str) -> usize {
    if OPEN.contains(&operation) {
        0
    } else if AUTHOR.contains(&operation) {
        2
    } else if ADMINISTRATOR.contains(&operation) {
        3
    } else {
        1
    }
}

/// Every operation with its method and a path that leads to nothing.
fn operations() -> Vec<(String, Method, String)> {
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

#[tokio::test(flavor = "multi_thread")]
async fn everybody_may_do_what_their_role_says_and_nothing_else() {
    let place = Place::new().await;
    let client = Client::new();
    let all = operations();
    for name in OPEN.iter().chain(&AUTHOR).chain(&ADMINISTRATOR) {
        assert!(
            all.iter().any(|(known, _, _)| known == name),
            "{name} is gone"
        );
    }
    let mut asked = BTreeMap::new();
    for (has, role) in ["", "viewer", "author", "administrator"]
        .into_iter()
        .enumerate()
    {
        let mut token = String::new();
        for (operation, method, path) in &all {
            // Some of them end the sign-in that they are asked with.
            if has > 0
                && (token.is_empty()
                    || operation.contains("sign_out")
                    || operation.contains("revoke"))
            {
                token = place.signed_in(role).await;
            }
            // What follows without end is not waited for.
            if operation == "follow_run" {
                continue;
            }
            let mut request = client.request(method.clone(), format!("{}{path}", place.base));
            if has > 0 {
                request = request.bearer_auth(&token);
            }
            let answer = request.json(&json!({})).send().await.unwrap();
            let status = answer.status();
            assert!(
                !status.is_server_error(),
                "{operation}: {}",
                answer.text().await.unwrap()
            );
            let refused = [StatusCode::UNAUTHORIZED, StatusCode::FORBIDDEN].contains(&status);
            let may = has >= least(operation);
            // A sign-in without a password is refused, too.
            let signs_in = ["sign_in", "make_token", "agenda_feed"].contains(&operation.as_str());
            assert!(
                refused != may || signs_in,
                "{operation} by \"{role}\": {status}"
            );
            *asked.entry(role).or_insert(0) += 1;
        }
    }
    assert!(asked.values().all(|count| *count > 50), "{asked:?}");
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

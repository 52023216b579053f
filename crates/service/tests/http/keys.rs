//! Definitions made and changed key by key.

use reqwest::{Client, Method, Response, StatusCode};
use serde_json::{Value, json};

use super::{Place, problem};

#[tokio::test(flavor = "multi_thread")]
async fn a_definition_is_made_and_changed_by_its_keys() {
    let place = Place::new().await;
    let client = Client::new();
    let token = place.signed_in("author").await;
    let call = async |method: Method, path: &str, body: Value| -> Response {
        client
            .request(method, place.url(path))
            .bearer_auth(&token)
            .json(&body)
            .send()
            .await
            .unwrap()
    };
    let ann = json!({ "keys": { "person": { "name": "ann", "title": "Ann", "address": "ann@orrin-sound.example" } }, "message": "first" });
    let made = call(Method::POST, "/definitions/person", ann.clone()).await;
    assert_eq!(made.status(), StatusCode::CREATED);
    assert_eq!(made.headers()["location"], "/api/v1/definitions/person/ann");
    let made: Value = made.json().await.unwrap();
    assert_eq!(made["file"], "people/ann.toml");
    let text = "[person]\nname = \"ann\"\ntitle = \"Ann\"\naddress = \"ann@orrin-sound.example\"\n";
    assert_eq!(made["text"], text);
    let (status, detail) = problem(call(Method::POST, "/definitions/person", ann).await).await;
    assert_eq!(status, StatusCode::CONFLICT, "{detail}");

    // Comments of whoever writes by hand outlive a change by a form.
    let commented = text.replace("title = \"Ann\"", "title = \"Ann\" # as she signs");
    let files = json!({ "files": [{ "file": "people/ann.toml", "text": commented }] });
    assert!(
        call(Method::POST, "/definitions/apply", files)
            .await
            .status()
            .is_success()
    );
    let seen: Value = call(Method::GET, "/definitions/person/ann/keys", json!({}))
        .await
        .json()
        .await
        .unwrap();
    assert_eq!(seen["keys"]["person"]["title"], "Ann");
    let based_on = seen["based_on"].clone();
    let change = |title: &str| json!({ "keys": { "person": { "title": title, "dates": "2026-11-22" } }, "based_on": based_on });
    let changed = call(Method::PATCH, "/definitions/person/ann", change("Ann B.")).await;
    let changed: Value = changed.json().await.unwrap();
    assert_eq!(
        changed["text"],
        "[person]\nname = \"ann\"\ntitle = \"Ann B.\" # as she signs\naddress = \"ann@orrin-sound.example\"\ndates = \"2026-11-22\"\n"
    );
    let late = call(Method::PATCH, "/definitions/person/ann", change("Ann C.")).await;
    let (status, detail) = problem(late).await;
    assert_eq!(status, StatusCode::PRECONDITION_FAILED);
    assert!(detail.contains("Ann B."), "{detail}");
    let versions: Value = call(Method::GET, "/definitions/person/ann/versions", json!({}))
        .await
        .json()
        .await
        .unwrap();
    assert_eq!(versions["items"][2]["message"], "first");

    // What is not valid is refused with the key that a form can point at, and nothing changes.
    let bad = json!({ "keys": { "person": { "address": "nobody" } } });
    let refused = call(Method::PATCH, "/definitions/person/ann", bad).await;
    assert_eq!(refused.status(), StatusCode::UNPROCESSABLE_ENTITY);
    let refused: Value = refused.json().await.unwrap();
    assert_eq!(refused["problems"][0]["key"], "person.address");
    let gone = json!({ "keys": { "person": { "dates": null } } });
    let changed: Value = call(Method::PATCH, "/definitions/person/ann", gone)
        .await
        .json()
        .await
        .unwrap();
    assert!(!changed["text"].as_str().unwrap().contains("dates"));

    for (method, path, keys, wanted) in [
        (
            Method::PATCH,
            "/definitions/person/ann",
            json!({ "person": { "name": "bob" } }),
            422,
        ),
        (
            Method::PATCH,
            "/definitions/person/bob",
            json!({ "person": { "title": "B" } }),
            404,
        ),
        (
            Method::POST,
            "/definitions/person",
            json!({ "person": { "title": "B" } }),
            422,
        ),
        (
            Method::POST,
            "/definitions/person",
            json!({ "person": { "name": "../b", "address": "b@orrin-sound.example" } }),
            422,
        ),
        (Method::POST, "/definitions/nothing", json!({}), 404),
        (
            Method::POST,
            "/definitions/calendar",
            json!({ "calendar": { "name": "x" } }),
            404,
        ),
        (
            Method::POST,
            "/definitions/source",
            json!({ "source": { "name": "s", "kind": "local-checks" } }),
            403,
        ),
    ] {
        let (status, detail) = problem(call(method, path, json!({ "keys": keys })).await).await;
        assert_eq!(status.as_u16(), wanted, "{path}: {detail}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_run_names_the_versions_that_it_was_made_with() {
    let place = Place::new().await;
    let client = Client::new();
    let token = place.signed_in("administrator").await;
    place.with_report(&client, &token).await;
    let call = async |method: Method, path: &str, body: Value| -> Value {
        let request = client.request(method, place.url(path)).bearer_auth(&token);
        let answer = request.json(&body).send().await.unwrap();
        assert!(answer.status().is_success(), "{path}: {}", answer.status());
        answer.json().await.unwrap()
    };
    let made_with = async || {
        let run = call(Method::POST, "/reports/r/runs", json!({ "deliver": false })).await;
        let path = format!("/runs/{}/definitions", run["id"].as_str().unwrap());
        let used = call(Method::GET, &path, json!({})).await;
        let used = used.as_array().unwrap().iter();
        used.map(|one| {
            let text = |key: &str| one[key].as_str().unwrap().to_owned();
            (text("kind"), text("name"), one["version"].as_i64().unwrap())
        })
        .collect::<Vec<_>>()
    };
    let versions = |report: i64| {
        [
            ("dashboard", "d", 1),
            ("report", "r", report),
            ("source", "plain", 1),
        ]
        .map(|(kind, name, version)| (kind.to_owned(), name.to_owned(), version))
    };
    assert_eq!(made_with().await, versions(1));
    for title in ["Other", "R"] {
        let change = json!({ "keys": { "report": { "title": title } } });
        call(Method::PATCH, "/definitions/report/r", change).await;
    }
    // The text is that of the first again; what was saved last says how it is now.
    assert_eq!(made_with().await, versions(3));
    let nobody = client
        .get(place.url("/runs/019a0000-0000-7000-8000-000000000000/definitions"))
        .bearer_auth(&token)
        .send();
    assert_eq!(nobody.await.unwrap().status(), StatusCode::NOT_FOUND);
}

#[tokio::test(flavor = "multi_thread")]
async fn what_somebody_else_has_saved_meanwhile_is_not_changed() {
    let place = Place::new().await;
    let client = Client::new();
    let token = place.signed_in("author").await;
    let call = async |method: Method, path: &str, tag: &str, body: &Value| -> Response {
        let mut request = client.request(method, place.url(path)).bearer_auth(&token);
        if !tag.is_empty() {
            request = request.header("If-Match", tag);
        }
        request.json(body).send().await.unwrap()
    };
    let group = json!({ "keys": { "group": { "name": "desk", "title": "Desk", "members": ["desk@orrin-sound.example"] } } });
    let made = call(Method::POST, "/definitions/group", "", &group).await;
    assert_eq!(made.status(), StatusCode::CREATED);
    let nothing = json!({});
    let tag_of = async |path: &str| {
        let read = call(Method::GET, path, "", &nothing).await;
        read.headers()["etag"].to_str().unwrap().to_owned()
    };
    let tag = tag_of("/definitions/group/desk/keys").await;
    assert_eq!(tag, tag_of("/definitions/group/desk").await);

    let change = |title: &str| json!({ "keys": { "group": { "title": title } } });
    let path = "/definitions/group/desk";
    let first = call(Method::PATCH, path, &tag, &change("Day desk")).await;
    assert_eq!(first.status(), StatusCode::OK);
    let restore = "/definitions/group/desk/versions/1/restore";
    for (method, path, body) in [
        (Method::PATCH, path, &change("Night desk")),
        (Method::DELETE, path, &nothing),
        (Method::POST, restore, &nothing),
    ] {
        for stale in [&tag, "W/\"x\"", "\"a\", \"b\""] {
            let late = call(method.clone(), path, stale, body).await;
            let (status, detail) = problem(late).await;
            assert_eq!(status, StatusCode::PRECONDITION_FAILED, "{method} {path}");
            assert!(detail.contains("desk.toml was changed by"), "{detail}");
        }
    }
    let late = call(Method::PATCH, path, &tag, &change("Night desk")).await;
    let (_, detail) = problem(late).await;
    assert!(
        detail.contains("-title = \"Night desk\"") && detail.contains("+title = \"Day desk\""),
        "{detail}"
    );

    // The version that is there, one of several, or any.
    let now = tag_of(path).await;
    for good in [&now, &format!("\"old\", {now}"), "*"] {
        let done = call(Method::PATCH, path, good, &change("Day desk")).await;
        assert_eq!(done.status(), StatusCode::OK, "{good}");
    }
    let removed = call(Method::DELETE, path, &now, &nothing).await;
    assert_eq!(removed.status(), StatusCode::OK);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_dashboard_is_drafted_as_text_and_keys_and_looked_at_in_parts() {
    let place = Place::new().await;
    let (client, token) = (Client::new(), place.signed_in("administrator").await);
    place.with_report(&client, &token).await;
    let post = async |path: &str, body: Value| -> Response {
        let request = client.post(place.url(path)).bearer_auth(&token);
        request.json(&body).send().await.unwrap()
    };
    let drafted = async |body: Value| -> Value {
        post("/definitions/draft", body).await.json().await.unwrap()
    };
    let text = "[dashboard]\nname = \"two\"\ntitle = \"Two\" # of them\n\n[[query]]\nname = \"many\"\nsource = \"plain\"\nsql = \"select n from generate_series(1, 20) n order by n desc\"\n\n[[query.then]]\ndo = \"top\"\nof = \"n\"\nrows = 3\n\n[[query]]\nname = \"slow\"\nsource = \"plain\"\nsql = \"select pg_sleep(600)::text as s\"\n\n[[section]]\ntitle = \"All\"\n\n[[section.block]]\nshow = \"table\"\ntitle = \"Slow\"\nquery = \"slow\"\n\n# the quick one\n[[section.block]]\nshow = \"table\"\ntitle = \"Quick\"\nquery = \"many\"\n";
    let draft = drafted(json!({ "text": text })).await;
    assert_eq!(
        (&draft["text"], &draft["problems"]),
        (&json!(text), &json!([]))
    );
    let mut keys = draft["keys"].clone();
    keys["section"][0]["block"][1]["query"] = "mnay".into();
    let draft = drafted(json!({ "text": text, "keys": keys })).await;
    assert_eq!(
        draft["text"].as_str().unwrap(),
        text.replace("\"Quick\"\nquery = \"many\"", "\"Quick\"\nquery = \"mnay\"")
    );
    let problem_there = &draft["problems"][0];
    assert_eq!(
        problem_there["key"], "section[1].block[2].query",
        "{draft:#}"
    );
    assert!(
        problem_there["message"]
            .as_str()
            .unwrap()
            .contains("\"many\""),
        "{draft:#}"
    );
    let broken = drafted(json!({ "text": "[dashboard" })).await;
    assert_eq!(broken["keys"], Value::Null);
    assert_eq!(broken["problems"][0]["line"], 1, "{broken:#}");
    let stored = client.get(place.url("/definitions/dashboard/two"));
    let stored = stored.bearer_auth(&token).send().await.unwrap();
    assert_eq!(stored.status(), StatusCode::NOT_FOUND, "nothing is stored");

    // One block does not wait for the others, nor does it care what is wrong about them.
    let of_block = |block: usize| json!({ "definition": text.replace("query = \"slow\"", "query = \"none\""), "block": { "section": 1, "block": block } });
    let alone = post("/preview", of_block(2)).await;
    let alone = alone.text().await.unwrap();
    assert!(
        alone.contains("Quick") && !alone.contains("Slow") && !alone.contains("<header"),
        "{alone}"
    );
    assert_eq!(alone.matches("<tr>").count(), 4, "{alone}");
    let (status, detail) = problem(post("/preview", of_block(3)).await).await;
    assert_eq!(status, StatusCode::UNPROCESSABLE_ENTITY);
    assert!(detail.contains("no block 3 in section 1"), "{detail}");

    // The rows before a step and after it.
    let mut rows = Vec::new();
    for steps in [json!(0), json!(1), Value::Null] {
        let order = json!({ "definition": text, "query": "many", "steps": steps });
        let answer: Value = post("/queries/try", order).await.json().await.unwrap();
        rows.push(
            answer["row_count"]
                .as_u64()
                .unwrap_or_else(|| panic!("{answer:#}")),
        );
    }
    assert_eq!(rows, [20, 3, 3]);
    let by = |more: Value| {
        let mut order =
            json!({ "definition": text, "query": "many", "time_zone": "Atlantic/Faroe" });
        order
            .as_object_mut()
            .unwrap()
            .extend(more.as_object().unwrap().clone());
        order
    };
    let week: Value = post(
        "/queries/try",
        by(json!({ "window": { "previous": "week" } })),
    )
    .await
    .json()
    .await
    .unwrap();
    let window = week["window"].as_str().unwrap();
    assert!(window.contains(", 00:00 ") && window.contains(", 24:00 "));
    assert!(window.contains("Atlantic/Faroe"), "{window}");
    for wrong in [
        json!({ "window": { "previous": "wek" } }),
        json!({ "window": { "previous": "week" }, "from": "2026-01-01T00:00:00Z" }),
    ] {
        let (status, _) = problem(post("/queries/try", by(wrong)).await).await;
        assert_eq!(status, StatusCode::UNPROCESSABLE_ENTITY);
    }
    let order = json!({ "definition": text, "query": "other" });
    assert_eq!(
        post("/queries/try", order).await.status(),
        StatusCode::NOT_FOUND
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn the_agenda_is_subscribed_to_at_an_address_of_ones_own() {
    let place = Place::new().await;
    let (client, token) = (Client::new(), place.signed_in("administrator").await);
    place.with_report(&client, &token).await;
    let schedule = json!({ "keys": { "report": { "tags": ["estate", "daily"] }, "schedule": { "every": "day", "at": "06:00" } } });
    let changed = client
        .patch(place.url("/definitions/report/r"))
        .bearer_auth(&token)
        .json(&schedule);
    assert_eq!(changed.send().await.unwrap().status(), StatusCode::OK);
    let reports = client.get(place.url("/reports")).bearer_auth(&token);
    let reports: Value = reports.send().await.unwrap().json().await.unwrap();
    assert_eq!(reports["items"][0]["tags"], json!(["estate", "daily"]));
    let wrong = json!({ "keys": { "report": { "tags": ["a", "a"] } } });
    let wrong = client
        .patch(place.url("/definitions/report/r"))
        .bearer_auth(&token)
        .json(&wrong);
    let (_, detail) = problem(wrong.send().await.unwrap()).await;
    assert!(detail.contains("named twice"), "{detail}");

    let made = client.post(place.url("/agenda/feed")).bearer_auth(&token);
    let made = made.send().await.unwrap();
    assert_eq!(made.status(), StatusCode::CREATED);
    let made: Value = made.json().await.unwrap();
    let key = made["address"]
        .as_str()
        .unwrap()
        .rsplit_once("key=")
        .unwrap()
        .1;
    let read = async |key: &str| {
        let answer = client.get(place.url(&format!("/agenda.ics?key={key}")));
        answer.send().await.unwrap()
    };
    let calendar = read(key).await;
    assert_eq!(calendar.headers()["content-type"], "text/calendar");
    let calendar = calendar.text().await.unwrap();
    // Sixty days, each with one run, in the form that another reader of the standard takes.
    let parsed: icalendar::Calendar = calendar.parse().unwrap();
    let events = parsed.components.len();
    assert!((59..=61).contains(&events), "{events}: {calendar}");
    assert!(calendar.contains("T060000Z"), "{calendar}");

    // It is good for nothing else, as another token is not good for it, and it can be revoked.
    for (path, bearer) in [
        ("/reports", key),
        ("/agenda?from=2026-01-01&to=2026-01-02", key),
    ] {
        let refused = client.get(place.url(path)).bearer_auth(bearer);
        assert_eq!(
            refused.send().await.unwrap().status(),
            StatusCode::UNAUTHORIZED
        );
    }
    assert_eq!(read(&token).await.status(), StatusCode::UNAUTHORIZED);
    let id = made["id"].as_str().unwrap();
    let revoked = client
        .delete(place.url(&format!("/tokens/{id}")))
        .bearer_auth(&token);
    assert_eq!(
        revoked.send().await.unwrap().status(),
        StatusCode::NO_CONTENT
    );
    assert_eq!(read(key).await.status(), StatusCode::UNAUTHORIZED);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_secret_is_changed_only_over_the_version_that_was_read() {
    let place = Place::new().await;
    let (client, token) = (Client::new(), place.signed_in("administrator").await);
    let send = async |method: &str, name: &str, tag: Option<&str>| {
        let path = place.url(&format!("/secrets/{name}"));
        let mut request = client.request(method.parse().unwrap(), path);
        if let Some(tag) = tag {
            request = request.header("If-Match", tag);
        }
        if method == "PUT" {
            request = request.json(&json!({ "value": "hunter-42" }));
        }
        request.bearer_auth(&token).send().await.unwrap()
    };
    let version = async || {
        let list = client.get(place.url("/secrets")).bearer_auth(&token);
        let list: Value = list.send().await.unwrap().json().await.unwrap();
        format!("\"{}\"", list[0]["version"].as_str().unwrap())
    };
    assert_eq!(send("PUT", "a", Some("*")).await.status(), 412, "none yet");
    assert_eq!(send("PUT", "a", None).await.status(), 204);
    let first = version().await;
    assert_eq!(send("PUT", "a", Some(&first)).await.status(), 204);
    let second = version().await;
    assert_ne!(first, second);
    for method in ["PUT", "DELETE"] {
        let (status, words) = problem(send(method, "a", Some(&first)).await).await;
        assert_eq!(status, 412, "{words}");
        assert!(words.contains("set the secret \"a\" at "), "{words}");
        assert!(!words.contains("hunter-42"), "{words}");
    }
    assert_eq!(version().await, second, "nothing was changed");
    assert_eq!(send("DELETE", "a", Some(&second)).await.status(), 204);
    assert_eq!(send("DELETE", "a", Some(&second)).await.status(), 412);
    assert_eq!(send("DELETE", "a", None).await.status(), 404);
}

/// Each block of a report is looked at by itself, with what the report says of it and with its values.
#[tokio::test(flavor = "multi_thread")]
async fn a_report_is_looked_at_block_by_block_as_it_would_show_them() {
    let place = Place::new().await;
    let (client, token) = (Client::new(), place.signed_in("administrator").await);
    place.with_report(&client, &token).await;
    let post = async |path: &str, body: Value| -> Response {
        let request = client.post(place.url(path)).bearer_auth(&token);
        request.json(&body).send().await.unwrap()
    };
    let get = async |path: &str| -> Value {
        let request = client.get(place.url(path)).bearer_auth(&token);
        request.send().await.unwrap().json().await.unwrap()
    };
    let block = |title: &str, more: &str| {
        format!("[[section.block]]\nshow = \"table\"\ntitle = \"{title}\"\nquery = \"q\"\n{more}\n")
    };
    let other = format!(
        "[dashboard]\nname = \"other\"\ntitle = \"Other\"\n[[query]]\nname = \"q\"\nsource = \"plain\"\nsql = \"select 'lent' as n\"\n[[section]]\ntitle = \"One\"\n{}",
        block("Lent", "")
    );
    let board = format!(
        "[dashboard]\nname = \"board\"\ntitle = \"Board\"\n[[parameter]]\nname = \"port\"\ntitle = \"Port\"\nkind = \"text\"\n[[query]]\nname = \"q\"\nsource = \"plain\"\nsql = \"select :port as n\"\n[[section]]\ntitle = \"Gone\"\n{}[[section]]\ntitle = \"All\"\n{}{}[[section.block]]\nfrom = \"other / Lent\"\n{}",
        block("Not here", "hide = true"),
        block("Hidden", "hide = true"),
        block("Kept", ""),
        block("Left out", "")
    );
    let report = "[report]\nname = \"whole\"\ntitle = \"Whole\"\ntime-zone = \"UTC\"\ndashboards = [\"other\", \"board\"]\n[window]\nprevious = \"day\"\n[parameters]\nport = \"havnes\"\n[[change]]\nblock = \"Kept\"\ntitle = \"Renamed\"\nwidth = \"half\"\n[[change]]\nblock = \"Left out\"\nhide = true\n";
    let files = [
        ("other", other.as_str()),
        ("board", &board),
        ("whole", report),
    ]
    .map(|(name, text)| json!({ "file": format!("{name}.toml"), "text": text }));
    let applied = post("/definitions/apply", json!({ "files": files })).await;
    assert_eq!(
        applied.status(),
        StatusCode::OK,
        "{}",
        applied.text().await.unwrap()
    );

    // Places are those of the definition, although what is hidden is not listed.
    let layout = get("/reports/whole/layout").await;
    let seen = |title: &str, section: u32, block: u32, twelfths: u32| json!({ "title": title, "place": { "section": section, "block": block }, "twelfths": twelfths });
    assert_eq!(
        layout,
        json!([
            { "dashboard": "other", "title": "Other", "sections": [{ "title": "One", "blocks": [seen("Lent", 1, 1, 12)] }] },
            { "dashboard": "board", "title": "Board", "sections": [{ "title": "All", "blocks": [seen("Renamed", 2, 2, 6), seen("Lent", 2, 3, 12)] }] },
        ])
    );
    let dashboards = get("/dashboards").await;
    let own = dashboards.as_array().unwrap();
    let own = own.iter().find(|one| one["name"] == "board").unwrap();
    assert_eq!(own["layout"][0]["blocks"][0], seen("Kept", 2, 2, 12));

    let of = |dashboard: &str, section: u32, block: u32| json!({ "report": "whole", "dashboard": dashboard, "block": { "section": section, "block": block } });
    let shown = async |order: Value| post("/preview", order).await.text().await.unwrap();
    let kept = shown(of("board", 2, 2)).await;
    assert!(
        kept.contains("Renamed") && kept.contains("havnes") && !kept.contains("Left out"),
        "{kept}"
    );
    let lent = shown(of("board", 2, 3)).await;
    assert!(lent.contains("lent") && !lent.contains("havnes"), "{lent}");
    let mut other_values = of("board", 2, 2);
    other_values["values"] = json!({ "port": "ostrey" });
    assert!(shown(other_values).await.contains("ostrey"));
    // Nothing of it is stored, and what does not fit is said.
    assert_eq!(get("/reports/whole/layout").await, layout);
    for (order, words) in [
        (of("board", 2, 9), "no block 9 in section 2"),
        (of("d", 1, 1), "does not show the dashboard \"d\""),
        (
            json!({ "report": "whole", "block": { "section": 1, "block": 1 } }),
            "give report and dashboard",
        ),
    ] {
        let (status, detail) = problem(post("/preview", order).await).await;
        assert_eq!(status, StatusCode::UNPROCESSABLE_ENTITY, "{detail}");
        assert!(detail.contains(words), "{detail}");
    }
}

//! Nobody sees what belongs to a team that they are not in: every operation is asked by users of other
//! teams, as it is and with the names and identifiers of what they must not see, and everything that
//! comes back is searched.

use maple_lark_fixtures as fixtures;
use std::{
    collections::BTreeMap,
    time::{Duration, Instant},
};

use reqwest::{Client, Method, StatusCode};
use serde_json::{Value, json};

use super::{PASSWORD, PATIENCE, Place, rights::operations};

const TEAMS: [&str; 3] = ["amber", "birch", "cedar"];

/// Somebody who is signed in.
pub(super) struct User<'p> {
    place: &'p Place,
    pub(super) client: Client,
    pub(super) name: String,
    teams: Vec<&'static str>,
    pub(super) token: String,
}

impl User<'_> {
    pub(super) async fn ask(
        &self,
        method: Method,
        path: &str,
        body: &Value,
    ) -> (StatusCode, String) {
        let url = if path.starts_with("/api") || ["/health", "/ready", "/metrics"].contains(&path) {
            format!("{}{path}", self.place.base)
        } else {
            self.place.url(path)
        };
        let mut request = self
            .client
            .request(method.clone(), url)
            .bearer_auth(&self.token);
        if method != Method::GET {
            request = request.json(body);
        }
        let answer = request.send().await.unwrap();
        let status = answer.status();
        let bytes = answer.bytes().await.unwrap();
        (status, String::from_utf8_lossy(&bytes).into_owned())
    }

    pub(super) async fn done(&self, method: Method, path: &str, body: Value) -> Value {
        let (status, said) = self.ask(method, path, &body).await;
        assert!(status.is_success(), "{} {path}: {status} {said}", self.name);
        serde_json::from_str(&said).unwrap_or_default()
    }

    /// A run of a report that they ask for, once it has come to rest.
    pub(super) async fn ran(&self, report: &str, deliver: bool) -> Value {
        let path = format!("/reports/{report}/runs");
        let order = json!({ "deliver": deliver });
        let run = self.done(Method::POST, &path, order).await;
        let path = format!("/runs/{}", run["id"].as_str().unwrap());
        let began = Instant::now();
        loop {
            let run = self.done(Method::GET, &path, json!({})).await;
            if run["settled"] == true {
                return run;
            }
            assert!(began.elapsed() < PATIENCE, "{run:#}");
            tokio::time::sleep(Duration::from_millis(50)).await;
        }
    }
}

impl Place {
    pub(super) async fn user(
        &self,
        admin: &User<'_>,
        name: &str,
        role: &str,
        teams: &[&'static str],
    ) -> User<'_> {
        let invited = admin
            .done(
                Method::POST,
                "/users",
                json!({ "name": name, "role": role }),
            )
            .await;
        let link = invited["link"].as_str().unwrap();
        let secret = link.split_once('#').unwrap().1;
        let client = Client::new();
        let accepted = json!({ "token": secret, "password": PASSWORD });
        let answer = client
            .post(self.url("/invitations/accept"))
            .json(&accepted)
            .send()
            .await
            .unwrap();
        assert!(answer.status().is_success());
        for team in teams {
            let path = format!("/teams/{team}/members/{name}");
            admin.done(Method::PUT, &path, json!({})).await;
        }
        let credentials = json!({ "name": name, "password": PASSWORD, "label": "test" });
        let made = client
            .post(self.url("/tokens"))
            .json(&credentials)
            .send()
            .await
            .unwrap();
        let made: Value = made.json().await.unwrap();
        User {
            place: self,
            client,
            name: name.to_owned(),
            teams: teams.to_vec(),
            token: made["token"].as_str().unwrap().to_owned(),
        }
    }

    pub(super) async fn admin(&self) -> User<'_> {
        User {
            place: self,
            client: Client::new(),
            name: "admin".to_owned(),
            teams: TEAMS.to_vec(),
            token: self.signed_in("administrator").await,
        }
    }
}

/// What can only be read in what belongs to a team: in titles, rows, addresses and texts.
fn mark(team: &str) -> String {
    format!("zq{team}zq")
}

/// One of everything that can belong to a team.
fn definitions(team: &str) -> Vec<Value> {
    let mark = mark(team);
    let owned = format!("team = \"{team}\"");
    let (d, r, q) = (
        format!("{team}.d"),
        format!("{team}.r"),
        format!("{team}_q"),
    );
    let texts = [
        fixtures::dashboard(&d)
            .key("title", format!("D {mark}"))
            .key("team", team)
            .asked(&q, "plain", &format!("sql = \"select '{mark}' as host\""))
            .table(&format!("[[query]]\nname = \"{team}_changes\"\nof = \"{q}\"\nthen = [{{ do = \"changes\", key = [\"host\"] }}]"))
            .block(&format!("show = \"table\"\ntitle = \"T {mark}\"\nquery = \"{q}\""))
            .to_string(),
        fixtures::report(&r, &d)
            .key("title", format!("R {mark}"))
            .key("team", team)
            .list("formats", &["csv", "html"])
            .daily_at("06:00", "")
            .to(&format!("{team}-a"), &[&format!("{team}.g")])
            .to_string(),
        format!(
            "[sampler]\nname = \"{team}.s\"\ntitle = \"S {mark}\"\n{owned}\nevery = \"PT1H\"\nkeep = \"P1D\"\n[query]\nsource = \"plain\"\nsql = \"select 1.0 as n\"\n"
        ),
        format!(
            "[person]\nname = \"{team}.p\"\ntitle = \"P {mark}\"\naddress = \"{mark}@orrin-sound.example\"\n{owned}\n"
        ),
        format!(
            "[group]\nname = \"{team}.g\"\ntitle = \"G {mark}\"\nmembers = [\"{team}.p\"]\n{owned}\n"
        ),
        format!("[theme]\nname = \"{team}.t\"\ntitle = \"T {mark}\"\n{owned}\n"),
        format!(
            "[message-template]\nname = \"{team}.m\"\ntitle = \"M {mark}\"\nsubject = \"{mark}\"\n{owned}\n"
        ),
    ];
    let file = |(n, text)| json!({ "file": format!("{team}/{n}.toml"), "text": text });
    texts.into_iter().enumerate().map(file).collect()
}

/// What a team has that others must not reach: values for the places of a path, by their names.
async fn reached(admin: &User<'_>, team: &'static str) -> BTreeMap<&'static str, Vec<String>> {
    let run = admin.ran(&format!("{team}.r"), false).await;
    let id = run["id"].as_str().unwrap().to_owned();
    assert_eq!(run["state"], "completed", "{run:#}");
    let ids = |list: &str| -> Vec<String> {
        let all = run[list].as_array().unwrap().iter();
        all.map(|one| one["id"].as_str().unwrap().to_owned())
            .collect()
    };
    let mut found = ids("documents");
    found.extend(ids("snapshots"));
    let title = format!("V {}", mark(team));
    let snapshot = ids("snapshots").remove(0);
    let mut views = Vec::new();
    for order in [
        json!({ "dashboard": format!("{team}.d"), "signed_in": true, "title": title }),
        json!({ "snapshot": snapshot, "signed_in": true, "title": title }),
    ] {
        let view = admin.done(Method::POST, "/views", order).await;
        views.push(view["id"].as_str().unwrap().to_owned());
    }
    found.extend(views.clone());
    found.push(id);
    let names = ["d", "r", "s", "p", "g", "t", "m"].map(|kind| format!("{team}.{kind}"));
    BTreeMap::from([
        ("id", found),
        // Where they are opened, which is no operation of the API.
        ("view", views),
        ("name", names.into_iter().chain([team.to_owned()]).collect()),
        (
            "kind",
            [
                "dashboard",
                "report",
                "sampler",
                "person",
                "group",
                "theme",
                "message-template",
            ]
            .map(str::to_owned)
            .to_vec(),
        ),
        ("format", vec!["csv".to_owned(), "json".to_owned()]),
        ("version", vec!["1".to_owned()]),
        ("day", vec![chrono::Utc::now().date_naive().to_string()]),
        (
            "address",
            vec![format!("{}@orrin-sound.example", mark(team))],
        ),
        ("user", vec!["admin".to_owned()]),
        ("index", vec!["0".to_owned()]),
    ])
}

/// Every way to fill the places of a path.
pub(super) fn filled(path: &str, values: &BTreeMap<&'static str, Vec<String>>) -> Vec<String> {
    let Some((before, rest)) = path.split_once('{') else {
        return vec![path.to_owned()];
    };
    let (place, after) = rest.split_once('}').unwrap();
    let of_it = values
        .get(place)
        .unwrap_or_else(|| panic!("a path has a place {place}"));
    let tails = filled(after, values);
    let one = |value: &String| {
        let tails = tails.iter();
        tails
            .map(|tail| format!("{before}{value}{tail}"))
            .collect::<Vec<_>>()
    };
    of_it.iter().flat_map(one).collect()
}

/// Orders that name what others have, in their bodies and after the question mark.
fn sly(team: &str) -> Vec<(Method, String, Value)> {
    let query = format!("{team}_q");
    let alone = |text: &str| json!({ "definition": text });
    let borrowed = format!(
        "[dashboard]\nname = \"mine\"\ntitle = \"Mine\"\n[[section]]\ntitle = \"S\"\n[[section.block]]\nfrom = \"{team}.d\"\nblock = \"T {}\"\n",
        "zz"
    );
    let report = format!(
        "[report]\nname = \"{team}.r\"\ntitle = \"R\"\nteam = \"{team}\"\ntime-zone = \"UTC\"\ndashboards = [\"{team}.d\"]\n[window]\nprevious = \"day\"\n"
    );
    let sampler = format!(
        "[sampler]\nname = \"{team}.s\"\ntitle = \"S\"\nevery = \"PT1H\"\nkeep = \"P1D\"\n[query]\nsource = \"plain\"\nsql = \"select 1\"\n"
    );
    let history = format!(
        "[dashboard]\nname = \"mine\"\ntitle = \"Mine\"\n[[query]]\nname = \"q\"\nsampler = \"{team}.s\"\n[[section]]\ntitle = \"S\"\n[[section.block]]\nshow = \"table\"\ntitle = \"T\"\nquery = \"q\"\n"
    );
    let post = |path: &str, body: Value| (Method::POST, path.to_owned(), body);
    vec![
        post(
            "/queries/try",
            json!({ "dashboard": format!("{team}.d"), "query": query }),
        ),
        post(
            "/queries/try",
            json!({ "definition": history, "query": "q" }),
        ),
        post("/preview", json!({ "report": format!("{team}.r") })),
        post("/preview", json!({ "dashboard": format!("{team}.d") })),
        post("/preview", alone(&borrowed)),
        post("/preview", alone(&report)),
        post(
            "/preview",
            json!({ "definition": history, "beside": [sampler] }),
        ),
        post("/definitions/draft", json!({ "text": borrowed })),
        post("/definitions/draft", json!({ "text": report })),
        post(
            "/definitions/plan",
            json!({ "files": [{ "file": format!("{team}/1.toml"), "text": report }] }),
        ),
        post(
            "/definitions/plan",
            json!({ "files": [{ "file": "x.toml", "text": report }], "remove_others": true }),
        ),
        post(
            "/definitions/apply",
            json!({ "files": [{ "file": "x.toml", "text": report }] }),
        ),
        post(
            &format!("/reports/{team}.r/copy"),
            json!({ "name": "mine" }),
        ),
        post(
            &format!("/definitions/dashboard/{team}.d/copy"),
            json!({ "name": "mine" }),
        ),
        post(
            &format!("/reports/{team}.r/message-preview"),
            json!({ "subject": "x", "text": "y" }),
        ),
        post(
            &format!("/reports/{team}.r/runs"),
            json!({ "deliver": false }),
        ),
        post(
            &format!("/reports/{team}.r/backfill"),
            json!({ "from": "2026-01-01T00:00:00Z", "to": "2026-01-03T00:00:00Z", "check": true }),
        ),
        (
            Method::GET,
            format!("/agenda?from=2026-01-01&to=2026-02-01&report={team}.r"),
            json!({}),
        ),
    ]
}

#[tokio::test(flavor = "multi_thread")]
async fn nothing_of_a_team_is_seen_by_others() {
    let place = Place::new().await;
    let admin = place.admin().await;
    place.with_report(&admin.client, &admin.token).await;
    let mut theirs = BTreeMap::new();
    for team in TEAMS {
        admin
            .done(
                Method::POST,
                "/teams",
                json!({ "name": team, "title": format!("T {}", mark(team)) }),
            )
            .await;
        let files = definitions(team);
        admin
            .done(
                Method::POST,
                "/definitions/apply",
                json!({ "files": files }),
            )
            .await;
        theirs.insert(team, reached(&admin, team).await);
    }
    let users = [
        place.user(&admin, "viewer-of-none", "viewer", &[]).await,
        place.user(&admin, "author-of-none", "author", &[]).await,
        place
            .user(&admin, "viewer-of-amber", "viewer", &["amber"])
            .await,
        place
            .user(&admin, "author-of-birch", "author", &["birch"])
            .await,
        place
            .user(&admin, "author-of-two", "author", &["amber", "cedar"])
            .await,
    ];
    let described: Value =
        serde_json::from_str(include_str!("../../../../docs/openapi.json")).unwrap();
    let mut asked = 0;
    for user in &users {
        // What they own is there, so that the test looks where there is something to see.
        let (_, reports) = user.ask(Method::GET, "/reports", &json!({})).await;
        let (_, runs) = user.ask(Method::GET, "/runs", &json!({})).await;
        let (_, overview) = user.ask(Method::GET, "/overview", &json!({})).await;
        let (_, archive) = user.ask(Method::GET, "/archive", &json!({})).await;
        let (_, views) = user.ask(Method::GET, "/views", &json!({})).await;
        for team in TEAMS {
            let own = user.teams.contains(&team);
            for list in [&reports, &runs, &overview, &archive, &views] {
                assert_eq!(list.contains(&mark(team)), own, "{} {list}", user.name);
            }
        }
        let total: Value = serde_json::from_str(&runs).unwrap();
        assert_eq!(total["total"], user.teams.len());
        let others = || TEAMS.into_iter().filter(|team| !user.teams.contains(team));
        // Every address without a place: what is there is theirs, and not even a name is another's.
        for (operation, method, path) in operations() {
            if method != Method::GET || operation == "agenda_feed" || operation == "follow_run" {
                continue;
            }
            let extra = match operation.as_str() {
                "agenda" => "?from=2020-01-01&to=2021-01-01",
                _ => "",
            };
            let (status, said) = user
                .ask(Method::GET, &format!("{path}{extra}"), &json!({}))
                .await;
            assert!(!status.is_server_error(), "{operation}: {said}");
            for team in others() {
                assert!(!said.contains(team), "{} {operation}: {said}", user.name);
            }
            asked += 1;
        }
        // Every address with the names and identifiers of others: not there, and never refused as theirs.
        for team in others() {
            for (path, methods) in described["paths"].as_object().unwrap() {
                if !path.contains('{') {
                    continue;
                }
                for (method, about) in methods.as_object().unwrap() {
                    let operation = about["operationId"].as_str().unwrap();
                    let method: Method = method.to_uppercase().parse().unwrap();
                    for path in filled(path, &theirs[team]) {
                        let (status, said) = user.ask(method.clone(), &path, &json!({})).await;
                        let words = format!("{} {operation} {path}: {status} {said}", user.name);
                        assert!(
                            !said.contains(&mark(team)) || path.contains(&mark(team)),
                            "{words}"
                        );
                        assert!(!status.is_success(), "{words}");
                        let by_role = said.contains("this needs the role");
                        assert!(status != StatusCode::FORBIDDEN || by_role, "{words}");
                        asked += 1;
                    }
                }
            }
            for view in &theirs[team]["view"] {
                for of in ["", "/content"] {
                    let address = place.url("").replace("/api/v1", "");
                    let asked = Client::new().get(format!("{address}/view/{view}{of}"));
                    let answer = asked.bearer_auth(&user.token).send().await.unwrap();
                    assert_eq!(answer.status(), StatusCode::NOT_FOUND, "{}", user.name);
                    assert!(!answer.text().await.unwrap().contains(&mark(team)));
                }
            }
            for (method, path, body) in sly(team) {
                let (status, said) = user.ask(method, &path, &body).await;
                let words = format!("{} {path} {body}: {status} {said}", user.name);
                assert!(!said.contains(&mark(team)), "{words}");
                assert!(
                    !status.is_success() || path == "/definitions/draft",
                    "{words}"
                );
                asked += 1;
            }
        }
    }
    assert!(asked > 2_000, "{asked}");
    // Nothing of it was changed either.
    for (team, values) in &theirs {
        for id in values["id"].iter().rev().take(1) {
            admin
                .done(Method::GET, &format!("/runs/{id}"), json!({}))
                .await;
        }
        let path = format!("/definitions/report/{team}.r/versions");
        let versions = admin.done(Method::GET, &path, json!({})).await;
        assert_eq!(versions["items"].as_array().unwrap().len(), 1);
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn whoever_is_in_a_team_makes_what_belongs_to_it_and_uses_what_is_shared() {
    let place = Place::new().await;
    let admin = place.admin().await;
    place.with_report(&admin.client, &admin.token).await;
    let post = Method::POST;
    let patterns = json!(["*@orrin-sound.example"]);
    admin
        .done(
            post.clone(),
            "/teams",
            json!({ "name": "amber", "addresses": patterns }),
        )
        .await;
    let ann = place.user(&admin, "ann", "author", &["amber"]).await;
    let bo = place.user(&admin, "bo", "author", &[]).await;
    // What belongs to all is not given to the team as it is: others would find out that its name is taken.
    let file = |file: &str, text: &str| json!({ "files": [{ "file": file, "text": text }] });
    for (kind, name, key, space) in [
        ("report", "r", "team", json!("amber")),
        ("dashboard", "d", "team", json!("amber")),
        ("source", "plain", "teams", json!(["amber"])),
    ] {
        let keys = json!({ "keys": { kind: { "name": name, key: space } } });
        let path = format!("/definitions/{kind}/{name}");
        let (status, said) = admin.ask(Method::PATCH, &path, &keys).await;
        assert_eq!(status, StatusCode::UNPROCESSABLE_ENTITY, "{said}");
        let words = format!("such as \\\"amber.{name}\\\"; copy it under that name");
        assert!(said.contains(&words), "{said}");
    }
    // It is copied into the team's name space, and the copy belongs to the team.
    for (path, name) in [
        ("/definitions/source/plain", "amber.plain"),
        ("/definitions/dashboard/d", "amber.d"),
        ("/reports/r", "amber.r"),
    ] {
        let copy = json!({ "name": name });
        admin
            .done(post.clone(), &format!("{path}/copy"), copy)
            .await;
    }
    for (kind, name) in [("dashboard", "amber.d"), ("report", "amber.r")] {
        let path = format!("/definitions/{kind}/{name}");
        let definition = admin.done(Method::GET, &path, json!({})).await;
        let text = definition["text"].as_str().unwrap();
        let text = text.replace("\"plain\"", "\"amber.plain\"");
        let text = text.replace("\"d\"", "\"amber.d\"");
        let its = file(definition["file"].as_str().unwrap(), &text);
        admin.done(post.clone(), "/definitions/apply", its).await;
    }
    for path in ["report/r", "dashboard/d", "source/plain"] {
        let path = format!("/definitions/{path}");
        admin.done(Method::DELETE, &path, json!({})).await;
    }
    // What belongs to the team cannot be used by what belongs to all.
    let of_all = fixtures::dashboard("d").query("q", "amber.plain", "sql = \"select 1\"");
    let (status, said) = admin
        .ask(post.clone(), "/definitions/apply", &file("d.toml", &of_all))
        .await;
    assert_eq!(status, StatusCode::UNPROCESSABLE_ENTITY);
    assert!(said.contains("is for \\\"amber\\\" alone"), "{said}");
    let (_, seen) = ann.ask(Method::GET, "/sources", &json!({})).await;
    let seen: Value = serde_json::from_str(&seen).unwrap();
    assert_eq!(
        (&seen[0]["name"], &seen[0]["address"]),
        (&json!("amber.plain"), &json!(""))
    );
    let (status, said) = ann
        .ask(Method::GET, "/definitions/source/amber.plain", &json!({}))
        .await;
    assert_eq!(status, StatusCode::FORBIDDEN, "{said}");
    assert!(
        said.contains("shared with you for use") && !said.contains("secret:"),
        "{said}"
    );
    let tried =
        json!({ "definition": "[query]\nsource = \"amber.plain\"\nsql = \"select 7 as n\"\n" });
    let answer = ann.done(post.clone(), "/queries/try", tried.clone()).await;
    assert_eq!(answer["rows"], json!([["7"]]));
    let (status, said) = bo.ask(post.clone(), "/queries/try", &tried).await;
    assert_eq!(status, StatusCode::UNPROCESSABLE_ENTITY);
    assert!(
        said.contains("there is no source") && !said.contains("Did you mean"),
        "{said}"
    );

    // What she makes is the team's; what is all people's she does not change.
    let person = |name: &str, team: &str, address: &str| {
        let (name, address) = (
            format!("name = \"{name}\""),
            format!("address = \"{address}\""),
        );
        format!("[person]\n{name}\n{address}\n{team}\n")
    };
    let (amber, pia) = ("team = \"amber\"", "pia@orrin-sound.example");
    let apply = async |user: &User<'_>, text: String| {
        user.ask(post.clone(), "/definitions/apply", &file("pia.toml", &text))
            .await
    };
    let (status, said) = apply(&ann, person("pia", "", pia)).await;
    assert_eq!(status, StatusCode::FORBIDDEN);
    assert!(said.contains("team = \\\"amber\\\""), "{said}");
    let (status, said) = apply(&ann, person("amber.pia", amber, "pia@elsewhere.example")).await;
    assert_eq!(status, StatusCode::UNPROCESSABLE_ENTITY);
    assert!(said.contains("not to pia@elsewhere.example"), "{said}");
    let (status, said) = apply(&ann, person("pia", amber, pia)).await;
    assert_eq!(status, StatusCode::UNPROCESSABLE_ENTITY);
    assert!(said.contains("such as \\\"amber.pia\\\""), "{said}");
    let (status, said) = apply(&ann, person("amber.pia", amber, pia)).await;
    assert!(status.is_success(), "{said}");
    // Nobody else finds out which names and files it has: what is theirs has names and files of its own.
    for name in ["amber.pia", "amber.nobody"] {
        let (status, said) = apply(&bo, person(name, "", pia)).await;
        assert_eq!(status, StatusCode::UNPROCESSABLE_ENTITY);
        assert!(said.contains("is for what belongs to a team"), "{said}");
        let (status, said) = apply(&bo, person(name, amber, pia)).await;
        assert_eq!(status, StatusCode::UNPROCESSABLE_ENTITY);
        assert!(said.contains("you are not in a team"), "{said}");
    }
    let (status, said) = apply(&bo, person("pia", "", pia)).await;
    assert!(
        status.is_success(),
        "a name and a file that others have, too: {said}"
    );
    // Nor by what stands beside a preview.
    let sampler = |name: &str| {
        format!(
            "[sampler]\nname = \"{name}\"\ntitle = \"S\"\nteam = \"amber\"\nevery = \"PT1H\"\nkeep = \"P1D\"\n[query]\nsource = \"amber.plain\"\nsql = \"select 1\"\n"
        )
    };
    let own = file("kept.toml", &sampler("amber.kept"));
    ann.done(post.clone(), "/definitions/apply", own).await;
    let beside = async |name: &str| {
        let order = json!({ "definition": "", "beside": [sampler(name)] });
        bo.ask(post.clone(), "/preview", &order).await
    };
    let (hidden, invented) = (beside("amber.kept").await, beside("amber.none").await);
    assert_eq!(hidden, invented);
    assert!(hidden.1.contains("you are not in a team"), "{hidden:?}");
    // In a folder they are apart.
    let files = admin.done(Method::GET, "/definitions", json!({})).await;
    let files = files.as_array().unwrap().iter();
    let mut files: Vec<&str> = files.filter_map(|one| one["file"].as_str()).collect();
    files.retain(|file| file.ends_with("pia.toml"));
    files.sort_unstable();
    assert_eq!(files.len(), 2, "{files:?}");
    assert!(
        files.contains(&"pia.toml") && files != ["pia.toml"; 2],
        "{files:?}"
    );
    let none = person("none.ole", "team = \"none\"", pia);
    let (status, said) = admin
        .ask(post.clone(), "/definitions/apply", &file("ole.toml", &none))
        .await;
    assert_eq!(status, StatusCode::UNPROCESSABLE_ENTITY);
    assert!(said.contains("there is no team \\\"none\\\""), "{said}");
    // What she makes by its keys, or of what is there, gets its name by itself.
    let keys = json!({ "keys": { "group": { "name": "crew", "members": ["amber.pia"] } } });
    let made = ann.done(post.clone(), "/definitions/group", keys).await;
    assert_eq!(made["file"], "people/amber.crew.toml", "{made}");
    let copy = json!({ "name": "again" });
    let made = ann.done(post.clone(), "/reports/amber.r/copy", copy).await;
    assert_eq!(made["name"], "amber.again", "{made}");
    // Nor does an address that is asked for once get round the team's.
    let order = json!({ "to": ["x@elsewhere.example"] });
    let (status, said) = ann.ask(post.clone(), "/reports/amber.r/runs", &order).await;
    assert_eq!(status, StatusCode::FORBIDDEN, "{said}");

    // Owners say who is in it.
    let member = "/teams/amber/members/bo";
    let (status, said) = ann.ask(Method::PUT, member, &json!({})).await;
    assert_eq!(status, StatusCode::FORBIDDEN);
    assert!(said.contains("only owners"), "{said}");
    assert_eq!(
        bo.ask(Method::PUT, member, &json!({})).await.0,
        StatusCode::NOT_FOUND
    );
    admin
        .done(
            Method::PUT,
            "/teams/amber/members/ann",
            json!({ "owner": true }),
        )
        .await;
    ann.done(Method::PUT, member, json!({})).await;
    let answer = bo.done(post.clone(), "/queries/try", tried.clone()).await;
    assert_eq!(answer["row_count"], 1, "at once");
    ann.done(Method::DELETE, member, json!({})).await;
    assert_eq!(bo.ask(post.clone(), "/queries/try", &tried).await.0, 422);
    let (status, said) = admin.ask(Method::DELETE, "/teams/amber", &json!({})).await;
    assert_eq!(status, StatusCode::CONFLICT);
    assert!(said.contains("7 definitions belong"), "{said}");
}

#[tokio::test(flavor = "multi_thread")]
async fn who_leaves_a_team_or_is_disabled_hears_nothing_more_of_a_run_that_they_follow() {
    let place = Place::new().await;
    let admin = place.admin().await;
    place.with_report(&admin.client, &admin.token).await;
    admin
        .done(Method::POST, "/teams", json!({ "name": "amber" }))
        .await;
    let copy = json!({ "name": "amber.r" });
    admin.done(Method::POST, "/reports/r/copy", copy).await;
    let mut records = place.cluster.connect("maple_lark").await.unwrap();
    for (name, ended_by) in [
        (
            "ann",
            (Method::DELETE, "/teams/amber/members/ann", json!({})),
        ),
        (
            "bo",
            (Method::PATCH, "/users/bo", json!({ "disabled": true })),
        ),
    ] {
        let user = place.user(&admin, name, "viewer", &["amber"]).await;
        // A run that nobody works on, so that it does not end by itself.
        let run = admin
            .done(
                Method::POST,
                "/reports/amber.r/runs",
                json!({ "deliver": false }),
            )
            .await;
        let id = run["id"].as_str().unwrap();
        sqlx::query(
            "update runs set state = 'awaiting-approval', lease_owner = null where id::text = $1",
        )
        .bind(id)
        .execute(&mut records)
        .await
        .unwrap();
        let stream = user
            .client
            .get(place.url(&format!("/runs/{id}/events")))
            .bearer_auth(&user.token)
            .send();
        let mut stream = stream.await.unwrap();
        assert!(stream.chunk().await.unwrap().is_some(), "it is followed");
        let (method, path, body) = ended_by;
        admin.done(method, path, body).await;
        let end = async { while stream.chunk().await.unwrap().is_some() {} };
        tokio::time::timeout(PATIENCE, end)
            .await
            .expect("the stream ends");
    }
}

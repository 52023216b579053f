//! One user asks for everything.

use std::collections::{BTreeMap, BTreeSet, HashMap};

use maple_lark_data::digest::sha256;
use maple_lark_fixtures::readable;
use reqwest::{Method, StatusCode};
use serde_json::{Value, json};

use super::{
    super::{PATIENCE, teams::User, teams::filled},
    Made,
    worlds::{Of, PORTS},
};

/// Which of the names that somebody sees is like one that they wrote follows from how it is written. A
/// suggestion that they do not see is found as any other word.
pub(super) fn without_suggestions(said: &str) -> String {
    let mut parts = said.split(" Did you mean ");
    let first = parts.next().unwrap_or_default().to_owned();
    parts.fold(first, |text, part| {
        text + part.split_once('?').map_or("", |(_, rest)| rest)
    })
}

/// What one user can reach.
pub(super) struct Walk<'a, 'p> {
    pub(super) made: &'a Made<'p>,
    pub(super) person: usize,
    /// Every word that must not come, and what it is of.
    pub(super) hidden: BTreeMap<&'a str, Of>,
    /// Every word that came.
    pub(super) seen: BTreeSet<Of>,
    pub(super) found: Vec<String>,
    pub(super) read: HashMap<String, String>,
    pub(super) asked: usize,
}

impl<'a, 'p> Walk<'a, 'p> {
    pub(super) fn new(made: &'a Made<'p>, person: usize) -> Self {
        let words = made.world.words();
        let hidden = words.iter().filter(|(_, of)| !made.world.may(person, **of));
        Self {
            hidden: hidden.map(|(word, of)| (*word, *of)).collect(),
            made,
            person,
            seen: BTreeSet::new(),
            found: Vec::new(),
            read: HashMap::new(),
            asked: 0,
        }
    }

    pub(super) fn user(&self) -> &'a User<'p> {
        &self.made.people[self.person]
    }

    /// Searches what came by some way. What was asked with may come back.
    pub(super) fn search(&mut self, way: &str, bytes: &[u8]) {
        let digest = sha256(bytes);
        let text = self.read.entry(digest).or_insert_with(|| readable(bytes));
        for (word, of) in self.made.world.words() {
            if !text.contains(word) {
                continue;
            }
            self.seen.insert(of);
            if self.hidden.contains_key(word) && !way.contains(word) {
                let part: String = text[text.find(word).unwrap().saturating_sub(60)..]
                    .chars()
                    .take(120)
                    .collect();
                self.found.push(format!("{way}: {of:?} {word}: …{part}…"));
            }
        }
    }

    pub(super) async fn ask(
        &mut self,
        method: Method,
        path: &str,
        body: &Value,
    ) -> (StatusCode, Vec<u8>) {
        let way = format!("{method} {path} {body}");
        let base = &self.made.place.base;
        let url = match path {
            "/health" | "/ready" | "/metrics" => format!("{base}{path}"),
            _ if path.starts_with("/view/") || path.starts_with("/api/") => format!("{base}{path}"),
            _ => self.made.place.url(path),
        };
        let user = self.user();
        let mut request = user
            .client
            .request(method.clone(), url)
            .bearer_auth(&user.token);
        if method != Method::GET {
            request = request.json(body);
        }
        let asked = async {
            let answer = request.send().await.unwrap();
            (
                answer.status(),
                format!("{:?}", answer.headers()),
                answer.bytes().await.unwrap(),
            )
        };
        let (status, headers, bytes) = tokio::time::timeout(PATIENCE, asked).await.expect(&way);
        assert!(
            !status.is_server_error(),
            "{way}: {status} {}",
            String::from_utf8_lossy(&bytes)
        );
        self.search(&way, headers.as_bytes());
        self.search(&way, &bytes);
        self.asked += 1;
        (status, bytes.to_vec())
    }

    pub(super) async fn get(&mut self, path: &str) -> (StatusCode, Vec<u8>) {
        self.ask(Method::GET, path, &json!({})).await
    }

    pub(super) fn whole(&self, board: usize) -> bool {
        self.made.world.sees_whole(self.person, board)
    }

    /// Every operation: without places; with all that is there, where it changes nothing; and with what is
    /// not theirs, where it changes something.
    pub(super) async fn every_operation(&mut self) {
        let described: Value =
            serde_json::from_str(include_str!("../../../../../docs/openapi.json")).unwrap();
        let made = self.made;
        let all = made.there.ids.iter().chain(&made.there.names);
        let others: BTreeSet<&String> = all
            .filter(|(_, board)| !self.whole(*board))
            .map(|(one, _)| one)
            .collect();
        for (path, methods) in described["paths"].as_object().unwrap() {
            for (method, about) in methods.as_object().unwrap() {
                let Some(operation) = about["operationId"].as_str() else {
                    continue;
                };
                let method: Method = method.to_uppercase().parse().unwrap();
                if !path.contains('{') {
                    if method == Method::GET && operation != "agenda_feed" {
                        self.get(path).await;
                    }
                    continue;
                }
                for path in filled(path, &self.values(path)) {
                    if method == Method::GET || others.iter().any(|one| path.contains(one.as_str()))
                    {
                        let (status, _) = self.ask(method.clone(), &path, &json!({})).await;
                        let changes = method != Method::GET && status.is_success();
                        assert!(
                            !changes || operation == "parameter_choices",
                            "{method} {path}: {status}"
                        );
                    }
                }
            }
        }
    }

    pub(super) fn values(&self, path: &str) -> BTreeMap<&'static str, Vec<String>> {
        let (there, world) = (&self.made.there, &self.made.world);
        let of =
            |all: &[(String, usize)]| all.iter().map(|(one, _)| one.clone()).collect::<Vec<_>>();
        let mut names = of(&there.names);
        names.extend(world.teams.iter().cloned());
        let some = |words: &[&str]| {
            words
                .iter()
                .map(|word| (*word).to_owned())
                .collect::<Vec<_>>()
        };
        // Only a definition of its own kind is one.
        let kinds = if path.contains("versions") {
            &["report", "person"][..]
        } else {
            &[
                "dashboard",
                "report",
                "sampler",
                "group",
                "theme",
                "message-template",
            ]
        };
        BTreeMap::from([
            ("id", of(&there.ids)),
            ("name", names),
            ("kind", some(kinds)),
            ("format", some(&["csv", "json", "html"])),
            ("version", some(&["1"])),
            ("day", vec![chrono::Utc::now().date_naive().to_string()]),
            (
                "address",
                vec![format!(
                    "{}@orrin-sound.example",
                    world.boards[0].addresses[0]
                )],
            ),
            ("user", some(&["person0"])),
            ("index", some(&["0"])),
        ])
    }

    /// Lists that are narrowed to what is not theirs, and published views with every value.
    pub(super) async fn every_question(&mut self) {
        let made = self.made;
        let world = &made.world;
        for word in world.words().into_keys() {
            for list in [
                "archive?words=",
                "archive?report=",
                "archive?recipient=",
                "archive?tag=",
                "archive.zip?words=",
                "runs?report=",
                "reports?words=",
                "documents?sha256=",
                "audit?text=",
            ] {
                self.get(&format!("/{list}{word}")).await;
            }
        }
        self.get("/archive.zip").await;
        self.get("/archive?size=200").await;
        for digest in &made.there.digests {
            self.get(&format!("/documents?sha256={digest}")).await;
        }
        for board in &world.boards {
            let r = world.name_of(board, &board.word, "r");
            self.get(&format!("/runs?report={r}")).await;
            self.get(&format!("/agenda?from=2026-01-01&to=2027-01-01&report={r}"))
                .await;
        }
        self.get("/agenda?from=2026-01-01&to=2026-12-31").await;
        for view in &made.there.views {
            self.get(&format!("/view/{view}")).await;
            for more in world
                .ports
                .iter()
                .map(|port| format!("?port={port}"))
                .chain([String::new()])
            {
                self.get(&format!("/view/{view}/content{more}")).await;
            }
        }
        let (status, made) = self.ask(Method::POST, "/agenda/feed", &json!({})).await;
        if status.is_success() {
            let feed: Value = serde_json::from_slice(&made).unwrap();
            let address = feed["address"].as_str().unwrap();
            let path = &address[address.find("/api/").unwrap()..];
            assert_eq!(self.get(path).await.0, StatusCode::OK);
        }
    }

    /// Texts that lean on what others have, and previews of it.
    pub(super) async fn every_text(&mut self) {
        let made = self.made;
        let world = &made.world;
        for (place, board) in world.boards.iter().enumerate() {
            let of_board = |what| world.name_of(board, &board.word, what);
            let (d, r) = (of_board("d"), of_board("r"));
            let mut orders = vec![
                (
                    "/queries/try".to_owned(),
                    json!({ "dashboard": d, "query": "rows" }),
                ),
                ("/preview".to_owned(), json!({ "report": r })),
                ("/preview".to_owned(), json!({ "dashboard": d })),
                (format!("/dashboards/{d}/choices"), json!({})),
                (
                    format!("/reports/{r}/message-preview"),
                    json!({ "subject": "x", "text": "y" }),
                ),
            ];
            for port in &world.ports {
                orders.push((
                    "/preview".to_owned(),
                    json!({ "dashboard": d, "parameters": { "port": port } }),
                ));
                orders.push((
                    "/preview".to_owned(),
                    json!({ "report": r, "audience": port }),
                ));
            }
            if !self.whole(place) {
                orders.push((format!("/reports/{r}/copy"), json!({ "name": "mine" })));
                orders.push((format!("/reports/{r}/runs"), json!({ "deliver": false })));
                orders.push((
                    format!("/definitions/dashboard/{d}/copy"),
                    json!({ "name": "mine" }),
                ));
            }
            for (path, order) in orders {
                self.ask(Method::POST, &path, &order).await;
            }
        }
        for (name, board) in &made.there.names {
            if !self.whole(*board) {
                self.is_like_what_never_was(name).await;
            }
        }
    }

    /// What leans on a definition that is hidden, or would be called like it, is answered as with one that
    /// never was.
    pub(super) async fn is_like_what_never_was(&mut self, name: &str) {
        let own = name.rfind('.').map_or(0, |dot| dot + 1);
        const NEVER: &str = "zq000000000";
        let word = &name[own..own + NEVER.len()];
        let never = name.replace(word, NEVER);
        let texts = |name: &str| {
            let dashboard =
                |more: &str| format!("[dashboard]\nname = \"mine\"\ntitle = \"Mine\"\n{more}");
            let section = "[[section]]\ntitle = \"S\"\n[[section.block]]\n";
            let table = "show = \"table\"\ntitle = \"T\"\nquery = \"q\"\n";
            let report = |keys: &str, more: &str| {
                format!(
                    "[report]\nname = \"mine\"\ntitle = \"R\"\ntime-zone = \"UTC\"\n{keys}[window]\nprevious = \"day\"\n{more}"
                )
            };
            [
                dashboard(&format!(
                    "{section}from = \"{name}\"\nblock = \"Rows of rows\"\n"
                )),
                dashboard(&format!(
                    "[[query]]\nname = \"q\"\nsampler = \"{name}\"\n{section}{table}"
                )),
                dashboard(&format!(
                    "[[query]]\nname = \"q\"\nsource = \"{name}\"\nsql = \"select 1\"\n{section}{table}"
                )),
                report(&format!("dashboards = [\"{name}\"]\n"), ""),
                report(&format!("dashboards = [\"d\"]\ntheme = \"{name}\"\n"), ""),
                report(
                    "dashboards = [\"d\"]\n",
                    &format!("[message]\ntemplate = \"{name}\"\n"),
                ),
                report(
                    "dashboards = [\"d\"]\n",
                    &format!("[[audience]]\nname = \"a\"\nto = [\"{name}\"]\n"),
                ),
                report(
                    "dashboards = [\"d\"]\n",
                    &format!("[schedule]\nafter = \"{name}\"\n"),
                ),
                format!("[group]\nname = \"mine\"\ntitle = \"G\"\nmembers = [\"{name}\"]\n"),
            ]
        };
        let written_to = |word: &str| {
            format!("[person]\nname = \"mine\"\naddress = \"{word}@orrin-sound.example\"\n")
        };
        let all = |name: &str, word: &str| {
            let mut all = self.named_like(name);
            all.extend(texts(name));
            all.push(written_to(word));
            all
        };
        let pairs = all(name, word).into_iter().zip(all(&never, NEVER));
        for (hidden, invented) in pairs {
            for path in ["/definitions/plan", "/definitions/draft", "/preview"] {
                let order = |text: &str| match path {
                    "/definitions/plan" => {
                        json!({ "files": [{ "file": "mine.toml", "text": text }] })
                    }
                    "/definitions/draft" => json!({ "text": text }),
                    _ => json!({ "definition": text }),
                };
                let (status, said) = self.ask(Method::POST, path, &order(&hidden)).await;
                let (other, instead) = self.ask(Method::POST, path, &order(&invented)).await;
                let said = String::from_utf8_lossy(&said).replace(word, NEVER);
                let instead = String::from_utf8_lossy(&instead);
                assert_eq!(
                    (status, without_suggestions(&said)),
                    (other, without_suggestions(&instead)),
                    "{path} {hidden}"
                );
            }
        }
    }

    /// What would have a name, of every kind that somebody makes, and for all as for every team.
    pub(super) fn named_like(&self, name: &str) -> Vec<String> {
        let mut texts = Vec::new();
        for team in self.made.world.teams.iter().map(Some).chain([None]) {
            let team = team.map_or_else(String::new, |team| format!("team = \"{team}\"\n"));
            texts.extend([
                format!("[dashboard]\nname = \"{name}\"\ntitle = \"D\"\n{team}"),
                format!("[report]\nname = \"{name}\"\ntitle = \"R\"\n{team}time-zone = \"UTC\"\ndashboards = [\"d\"]\n[window]\nprevious = \"day\"\n"),
                format!("[sampler]\nname = \"{name}\"\ntitle = \"S\"\n{team}every = \"PT1H\"\nkeep = \"P1D\"\n[query]\nsource = \"plain\"\nsql = \"select 1.0 as n\"\n"),
                format!("[person]\nname = \"{name}\"\ntitle = \"P\"\n{team}address = \"p@orrin-sound.example\"\n"),
                format!("[group]\nname = \"{name}\"\ntitle = \"G\"\n{team}members = [\"p@orrin-sound.example\"]\n"),
                format!("[theme]\nname = \"{name}\"\ntitle = \"T\"\n{team}"),
                format!("[message-template]\nname = \"{name}\"\ntitle = \"M\"\nsubject = \"s\"\n{team}"),
            ]);
        }
        texts
    }

    /// Where an own thing is not to be found, the test would find no other's either.
    pub(super) fn missing(&self) -> Vec<Of> {
        let world = &self.made.world;
        let all =
            (0..world.boards.len()).flat_map(|board| (0..PORTS).map(move |port| (board, port)));
        let theirs = all.filter(|(board, port)| {
            world.sees(self.person, *board, *port) && !world.boards[*board].broken
        });
        let theirs = theirs.map(|(board, port)| Of::Rows(board, port));
        theirs.filter(|of| !self.seen.contains(of)).collect()
    }
}

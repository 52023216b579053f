//! Everyone sees their own: random teams, users, values and data. Whatever one user can reach by any
//! operation, view, stream, mail and file is searched for what only others may see.
//!
//! `MAPLE_LARK_WORLDS` says how many worlds are made (one if nothing is said), `MAPLE_LARK_WORLD` which
//! one is made again: the number that a failure tells.

use std::collections::{BTreeMap, BTreeSet, HashMap};

use maple_lark_data::digest::sha256;
use maple_lark_demo::{MailServer, mail_server::Behaviour};
use maple_lark_fixtures::{self as fixtures, readable, readable_mail};
use proptest::{
    collection::vec,
    prelude::any,
    strategy::{Strategy, ValueTree},
    test_runner::{Config, RngAlgorithm, TestRng, TestRunner},
};
use reqwest::{Method, StatusCode};
use serde_json::{Value, json};
use tempfile::TempDir;

use super::{PATIENCE, Place, teams::User, teams::filled};

/// Whose values, of how many there are.
const PORTS: usize = 4;
const TEAMS: usize = 3;

/// Somebody, as drawn.
#[derive(Debug, Clone)]
struct Person {
    author: bool,
    teams: Vec<bool>,
    /// The ports that a viewer is held to, if to any.
    held: Option<Vec<bool>>,
    /// For each board the ports whose mail goes to them.
    mailed: Vec<Vec<bool>>,
}

/// A dashboard, the report of it, and what hangs on them, as drawn.
#[derive(Debug, Clone)]
struct Board {
    team: Option<usize>,
    ports: Vec<bool>,
    formats: Vec<&'static str>,
    /// Whether its query fails, so that nothing of it is sent.
    broken: bool,
    /// Its word in names and texts, that of what hangs on it, and those in the rows of each port.
    word: String,
    inner: String,
    rows: Vec<String>,
    addresses: Vec<String>,
}

#[derive(Debug, Clone)]
struct World {
    teams: Vec<String>,
    ports: Vec<String>,
    people: Vec<Person>,
    boards: Vec<Board>,
}

/// A word that stands nowhere else.
fn word() -> impl Strategy<Value = String> {
    "zq[a-z]{9}"
}

fn board() -> impl Strategy<Value = Board> {
    let formats = ["pdf", "html", "csv", "xlsx", "json", "txt"];
    (
        0..=TEAMS,
        vec(any::<bool>(), PORTS),
        proptest::sample::subsequence(formats.to_vec(), 2..=3),
        0..5_usize,
        (word(), word()),
        (vec(word(), PORTS), vec(word(), PORTS)),
    )
        .prop_map(
            |(team, mut ports, formats, broken, (word, inner), (rows, addresses))| {
                ports[0] |= !ports.contains(&true);
                Board {
                    team: (team < TEAMS).then_some(team),
                    ports,
                    formats,
                    broken: broken == 0,
                    word,
                    inner,
                    rows,
                    addresses,
                }
            },
        )
}

fn person(boards: usize) -> impl Strategy<Value = Person> {
    (
        any::<bool>(),
        vec(proptest::bool::weighted(0.4), TEAMS),
        proptest::option::weighted(0.6, vec(any::<bool>(), PORTS)),
        vec(vec(proptest::bool::weighted(0.15), PORTS), boards),
    )
        .prop_map(|(author, teams, held, mailed)| Person {
            held: held.filter(|held| !author && held.contains(&true)),
            author,
            teams,
            mailed,
        })
}

fn world() -> impl Strategy<Value = World> {
    const BOARDS: usize = 4;
    (
        vec(word(), TEAMS),
        vec(word(), PORTS),
        vec(person(BOARDS), 5),
        vec(board(), BOARDS),
    )
        .prop_map(|(teams, ports, people, boards)| World {
            teams,
            ports,
            people,
            boards,
        })
}

/// What a word belongs to.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
enum Of {
    Team(usize),
    Port(usize),
    /// A board's name and titles.
    Board(usize),
    /// What hangs on a board: for those who see it whole.
    Inner(usize),
    /// The rows of a board for a port.
    Rows(usize, usize),
    /// Whom a board is sent to for a port.
    Address(usize, usize),
}

impl World {
    fn words(&self) -> BTreeMap<&str, Of> {
        let mut all = BTreeMap::new();
        let mut add = |word: &'_ str, of| assert!(all.insert(word.to_owned(), of).is_none());
        for (place, team) in self.teams.iter().enumerate() {
            add(team, Of::Team(place));
        }
        for (place, port) in self.ports.iter().enumerate() {
            add(port, Of::Port(place));
        }
        for (place, board) in self.boards.iter().enumerate() {
            add(&board.word, Of::Board(place));
            add(&board.inner, Of::Inner(place));
            for port in 0..PORTS {
                add(&board.rows[port], Of::Rows(place, port));
                add(&board.addresses[port], Of::Address(place, port));
            }
        }
        let word = |of: Of| match of {
            Of::Team(team) => &*self.teams[team],
            Of::Port(port) => &*self.ports[port],
            Of::Board(board) => &*self.boards[board].word,
            Of::Inner(board) => &*self.boards[board].inner,
            Of::Rows(board, port) => &*self.boards[board].rows[port],
            Of::Address(board, port) => &*self.boards[board].addresses[port],
        };
        all.into_values().map(|of| (word(of), of)).collect()
    }

    fn shown(&self, board: usize) -> impl Iterator<Item = usize> {
        let ports = &self.boards[board].ports;
        (0..PORTS).filter(|port| ports[*port])
    }

    /// Whether somebody is in the team of a board.
    fn has(&self, person: usize, board: usize) -> bool {
        let team = self.boards[board].team;
        team.is_none_or(|team| self.people[person].teams[team])
    }

    /// Whether they see it with all of its values.
    fn sees_whole(&self, person: usize, board: usize) -> bool {
        self.people[person].held.is_none() && self.has(person, board)
    }

    /// Whether their values let them see a port.
    fn within(&self, person: usize, port: usize) -> bool {
        let held = self.people[person].held.as_ref();
        held.is_none_or(|held| held[port])
    }

    /// Whether a board's mail of a port goes to them.
    fn gets(&self, person: usize, board: usize, port: usize) -> bool {
        let (one, shows) = (&self.people[person], &self.boards[board]);
        shows.ports[port] && !shows.broken && one.mailed[board][port] && self.within(person, port)
    }

    /// Whether they see what a board shows of a port.
    fn sees(&self, person: usize, board: usize, port: usize) -> bool {
        let shown = self.boards[board].ports[port] && self.within(person, port);
        shown && (self.has(person, board) || self.gets(person, board, port))
    }

    fn may(&self, person: usize, of: Of) -> bool {
        let one = &self.people[person];
        match of {
            // Its name stands before those of its definitions, which documents are named by.
            Of::Team(team) => {
                let of_team = |board: &usize| self.boards[*board].team == Some(team);
                let boards = (0..self.boards.len()).filter(of_team);
                one.teams[team]
                    || boards
                        .flat_map(|board| (0..PORTS).map(move |port| (board, port)))
                        .any(|(board, port)| self.sees(person, board, port))
            }
            Of::Port(port) => {
                let held = one.held.as_ref().is_some_and(|held| held[port]);
                held || (0..self.boards.len()).any(|board| self.sees(person, board, port))
            }
            Of::Board(board) => {
                let some = (0..PORTS).any(|port| self.sees(person, board, port));
                some || self.sees_whole(person, board)
            }
            Of::Inner(board) => self.sees_whole(person, board),
            Of::Rows(board, port) => self.sees(person, board, port),
            Of::Address(board, port) => {
                self.sees_whole(person, board) && self.boards[board].ports[port]
            }
        }
    }

    fn mail_of(&self, person: usize) -> String {
        format!("person{person}@orrin-sound.example")
    }

    /// What a definition of a board is called: in the name space of its team.
    fn name_of(&self, board: &Board, word: &str, what: &str) -> String {
        let space = board.team.map(|team| format!("{}.", self.teams[team]));
        format!("{}{word}-{what}", space.unwrap_or_default())
    }

    fn definitions(&self) -> Vec<Value> {
        let mut files = Vec::new();
        let mut add = |text: String| {
            let file = format!("{}.toml", files.len());
            files.push(json!({ "file": file, "text": text }));
        };
        for (place, board) in self.boards.iter().enumerate() {
            let (word, inner) = (&board.word, &board.inner);
            let of_board = |word: &str, what: &str| self.name_of(board, word, what);
            let (d, r) = (of_board(word, "d"), of_board(word, "r"));
            let [s, p, g, t, m] = ["s", "p", "g", "t", "m"].map(|what| of_board(inner, what));
            let owned = |fixture: fixtures::Fixture| match board.team {
                Some(team) => fixture.key("team", self.teams[team].clone()),
                None => fixture,
            };
            let team = board.team.map_or_else(String::new, |team| {
                format!("team = \"{}\"\n", self.teams[team])
            });
            let asks = if board.broken {
                format!(
                    "sql = \"select word, n / (n - n) as n from birds where board = '{place}' and port = :port\""
                )
            } else {
                format!(
                    "sql = \"select word, n from birds where board = '{place}' and port = :port\""
                )
            };
            let dashboard = fixtures::dashboard(&d)
                .key("title", format!("Birds {word}"))
                .table(&format!("[[parameter]]\nname = \"port\"\ntitle = \"Port\"\ndefault = \"{}\"", self.ports[self.shown(place).next().unwrap()]))
                .query("rows", "plain", &asks)
                .block("show = \"column\"\ntitle = \"Chart\"\nquery = \"rows\"\nlabel = \"word\"\nvalue = \"n\"");
            add(owned(dashboard).to_string());
            let mut report = owned(fixtures::report(&r, &d))
                .key("title", format!("Report {word}"))
                .key("owner", format!("{word}@orrin-sound.example"))
                .list("formats", &board.formats)
                .daily_at("06:00", "");
            for port in self.shown(place) {
                let mut to = vec![format!("{}@orrin-sound.example", board.addresses[port])];
                let mailed =
                    (0..self.people.len()).filter(|one| self.people[*one].mailed[place][port]);
                to.extend(mailed.map(|one| self.mail_of(one)));
                let value = &self.ports[port];
                report = report.table(&format!("[[audience]]\nname = \"{value}\"\nto = {to:?}\nparameters = {{ port = \"{value}\" }}"));
            }
            add(report.to_string());
            add(format!(
                "[sampler]\nname = \"{s}\"\ntitle = \"S {inner}\"\n{team}every = \"PT1H\"\nkeep = \"P1D\"\n[query]\nsource = \"plain\"\nsql = \"select 1.0 as n\"\n"
            ));
            add(format!(
                "[person]\nname = \"{p}\"\ntitle = \"P {inner}\"\naddress = \"{inner}@orrin-sound.example\"\n{team}"
            ));
            add(format!(
                "[group]\nname = \"{g}\"\ntitle = \"G {inner}\"\nmembers = [\"{p}\"]\n{team}"
            ));
            add(format!(
                "[theme]\nname = \"{t}\"\ntitle = \"T {inner}\"\n{team}"
            ));
            add(format!(
                "[message-template]\nname = \"{m}\"\ntitle = \"M {inner}\"\nsubject = \"{inner}\"\n{team}"
            ));
        }
        files
    }
}

/// What is there to be asked for, and which board it is of.
#[derive(Default)]
struct There {
    /// Runs, snapshots, documents, deliveries and views.
    ids: Vec<(String, usize)>,
    /// Definitions.
    names: Vec<(String, usize)>,
    views: Vec<String>,
    digests: Vec<String>,
}

/// A world that has come into being, with everybody in it.
struct Made<'p> {
    place: &'p Place,
    world: World,
    people: Vec<User<'p>>,
    there: There,
    mail: MailServer,
}

async fn made(place: &Place, world: World, mail: MailServer) -> Made<'_> {
    let admin = place.admin().await;
    place.with_report(&admin.client, &admin.token).await;
    let mut data = place.cluster.connect("plain").await.unwrap();
    let table = "create table birds (board text, port text, word text, n int); grant select on birds to public";
    for statement in table.split("; ") {
        sqlx::query(statement).execute(&mut data).await.unwrap();
    }
    for (place, board) in world.boards.iter().enumerate() {
        for port in world.shown(place) {
            sqlx::query("insert into birds values ($1, $2, $3, $4)")
                .bind(place.to_string())
                .bind(&world.ports[port])
                .bind(&board.rows[port])
                .bind(i32::try_from(port).unwrap() + 3)
                .execute(&mut data)
                .await
                .unwrap();
        }
    }
    for team in &world.teams {
        let order = json!({ "name": team, "title": format!("Team {team}"), "addresses": ["*@orrin-sound.example"] });
        admin.done(Method::POST, "/teams", order).await;
    }
    let mut people = Vec::new();
    for (number, one) in world.people.iter().enumerate() {
        let role = if one.author { "author" } else { "viewer" };
        let name = format!("person{number}");
        let user = place.user(&admin, &name, role, &[]).await;
        for (team, _) in world
            .teams
            .iter()
            .zip(&one.teams)
            .filter(|(_, is_in)| **is_in)
        {
            let path = format!("/teams/{team}/members/{name}");
            admin
                .done(Method::PUT, &path, json!({ "owner": number % 2 == 0 }))
                .await;
        }
        let mut change = json!({ "email": world.mail_of(number) });
        if let Some(held) = &one.held {
            let values = world.ports.iter().zip(held).filter(|(_, may)| **may);
            let values: Vec<&String> = values.map(|(port, _)| port).collect();
            change["held_to"] = json!({ "port": values });
        }
        admin
            .done(Method::PATCH, &format!("/users/{name}"), change)
            .await;
        people.push(user);
    }
    let files = json!({ "files": world.definitions() });
    admin.done(Method::POST, "/definitions/apply", files).await;
    let there = there(&admin, &world).await;
    Made {
        place,
        world,
        people,
        there,
        mail,
    }
}

/// Runs every report, publishes of every board what can be published, and says what there is.
async fn there(admin: &User<'_>, world: &World) -> There {
    let mut there = There::default();
    for (place, board) in world.boards.iter().enumerate() {
        let (word, inner) = (&board.word, &board.inner);
        for name in ["d", "r"] {
            there.names.push((world.name_of(board, word, name), place));
        }
        for name in ["s", "p", "g", "t", "m"] {
            there.names.push((world.name_of(board, inner, name), place));
        }
        let (d, r) = (
            world.name_of(board, word, "d"),
            world.name_of(board, word, "r"),
        );
        let run = admin.ran(&r, true).await;
        let sent = run["deliveries"]
            .as_array()
            .is_some_and(|all| !all.is_empty());
        assert_eq!(sent, !board.broken, "{run:#}");
        let mut ids = vec![run["id"].clone()];
        for list in ["snapshots", "documents", "deliveries"] {
            let all = run[list].as_array().into_iter().flatten();
            ids.extend(all.map(|one| one["id"].clone()));
        }
        let digests = run["documents"].as_array().into_iter().flatten();
        there
            .digests
            .extend(digests.filter_map(|one| one["sha256"].as_str().map(str::to_owned)));
        let mut orders = Vec::new();
        let ports: Vec<&String> = world.shown(place).map(|port| &world.ports[port]).collect();
        for port in &ports {
            orders.push(json!({ "dashboard": d, "signed_in": true, "values": { "port": port } }));
        }
        orders.push(json!({ "dashboard": d, "signed_in": true, "choices": { "port": ports } }));
        for snapshot in run["snapshots"].as_array().into_iter().flatten() {
            orders.push(json!({ "snapshot": snapshot["id"], "signed_in": true }));
        }
        for order in orders {
            let view = admin.done(Method::POST, "/views", order).await;
            ids.push(view["id"].clone());
            there.views.push(view["id"].as_str().unwrap().to_owned());
        }
        let ids = ids
            .iter()
            .map(|id| (id.as_str().unwrap().to_owned(), place));
        there.ids.extend(ids);
    }
    there
}

/// Which of the names that somebody sees is like one that they wrote follows from how it is written. A
/// suggestion that they do not see is found as any other word.
fn without_suggestions(said: &str) -> String {
    let mut parts = said.split(" Did you mean ");
    let first = parts.next().unwrap_or_default().to_owned();
    parts.fold(first, |text, part| {
        text + part.split_once('?').map_or("", |(_, rest)| rest)
    })
}

/// What one user can reach.
struct Walk<'a, 'p> {
    made: &'a Made<'p>,
    person: usize,
    /// Every word that must not come, and what it is of.
    hidden: BTreeMap<&'a str, Of>,
    /// Every word that came.
    seen: BTreeSet<Of>,
    found: Vec<String>,
    read: HashMap<String, String>,
    asked: usize,
}

impl<'a, 'p> Walk<'a, 'p> {
    fn new(made: &'a Made<'p>, person: usize) -> Self {
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

    fn user(&self) -> &'a User<'p> {
        &self.made.people[self.person]
    }

    /// Searches what came by some way. What was asked with may come back.
    fn search(&mut self, way: &str, bytes: &[u8]) {
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

    async fn ask(&mut self, method: Method, path: &str, body: &Value) -> (StatusCode, Vec<u8>) {
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

    async fn get(&mut self, path: &str) -> (StatusCode, Vec<u8>) {
        self.ask(Method::GET, path, &json!({})).await
    }

    fn whole(&self, board: usize) -> bool {
        self.made.world.sees_whole(self.person, board)
    }

    /// Every operation: without places; with all that is there, where it changes nothing; and with what is
    /// not theirs, where it changes something.
    async fn every_operation(&mut self) {
        let described: Value =
            serde_json::from_str(include_str!("../../../../docs/openapi.json")).unwrap();
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

    fn values(&self, path: &str) -> BTreeMap<&'static str, Vec<String>> {
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
    async fn every_question(&mut self) {
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
    async fn every_text(&mut self) {
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
    async fn is_like_what_never_was(&mut self, name: &str) {
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
    fn named_like(&self, name: &str) -> Vec<String> {
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
    fn missing(&self) -> Vec<Of> {
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

/// What mails say that their recipients may not see.
fn leaks_by_mail(made: &Made<'_>) -> Vec<String> {
    let mut found = Vec::new();
    let world = &made.world;
    let mails = made.mail.messages();
    let mut of_reports = 0;
    for mail in &mails {
        let text = readable_mail(mail);
        let to = text
            .lines()
            .find_map(|line| line.strip_prefix("X-Envelope-To: "))
            .unwrap()
            .trim()
            .to_owned();
        let to_local = to.split('@').next().unwrap();
        let person = (0..world.people.len()).find(|one| world.mail_of(*one) == to);
        let own = world.words().get(to_local).copied();
        for (word, of) in world.words() {
            let may = match (own, person, of) {
                // Whoever owns a report hears of its trouble.
                (Some(Of::Board(own)), _, Of::Team(team)) => world.boards[own].team == Some(team),
                (Some(Of::Board(own)), _, _) => {
                    matches!(of, Of::Board(board) | Of::Inner(board) if board == own)
                }
                (Some(Of::Address(own, _)), _, Of::Board(board)) => board == own,
                (
                    Some(Of::Address(own, port)),
                    _,
                    Of::Rows(board, shown) | Of::Address(board, shown),
                ) => (own, port) == (board, shown),
                (Some(Of::Address(_, port)), _, Of::Port(shown)) => port == shown,
                // A report's name begins with its team's.
                (Some(Of::Address(board, _)), _, Of::Team(team)) => {
                    world.boards[board].team == Some(team)
                }
                (None, Some(person), Of::Team(team)) => {
                    let of_team = |board: &usize| world.boards[*board].team == Some(team);
                    let mut boards = (0..world.boards.len()).filter(of_team);
                    boards.any(|board| (0..PORTS).any(|port| world.gets(person, board, port)))
                }
                (None, Some(person), Of::Board(board)) => {
                    (0..PORTS).any(|port| world.gets(person, board, port))
                }
                (None, Some(person), Of::Rows(board, port)) => world.gets(person, board, port),
                (None, Some(person), Of::Port(port)) => {
                    (0..world.boards.len()).any(|board| world.gets(person, board, port))
                }
                _ => false,
            };
            of_reports += usize::from(matches!(of, Of::Rows(..)) && text.contains(word));
            if text.contains(word) && !may {
                found.push(format!("a mail to {to}: {of:?} {word}"));
            }
        }
    }
    let sent: usize = (0..world.boards.len())
        .filter(|board| !world.boards[*board].broken)
        .map(|board| world.shown(board).count())
        .sum();
    assert!(
        of_reports >= sent,
        "{of_reports} of {sent} in {} mails",
        mails.len()
    );
    found
}

#[tokio::test(flavor = "multi_thread")]
async fn everyone_sees_their_own_and_nothing_of_others() {
    let again = std::env::var("MAPLE_LARK_WORLD").ok();
    let count = std::env::var("MAPLE_LARK_WORLDS").map_or(1, |count| count.parse().unwrap());
    for _ in 0..count {
        let number = again
            .clone()
            .unwrap_or_else(|| hex::encode(uuid::Uuid::new_v4()));
        // Told beside whatever fails.
        eprintln!("world {number}");
        let rng = TestRng::from_seed(
            RngAlgorithm::ChaCha,
            &sha256(number.as_bytes()).as_bytes()[..32],
        );
        let mut runner = TestRunner::new_with_rng(Config::default(), rng);
        let drawn = world().new_tree(&mut runner).unwrap().current();
        let folder = TempDir::new().unwrap();
        let mail = MailServer::start(
            "127.0.0.1:0",
            folder.path().to_owned(),
            Behaviour::default(),
        )
        .await
        .unwrap();
        let port = mail.address.port();
        let place = Place::with(&format!("[mail]\nhost = \"127.0.0.1\"\nport = {port}\ntls = \"off\"\nfrom = \"reports@orrin-sound.example\""), &[]).await;
        let made = made(&place, drawn, mail).await;
        let mut found = Vec::new();
        for person in 0..made.people.len() {
            let mut walk = Walk::new(&made, person);
            walk.every_question().await;
            walk.every_operation().await;
            walk.every_text().await;
            assert!(walk.asked > 1_000, "{}", walk.asked);
            let missing = walk.missing();
            assert!(
                missing.is_empty(),
                "world {number}: {:?} does not find {missing:?}",
                made.world.people[person]
            );
            found.extend(
                walk.found
                    .iter()
                    .map(|one| format!("person{person}: {one}")),
            );
        }
        found.extend(leaks_by_mail(&made));
        assert!(
            found.is_empty(),
            "world {number}: {} leaks:\n{}\nto {:?}",
            found.len(),
            found[..found.len().min(20)].join("\n"),
            made.world.people
        );
    }
}

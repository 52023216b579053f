//! Worlds as they are drawn: teams, ports, people and boards, and who may see which word of them.

use std::collections::BTreeMap;

use maple_lark_fixtures as fixtures;
use proptest::{collection::vec, prelude::any, strategy::Strategy};
use serde_json::{Value, json};

/// Whose values, of how many there are.
pub(super) const PORTS: usize = 4;
pub(super) const TEAMS: usize = 3;

/// Somebody, as drawn.
#[derive(Debug, Clone)]
pub(super) struct Person {
    pub(super) author: bool,
    pub(super) teams: Vec<bool>,
    /// The ports that a viewer is held to, if to any.
    pub(super) held: Option<Vec<bool>>,
    /// For each board the ports whose mail goes to them.
    pub(super) mailed: Vec<Vec<bool>>,
}

/// A dashboard, the report of it, and what hangs on them, as drawn.
#[derive(Debug, Clone)]
pub(super) struct Board {
    pub(super) team: Option<usize>,
    pub(super) ports: Vec<bool>,
    pub(super) formats: Vec<&'static str>,
    /// Whether its query fails, so that nothing of it is sent.
    pub(super) broken: bool,
    /// Its word in names and texts, that of what hangs on it, and those in the rows of each port.
    pub(super) word: String,
    pub(super) inner: String,
    pub(super) rows: Vec<String>,
    pub(super) addresses: Vec<String>,
}

#[derive(Debug, Clone)]
pub(super) struct World {
    pub(super) teams: Vec<String>,
    pub(super) ports: Vec<String>,
    pub(super) people: Vec<Person>,
    pub(super) boards: Vec<Board>,
}

/// A word that stands nowhere else.
pub(super) fn word() -> impl Strategy<Value = String> {
    "zq[a-z]{9}"
}

pub(super) fn board() -> impl Strategy<Value = Board> {
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

pub(super) fn person(boards: usize) -> impl Strategy<Value = Person> {
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

pub(super) fn world() -> impl Strategy<Value = World> {
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
pub(super) enum Of {
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
    pub(super) fn words(&self) -> BTreeMap<&str, Of> {
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

    pub(super) fn shown(&self, board: usize) -> impl Iterator<Item = usize> {
        let ports = &self.boards[board].ports;
        (0..PORTS).filter(|port| ports[*port])
    }

    /// Whether somebody is in the team of a board.
    pub(super) fn has(&self, person: usize, board: usize) -> bool {
        let team = self.boards[board].team;
        team.is_none_or(|team| self.people[person].teams[team])
    }

    /// Whether they see it with all of its values.
    pub(super) fn sees_whole(&self, person: usize, board: usize) -> bool {
        self.people[person].held.is_none() && self.has(person, board)
    }

    /// Whether their values let them see a port.
    pub(super) fn within(&self, person: usize, port: usize) -> bool {
        let held = self.people[person].held.as_ref();
        held.is_none_or(|held| held[port])
    }

    /// Whether a board's mail of a port goes to them.
    pub(super) fn gets(&self, person: usize, board: usize, port: usize) -> bool {
        let (one, shows) = (&self.people[person], &self.boards[board]);
        shows.ports[port] && !shows.broken && one.mailed[board][port] && self.within(person, port)
    }

    /// Whether they see what a board shows of a port.
    pub(super) fn sees(&self, person: usize, board: usize, port: usize) -> bool {
        let shown = self.boards[board].ports[port] && self.within(person, port);
        shown && (self.has(person, board) || self.gets(person, board, port))
    }

    pub(super) fn may(&self, person: usize, of: Of) -> bool {
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

    pub(super) fn mail_of(&self, person: usize) -> String {
        format!("person{person}@orrin-sound.example")
    }

    /// What a definition of a board is called: in the name space of its team.
    pub(super) fn name_of(&self, board: &Board, word: &str, what: &str) -> String {
        let space = board.team.map(|team| format!("{}.", self.teams[team]));
        format!("{}{word}-{what}", space.unwrap_or_default())
    }

    pub(super) fn definitions(&self) -> Vec<Value> {
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

//! Who sees a definition sees nothing by it that belongs to others.

use crate::{
    edit,
    model::{
        definition::Definition,
        kind::Kind,
        name::{in_name_space, is_definition_name, is_name},
    },
    set::DefinitionSet,
};
use maple_lark_fixtures as fixtures;

fn set(files: &[String]) -> DefinitionSet {
    let mut set = DefinitionSet::default();
    for (i, text) in files.iter().enumerate() {
        let read = Definition::parse(&format!("{i}.toml"), text);
        set.put(read.unwrap_or_else(|problems| panic!("{}", problems[0])));
    }
    set
}

fn source(teams: &str) -> String {
    fixtures::source("s").lines(teams).to_string()
}

fn dashboard(team: &str) -> String {
    fixtures::dashboard("d")
        .lines(team)
        .query("q", "s", "sql = \"select 1 as n\"")
        .to_string()
}

fn report(team: &str, to: &str) -> String {
    fixtures::report("r", "d")
        .lines(team)
        .to("a", &[to])
        .to_string()
}

fn person(team: &str) -> String {
    format!("[person]\nname = \"ann\"\naddress = \"ann@orrin-sound.example\"\n{team}\n")
}

fn problems(files: &[String]) -> Vec<String> {
    set(files).check().iter().map(ToString::to_string).collect()
}

const PORT: &str = "team = \"port\"";
const VESSEL: &str = "team = \"vessel\"";

#[test]
fn a_definition_uses_what_belongs_to_its_team_or_to_all() {
    let none = Vec::<String>::new();
    let shared = source("teams = [\"port\", \"vessel\"]");
    for (fine, team) in [
        (&shared, PORT),
        (&shared, VESSEL),
        (&source(""), PORT),
        (&source(""), ""),
    ] {
        let files = [
            fine.clone(),
            dashboard(team),
            report(team, "ann"),
            person(""),
        ];
        assert_eq!(problems(&files), none, "{team}");
    }
    // A report of a team shows what belongs to all.
    let files = [source(""), dashboard(""), report(PORT, "ann"), person(PORT)];
    assert_eq!(problems(&files), none);

    let files = [shared.clone(), dashboard(""), report("", "ann"), person("")];
    assert_eq!(
        problems(&files),
        [
            "1.toml:6:10: query[1].source: the source \"s\" is for \"port\" and \"vessel\" alone; use another, or let an administrator share it"
        ]
    );
    // What is looked at and not kept shows it to nobody else.
    assert_eq!(set(&files).check_content(), []);
    let files = [source(""), dashboard(PORT), report("", "ann"), person("")];
    assert_eq!(
        problems(&files),
        [
            "2.toml:5:15: report.dashboards[1]: the dashboard \"d\" is for \"port\" alone; write team = \"port\" here, too"
        ]
    );
    let files = [
        source(""),
        dashboard(PORT),
        report(VESSEL, "ann"),
        person(PORT),
    ];
    let found = problems(&files);
    assert_eq!(found.len(), 2, "{found:?}");
    assert!(
        found[1].contains("the person \"ann\" is for \"port\" alone"),
        "{found:?}"
    );
}

#[test]
fn whoever_is_in_a_team_sees_what_is_its_own_and_what_belongs_to_all() {
    let all = set(&[
        source("teams = [\"port\"]"),
        dashboard(PORT),
        report(PORT, "ann"),
        person(VESSEL),
        "[group]\nname = \"crew\"\nmembers = [\"x@orrin-sound.example\"]\n".to_owned(),
    ]);
    let names = |teams: &[&str]| -> Vec<(Kind, bool)> {
        let teams: Vec<String> = teams.iter().map(|team| (*team).to_owned()).collect();
        let seen = all.seen_by(&teams);
        [
            (Kind::Source, "s"),
            (Kind::Dashboard, "d"),
            (Kind::Report, "r"),
            (Kind::Person, "ann"),
            (Kind::Group, "crew"),
        ]
        .map(|(kind, name)| (kind, seen.teams_of(kind, name).is_some()))
        .to_vec()
    };
    let seen =
        |teams: &[&str]| -> Vec<bool> { names(teams).into_iter().map(|one| one.1).collect() };
    assert_eq!(seen(&[]), [false, false, false, false, true]);
    assert_eq!(seen(&["port"]), [true, true, true, false, true]);
    assert_eq!(seen(&["vessel"]), [false, false, false, true, true]);
    assert_eq!(seen(&["port", "vessel"]), [true; 5]);
}

#[test]
fn a_team_has_a_name() {
    let read = Definition::parse("p.toml", &person("team = \"Port Operations\""));
    assert_eq!(
        read.unwrap_err()[0].to_string(),
        "p.toml:4:8: person.team: \"Port Operations\" is not the name of a team: use up to 60 small letters, digits and hyphens, such as \"port-operations\""
    );
    let read = Definition::parse("s.toml", &source("teams = [\"port\", \"\"]"));
    assert!(read.is_err());
}

#[test]
fn what_belongs_to_a_team_is_in_its_name_space_and_what_belongs_to_all_in_none() {
    let said = |name: &str, teams: &str| {
        let text = person(teams).replace("\"ann\"", &format!("\"{name}\""));
        let read =
            Definition::parse("p.toml", &text).unwrap_or_else(|wrong| panic!("{}", wrong[0]));
        read.misnamed(false).map(|problem| problem.message)
    };
    let source = |name: &str| {
        let text = fixtures::source(name).lines("teams = [\"port\", \"vessel\"]");
        Definition::parse("s.toml", &text).unwrap().misnamed(false)
    };
    for (name, teams) in [("ann", ""), ("port.ann", PORT), ("vessel.ann", VESSEL)] {
        assert_eq!(said(name, teams), None, "{name}");
    }
    // Several share it: the name space of any of them will do.
    assert_eq!((source("port.s"), source("vessel.s")), (None, None));
    assert!(source("s").is_some() && source("crew.s").is_some());
    for (name, teams, words) in [
        ("port.ann", "", "say that it does, or call it \"ann\""),
        (
            "ann",
            PORT,
            "the team \"port\" has a name that begins with it, such as \"port.ann\"",
        ),
        ("vessel.ann", PORT, "such as \"port.ann\""),
        ("ports.ann", PORT, "such as \"port.ann\""),
    ] {
        let said = said(name, teams);
        assert!(
            said.as_ref().is_some_and(|said| said.contains(words)),
            "{said:?}"
        );
    }
    // What is there already is told how it gets there.
    let there = Definition::parse("p.toml", &person(PORT)).unwrap();
    let said = there.misnamed(true).map(|problem| problem.message);
    let mend = "such as \"port.ann\"; copy it under that name";
    assert!(said.is_some_and(|said| said.ends_with(mend)));
    // The place is the definition's.
    let misnamed = Definition::parse("p.toml", &person(PORT))
        .unwrap()
        .misnamed(false);
    let place = misnamed.map(|problem| (problem.file, problem.line));
    assert_eq!(place, Some(("p.toml".to_owned(), 1)));
}

#[test]
fn every_kind_that_can_belong_to_a_team_is_given_to_one() {
    for file in super::mistakes::demo() {
        let kind = Definition::parse(&file.name, &file.text).unwrap().kind();
        let given = edit::given_to(&file.text, kind, "port").unwrap();
        match Definition::parse(&file.name, &given) {
            Ok(read) => {
                let teams = read.teams().iter().map(|team| team.value.as_str());
                assert_eq!(teams.collect::<Vec<_>>(), ["port"], "{}", file.name);
            }
            Err(wrong) => assert_eq!(kind, Kind::Calendar, "{}: {}", file.name, wrong[0]),
        }
    }
    let other = edit::given_to(&person(""), Kind::Group, "port");
    assert!(other.is_err_and(|error| error.to_string().contains("no table [group]")));
}

#[test]
fn each_team_has_an_address_book_of_its_own() {
    let called = |name: &str, team: &str| {
        let text = person(team).replace("\"ann\"", &format!("\"{name}\""));
        text + "user = \"ann.holm\"\n"
    };
    let apart = [
        called("ann", ""),
        called("port.ann", PORT),
        called("vessel.ann", VESSEL),
    ];
    assert_eq!(problems(&apart), Vec::<String>::new());
    let twice = [called("port.ann", PORT), called("port.ann-again", PORT)];
    let said = problems(&twice);
    assert!(
        said[0].contains("is the user \"ann.holm\" already"),
        "{said:?}"
    );
    assert!(said[1].contains("is the address of"), "{said:?}");
}

#[test]
fn a_name_has_at_most_one_dot_between_two_names() {
    for (name, fits) in [
        ("port.daily", true),
        ("port.9", true),
        ("port.", false),
        (".daily", false),
        ("port.daily.pdf", false),
        ("port.-daily", false),
        ("Port.daily", false),
        ("ann@port.example", false),
        (&"n".repeat(60), true),
        (&format!("port.{}", "n".repeat(56)), false),
    ] {
        assert_eq!(is_definition_name(name), fits, "{name}");
    }
    assert!(!is_name("port.daily"), "teams and secrets have none");
    assert_eq!(in_name_space("port", "daily"), "port.daily");
    assert_eq!(in_name_space("port", "crew.daily"), "crew.daily");
    // Nobody has to write the address of somebody who has a name.
    let group = "[group]\nname = \"port.crew\"\nmembers = [\"port.ann\"]\nteam = \"port\"\n";
    let files = [
        person(PORT).replace("\"ann\"", "\"port.ann\""),
        group.to_owned(),
    ];
    assert_eq!(problems(&files), Vec::<String>::new());
}

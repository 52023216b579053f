//! Who sees a definition sees nothing by it that belongs to others.

use crate::{
    model::{definition::Definition, kind::Kind},
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

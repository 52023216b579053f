//! Definitions that are made to harm: each is refused with the limit that it is past, and reading
//! it is no more work than its length.

use maple_lark_fixtures as fixtures;
use std::fmt::Write;

use crate::{limits, model::definition::Definition, problem::Problem, set::DefinitionSet};

fn problems(text: &str) -> Vec<Problem> {
    Definition::parse("d.toml", text).unwrap_err()
}

#[test]
fn a_hundred_problems_are_told_and_each_in_its_place() {
    let mut text = "[dashboard]\nname = \"d\"\ntitle = \"D\"\n".to_owned();
    for n in 0..10_000 {
        writeln!(text, "unknown-{n} = 1").unwrap();
    }
    let told = problems(&text);
    assert_eq!(told.len(), limits::PROBLEMS);
    assert_eq!((told[0].line, told[99].line, told[99].column), (4, 103, 1));
    assert_eq!(told[0].key, "dashboard.unknown-0");
}

#[test]
fn lists_that_nobody_writes_by_hand_are_refused_by_their_length() {
    let sections = "[[section]]\ntitle = \"S\"\n".repeat(10_000);
    let told = problems(&format!(
        "[dashboard]\nname = \"d\"\ntitle = \"D\"\n{sections}"
    ));
    assert_eq!(told[0].message, "has 10000 entries; the limit is 1000");
    assert_eq!(told[0].key, "section");
    let times = "\"06:00\", ".repeat(20_000);
    let report = format!(
        "[report]\nname = \"r\"\ntitle = \"R\"\ntime-zone = \"UTC\"\ndashboards = [\"d\"]\n[window]\nprevious = \"day\"\n[schedule]\nevery = \"day\"\nat = [{times}]\n"
    );
    let told = problems(&report);
    assert!(
        told.iter()
            .any(|problem| problem.message == "has 20000 entries; the limit is 5000"),
        "{told:?}"
    );
    let told = problems(&format!("# {}", "x".repeat(limits::DEFINITION_BYTES)));
    assert_eq!(
        told[0].message,
        "the file has 4000002 bytes; the limit for a definition is 4000000"
    );
    // Lists within lists do not take the stack either.
    assert!(!problems(&format!("a = {}", "[".repeat(100_000))).is_empty());
}

#[test]
fn what_signs_in_does_not_stand_in_a_definition() {
    let hook =
        |url: &str| format!("[channel]\nname = \"c\"\nkind = \"webhook\"\nurl = \"{url}\"\n");
    let told = problems(&hook(
        "https://chat.orrin-sound.example/hooks/T02K9X7B1/xoKq83hDkQ0pLm2Z",
    ));
    assert!(told[0].message.contains("contains a key"), "{}", told[0]);
    for fine in [
        "https://chat.orrin-sound.example/hooks/duty-office",
        "env:DUTY_CHAT",
    ] {
        assert!(Definition::parse("c.toml", &hook(fine)).is_ok(), "{fine}");
    }
    let source = "[source]\nname = \"s\"\nkind = \"http-json\"\nurl = \"https://x.orrin-sound.example\"\n[source.headers]\nX-Api-Key = \"letmein\"\n";
    let told = problems(source);
    assert!(
        told[0].message.contains("must not be in a definition"),
        "{}",
        told[0]
    );
    assert_eq!(told[0].key, "source.headers.X-Api-Key");
}

/// A dashboard that takes every block twice from the next.
fn link(name: &str, next: Option<&str>) -> String {
    let block = |title: &str| match next {
        Some(next) => {
            format!("[[section.block]]\nfrom = \"{next} / {title}\"\ntitle = \"{title}\"\n")
        }
        None => format!("[[section.block]]\nshow = \"text\"\ntitle = \"{title}\"\ntext = \"x\"\n"),
    };
    let blocks: String = ["A", "B", "C", "D"].map(block).concat().repeat(20);
    fixtures::dashboard(name)
        .table("[[section]]\ntitle = \"S\"")
        .table(&blocks)
        .to_string()
}

#[test]
fn blocks_that_are_taken_over_and_over_cost_no_more_than_their_number() {
    let mut set = DefinitionSet::default();
    let names: Vec<String> = (0..12).map(|n| format!("d{n:02}")).collect();
    for (n, name) in names.iter().enumerate() {
        let text = link(name, names.get(n + 1).map(String::as_str));
        set.put(
            Definition::parse("d.toml", &text).unwrap_or_else(|problems| panic!("{}", problems[0])),
        );
    }
    let told = set.check();
    assert!(
        told[0]
            .message
            .contains("borrows a block through more than 8 dashboards"),
        "{}",
        told[0]
    );
    // Round and round is no longer.
    set.put(Definition::parse("d.toml", &link("d11", Some("d00"))).unwrap());
    assert!(!set.check().is_empty());
    let mut set = DefinitionSet::default();
    for (n, name) in names[..8].iter().enumerate() {
        let text = link(name, names[..8].get(n + 1).map(String::as_str));
        set.put(Definition::parse("d.toml", &text).unwrap());
    }
    assert_eq!(set.check(), []);
}

//! What is asked of live pages.

use crate::{
    model::{
        definition::Definition,
        http::SignIn,
        page::{Keep, PageStep},
        query::ask::Ask,
        setting::Setting,
        source::SourceKind,
    },
    problem::Problem,
};

const BOARD: &str = r##"
[dashboard]
name = "harbours"
title = "Harbours"

[[parameter]]
name = "harbour"
default = "Havnes"

[[query]]
name = "board"
source = "port-office"
page = "/board?from={{ from }}&to={{ to_unix }}&harbour={{ harbour }}"
hide = ["nav", "#consent"]
printed = true
view = { width = 1400, colours = "dark", style = "print", locale = "nb-NO" }
finished = { there = "body.complete", gone = [".busy"], text = "Berths", when = "window.ready", quiet-seconds = 0.25, limit-seconds = 60 }

[[query.do]]
fill = "Harbour"
with = "{{ harbour }}"

[[query.do]]
press = "Show"

[[query.part]]
selector = "#queue"
title = "Lorries"

[[query.part]]
selector = "#berths"

[[section]]
title = "As it looks"

[[section.block]]
show = "page"
title = "The queue"
query = "board"
part = "Lorries"
"##;

const OFFICE: &str = r#"
[source]
name = "port-office"
kind = "web-page"
url = "https://office.orrin-sound.example"

[source.sign-in]
kind = "form"

[[source.sign-in.do]]
open = "/sign-in"

[[source.sign-in.do]]
fill = "Name"
with = "harbour-watch"

[[source.sign-in.do]]
fill = "Password"
with = "secret:port-office"

[[source.sign-in.do]]
press = "Sign in"
"#;

fn problems(text: &str) -> Vec<String> {
    let read = Definition::parse("x.toml", text);
    read.err()
        .into_iter()
        .flatten()
        .map(|problem: Problem| problem.to_string())
        .collect()
}

#[test]
fn a_page_is_asked_for_with_its_window_parts_and_conditions() {
    let Ok(Definition::Dashboard(board)) = Definition::parse("harbours.toml", BOARD) else {
        panic!("{:?}", problems(BOARD))
    };
    let Some(Ask::Page(page)) = board.queries[0].ask() else {
        panic!("no page")
    };
    assert_eq!(
        board.queries[0].ask().unwrap().names(),
        ["harbour", "from", "to_unix", "harbour"]
    );
    assert_eq!((page.view.width, page.view.scale), (1400, 2));
    assert_eq!((page.view.dark, page.view.print_style), (Some(true), true));
    assert_eq!(page.finished.quiet_milliseconds, 250);
    assert_eq!(page.steps[0].in_words(), "fill \"Harbour\"");
    let Keep::Look { parts, printed } = &page.keep else {
        panic!("no look")
    };
    assert!(*printed);
    assert_eq!(parts[0].title.as_deref(), Some("Lorries"));

    let Ok(Definition::Source(office)) = Definition::parse("office.toml", OFFICE) else {
        panic!("{:?}", problems(OFFICE))
    };
    let SourceKind::WebPage(web) = &office.kind else {
        panic!("no page")
    };
    let Some(SignIn::Form(steps)) = &web.sign_in else {
        panic!("no form")
    };
    assert!(
        matches!(&steps[2], PageStep::Fill { with: Setting::Secret(name), .. } if name == "port-office")
    );
    assert_eq!(office.timeout_seconds, 120);
}

#[test]
fn mistakes_about_pages_say_what_to_write_instead() {
    for (from, to, words) in [
        (
            "part = \"Lorries\"",
            "part = \"Lories\"",
            "keeps no part \"Lories\". Did you mean \"Lorries\"?",
        ),
        (
            "page = \"/board",
            "page = \"board",
            "must begin with a slash",
        ),
        ("printed = true", "table = \"#berths\"", "choose one"),
        (
            "press = \"Show\"",
            "push = \"Show\"",
            "a step is one of: open",
        ),
        ("width = 1400", "width = 14", "200"),
        (
            "locale = \"nb-NO\"",
            "locale = \"nb NO\"",
            "is not a language (BCP 47)",
        ),
        (
            "quiet-seconds = 0.25",
            "quiet-seconds = 300",
            "a number of seconds from 0 to 60",
        ),
        (
            "with = \"{{ harbour }}\"",
            "with = \"{{ harbour\"",
            "never closed",
        ),
    ] {
        let found = problems(&BOARD.replace(from, to));
        assert!(
            found.iter().any(|found| found.contains(words)),
            "{words}: {found:?}"
        );
    }
    let elsewhere = BOARD.replace("page = \"/board?from={{ from }}&to={{ to_unix }}&harbour={{ harbour }}\"\nhide = [\"nav\", \"#consent\"]\nprinted = true", "file = \"a.csv\"");
    let found = problems(&elsewhere);
    assert!(
        found
            .iter()
            .any(|found| found.contains("asks no live page")),
        "{found:?}"
    );
    for (from, to, words) in [
        (
            "secret:port-office",
            "berth-and-quay",
            "a password must not stand in a definition",
        ),
        ("kind = \"web-page\"", "kind = \"http-json\"", "form"),
        (
            "fill = \"Password\"\nwith = \"secret:port-office\"",
            "press = \"Go on\"",
            "fills a field with a secret",
        ),
    ] {
        let found = problems(&OFFICE.replace(from, to));
        assert!(
            found.iter().any(|found| found.contains(words)),
            "{words}: {found:?}"
        );
    }
}

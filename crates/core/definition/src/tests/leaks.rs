//! Audiences with views of their own never get the same rows without their author's word.

use crate::{model::definition::Definition, set::DefinitionSet};
use maple_lark_fixtures as fixtures;

fn problems(query: &str, report: &str) -> Vec<String> {
    let source = fixtures::source("s");
    let dashboard = fixtures::dashboard("d")
        .table("[[parameter]]\nname = \"port\"")
        .table("[[parameter]]\nname = \"days\"\nkind = \"number\"\ndefault = 3")
        .asked(
            "hosts",
            "s",
            "sql = \"select host from hosts where port = :port\"",
        )
        .table(query)
        .block("show = \"table\"\ntitle = \"T\"\nquery = \"q\"");
    let report = fixtures::report("r", "d").table(report);
    let mut set = DefinitionSet::default();
    for (file, text) in [
        ("s.toml", &source),
        ("d.toml", &dashboard),
        ("r.toml", &report),
    ] {
        let read = Definition::parse(file, text);
        set.put(read.unwrap_or_else(|problems| panic!("{}", problems[0])));
    }
    set.check().iter().map(ToString::to_string).collect()
}

fn audience(name: &str, port: &str) -> String {
    format!(
        "[[audience]]\nname = \"{name}\"\nto = \"{name}@orrin-sound.example\"\nparameters = {{ port = \"{port}\" }}\n"
    )
}

#[test]
fn a_query_that_does_not_go_by_what_audiences_differ_in_is_refused() {
    let two = audience("north", "havnes") + &audience("south", "skarvoy");
    let all = "[[query]]\nname = \"q\"\nsource = \"s\"\nsql = \"select host from hosts\"";
    assert_eq!(
        problems(all, &two),
        [
            "d.toml:14:1: query[2]: the audiences of the report \"r\" have different values of \"port\", but the query \"q\" does not use it, so every audience would get the same rows. Use :port in the query, or set same-for-all = true if everyone may see all of them"
        ]
    );
    for fine in [
        "[[query]]\nname = \"q\"\nsource = \"s\"\nsql = \"select host from hosts where port = :port\"",
        "[[query]]\nname = \"q\"\nof = \"hosts\"",
        "[[query]]\nname = \"q\"\nsource = \"s\"\nsame-for-all = true\nsql = \"select host from hosts\"",
    ] {
        assert_eq!(problems(fine, &two), Vec::<String>::new(), "{fine}");
    }
    // Those who see the same may get the same.
    let alike = audience("north", "havnes") + &audience("south", "havnes");
    assert_eq!(problems(all, &alike), Vec::<String>::new());
    let one = audience("north", "havnes");
    assert_eq!(problems(all, &one), Vec::<String>::new());
    // Audiences that a query names are as many as its rows.
    let by_rows = "[[audiences-from]]\nsource = \"s\"\nsql = \"select name, mail, port from offices\"\nname = \"name\"\nto = \"mail\"\nparameters = { port = \"port\" }\n";
    assert_eq!(
        problems(all, by_rows).len(),
        1,
        "{:?}",
        problems(all, by_rows)
    );
}

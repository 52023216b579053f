//! What is asked of time, and what is wrong with how it is asked.

use maple_lark_data::figures::{Method, Operation, Since};

use crate::model::definition::Definition;

fn read(then: &str) -> Result<Vec<Operation>, String> {
    let text = format!(
        "[dashboard]\nname = \"d\"\ntitle = \"D\"\n[[query]]\nname = \"others\"\nsource = \"s\"\nsql = \"select 1\"\n[[query]]\nname = \"q\"\nsource = \"s\"\nsql = \"select 1\"\n[[query.then]]\n{then}\n[[section]]\ntitle = \"S\"\n[[section.block]]\ntitle = \"B\"\nshow = \"table\"\nquery = \"q\"\n"
    );
    match Definition::parse("d.toml", &text) {
        Ok(Definition::Dashboard(mut read)) => Ok(read.queries.swap_remove(1).then),
        Ok(other) => panic!("{other:?}"),
        Err(problems) => Err(problems
            .iter()
            .map(ToString::to_string)
            .collect::<Vec<_>>()
            .join("; ")),
    }
}

#[test]
fn what_is_not_said_is_as_it_usually_is() {
    let then = read("do = \"forecast\"\ntime = \"at\"\nvalue = \"used\"").unwrap();
    let [Operation::Forecast(asked)] = &then[..] else {
        panic!("{then:?}")
    };
    assert_eq!((asked.method, asked.ahead), (Method::Choose, None));
    let then = read("do = \"forecast\"\ntime = \"at\"\nvalue = \"used\"\nahead = \"P6W\"").unwrap();
    assert!(
        matches!(&then[..], [Operation::Forecast(asked)] if asked.ahead == Some(42 * 86_400_000))
    );
    let then = read("do = \"changes\"\nkey = [\"host\"]").unwrap();
    assert!(matches!(&then[..], [Operation::Changes(asked)] if asked.since == Since::PreviousRun));
    let then = read(
        "do = \"availability\"\ntime = \"at\"\nstate = \"up\"\nobjective = 99.95\nleave-out = [\"others\"]",
    )
    .unwrap();
    assert_eq!(then[0].needs(), ["others"]);
    let run = "01a21fb9-8341-7649-b7f3-5749fb00368c";
    let then = read(&format!(
        "do = \"compare\"\nkey = [\"host\"]\nrun = \"{run}\""
    ))
    .unwrap();
    assert_eq!(then[0].compares_with(), Some(&Since::Run(run.to_owned())));
}

#[test]
fn mistakes_are_said_one_each_with_the_way_out() {
    let wrong = [
        (
            "do = \"forecast\"\ntime = \"at\"\nvalue = \"v\"\nmethod = \"straight-line\"",
            "\"line\"",
        ),
        (
            "do = \"availability\"\nobjective = 101\nby = [\"host\"]\ntime = \"at\"\nstate = \"up\"",
            "must be above 0 and at most 100",
        ),
        (
            "do = \"compute\"\nhow = \"share\"\ncolumn = \"c\"\nof = [\"a\", \"b\"]",
            "is not one of",
        ),
        (
            "do = \"availability\"\ntime = \"at\"\nstate = \"up\"",
            "\"objective\" is missing here",
        ),
        (
            "do = \"availability\"\nfrom = \"a\"\nto = \"b\"\ntime = \"at\"\nobjective = 99",
            "does not go with \"from\" and \"to\"",
        ),
        (
            "do = \"availability\"\ntime = \"at\"\nstate = \"up\"\nobjective = 99\nperiods = 3",
            "goes only with give = \"history\"",
        ),
        ("do = \"changes\"", "the key \"key\" is missing here"),
        (
            "do = \"changes\"\nkey = [\"a\"]\nwith = \"others\"\nsince = \"run\"",
            "give one of \"since\", \"run\" and \"with\"",
        ),
        (
            "do = \"changes\"\nkey = [\"a\"]\nwith = \"elsewhere\"",
            "which must stand before it",
        ),
        (
            "do = \"changes\"\nkey = [\"a\"]\n[[query.then]]\ndo = \"changes\"\nkey = [\"a\"]",
            "\"changes\" cannot follow \"changes\": rows are compared once",
        ),
        (
            "do = \"compare\"\nrun = \"the last one\"",
            "is not the identifier of a run",
        ),
        (
            "do = \"compare\"\nwith = \"elsewhere\"",
            "which must stand before it",
        ),
    ];
    for (then, words) in wrong {
        let said = read(then).expect_err(then);
        assert!(said.contains(words), "{then}\n{said}");
        assert_eq!(said.matches("d.toml:").count(), 1, "{then}\n{said}");
    }
}

#[test]
fn the_queries_of_a_dashboard_are_compared_with_one_named_run() {
    let query = |name: &str, run: char| {
        let run = "01a21fb9-8341-7649-b7f3-5749fb00368c".replace('c', &run.to_string());
        format!(
            "[[query]]\nname = \"{name}\"\nsource = \"s\"\nsql = \"select 1\"\n[[query.then]]\ndo = \"compare\"\nrun = \"{run}\"\n"
        )
    };
    let read = |first: char, second: char| {
        let text = format!(
            "[dashboard]\nname = \"d\"\ntitle = \"D\"\n{}{}[[section]]\ntitle = \"S\"\n[[section.block]]\ntitle = \"B\"\nshow = \"table\"\nquery = \"a\"\n",
            query("a", first),
            query("b", second)
        );
        Definition::parse("d.toml", &text)
    };
    assert!(read('c', 'c').is_ok());
    let said = read('c', 'd').unwrap_err()[0].to_string();
    assert!(
        said.contains("the query \"b\" is compared with the run"),
        "{said}"
    );
    assert!(said.contains("name the same run"), "{said}");
}

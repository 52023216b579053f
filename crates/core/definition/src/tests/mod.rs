#![allow(
    clippy::too_many_lines,
    reason = "a test tells one story from its beginning to its end"
)]

mod bounds;
mod delivering;
mod fuzz;
mod leaks;
mod mistakes;
mod over_time;
mod pages;
mod refusals;
mod report_parts;
mod teams;

use maple_lark_data::{figures::Operation, status::Direction};

use crate::{
    model::{
        block::{Block, BlockKind},
        definition::Definition,
        format::Format,
        mailbox::Mailbox,
        parameter::ParameterValue,
    },
    set::DefinitionSet,
};

const SOURCE: &str = r#"
[source]
name = "operations"
kind = "postgresql"
address = "env:OPS_ADDRESS"
database = "orrin_ops"
user = "orrin_reader"
password = "env:OPS_PASSWORD"
tls = "off"
"#;

const DASHBOARD: &str = r#"
[dashboard]
name = "ferries"
title = "Ferries"

[[parameter]]
name = "port"
kind = "choice"
choices = ["all", "skarvoy"]
default = "all"

[[query]]
name = "latency"
source = "operations"
sql = "select at, service, ms from health where at >= :from and at < :to and port = :port"

[[query.column]]
name = "ms"
unit = "ms"
warning = 300
critical = 800

[[section]]
title = "Services"

[[section.block]]
show = "line"
title = "Latency"
query = "latency"
time = "at"
series = "service"
value = "ms"
"#;

const REPORT: &str = r#"
[report]
name = "daily"
title = "Daily"
time-zone = "Atlantic/Faroe"
dashboards = ["ferries"]
formats = ["pdf", "csv"]

[window]
previous = "day"

[schedule]
every = "weekday"
at = "07:30"

[[audience]]
name = "operations"
to = ["Runa Holm <runa@orrin-sound.example>"]
parameters = { port = "skarvoy" }
"#;

fn problems(text: &str) -> String {
    let problems = Definition::parse("x.toml", text).unwrap_err();
    problems
        .iter()
        .map(ToString::to_string)
        .collect::<Vec<_>>()
        .join("\n")
}

fn set(texts: &[&str]) -> DefinitionSet {
    let mut set = DefinitionSet::default();
    for text in texts {
        set.put(Definition::parse("x.toml", text).unwrap());
    }
    set
}

#[test]
fn definitions_are_read_whole() {
    let set = set(&[SOURCE, DASHBOARD, REPORT]);
    assert_eq!(set.check(), []);
    let query = &set.dashboards["ferries"].queries[0];
    assert_eq!(query.ask().unwrap().names(), ["from", "to", "port"]);
    assert_eq!(query.columns[0].thresholds.worse, Direction::Higher);
    let report = &set.reports["daily"];
    assert_eq!(
        report.schedule.as_ref().unwrap().sentence(),
        "Every weekday (Monday to Friday) at 07:30"
    );
    assert_eq!(
        report.window.sentence(report.zone),
        "the previous complete day"
    );
    assert_eq!(report.formats, [Format::Pdf, Format::Csv]);
    assert_eq!(
        set.values(report, Some(&report.audiences[0].parameters))["port"],
        ParameterValue::Text("skarvoy".into())
    );
    assert_eq!(
        set.values(report, None)["port"],
        ParameterValue::Text("all".into())
    );
}

#[test]
fn every_problem_has_its_line_key_and_the_nearest_word() {
    let cases = [
        (SOURCE.replace("database =", "databse ="), "x.toml:6:1: source.databse: unknown key \"databse\". Did you mean \"database\"?"),
        (SOURCE.replace("database =", "databse ="), "x.toml:2:1: source: the key \"database\" is missing here"),
        (SOURCE.replace("\"env:OPS_PASSWORD\"", "\"secret\""), "x.toml:8:12: source.password: a password must not stand in a definition"),
        (
            SOURCE.replace("postgresql", "postgres"),
            "x.toml:4:8: source.kind: \"postgres\" is not one of \"postgresql\", \"mysql\", \"sqlite\", \"http-json\", \"files\", \"open-metrics\", \"web-page\", \"local-checks\", \"program\", \"ldap\", \"snmp\", \"sftp\". Did you mean \"postgresql\"?",
        ),
        (SOURCE.replace("\"env:OPS_ADDRESS\"", "5432"), "x.toml:5:11: source.address: must be a text in quotes, but is an integer"),
        (SOURCE.replace("\"operations\"", "\"Ops DB\""), "source.name: \"Ops DB\" is not a name"),
        (REPORT.replace("Atlantic/Faroe", "Atlantic/Farø"), "report.time-zone: \"Atlantic/Farø\" is not an IANA time zone. Did you mean \"Atlantic/Faroe\"?"),
        (REPORT.replace("\"07:30\"", "\"7.30\""), "schedule.at: \"7.30\" is not a time of day"),
        (
            REPORT.replace("\"weekday\"", "\"weekdays\""),
            "schedule.every: \"weekdays\" is not \"day\", \"weekday\", \"week\", \"month\", \"year\" or a duration such as \"PT15M\" or \"P2D\". Did you mean \"weekday\"?",
        ),
        (REPORT.replace("previous = \"day\"", "previous = \"day\"\nlast = \"PT1H\""), "window: a window has exactly one of"),
        (REPORT.replace("previous = \"day\"", "interval = \"2026-02-01/2026-01-01\""), "window.interval: the interval ends before it begins"),
        (REPORT.replace("runa@orrin-sound.example", "runa"), "audience[1].to[1]: \"Runa Holm <runa>\" is not a mail address"),
        (
            DASHBOARD.replace("query = \"latency\"", "query = \"latncy\""),
            "section[1].block[1].query: there is no query \"latncy\" in this dashboard. Did you mean \"latency\"?",
        ),
        (DASHBOARD.replace("unit = \"ms\"", "unit = \"msec\""), "query[1].column[1].unit: \"msec\" is not a unit"),
        (DASHBOARD.replace("critical = 800", "critical = 100"), "query[1].column[1].critical: critical is on the better side of warning"),
        (DASHBOARD.replace("default = \"all\"", "default = \"al\""), "parameter[1].default: \"al\" is not one of \"all\", \"skarvoy\". Did you mean \"all\"?"),
        (
            REPORT.replace("previous = \"day\"", "previous = \"day\"\nonly-hours = [\"08:00-12:00\", \"11:00-17:00\"]"),
            "window.only-hours: 08:00-12:00 and 11:00-17:00 overlap",
        ),
        (
            REPORT.replace("previous = \"day\"", "previous = \"day\"\nonly-days = \"mondy\""),
            "window.only-days: \"mondy\" is not a weekday, nor \"weekday\" for Monday to Friday. Did you mean \"monday\"?",
        ),
        (REPORT.replace("previous = \"day\"", "previous = \"day\"\ncompare = \"lastweek\""), "window.compare: \"lastweek\" is not one of"),
        (REPORT.replace("at = \"07:30\"", "at = \"07:30\"\non-calendar-day = \"skip\""), "schedule.on-calendar-day: there is no calendar to go by"),
        (
            REPORT.replace("every = \"weekday\"\nat = \"07:30\"", "every = \"PT1H\"\ncalendar = \"x\"\non-calendar-day = \"next-working-day\""),
            "schedule.on-calendar-day: runs of an interval can be skipped, but not moved",
        ),
        (
            REPORT.replace("[schedule]", "[readiness]\nsource = \"operations\"\nsql = \"select true\"\ndeadline = \"P1M\"\n[schedule]"),
            "readiness.deadline: must be between \"PT1S\" and \"PT168H\"",
        ),
        (
            REPORT.replace("[schedule]", "[readiness]\nsource = \"operations\"\nsql = \"select true\"\nready-when = \"rows\"\ncolumn = \"up\"\n[schedule]"),
            "readiness.column: column goes with ready-when = \"true\" only",
        ),
        (REPORT.replace("[schedule]", "[send]\nwhen = \"rows\"\n[schedule]"), "send: say which queries"),
        (
            REPORT.replace("[schedule]", "[send]\nwhen = \"critical\"\nqueries = [\"latency\"]\n[schedule]"),
            "send.queries: queries goes with when = \"rows\" only",
        ),
        (REPORT.replace("formats =", "overlap = \"yes\"\nformats ="), "report.overlap: must be true or false, but is a string"),
        (DASHBOARD.replace("[[query.column]]", "step = \"PT7M\"\n[[query.column]]"), "query[1].step: \"PT7M\" is not a resampling step"),
        (DASHBOARD.replace("name = \"port\"", "name = \"steps\""), "parameter[1].name: \"steps\" is the window's own parameter"),
        ("[source".to_owned(), "x.toml:1:8: "),
        ("a = 1".to_owned(), "x.toml:1:1: the file defines nothing"),
    ];
    for (text, expected) in cases {
        let found = problems(&text);
        assert!(
            found.contains(expected),
            "wanted: {expected}\nfound: {found}"
        );
    }
}

#[test]
fn every_form_of_schedule_is_read_and_said_back() {
    let with = |schedule: &str| REPORT.replace("every = \"weekday\"\nat = \"07:30\"", schedule);
    let cases = [
        (
            "every = \"week\"\non = [\"friday\", \"monday\"]\nat = [\"18:00\", \"06:00\"]",
            "Every Monday and Friday at 06:00 and 18:00",
        ),
        (
            "every = \"month\"\non = [\"last\", \"first monday\"]\nat = \"07:30\"",
            "On the last day and the first Monday of every month at 07:30",
        ),
        (
            "every = \"year\"\non = \"02-29\"\nat = \"07:30\"",
            "On 29 February of every year at 07:30",
        ),
        (
            "every = \"P2D\"\nstarts = \"2026-12-01\"\nat = \"07:30\"",
            "Every other day, counted from 1 December 2026 at 07:30, from 1 December 2026",
        ),
        (
            "every = \"P3W\"\non = \"monday\"\nstarts = \"2026-12-01\"\nat = \"07:30\"",
            "Every 3 weeks on Monday, counted from the week of 1 December 2026 at 07:30, from 1 December 2026",
        ),
        ("every = \"PT6H\"\nruns = 4", "Every 6 hours, 4 runs in all"),
        (
            "once = \"2026-12-01T07:30\"",
            "Once, on Tuesday 1 December 2026 at 07:30",
        ),
        (
            "rule = \"FREQ=MONTHLY;BYDAY=1MO\"\nstarts = \"2026-12-07\"\nat = \"07:30\"",
            "By the calendar rule FREQ=MONTHLY;BYDAY=1MO, first considered on 7 December 2026 at 07:30, from 7 December 2026",
        ),
    ];
    for (text, sentence) in cases {
        let Definition::Report(report) = Definition::parse("x.toml", &with(text))
            .unwrap_or_else(|problems| panic!("{text}: {problems:?}"))
        else {
            panic!()
        };
        assert_eq!(report.schedule.unwrap().sentence(), sentence);
    }
    let refused = [
        (
            "every = \"day\"\nonce = \"2026-12-01T07:30\"",
            "a schedule has exactly one of",
        ),
        ("every = \"P2D\"\nat = \"07:30\"", "needs starts ="),
        (
            "every = \"month\"\non = \"first mnday\"\nat = \"07:30\"",
            "is no day of a month",
        ),
        ("every = \"month\"\nat = \"07:30\"", "no day is given"),
        (
            "every = \"year\"\non = \"24 December\"\nat = \"07:30\"",
            "is no day of a year",
        ),
        ("every = \"day\"", "no time of day is given"),
        ("crontab = \"0 0 30 2 *\"", "never fires"),
        (
            "rule = \"FREQ=DAILY\"",
            "a rule needs its first date and time",
        ),
        ("once = \"tomorrow\"", "is not a date and time"),
        (
            "once = \"2026-12-01T07:30\"\nat = \"07:30\"",
            "at does not go with once",
        ),
        (
            "every = \"day\"\nat = \"07:30\"\nstarts = \"2026-12-02\"\nends = \"2026-12-01\"",
            "it ends on 2026-12-01, before it starts on 2026-12-02",
        ),
        (
            "every = \"day\"\nat = \"07:30\"\nmissed = \"some\"",
            "\"some\" is not one of \"latest\", \"all\", \"none\"",
        ),
    ];
    for (text, expected) in refused {
        let found = problems(&with(text));
        assert!(
            found.contains(expected),
            "wanted: {expected}\nfound: {found}"
        );
    }
}

#[test]
fn references_between_files_are_checked() {
    let lost = set(&[
        &DASHBOARD.replace("source = \"operations\"", "source = \"operatons\""),
        SOURCE,
    ]);
    assert_eq!(
        lost.check()[0].to_string(),
        "x.toml:14:10: query[1].source: there is no source \"operatons\". Did you mean \"operations\"?"
    );
    let unnamed = set(&[&DASHBOARD.replace(":port", ":prt"), SOURCE]);
    assert!(unnamed.check()[0].to_string().contains(
        "uses :prt, but this dashboard has no [[parameter]] of that name. Did you mean \"port\"?"
    ));
    let wrong = set(&[
        SOURCE,
        DASHBOARD,
        &REPORT.replace("\"skarvoy\" }", "\"skarvy\" }"),
    ]);
    assert!(
        wrong.check()[0]
            .to_string()
            .contains("\"skarvy\" is not one of"),
        "{:?}",
        wrong.check()
    );
    let missing = set(&[
        SOURCE,
        &DASHBOARD.replace("default = \"all\"", ""),
        &REPORT.replace("parameters = { port = \"skarvoy\" }", ""),
    ]);
    assert!(
        missing.check()[0]
            .to_string()
            .contains("audience \"operations\" has no value for the parameter \"port\"")
    );
}

#[test]
fn addresses_that_could_inject_headers_are_refused() {
    for bad in [
        "a@b.example\r\nBcc: x@y.example",
        "a b@c.example",
        "a@b@c",
        "@c",
        "a@",
        "a@b..c",
        "A\nB <a@b.example>",
        "a,b@c.example",
    ] {
        assert!(bad.parse::<Mailbox>().is_err(), "{bad:?}");
    }
    let good: Mailbox = "Jógvan Á. <jogvan@orrin-sound.example>".parse().unwrap();
    assert_eq!(
        (good.name.as_deref(), good.address.as_str()),
        (Some("Jógvan Á."), "jogvan@orrin-sound.example")
    );
}

#[test]
fn what_one_file_says_of_another_is_checked() {
    let found = |texts: &[&str]| {
        set(texts)
            .check()
            .iter()
            .map(ToString::to_string)
            .collect::<Vec<_>>()
            .join("\n")
    };
    let calendar = REPORT.replace("at = \"07:30\"", "at = \"07:30\"\ncalendar = \"holiday\"");
    let mut with_calendar = set(&[SOURCE, DASHBOARD, &calendar]);
    assert!(found(&[SOURCE, DASHBOARD, &calendar]).contains(
        "schedule.calendar: there is no calendar \"holiday\"; it would be a file \"holiday.ics\""
    ));
    let ics = "BEGIN:VCALENDAR\r\nBEGIN:VEVENT\r\nSUMMARY:Closed\r\nDTSTART;VALUE=DATE:20261123\r\nEND:VEVENT\r\nEND:VCALENDAR\r\n";
    with_calendar.put(Definition::parse("holiday.ics", ics).unwrap());
    assert_eq!(with_calendar.check(), []);
    let report = &with_calendar.reports["daily"];
    let plan = with_calendar.plan(report).unwrap();
    assert_eq!(
        plan.next_after("2026-11-21T00:00:00Z".parse().unwrap())
            .unwrap()
            .to_rfc3339(),
        "2026-11-24T07:30:00+00:00"
    );

    let readiness = |sql: &str| {
        REPORT.replace(
            "[schedule]",
            &format!("[readiness]\nsource = \"operation\"\nsql = \"{sql}\"\n[schedule]"),
        )
    };
    let said = found(&[
        SOURCE,
        DASHBOARD,
        &readiness("select max(at) >= :too from samples"),
    ]);
    assert!(
        said.contains("there is no source \"operation\". Did you mean \"operations\"?"),
        "{said}"
    );
    assert!(said.contains("the question uses :too, but no dashboard of this report has a parameter of that name. Did you mean \"to\"?"), "{said}");
    let no_default = DASHBOARD.replace("default = \"all\"\n", "");
    let said = found(&[SOURCE, &no_default, &readiness("select :port = 'x'")]);
    assert!(
        said.contains("uses :port, which has no value that holds for all audiences"),
        "{said}"
    );

    let rows = REPORT.replace(
        "[schedule]",
        "[send]\nwhen = \"rows\"\nqueries = [\"latncy\"]\n[schedule]",
    );
    assert!(
        found(&[SOURCE, DASHBOARD, &rows]).contains(
            "no dashboard of this report has a query \"latncy\". Did you mean \"latency\"?"
        )
    );
    let compares = DASHBOARD.replace("at >= :from", "at >= :compare_from");
    assert!(found(&[SOURCE, &compares, REPORT]).contains(
        "uses the comparison window, so [window] needs for instance compare = \"window-before\""
    ));
    assert_eq!(
        found(&[
            SOURCE,
            &compares,
            &REPORT.replace(
                "previous = \"day\"",
                "previous = \"day\"\ncompare = \"last-week\""
            )
        ]),
        ""
    );
}

#[test]
fn the_step_of_a_query_fits_its_widest_figure() {
    let set = set(&[SOURCE, DASHBOARD, REPORT]);
    let window = set.reports["daily"].window.window(
        "2026-11-23T07:30:00Z".parse().unwrap(),
        "Atlantic/Faroe".parse().unwrap(),
    );
    let dashboard = &set.dashboards["ferries"];
    assert_eq!(
        dashboard.step(&dashboard.queries[0], &window).to_string(),
        "PT5M"
    );
    let Definition::Dashboard(half) = Definition::parse(
        "x.toml",
        &DASHBOARD.replace("show = \"line\"", "show = \"line\"\nwidth = \"half\""),
    )
    .unwrap() else {
        panic!()
    };
    assert_eq!(half.step(&half.queries[0], &window).to_string(), "PT10M");
}

fn all_problems(text: &str) -> Vec<String> {
    match Definition::parse("x.toml", text) {
        Ok(definition) => {
            let mut set = DefinitionSet::default();
            set.put(definition);
            set.check().iter().map(ToString::to_string).collect()
        }
        Err(problems) => problems.iter().map(ToString::to_string).collect(),
    }
}

#[test]
fn questions_of_every_form_say_what_is_wrong_with_them() {
    let query = |lines: &str| {
        all_problems(&format!(
            "[dashboard]\nname = \"d\"\ntitle = \"D\"\n[[query]]\nname = \"q\"\nsource = \"s\"\n{lines}\n[[section]]\ntitle = \"S\"\n[[section.block]]\nshow = \"table\"\ntitle = \"T\"\nquery = \"q\"\n"
        ))
    };
    for (lines, wanted) in [
        (
            "",
            "a query needs exactly one of: sql (a source of kind postgresql, mysql or sqlite), pick",
        ),
        (
            "sql = \"select 1\"\nfile = \"x\"",
            "a query needs exactly one of",
        ),
        (
            "path = \"/a/{{ b\"\nrows = \"$\"\nfield = [{ name = \"n\", path = \"$\" }]",
            "query[1].path: a placeholder that opens with {{ is never closed with }}",
        ),
        (
            "path = \"/\"\nrows = \"$..[\"\nfield = [{ name = \"n\", path = \"$\" }]",
            "query[1].rows: \"$..[\" is not a JSONPath (RFC 9535)",
        ),
        (
            "path = \"/\"\nrows = \"$\"",
            "a request needs [[query.field]] entries",
        ),
        (
            "path = \"/\"\nbody = \"{}\"\nrows = \"$\"\nfield = [{ name = \"n\", path = \"$\" }]",
            "query[1].body: goes with method = \"POST\" only",
        ),
        (
            "path = \"/\"\nrows = \"$\"\nfield = [{ name = \"n\", path = \"$\", kind = \"instant\", time = \"day\" }]",
            "\"day\" is not a form of time",
        ),
        (
            "file = \"../x\"",
            "query[1].file: must lie below the source's folder",
        ),
        (
            "file = \"x\"\ndelimiter = \"ab\"",
            "query[1].delimiter: must be one sign",
        ),
        (
            "file = \"x.ics\"\nformat = \"icalendar\"\ndelimiter = \";\"",
            "query[1].delimiter: does not go with format = \"icalendar\"",
        ),
        (
            "file = \"x.ics\"\nformat = \"icalendar\"\nfield = [{ name = \"service\", column = \"place\" }]",
            "\"place\" is no column of an iCalendar file; there are from, to, title",
        ),
        (
            "check = \"tcp\"\ntargets = [\"host\"]",
            "query[1].targets: \"host\" is not host:port",
        ),
        (
            "check = \"disc\"",
            "\"disc\" is not one of \"tcp\", \"http\", \"certificate\", \"dns\", \"disk\", \"processor\", \"memory\", \"load\", \"network\", \"units\", \"journal\". Did you mean \"disk\"?",
        ),
        (
            "sql = \"select 1\"\nthen = [{ do = \"toop\" }]",
            "query[1].then[1].do: \"toop\" is not one of",
        ),
        (
            "sql = \"select 1\"\nthen = [{ do = \"top\", of = \"a\", others = \"Rest\" }]",
            "with \"others\", the key \"sum\" says",
        ),
        (
            "sql = \"select 1\"\nthen = [{ do = \"group\", total = \"All\" }, { do = \"sort\", by = \"a\" }]",
            "\"sort\" must come before \"group\", which makes rows that sum up others",
        ),
        (
            "sql = \"select 1\"\nthen = [{ do = \"filter\", column = \"a\" }]",
            "\"filter\" needs one condition",
        ),
        (
            "sql = \"select 1\"\nthen = [{ do = \"resample\", time = \"a\", with = \"average\" }]",
            "\"average\" is not a way to make one value of several",
        ),
        (
            "sql = \"select 1\"\nthen = [{ do = \"join\", with = \"p\", on = \"a\" }]",
            "needs the answer of \"p\", which must stand before it in this dashboard",
        ),
    ] {
        let found = query(lines);
        assert!(
            found.iter().any(|problem| problem.contains(wanted)),
            "{lines}: {found:#?}"
        );
    }
}

#[test]
fn a_source_is_asked_what_its_kind_understands() {
    let mut set = DefinitionSet::default();
    set.put(
        Definition::parse(
            "s.toml",
            "[source]\nname = \"s\"\nkind = \"local-checks\"\n",
        )
        .unwrap(),
    );
    let dashboard = "[dashboard]\nname = \"d\"\ntitle = \"D\"\n[[parameter]]\nname = \"p\"\nkind = \"choice\"\nchoices-from = \"q\"\n[[query]]\nname = \"q\"\nsource = \"s\"\nsql = \"select 1\"\n[[query]]\nname = \"h\"\nsampler = \"none\"\n[[section]]\ntitle = \"S\"\n[[section.block]]\nfrom = \"e / T\"\n";
    set.put(Definition::parse("d.toml", dashboard).unwrap());
    let found: Vec<String> = set.check().iter().map(ToString::to_string).collect();
    for wanted in [
        "the source \"s\" is of kind \"local-checks\", but this asks one of kind \"postgresql\" or \"mysql\" or \"sqlite\"",
        "there is no sampler \"none\"",
        "there is no dashboard \"e\"",
    ] {
        assert!(
            found.iter().any(|problem| problem.contains(wanted)),
            "{wanted}: {found:#?}"
        );
    }
    for (lines, wanted) in [
        ("kind = \"http-json\"\nurl = \"ftp://x\"", "is not a URL"),
        (
            "kind = \"http-json\"\nurl = \"http://u:p@x/\"",
            "must not have a user or password in it",
        ),
        (
            "kind = \"http-json\"\nurl = \"http://x\"\n[source.sign-in]\nkind = \"bearer\"\ntoken = \"abc\"",
            "a token must not stand in a definition; refer to it as \"env:NAME\", \"file:/path\" or \"secret:name\"",
        ),
        (
            "kind = \"files\"\nfolder = \"relative\"",
            "must be an absolute path",
        ),
        (
            "kind = \"local-checks\"\nurl = \"http://x\"",
            "unknown key \"url\"",
        ),
    ] {
        let found = all_problems(&format!("[source]\nname = \"s\"\n{lines}\n"));
        assert!(
            found.iter().any(|problem| problem.contains(wanted)),
            "{lines}: {found:#?}"
        );
    }
    let sampler = all_problems(
        "[sampler]\nname = \"s\"\nevery = \"PT1S\"\nkeep = \"P20Y\"\n[query]\nsource = \"x\"\nmetric = \"m\"\n",
    );
    assert!(
        sampler[0].contains("sampler.every: must be between \"PT10S\" and \"P1D\"")
            && sampler[1].contains("sampler.keep: "),
        "{sampler:#?}"
    );
}

#[test]
fn what_is_hidden_is_in_no_document_and_stays_in_the_dashboard() {
    let mut set = DefinitionSet::default();
    let block = |title: &str, more: &str| {
        format!("[[section.block]]\nshow = \"text\"\ntitle = \"{title}\"\ntext = \"x\"\n{more}")
    };
    let dashboard = format!(
        "[dashboard]\nname = \"d\"\ntitle = \"D\"\n[[section]]\ntitle = \"One\"\n{}{}[[section]]\ntitle = \"Two\"\n{}[[section]]\ntitle = \"Empty\"\n",
        block("Shown", ""),
        block("Hidden", "hide = true\n"),
        block("Alone", "hide = true\n")
    );
    set.put(Definition::parse("d.toml", &dashboard).unwrap());
    assert_eq!(set.check(), []);
    let shown = set.dashboard("d").unwrap();
    let titles = |section: &crate::Section| {
        let titles = section.blocks.iter().map(|block| block.title.clone());
        (section.title.clone(), titles.collect::<Vec<_>>())
    };
    let sections: Vec<_> = shown.sections.iter().map(titles).collect();
    assert_eq!(
        sections,
        [
            ("One".to_owned(), vec!["Shown".to_owned()]),
            ("Empty".to_owned(), Vec::new())
        ]
    );
    assert_eq!(set.dashboards["d"].sections[0].blocks.len(), 2);
}

#[test]
fn a_report_changes_blocks_without_touching_the_dashboard() {
    let mut set = DefinitionSet::default();
    let other = "[dashboard]\nname = \"other\"\ntitle = \"O\"\n[[parameter]]\nname = \"port\"\ndefault = \"all\"\n[[query]]\nname = \"base\"\nsource = \"s\"\nsql = \"select :port as p\"\n[[query]]\nname = \"worst\"\nof = \"base\"\nthen = [{ do = \"top\", rows = 10, of = \"n\", others = \"Rest\", sum = \"n\" }]\n[[section]]\ntitle = \"S\"\n[[section.block]]\nshow = \"table\"\ntitle = \"Worst\"\nquery = \"worst\"\nlimit = 10\n";
    let dashboard = "[dashboard]\nname = \"d\"\ntitle = \"D\"\n[[section]]\ntitle = \"One\"\n[[section.block]]\nfrom = \"other / Worst\"\ntitle = \"Ten worst\"\n[[section]]\ntitle = \"Two\"\n[[section.block]]\nshow = \"text\"\ntitle = \"Words\"\ntext = \"x\"\n";
    let report = "[report]\nname = \"r\"\ntitle = \"R\"\ntime-zone = \"UTC\"\ndashboards = [\"d\"]\n[window]\nprevious = \"day\"\n[[change]]\nblock = \"Ten worst\"\ntitle = \"All of them\"\nlimit = \"all\"\n[[change]]\nblock = \"Words\"\nhide = true\n";
    for (file, text) in [
        (
            "s.toml",
            "[source]\nname = \"s\"\nkind = \"postgresql\"\naddress = \"a:1\"\ndatabase = \"d\"\nuser = \"u\"\n",
        ),
        ("o.toml", other),
        ("d.toml", dashboard),
        ("r.toml", report),
    ] {
        set.put(
            Definition::parse(file, text)
                .unwrap_or_else(|problems| panic!("{file}: {}", problems[0])),
        );
    }
    assert_eq!(set.check(), []);
    let report = &set.reports["r"];
    let shown = set.dashboards_of(report);
    let section = &shown[0].sections[0];
    assert_eq!(
        (shown[0].sections.len(), section.blocks[0].title.as_str()),
        (1, "All of them")
    );
    let BlockKind::Table { limit, .. } = &section.blocks[0].kind else {
        panic!()
    };
    assert_eq!(*limit, Some(usize::MAX));
    let name = &section.blocks[0].query.as_ref().unwrap().value;
    let query = shown[0]
        .queries
        .iter()
        .find(|query| query.name == *name)
        .unwrap();
    assert!(matches!(
        &query.then[..],
        [Operation::Top {
            rows: usize::MAX,
            others: None,
            ..
        }]
    ));
    // What is asked is the other dashboard's first query, with its parameter.
    assert_eq!(
        shown[0]
            .asked(&[])
            .iter()
            .map(|query| query.name.as_str())
            .collect::<Vec<_>>(),
        ["other.base"]
    );
    let asked = |also: &[String]| set.dashboards["d"].asked(also).len();
    assert_eq!(
        (
            asked(&[]),
            set.dashboards["other"].asked(&["worst".to_owned()]).len()
        ),
        (0, 1)
    );
    assert_eq!(set.parameters_of(report)[0].name, "port");
    assert_eq!(set.dashboard_names(report), ["d", "other"]);
    // The dashboard itself is as it was.
    assert_eq!(
        set.dashboard("d").unwrap().sections[0].blocks[0].title,
        "Ten worst"
    );
    assert_eq!(set.dashboards["other"].queries[1].then.len(), 1);

    let wrong = "[report]\nname = \"r\"\ntitle = \"R\"\ntime-zone = \"UTC\"\ndashboards = [\"d\"]\n[window]\nprevious = \"day\"\n[[change]]\nblock = \"Ten wurst\"\nhide = true\n";
    set.put(Definition::parse("r.toml", wrong).unwrap());
    assert!(
        set.check()[0]
            .message
            .contains("has a block \"Ten wurst\". Did you mean \"Ten worst\"?")
    );
    set.put(
        Definition::parse(
            "o.toml",
            &other.replace("[[section]]\n", "[[section]]\ntitle = \"Loop\"\n[[section.block]]\nfrom = \"d / Ten worst\"\n[[section]]\n"),
        )
        .unwrap(),
    );
    assert!(
        set.check()
            .iter()
            .any(|problem| problem.message.contains("would take a block from itself")),
        "{:#?}",
        set.check()
    );
}

const TRENDS: &str = r#"
[dashboard]
name = "hosts"
title = "Hosts"
[[query]]
name = "now"
source = "operations"
sql = "select 1"
[[query]]
name = "before"
source = "operations"
sql = "select 2"
[[query]]
name = "history"
source = "operations"
sql = "select 3"
[[section]]
title = "All"
[[section.block]]
show = "table"
title = "Disks"
query = "now"
trend = "history"
trend-by = "host"
trend-of = "used"
[[section.block]]
show = "figures"
title = "Figures"
query = "now"
before = "before"
trend = "history"
"#;

#[test]
fn a_column_of_trends_needs_a_query_and_both_of_its_columns() {
    let problems = |text: String| {
        Definition::parse("d.toml", &text)
            .unwrap_err()
            .iter()
            .map(ToString::to_string)
            .collect::<Vec<_>>()
    };
    assert!(Definition::parse("d.toml", TRENDS).is_ok());
    assert!(
        problems(TRENDS.replace("trend-by = \"host\"\n", ""))[0]
            .contains("needs all three: trend, the query; trend-by")
    );
    let unknown = problems(TRENDS.replace(
        "trend = \"history\"\ntrend-by",
        "trend = \"histroy\"\ntrend-by",
    ));
    assert!(
        unknown[0]
            .contains("there is no query \"histroy\" in this dashboard. Did you mean \"history\"?"),
        "{unknown:?}"
    );
}

/// What a block shows beside its own query comes with it, under names that cannot clash.
#[test]
fn a_block_that_is_taken_from_another_dashboard_brings_all_of_its_queries() {
    let taker = "[dashboard]\nname = \"taker\"\ntitle = \"Taker\"\n[[section]]\ntitle = \"All\"\n[[section.block]]\nfrom = \"hosts / Figures\"\n[[section.block]]\nfrom = \"hosts / Disks\"\n";
    let mut set = DefinitionSet::default();
    for text in [TRENDS, taker] {
        set.put(
            Definition::parse("d.toml", text).unwrap_or_else(|problems| panic!("{problems:?}")),
        );
    }
    let text = "[report]\nname = \"r\"\ntitle = \"R\"\ntime-zone = \"UTC\"\ndashboards = [\"taker\"]\n[window]\nprevious = \"day\"";
    let Ok(Definition::Report(report)) = Definition::parse("r.toml", text) else {
        panic!()
    };
    let dashboards = set.dashboards_of(&report);
    let asked: Vec<&str> = dashboards[0]
        .asked(&[])
        .iter()
        .map(|query| query.name.as_str())
        .collect();
    assert_eq!(asked, ["hosts.now", "hosts.before", "hosts.history"]);
    let blocks = &dashboards[0].sections[0].blocks;
    let names = |block: &Block| {
        block
            .queries()
            .map(|name| name.value.clone())
            .collect::<Vec<_>>()
    };
    assert_eq!(
        names(&blocks[0]),
        ["hosts.now", "hosts.before", "hosts.history"]
    );
    assert_eq!(names(&blocks[1]), ["hosts.now", "hosts.history"]);
}

#[test]
fn a_width_is_a_word_or_twelfths_and_a_chart_needs_a_third() {
    let problems = |show: &str, width: &str| {
        let text = format!(
            "[dashboard]\nname = \"d\"\ntitle = \"D\"\n[[query]]\nname = \"q\"\nsource = \"s\"\nsql = \"select 1\"\n[[section]]\ntitle = \"S\"\n[[section.block]]\ntitle = \"B\"\nquery = \"q\"\nwidth = {width}\n{show}\n"
        );
        Definition::parse("d.toml", &text)
            .err()
            .unwrap_or_default()
            .iter()
            .map(ToString::to_string)
            .collect::<Vec<_>>()
    };
    let (chart, table) = (
        "show = \"bar\"\nlabel = \"a\"\nvalue = \"b\"",
        "show = \"table\"",
    );
    for width in ["\"third\"", "4", "\"two-thirds\"", "12"] {
        assert_eq!(problems(chart, width), Vec::<String>::new(), "{width}");
    }
    assert_eq!(problems(table, "\"quarter\""), Vec::<String>::new());
    assert_eq!(
        problems(chart, "3"),
        [
            "d.toml:13:9: section[1].block[1].width: a chart needs at least a third of the page (4 twelfths) to be read"
        ]
    );
    assert_eq!(
        problems(table, "13"),
        ["d.toml:13:9: section[1].block[1].width: must be between 2 and 12, but is 13"]
    );
    assert!(
        problems(table, "\"haf\"")[0].ends_with("nor a number of twelfths. Did you mean \"half\"?"),
        "{:?}",
        problems(table, "\"haf\"")
    );
    assert_eq!(
        problems(&format!("{chart}\ncsv = false"), "12"),
        Vec::<String>::new()
    );
    assert_eq!(
        problems(&format!("{table}\ncsv = false"), "12"),
        [
            "d.toml:15:7: section[1].block[1].csv: only a chart may say whether its rows are a file; those of a table always are"
        ]
    );
}

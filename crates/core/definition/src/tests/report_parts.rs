//! The tables of a report beside its window and schedule: each key as it is read, what holds without
//! it, and what is said of one that does not fit.

use crate::model::{
    deliver::{Link, MailContent},
    files::Zip,
    query::ask::{Ask, CheckKind},
    readiness::{AtDeadline, ReadyWhen},
    report::Report,
};

use super::{REPORT, problems, set};

/// The report with more tables before its schedule.
fn with(tables: &str) -> String {
    REPORT.replace("[schedule]", &format!("{tables}\n[schedule]"))
}

fn read(tables: &str) -> Report {
    set(&[&with(tables)]).reports["daily"].clone()
}

#[test]
fn readiness_asks_any_source_in_its_own_keys() {
    let of = |ask: &str| {
        let report = read(&format!("[readiness]\nsource = \"a\"\n{ask}"));
        report.readiness.expect("it waits")
    };
    let usual = of("sql = \"select true\"");
    assert_eq!(usual.ready_when, ReadyWhen::FirstIsTrue);
    assert_eq!((usual.every_seconds, usual.deadline_seconds), (60, 3600));
    assert_eq!(usual.at_deadline, AtDeadline::Hold);
    let checks = of(
        "check = \"tcp\"\ntargets = [\"127.0.0.1:5432\"]\ncolumn = \"ok\"\nevery = \"30 seconds\"\ndeadline = \"2 hours\"\nat-deadline = \"skip\"",
    );
    assert!(matches!(&checks.ask, Ask::Check(check) if check.kind == CheckKind::Tcp));
    assert_eq!(checks.ready_when, ReadyWhen::AllTrue("ok".to_owned()));
    assert_eq!((checks.every_seconds, checks.deadline_seconds), (30, 7200));
    assert_eq!(checks.at_deadline, AtDeadline::Skip);
    let file = of("file = \"sales-*.csv\"\nready-when = \"rows\"\nat-deadline = \"run\"");
    assert!(matches!(&file.ask, Ask::File(file) if file.file == "sales-*.csv"));
    assert_eq!(file.ready_when, ReadyWhen::HasRows);
    assert_eq!(file.at_deadline, AtDeadline::Run);
    let json = of(
        "path = \"/state\"\nrows = \"$[*]\"\ncolumn = \"done\"\n[[readiness.field]]\nname = \"done\"\npath = \"$.done\"\nkind = \"boolean\"",
    );
    assert!(matches!(&json.ask, Ask::Request(request) if request.fields[0].name == "done"));
}

#[test]
fn what_a_report_waits_for_is_refused_where_it_could_never_come() {
    for (tables, words) in [
        (
            "[readiness]\nsource = \"a\"",
            "readiness: a query needs exactly one of",
        ),
        (
            "[readiness]\nsql = \"select true\"",
            "readiness: the key \"source\" is missing here",
        ),
        (
            "[readiness]\nsource = \"a\"\nsql = \"select true\"\nready-when = \"row\"",
            "readiness.ready-when: \"row\" is not one of \"true\", \"rows\"",
        ),
        (
            "[readiness]\nsource = \"a\"\nsql = \"select true\"\nevery = \"0 seconds\"",
            "readiness.every",
        ),
    ] {
        let said = problems(&with(tables));
        assert!(said.contains(words), "{tables}: {said}");
    }
    let without = REPORT.replace("[schedule]\nevery = \"weekday\"\nat = \"07:30\"\n", "");
    let said = problems(&without.replace(
        "[[audience]]",
        "[readiness]\nsource = \"a\"\nsql = \"select true\"\n[[audience]]",
    ));
    assert!(
        said.contains("only scheduled runs wait, and this report has no [schedule]"),
        "{said}"
    );
}

#[test]
fn how_it_is_delivered_has_a_usual_value_for_each_key() {
    let usual = read("").deliver;
    assert_eq!(usual.body, MailContent::Summary);
    assert_eq!(usual.link, Link::Console);
    assert_eq!(
        (usual.max_size, usual.late_after_seconds),
        (20_000_000, 3600)
    );
    assert!(usual.attach.is_none() && !usual.unsubscribe && usual.retry_for_seconds.is_none());
    let own = read("[deliver]\nbody = \"text\"\nattach = [\"pdf\"]\nlink = \"signed\"\nlink-valid = \"2 days\"\nmax-size = \"5 MB\"\nretry-for = \"PT2H\"\nunsubscribe = true\nlate-after = \"30 minutes\"").deliver;
    assert_eq!(own.body, MailContent::Text);
    assert_eq!(
        own.link,
        Link::Signed {
            valid_seconds: 2 * 86_400
        }
    );
    assert_eq!(
        (own.max_size, own.retry_for_seconds, own.late_after_seconds),
        (5_000_000, Some(7200), 1800)
    );
    assert!(own.unsubscribe && own.attach.is_some());
    // Without a time, a signed link is good for two weeks.
    let link = read("[deliver]\nlink = \"signed\"").deliver.link;
    assert_eq!(
        link,
        Link::Signed {
            valid_seconds: 14 * 86_400
        }
    );
    for (keys, words) in [
        (
            "link-valid = \"2 days\"",
            "goes with link = \"signed\" only",
        ),
        (
            "attach = [\"doc\"]",
            "deliver.attach: \"doc\" is not one of",
        ),
        ("max-size = \"5\"", "\"5\" is not a size such as \"10 MB\""),
        ("retry-for = \"P90D\"", "deliver.retry-for"),
    ] {
        let said = problems(&with(&format!("[deliver]\n{keys}")));
        assert!(said.contains(words), "{keys}: {said}");
    }
}

/// A table that says nothing says the usual.
#[test]
fn an_approval_is_one_by_its_table_alone() {
    assert!(read("").approval.is_none());
    let bare = read("[approval]").approval.expect("somebody looks at it");
    assert_eq!((bare.deadline_seconds, bare.then_send), (86_400, false));
    let own = read("[approval]\ndeadline = \"2 hours\"\nat-deadline = \"send\"").approval;
    let own = own.expect("somebody looks at it");
    assert_eq!((own.deadline_seconds, own.then_send), (7200, true));
    let said = problems(&with("[approval]\ndeadline = \"30 days\""));
    assert!(said.contains("approval.deadline"), "{said}");
}

#[test]
fn files_and_terms_of_keeping_are_read_and_held_to_their_order() {
    let usual = read("").files;
    assert!(usual.name.is_none() && !usual.packing.csv.byte_order_mark);
    let own = read("[files]\nname = \"{{ report }}_{{ from }}\"\nzip = \"10 MB\"\ncsv-byte-order-mark = true\ncsv-formulas = \"as-they-are\"").files;
    assert!(own.name.is_some() && own.packing.csv.byte_order_mark);
    assert!(own.packing.csv.formulas_as_they_are);
    assert_eq!(own.packing.zip, Zip::Over(10_000_000));
    assert_eq!(
        read("[files]\nzip = \"never\"").files.packing.zip,
        Zip::Never
    );
    assert!(read("[keep]").keep.is_none(), "it says nothing");
    let keep = read("[keep]\nmost-runs = 30\nsnapshots = \"90 days\"").keep;
    assert_eq!(keep.expect("it says something").most_runs, Some(30));
    for (table, words) in [
        ("[files]\nname = \"{{ reprot }}\"", "files.name"),
        (
            "[files]\nzip = \"large\"",
            "is not \"never\", \"always\" or a size",
        ),
        (
            "[keep]\nsnapshots = \"90 days\"",
            "snapshots go after documents",
        ),
        (
            "[keep]\ndocuments = \"1 year\"\nsnapshots = \"30 days\"",
            "kept at least as long as documents",
        ),
        (
            "[keep]\ndocuments = \"1 year\"\nrecords = \"2 years\"",
            "records go after snapshots",
        ),
        ("[keep]\nmost-runs = 0", "keep.most-runs"),
    ] {
        let said = problems(&with(table));
        assert!(said.contains(words), "{table}: {said}");
    }
}

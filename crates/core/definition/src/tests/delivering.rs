//! People, groups, channels, audiences and how they are served, as definitions.

#![allow(
    clippy::too_many_lines,
    reason = "a test tells one story from its beginning to its end"
)]

use maple_lark_data::{Column, ColumnKind, PackedTable, Table, Value, status::Status};
use maple_lark_fixtures as fixtures;

use crate::{
    edit,
    model::{
        audience::ResolvedAudience,
        channel::{ChannelKind, MailTls},
        definition::Definition,
        parameter::ParameterValue,
        people::Recipient,
        send_when::Condition,
        setting::Setting,
    },
    set::DefinitionSet,
};

fn problems(text: &str) -> Vec<String> {
    Definition::parse("x.toml", text)
        .map(|_| Vec::new())
        .unwrap_or_else(|found| found.iter().map(ToString::to_string).collect())
}

fn set(texts: &[&str]) -> DefinitionSet {
    let mut set = DefinitionSet::default();
    for text in texts {
        set.put(
            Definition::parse("x.toml", text).unwrap_or_else(|problems| panic!("{problems:?}")),
        );
    }
    set
}

fn addresses(recipients: &[Recipient]) -> Vec<&str> {
    recipients
        .iter()
        .map(|recipient| recipient.mailbox.address.as_str())
        .collect()
}

const RUNA: &str = "[person]\nname = \"runa\"\ntitle = \"Rúna Holm\"\naddress = \"runa@x.example\"\ndates = \"2026-11-22\"";

const AWAY: &str = "[person]\nname = \"away\"\naddress = \"away@x.example\"\nactive = false";

const DASHBOARD: &str = r#"
[dashboard]
name = "ports"
title = "Ports"
[[parameter]]
name = "port"
title = "Port"
[[parameter]]
name = "least"
kind = "number"
default = 1
[[query]]
name = "q"
source = "operations"
sql = "select 1 where :port <> '' and :least > 0"
[[section]]
title = "All"
[[section.block]]
show = "figures"
title = "Figures"
query = "q"
columns = ["bookings", "payments_failed"]
"#;

fn report(rest: &str) -> String {
    fixtures::report("r", "ports")
        .key("time-zone", "Atlantic/Faroe")
        .table(rest)
        .to_string()
}

fn report_problems(rest: &str, others: &[&str]) -> Vec<String> {
    let text = report(rest);
    let mut set = set(&[&[&*fixtures::source("operations"), DASHBOARD], others].concat());
    match Definition::parse("r.toml", &text) {
        Ok(definition) => {
            set.put(definition);
            set.check().iter().map(ToString::to_string).collect()
        }
        Err(problems) => problems.iter().map(ToString::to_string).collect(),
    }
}

#[test]
fn groups_are_opened_once_and_in_order_and_who_is_not_active_is_left_out() {
    let set = set(&[
        RUNA,
        AWAY,
        "[group]\nname = \"inner\"\nmembers = [\"b@x.example\", \"runa\", \"away\"]",
        "[group]\nname = \"outer\"\nmembers = [\"inner\", \"RUNA@x.example\", \"B@X.example\", \"Away <away@x.example>\", \"c@x.example\", \"inner-too\"]",
        "[group]\nname = \"inner-too\"\nmembers = [\"inner\"]",
    ]);
    assert_eq!(set.check(), []);
    let found = set.recipients(&set.groups["outer"].members);
    assert_eq!(
        addresses(&found),
        ["b@x.example", "runa@x.example", "c@x.example"]
    );
    assert_eq!(
        (found[0].format.key(), found[1].format.key()),
        (String::new(), "1,234.5 2026-11-22".to_owned())
    );
    assert_eq!(found[1].mailbox.to_string(), "Rúna Holm <runa@x.example>");
    // A plain address reads as the person whose it is.
    let plain = set.recipient("runa@X.example".parse().unwrap()).unwrap();
    assert!(!plain.format.is_usual());
    assert_eq!(set.recipient("away@x.example".parse().unwrap()), None);
}

#[test]
fn circles_of_groups_and_names_that_mean_two_things_are_found() {
    let circle = set(&[
        "[group]\nname = \"a\"\nmembers = [\"b\"]",
        "[group]\nname = \"b\"\nmembers = [\"c\"]",
        "[group]\nname = \"c\"\nmembers = [\"b\"]",
    ]);
    let found: Vec<String> = circle
        .check()
        .iter()
        .map(|problem| problem.message.clone())
        .collect();
    assert_eq!(
        found,
        [
            "the group holds itself: b holds c holds b",
            "the group holds itself: c holds b holds c"
        ]
    );
    assert_eq!(
        circle.recipients(&circle.groups["a"].members),
        [],
        "and opening one comes to an end"
    );
    let twice = set(&[
        RUNA,
        "[group]\nname = \"runa\"\nmembers = [\"x@x.example\"]",
        "[person]\nname = \"other\"\naddress = \"Runa@x.example\"",
    ]);
    let found: Vec<String> = twice
        .check()
        .iter()
        .map(|problem| problem.message.clone())
        .collect();
    assert_eq!(
        found,
        [
            "Runa@x.example is the address of \"other\" already",
            "a person is called \"runa\" already, so \"runa\" would mean either"
        ]
        .map(|text| {
            if text.starts_with("Runa") {
                "runa@x.example is the address of \"other\" already"
            } else {
                text
            }
        })
    );
}

#[test]
fn what_is_wrong_with_a_channel_is_said() {
    for (text, words) in [
        ("kind = \"mail-serve\"", "Did you mean \"mail-server\"?"),
        ("kind = \"mail-server\"\nhost = \"h\"", "from"),
        (
            "kind = \"mail-server\"\nhost = \"h\"\nfrom = \"a@x.example\"\n[channel.sign-in]\nkind = \"password\"\nuser = \"u\"\npassword = \"hunter2\"",
            "must not stand in a definition",
        ),
        (
            "kind = \"mail-server\"\nhost = \"h\"\nfrom = \"a@x.example\"\nmax-size = \"many\"",
            "\"many\" is not a size",
        ),
        (
            "kind = \"folder\"\nfolder = \"reports\"",
            "must be an absolute path",
        ),
        ("kind = \"webhook\"\nurl = \"ftp://x\"", "is not a URL"),
        (
            "kind = \"webhook\"\nurl = \"https://x.example\"\nkey = \"bare\"",
            "a key must not stand in a definition",
        ),
        (
            "kind = \"webhook\"\nurl = \"https://x.example\"\nbody = '{\"a\": \"{{ text }}\"}'",
            "has {{ text }}, so text = \"…\" must say what is told of a run",
        ),
        (
            "kind = \"webhook\"\nurl = \"https://x.example\"\nbody = '{\"a\": \"{{ titel }}\"}'",
            "{{ titel }} is nothing that a message has; there are text, title, status, report, url",
        ),
        (
            "kind = \"webhook\"\nurl = \"https://x.example\"\nbody = '{\"a\": }'",
            "is not JSON",
        ),
        (
            "kind = \"webhook\"\nurl = \"https://x.example\"\ntext = \"{{ nothing }}\"",
            "does not exist: nothing",
        ),
        (
            "kind = \"object-storage\"\nurl = \"https://u:p@x.example\"\nbucket = \"b\"\naccess-key = \"a\"\nsecret-key = \"secret:s\"",
            "must not have a user or password in it",
        ),
        (
            "kind = \"object-storage\"\nurl = \"https://x.example\"\nbucket = \"b/reports\"\naccess-key = \"a\"\nsecret-key = \"secret:s\"",
            "must be the name alone",
        ),
        (
            "kind = \"object-storage\"\nurl = \"https://x.example\"\nbucket = \"b\"\naccess-key = \"a\"\nsecret-key = \"typed here\"",
            "secret-key",
        ),
        (
            "kind = \"object-storage\"\nurl = \"https://x.example\"",
            "bucket",
        ),
        (
            "kind = \"upload\"\nurl = \"https://u:p@x.example\"",
            "set them under [channel.sign-in]",
        ),
        ("kind = \"syslog\"\naddress = \"log\"", "is not host:port"),
        (
            "kind = \"syslog\"\naddress = \"log:514\"\nfacility = 24",
            "facility",
        ),
        (
            "kind = \"sftp\"\naddress = \"share:22\"\nuser = \"u\"\nfolder = \"in\"\npassword = \"env:P\"",
            "the key \"host-key\" is missing here",
        ),
        (
            "kind = \"snmp\"\naddress = \"nms\"\nversion = \"2c\"\ncommunity = \"env:C\"",
            "is not host:port, such as \"127.0.0.1:162\"",
        ),
        (
            "kind = \"snmp\"\naddress = \"nms:162\"\nversion = \"2c\"\ncommunity = \"public\"",
            "must not stand in a definition",
        ),
        (
            "kind = \"snmp\"\naddress = \"nms:162\"\nversion = \"2c\"\ncommunity = \"env:C\"\nenterprise = \"1.3.6.1.2.1\"",
            "must be a number below 1.3.6.1.4.1",
        ),
        (
            "kind = \"snmp\"\naddress = \"nms:162\"\nversion = \"2c\"\ncommunity = \"env:C\"\nnotification = \"page\"",
            "is not one of \"inform\", \"trap\"",
        ),
        (
            "kind = \"folder\"\nfolder = \"/srv\"\ntimeout = \"PT1H\"",
            "must be between \"PT1S\" and \"PT10M\"",
        ),
    ] {
        let found = problems(&format!("[channel]\nname = \"c\"\n{text}"));
        assert!(
            found.iter().any(|problem| problem.contains(words)),
            "{text}: {found:?}"
        );
        assert!(
            !found.iter().any(|problem| problem.contains("hunter2")),
            "a secret is repeated"
        );
    }
    let server = set(&[
        "[channel]\nname = \"c\"\nkind = \"mail-server\"\nhost = \"env:HOST\"\ntls = \"tls\"\nfrom = \"a@x.example\"\nrate-per-minute = 30",
    ]);
    let channel = &server.channels["c"];
    let ChannelKind::MailServer(settings) = &channel.kind else {
        panic!("{channel:?}")
    };
    assert_eq!(
        (
            settings.port,
            settings.tls,
            channel.rate_per_minute,
            channel.kind.place().as_str()
        ),
        (465, MailTls::Tls, Some(30), "env:HOST:465")
    );
    let hook = set(&[
        "[channel]\nname = \"c\"\nkind = \"webhook\"\nurl = \"https://chat.example/very/secret/path\"",
    ]);
    assert_eq!(
        hook.channels["c"].kind.place(),
        "https://chat.example/…",
        "the path of a web hook is a secret"
    );
}

#[test]
fn what_a_report_says_of_its_delivery_is_checked_against_everything_else() {
    let to =
        "[[audience]]\nname = \"all\"\nparameters = { port = \"x\" }\nto = [\"a@x.example\"]\n";
    let files = "[channel]\nname = \"files\"\nkind = \"folder\"\nfolder = \"/srv\"";
    let server = "[channel]\nname = \"server\"\nkind = \"mail-server\"\nhost = \"h\"\nfrom = \"a@x.example\"";
    let message_template =
        "[message-template]\nname = \"usual\"\nsubject = \"{{ figures.bookngs }}\"";
    for (rest, words) in [
        (
            "[deliver]\nmail-server = \"serve\"\n",
            "there is no channel \"serve\". Did you mean \"server\"?",
        ),
        (
            "[deliver]\nmail-server = \"files\"\n",
            "the channel \"files\" is no mail server but of kind \"folder\"",
        ),
        ("[deliver]\nattach = [\"docx\"]\n", "\"docx\" is not one of"),
        (
            "[deliver]\nlink-valid = \"P1D\"\n",
            "link-valid goes with link = \"signed\" only",
        ),
        (
            "[deliver]\nretry-for = \"P1M\"\n",
            "must be between \"PT1M\" and \"P30D\"",
        ),
        (
            "[approval]\ndeadline = \"PT1S\"\n",
            "must be between \"PT1M\" and \"P14D\"",
        ),
        (
            "[message]\ntemplate = \"unusual\"\n",
            "there is no message template \"unusual\". Did you mean \"usual\"?",
        ),
        (
            "[message]\ntemplate = \"usual\"\n",
            "the message names figures.bookngs, but no key figure of this report is called that. Did you mean \"bookings\"?",
        ),
        (
            "[send]\nwhen = \"figures\"\nfigures = [\"bookings > 5\", \"paid > 5\"]\n",
            "no key figure of this report is called \"paid\"",
        ),
        ("[send]\nwhen = \"figures\"\n", "say what of which figures"),
        (
            "[send]\nwhen = \"change\"\nfigures = [\"bookings > 5\"]\n",
            "figures goes with when = \"figures\" only",
        ),
    ] {
        let found = report_problems(&format!("{rest}{to}"), &[files, server, message_template]);
        assert!(
            found.iter().any(|problem| problem.contains(words)),
            "{rest}: {found:?}"
        );
    }
    assert_eq!(
        report_problems(
            &format!(
                "[deliver]\nmail-server = \"server\"\nlink = \"signed\"\nlink-valid = \"P30D\"\n{to}"
            ),
            &[server]
        ),
        Vec::<String>::new()
    );
    let wrong = to.replace("to =", "channels = [\"server\"]\nto =");
    assert!(
        report_problems(&wrong, &[server])[0].contains("name it as mail-server under [deliver]")
    );
    assert!(
        report_problems(
            "[[audience]]\nname = \"all\"\nparameters = { port = \"x\" }\n",
            &[]
        )[0]
        .contains("the key \"to\" is missing here")
    );
}

const QUERY: &str = "[[audiences-from]]\nsource = \"operations\"\nsql = \"select 1\"\nname = \"title\"\nto = \"mail\"\nparameters = { port = \"code\", least = \"least\" }\n";

fn rows(rows: Vec<Vec<Value>>) -> PackedTable {
    let columns = ["title", "mail", "code", "least"].map(|name| Column {
        name: name.to_owned(),
        kind: ColumnKind::Text,
    });
    Table {
        columns: columns.to_vec(),
        rows,
        truncated: false,
    }
    .into()
}

fn row(title: &str, mail: &str, code: Value) -> Vec<Value> {
    vec![
        Value::Text(title.into()),
        Value::Text(mail.into()),
        code,
        Value::Integer(3),
    ]
}

fn from(set: &DefinitionSet, table: &PackedTable) -> Result<Vec<ResolvedAudience>, String> {
    let report = &set.reports["r"];
    set.audiences_from(report, &report.audience_queries[0], table)
        .map_err(|error| error.to_string())
}

#[test]
fn audiences_come_from_rows_with_their_values_and_recipients() {
    let set = set(&[
        &fixtures::source("operations"),
        DASHBOARD,
        RUNA,
        "[group]\nname = \"desk\"\nmembers = [\"runa\", \"d@x.example\"]",
        &report(QUERY),
    ]);
    assert_eq!(set.check(), []);
    let found = from(
        &set,
        &rows(vec![
            row("Havnes", "h@x.example; desk", Value::Text("havnes".into())),
            row("Number", "runa", Value::Integer(7)),
        ]),
    )
    .unwrap();
    assert_eq!(
        found
            .iter()
            .map(|audience| audience.name.as_str())
            .collect::<Vec<_>>(),
        ["Havnes", "Number"]
    );
    assert_eq!(
        addresses(&found[0].to),
        ["h@x.example", "runa@x.example", "d@x.example"]
    );
    assert_eq!(
        found[0].values["port"],
        ParameterValue::Text("havnes".into())
    );
    assert_eq!(found[0].values["least"], ParameterValue::Number(3.0));
    assert_eq!(
        found[1].values["port"],
        ParameterValue::Text("7".into()),
        "a text parameter takes a number as text"
    );
    assert_eq!(from(&set, &rows(Vec::new())), Ok(Vec::new()));
}

#[test]
fn rows_that_name_no_audience_are_refused_by_their_number() {
    let set = set(&[&fixtures::source("operations"), DASHBOARD, &report(QUERY)]);
    let port = || Value::Text("p".into());
    for (table, words) in [
        (
            vec![
                row("a", "a@x.example", port()),
                row("a", "b@x.example", port()),
            ],
            "row 2 of the audience query: there is an audience \"a\" already",
        ),
        (
            vec![row(" ", "a@x.example", port())],
            "row 1 of the audience query: the column \"title\" is empty",
        ),
        (
            vec![row("a", "nobody", port())],
            "there is no person or group \"nobody\"",
        ),
        (vec![row("a", "a@", port())], "\"a@\" is not a mail address"),
        (
            vec![row("a", ", ;", port())],
            "the column \"mail\" names nobody",
        ),
    ] {
        let refusal = from(&set, &rows(table)).unwrap_err();
        assert!(refusal.contains(words), "{refusal}");
    }
    let other = PackedTable::from(Table {
        columns: vec![Column {
            name: "titel".into(),
            kind: ColumnKind::Text,
        }],
        rows: Vec::new(),
        truncated: false,
    });
    assert_eq!(
        from(&set, &other).unwrap_err(),
        "the audience query gives no column \"title\". Did you mean \"titel\"?"
    );
    let found = report_problems(&QUERY.replace("port =", "prt ="), &[]);
    assert!(
        found.iter().any(|problem| problem.contains(
            "no dashboard of this report has a parameter \"prt\". Did you mean \"port\"?"
        )),
        "{found:?}"
    );
    assert!(
        found.iter().any(|problem| problem
            .contains("the audiences of this query have no value for the parameter \"port\"")),
        "{found:?}"
    );
}

#[test]
fn conditions_are_read_and_hold_as_they_say() {
    for (text, now, before, holds) in [
        ("a > 5", Some(5.0), None, Some(false)),
        ("a >= 5", Some(5.0), None, Some(true)),
        ("a < -1.5", Some(-2.0), None, Some(true)),
        ("a <= 5", Some(5.1), None, Some(false)),
        ("a > 5", None, None, None),
        ("a changed by 3", Some(1.0), Some(4.0), Some(true)),
        ("a changed by 3", Some(2.0), Some(4.0), Some(false)),
        ("a changed by 3", Some(2.0), None, None),
        ("a changed by 10 %", Some(110.0), Some(100.0), Some(true)),
        ("a changed by 10%", Some(91.0), Some(100.0), Some(false)),
        ("a changed by 10 %", Some(1.0), Some(0.0), Some(true)),
        ("a changed by 10 %", Some(0.0), Some(0.0), Some(false)),
        ("a changed by 10 %", Some(-111.0), Some(-100.0), Some(true)),
    ] {
        let condition: Condition = text.parse().unwrap();
        assert_eq!(
            condition.holds(now, before),
            holds,
            "{text} of {now:?} and {before:?}"
        );
        assert_eq!(
            condition.to_string().parse::<Condition>().unwrap(),
            condition
        );
    }
    for text in [
        "",
        "a",
        "a >",
        "> 5",
        "a = 5",
        "a > b",
        "a b > 5",
        "a changed by",
        "a changed by x %",
        "a > inf",
    ] {
        assert!(text.parse::<Condition>().is_err(), "{text}");
    }
}

#[test]
fn an_audience_knows_what_it_hears_and_nobody_is_named_twice() {
    let set = set(&[
        &fixtures::source("operations"),
        DASHBOARD,
        RUNA,
        &report(
            "[[audience]]\nname = \"all\"\nonly-when = \"warning\"\ntogether = true\nto = [\"runa\", \"b@x.example\"]\ncc = [\"B@x.example\", \"c@x.example\"]\n\
             bcc = [\"c@x.example\", \"runa@x.example\", \"d@x.example\"]\nparameters = { port = \"x\" }\n",
        ),
    ]);
    let audience = &set.audiences(&set.reports["r"])[0];
    let everybody: Vec<&str> = audience
        .everybody()
        .map(|recipient| recipient.mailbox.address.as_str())
        .collect();
    assert_eq!(
        everybody,
        [
            "runa@x.example",
            "b@x.example",
            "c@x.example",
            "d@x.example"
        ]
    );
    assert_eq!(
        (audience.only_when, audience.together),
        (Some(Status::Warning), true)
    );
    // What is kept with a run is read back as it was.
    let kept = serde_json::to_value(audience).unwrap();
    assert_eq!(
        &serde_json::from_value::<ResolvedAudience>(kept).unwrap(),
        audience
    );
}

#[test]
fn a_report_without_its_audiences_names_nobody_and_still_is_one() {
    let text = report(&format!(
        "[[audience]]\nname = \"one\"\nto = [\"secret@x.example\"]\nparameters = {{ port = \"hidden\" }}\n{QUERY}[files]\nname = \"{{{{ report }}}}\"\n"
    ));
    let without = edit::without_audiences(&text);
    assert!(
        !without.contains("secret@")
            && !without.contains("hidden")
            && !without.contains("audiences-from"),
        "{without}"
    );
    assert!(
        matches!(Definition::parse("r.toml", &without), Ok(Definition::Report(report)) if report.audiences.is_empty())
    );
    assert_eq!(edit::without_audiences("not = toml ="), "");
}

#[test]
fn whoever_asks_is_a_person_with_their_user_name() {
    let set = set(&[
        RUNA,
        AWAY,
        "[person]\nname = \"ada\"\ntitle = \"Ada\"\naddress = \"ada@x.example\"\nuser = \"ops\"",
        "[group]\nname = \"all\"\nmembers = [\"ada\", \"away\", \"runa\"]",
    ]);
    let meant = |user: &str, word: &str| {
        set.meant_by(user, word).map(|found| {
            found
                .iter()
                .map(|one| one.address.clone())
                .collect::<Vec<_>>()
        })
    };
    assert_eq!(meant("ops", "me"), Ok(vec!["ada@x.example".to_owned()]));
    assert_eq!(
        meant("guest", "me"),
        Err(crate::NobodyMeant::NotAPerson("guest".to_owned()))
    );
    assert_eq!(meant("ops", "runa"), Ok(vec!["runa@x.example".to_owned()]));
    assert_eq!(
        meant("ops", "all"),
        Ok(vec![
            "ada@x.example".to_owned(),
            "runa@x.example".to_owned()
        ])
    );
    // Somebody who is not active is meant, and gets nothing.
    assert_eq!(meant("ops", "away"), Ok(Vec::new()));
    assert_eq!(
        meant("ops", "B <b@x.example>"),
        Ok(vec!["b@x.example".to_owned()])
    );
    assert!(
        meant("ops", "rune")
            .unwrap_err()
            .to_string()
            .contains("Did you mean \"runa\"?")
    );
    assert!(
        meant("ops", "a b")
            .unwrap_err()
            .to_string()
            .contains("is not a mail address")
    );
    assert_eq!(
        problems("[person]\nname = \"me\"\naddress = \"m@x.example\""),
        ["x.toml:2:8: person.name: \"me\" means whoever asks; choose another name"]
    );
}

#[test]
fn a_setting_is_a_text_or_one_of_four_references() {
    let written = |text: &str| text.parse::<Setting>().map(|setting| setting.written());
    for text in [
        "plain",
        "env:TOKEN",
        "file:/etc/token",
        "secret:mail-token",
        "command:mail-token",
    ] {
        assert_eq!(written(text).unwrap(), text);
    }
    for wrong in [
        "env:",
        "env:a b",
        "file:token",
        "secret:Mail Token",
        "command:",
        "command:/bin/sh -c id",
    ] {
        assert!(written(wrong).is_err(), "{wrong}");
    }
    assert_eq!(
        "command:mail-token".parse::<Setting>().unwrap(),
        Setting::Command("mail-token".to_owned())
    );
}

#[test]
fn only_what_can_be_quiet_can_be_confirmed_to_be() {
    let quiet = report("[send]\nwhen = \"warning\"\nconfirm-quiet = true\n");
    let Ok(Definition::Report(quiet)) = Definition::parse("r.toml", &quiet) else {
        panic!()
    };
    assert!(quiet.confirm_quiet);
    assert_eq!(
        report_problems("[send]\nwhen = \"always\"\nconfirm-quiet = true\n", &[]),
        ["r.toml:10:17: send.confirm-quiet: a report that is always sent is never quiet"]
    );
}

#[test]
fn a_text_names_what_is_there_and_nothing_else() {
    let with_text = |text: &str| {
        format!(
            "{}[[section.block]]\nshow = \"text\"\ntext = \"{text}\"\n",
            DASHBOARD
        )
    };
    let problems = |text: &str| match Definition::parse("d.toml", &with_text(text)) {
        Ok(definition) => {
            let mut set = set(&[
                &fixtures::source("operations"),
                &report("[parameters]\nport = \"havnes\"\n"),
            ]);
            set.put(definition);
            set.check()
                .iter()
                .map(ToString::to_string)
                .collect::<Vec<_>>()
        }
        Err(found) => found.iter().map(ToString::to_string).collect(),
    };
    assert_eq!(
        problems("{{ figures.bookings }} in {{ window.label }}"),
        Vec::<String>::new()
    );
    assert!(problems("{{ figures.boking }}")[0].ends_with(
        "names figures.boking, but no key figure is called that. Did you mean \"bookings\"?"
    ));
    assert!(
        problems("{{ audience }}")[0]
            .contains("does not exist: audience (line 1). Known: report.name, ")
    );
    assert!(problems("{{ window.label")[0].contains("not valid"));
}

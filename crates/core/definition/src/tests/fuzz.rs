//! Every parser of what people write, fed with its own signs in any order and number: none
//! panics, overflows its stack or goes on for ever. A few cases with each test run;
//! `make fuzz` tries many.

use maple_lark_time::{schedule::Crontab, span::Span, window::Step};
use proptest::prelude::*;

use crate::{
    PlaceholderText, QueryText, check, check_text,
    model::{definition::Definition, picture::Picture, setting::Setting, template::Template},
    read::json_path,
    set::DefinitionSet,
};

/// Some of these signs, each once or many times over.
fn made_of(signs: &'static [&'static str]) -> impl Strategy<Value = String> {
    let part = (
        proptest::sample::select(signs),
        prop_oneof![4 => 1..4_usize, 1 => 200..3_000_usize],
    );
    proptest::collection::vec(part, 0..24).prop_map(|parts| {
        let parts = parts.iter().map(|(sign, times)| sign.repeat(*times));
        parts.collect::<String>().chars().take(60_000).collect()
    })
}

const PATH: &[&str] = &[
    "$", "[", "]", "?", "@", "(", ")", "..", "*", "'a'", "\"", "\\", "1", "&&", "!", ".a", ":",
    ",", "[?@", "length(",
];
const SQL: &[&str] = &[
    "select ", "'", "\"", "/*", "*/", "--", "\n", "$$", "$a$", "$", ":a", "::", ";", "e'", "\\",
    "[", "]", "(", ")", "é",
];
const TEMPLATE: &[&str] = &[
    "{{",
    "}}",
    "{%",
    "%}",
    "{#",
    "#}",
    " for i in ",
    "range(9999)",
    " if ",
    " elif ",
    " else ",
    " endif ",
    " endfor ",
    "|upper",
    "-",
    " not ",
    "+1",
    "[",
    "]",
    "(",
    ")",
    ".a",
    "'",
    "{{ figures.x }}",
    " set a = ",
    "~",
    "x",
];
const TOML: &[&str] = &[
    "[",
    "]",
    "[[",
    "]]",
    "{",
    "}",
    "=",
    "\"",
    "\"\"\"",
    "'''",
    "\n",
    ".",
    ",",
    "a",
    "1",
    "\\",
    "#",
    "[report]\n",
    "[dashboard]\n",
    "[[query]]\n",
    "[[section.block]]\n",
    "name = \"x\"\n",
    "[window]\n",
    "every = \"day\"\n",
];
const CALENDAR: &[&str] = &[
    "BEGIN:VCALENDAR\r\n",
    "END:VCALENDAR\r\n",
    "BEGIN:VEVENT\r\n",
    "END:VEVENT\r\n",
    "DTSTART:20260101\r\n",
    "RRULE:FREQ=SECONDLY;BYSETPOS=2\r\n",
    "RRULE:FREQ=DAILY;COUNT=99999\r\n",
    "UID:x\r\n",
    "SUMMARY:",
    "\r\n ",
    ":",
    ";",
    "=",
    "\"",
    "\\",
];
const RULE: &[&str] = &[
    "FREQ=",
    "SECONDLY",
    "YEARLY",
    "MONTHLY",
    ";",
    "BYDAY=",
    "MO",
    "-1",
    ",",
    "BYSETPOS=",
    "BYWEEKNO=",
    "53",
    "INTERVAL=",
    "COUNT=",
    "9",
    "UNTIL=20991231",
    "BYMONTH=2",
    "BYMONTHDAY=",
    "30",
    "=",
];
const SVG: &[&str] = &[
    "<svg xmlns='http://www.w3.org/2000/svg'>",
    "</svg>",
    "<g>",
    "<g id='a'>",
    "</g>",
    "<use href='#a'/>",
    "<rect fill='url(#a)'/>",
    "&a;",
    "<!DOCTYPE x [",
    "<!ENTITY a 'b'>",
    "]>",
    "<",
    ">",
    "'",
    "<pattern id='a'>",
    "</pattern>",
];
const WORDS: &[&str] = &[
    "P", "T", "1", "9", "D", "M", "H", "S", "*", "/", "-", ",", " ", "?", "L", "#", "env:",
    "file:/", "secret:", "{", "}", ":",
];

fn read(file: &str, text: &str) {
    if let Err(problems) = Definition::parse(file, text) {
        assert!(!problems.is_empty() && problems.len() <= crate::limits::PROBLEMS);
    }
}

proptest! {
    #![proptest_config(ProptestConfig { failure_persistence: None, cases: cases(), ..ProptestConfig::default() })]

    #[test]
    fn paths(text in made_of(PATH)) {
        let _ = json_path::check(&text);
    }

    #[test]
    fn statements(text in made_of(SQL)) {
        if let Ok(read) = QueryText::parse(&text) {
            prop_assert!(read.names.len() <= text.matches(':').count());
        }
    }

    #[test]
    fn templates(text in made_of(TEMPLATE)) {
        let template = Template::new(text.clone());
        let _ = check(&template);
        let _ = check_text(&template);
        let _ = PlaceholderText::parse(&text);
    }

    #[test]
    fn definitions(text in made_of(TOML)) {
        read("x.toml", &text);
        let _ = crate::query_alone("x", &text);
        let _ = crate::schedule_and_window("x", &text);
    }

    #[test]
    fn calendars(text in made_of(CALENDAR)) {
        read("x.ics", &text);
    }

    #[test]
    fn rules(text in made_of(RULE)) {
        let report = format!("[report]\nname = \"r\"\ntitle = \"R\"\ntime-zone = \"UTC\"\ndashboards = [\"d\"]\n[window]\nprevious = \"day\"\n[schedule]\nrule = \"{text}\"\n");
        read("r.toml", &report);
        // What is read can be unrolled, too.
        if let Ok(Definition::Report(report)) = Definition::parse("r.toml", &report)
            && let Some(plan) = DefinitionSet::default().plan(&report)
        {
            let now = "2026-11-27T00:00:00Z".parse().unwrap();
            prop_assert!(plan.instants(now, now + chrono::TimeDelta::days(400)).take(5).all(|at| at > now));
        }
    }

    #[test]
    fn pictures(text in made_of(SVG)) {
        use base64::Engine;
        let data = base64::engine::general_purpose::STANDARD.encode(text);
        let _ = format!("data:image/svg+xml;base64,{data}").parse::<Picture>();
    }

    #[test]
    fn words(text in made_of(WORDS)) {
        let _ = (text.parse::<Span>(), text.parse::<Step>(), text.parse::<Crontab>(), text.parse::<Setting>());
    }
}

/// As many as `make fuzz` says, or a few.
fn cases() -> u32 {
    let said = std::env::var("PROPTEST_CASES").ok();
    said.and_then(|cases| cases.parse().ok()).unwrap_or(48)
}

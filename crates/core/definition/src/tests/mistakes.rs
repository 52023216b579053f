//! What people get wrong: every key of every definition of the demo, mistyped, with a value of
//! another kind, or cut off in the middle. Nothing of it may pass unseen, and each is
//! said with its place.

use std::path::{Path, PathBuf};

use crate::{
    edit,
    model::{definition::Definition, source::SourceKind},
    problem::Problem,
    set::DefinitionSet,
};

/// Tables whose keys are names of the author's own.
const FREE: [&str; 7] = [
    "parameters",
    "headers",
    "send",
    "query.headers",
    "query.send",
    "source.headers",
    "channel.headers",
];

pub(super) struct File {
    pub(super) name: String,
    pub(super) text: String,
}

pub(super) fn demo() -> Vec<File> {
    fn collect(folder: &Path, into: &mut Vec<PathBuf>) {
        for entry in std::fs::read_dir(folder).unwrap() {
            let path = entry.unwrap().path();
            if path.is_dir() {
                collect(&path, into);
            } else if path.extension().is_some_and(|ending| ending == "toml") {
                into.push(path);
            }
        }
    }
    let root = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../../demo");
    let mut paths = Vec::new();
    collect(&root, &mut paths);
    paths.sort();
    assert!(paths.len() > 20, "the demo has definitions of every kind");
    paths
        .iter()
        .map(|path| File {
            name: path.strip_prefix(&root).unwrap().display().to_string(),
            text: std::fs::read_to_string(path).unwrap(),
        })
        .collect()
}

/// A line `key = value` with the key, in a table whose keys are fixed.
struct Line {
    number: usize,
    key: String,
    /// Whether the value ends on the line.
    whole: bool,
}

fn lines(text: &str) -> Vec<Line> {
    let (mut found, mut table, mut in_text, mut depth) = (Vec::new(), String::new(), false, 0i32);
    for (index, line) in text.lines().enumerate() {
        let quotes = line.matches("\"\"\"").count() + line.matches("'''").count();
        if in_text {
            in_text = quotes % 2 == 0;
            continue;
        }
        let balance = |line: &str| {
            line.matches(['[', '{']).count() as i32 - line.matches([']', '}']).count() as i32
        };
        if depth > 0 {
            depth += balance(line);
            continue;
        }
        if let Some(name) = line.strip_prefix('[') {
            table = name.trim_matches(['[', ']']).to_owned();
            continue;
        }
        let key: String = line
            .chars()
            .take_while(|c| c.is_ascii_lowercase() || *c == '-' || *c == '_')
            .collect();
        if key.is_empty() || !line[key.len()..].starts_with(" = ") {
            continue;
        }
        in_text = quotes % 2 == 1;
        // What stands in a text counts for nothing.
        let bare: String = line.split('"').step_by(2).collect();
        depth = if in_text { 0 } else { balance(&bare).max(0) };
        if !FREE.contains(&table.as_str()) && !line[key.len() + 3..].starts_with('{') {
            found.push(Line {
                number: index + 1,
                key,
                whole: !in_text && depth == 0,
            });
        }
    }
    found
}

fn with_line(text: &str, number: usize, line: &str) -> String {
    text.lines()
        .enumerate()
        .map(|(index, old)| {
            if index + 1 == number {
                format!("{line}\n")
            } else {
                format!("{old}\n")
            }
        })
        .collect()
}

fn problems(file: &File, text: &str) -> Vec<Problem> {
    Definition::parse(&file.name, text)
        .err()
        .unwrap_or_default()
}

#[test]
fn the_demo_has_no_mistakes() {
    let mut set = DefinitionSet::default();
    for file in demo() {
        match Definition::parse(&file.name, &file.text) {
            Ok(definition) => set.put(definition),
            Err(problems) => panic!("{problems:?}"),
        }
    }
    // Its calendar is no TOML file, so the schedules that name it are the only ones to miss something.
    let missing: Vec<String> = set
        .check()
        .iter()
        .map(ToString::to_string)
        .filter(|problem| !problem.contains("calendar"))
        .collect();
    assert_eq!(missing, Vec::<String>::new());
}

#[test]
fn a_mistyped_key_is_named_with_its_line() {
    let mut tried = 0;
    for file in demo() {
        for line in lines(&file.text) {
            let old = file.text.lines().nth(line.number - 1).unwrap();
            let mistyped = format!("{}q{}", line.key, &old[line.key.len()..]);
            let found = problems(&file, &with_line(&file.text, line.number, &mistyped));
            // Where it had to be there, the table is pointed at, and what stands in its place.
            let said = |problem: &Problem| {
                problem.message.contains(&format!("\"{}q\"", line.key))
                    && problem.line <= line.number
            };
            // A block that takes no other is one that lacks the kind of its own.
            let lacks = |problem: &Problem| {
                line.key == "from"
                    && problem
                        .message
                        .starts_with("the key \"show\" is missing here")
            };
            let named = found.iter().any(|problem| said(problem) || lacks(problem));
            assert!(
                named,
                "{}:{}: {mistyped}: {found:?}",
                file.name, line.number
            );
            assert!(
                found.iter().all(|problem| problem.file == file.name
                    && problem.line >= 1
                    && problem.column >= 1),
                "{found:?}"
            );
            tried += 1;
        }
    }
    assert!(tried > 400, "{tried}");
}

#[test]
fn a_value_of_another_kind_is_refused_where_it_stands() {
    let mut tried = 0;
    for file in demo() {
        for line in lines(&file.text).into_iter().filter(|line| line.whole) {
            for nonsense in ["[[[]]]", "{ nonsense = 1 }", "1979-05-27"] {
                let text = with_line(
                    &file.text,
                    line.number,
                    &format!("{} = {nonsense}", line.key),
                );
                let found = problems(&file, &text);
                assert!(
                    found.iter().any(|problem| problem.line == line.number),
                    "{}:{}: {} = {nonsense}: {found:?}",
                    file.name,
                    line.number,
                    line.key
                );
                tried += 1;
            }
        }
    }
    assert!(tried > 1000, "{tried}");
}

/// Somebody's editor may have saved half of it; whatever is left is read or refused.
#[test]
fn a_file_that_is_cut_off_anywhere_is_read_or_refused_with_a_place() {
    for file in demo() {
        let step = (file.text.len() / 120).max(1);
        for end in (0..file.text.len())
            .step_by(step)
            .filter(|end| file.text.is_char_boundary(*end))
        {
            for problem in problems(&file, &file.text[..end]) {
                assert!(
                    problem.file == file.name && problem.line >= 1 && !problem.message.is_empty(),
                    "{problem:?}"
                );
            }
        }
    }
}

#[test]
fn a_copy_under_another_name_is_read_as_the_same_with_that_name() {
    for file in demo() {
        let original = Definition::parse(&file.name, &file.text).unwrap();
        let renamed = edit::renamed(
            &file.text,
            original.kind(),
            "another-name",
            "Another <title> \"in quotes\"",
        )
        .unwrap();
        let copy = Definition::parse(&file.name, &renamed)
            .unwrap_or_else(|problems| panic!("{}: {problems:?}", file.name));
        assert_eq!(
            (copy.kind(), copy.name(), copy.title()),
            (
                original.kind(),
                "another-name",
                "Another <title> \"in quotes\""
            ),
            "{}",
            file.name
        );
        // Everything else stands as its author wrote it.
        let changed = file
            .text
            .lines()
            .filter(|line| !renamed.lines().any(|other| other == *line))
            .count();
        assert!(changed <= 2, "{}: {changed} lines", file.name);
    }
}

#[test]
fn the_size_of_an_answer_has_bounds() {
    let source = |size: &str| {
        let text =
            format!("[source]\nname = \"x\"\nkind = \"local-checks\"\nmax-size = \"{size}\"\n");
        Definition::parse("x.toml", &text)
    };
    for (size, said) in [
        ("3 GB", "must be between \"1 kB\" and \"2 GB\""),
        ("1 B", "must be between \"1 kB\" and \"2 GB\""),
        ("much", "\"much\" is not a size such as \"10 MB\""),
    ] {
        let found = source(size).err().unwrap_or_default();
        assert_eq!(found.len(), 1, "{size}: {found:?}");
        assert!(found[0].message.contains(said), "{size}: {found:?}");
    }
    let Ok(Definition::Source(source)) = source("5 MB") else {
        panic!()
    };
    assert_eq!(source.max_bytes, 5_000_000);
}

#[test]
fn a_key_of_an_early_version_is_refused_with_its_new_name() {
    for (text, said) in [
        (
            "[source]\nname = \"x\"\nkind = \"local-checks\"\nat-a-time = 3\n",
            "unknown key \"at-a-time\". It is called \"max-concurrency\" now.",
        ),
        (
            "[theme]\nname = \"x\"\ntheme = \"dark\"\n",
            "unknown key \"theme\". It is called \"mode\" now.",
        ),
        ("[look]\nname = \"x\"\n", "[look] is called [theme] now."),
        (
            "[wording]\nname = \"x\"\nsubject = \"s\"\n",
            "[wording] is called [message-template] now.",
        ),
    ] {
        let found = Definition::parse("x.toml", text).err().unwrap_or_default();
        assert!(
            found.iter().any(|problem| problem.message.contains(said)),
            "{text}: {found:?}"
        );
    }
}

/// What must be there and is not is told as a key, so that whoever asks for it need not read the words.
#[test]
fn what_is_missing_is_told_as_keys() {
    let missing = |text: &str| {
        let problems = Definition::parse("x.toml", text).unwrap_err();
        let keys = problems.into_iter().filter_map(|one| one.missing);
        keys.map(|one| (one.key, one.one_of)).collect::<Vec<_>>()
    };
    let keys = |text: &str| -> Vec<String> { missing(text).into_iter().map(|one| one.0).collect() };
    let kind = missing("[source]\nname = \"s\"\n");
    assert_eq!(kind.len(), 1);
    assert_eq!(kind[0].0, "source.kind");
    assert_eq!(kind[0].1, SourceKind::NAMES);
    assert_eq!(
        keys("[source]\nname = \"s\"\nkind = \"mysql\"\nuser = \"reader\"\n"),
        ["source.address", "source.database"]
    );
    assert_eq!(
        keys("[channel]\nname = \"s\"\nkind = \"sftp\"\n"),
        [
            "channel.address",
            "channel.user",
            "channel.host-key",
            "channel.private-key",
            "channel.folder"
        ]
    );
    assert_eq!(
        keys("[report]\nname = \"r\"\ntitle = \"R\"\n"),
        ["report.time-zone", "report.dashboards", "window"]
    );
    assert_eq!(
        keys("[group]\nname = \"g\"\nmembers = []\n"),
        ["group.members"]
    );
    // A key that is there and wrong is not missing.
    assert!(keys("[source]\nname = \"s\"\nkind = \"pigeon\"\n").is_empty());
}

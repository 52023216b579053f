//! The house keeps its shape: crates depend on one another in one direction only, the core needs
//! no input or output, and no files of a crate import each other in a circle larger than a
//! parent and its children.

use std::{
    collections::{BTreeMap, BTreeSet},
    fs,
    path::{Path, PathBuf},
};

/// Each crate, and the crates of ours that it may depend on.
const MAY: [(&str, &[&str]); 18] = [
    ("time", &[]),
    ("data", &["time"]),
    ("definition", &["time", "data"]),
    ("document", &["time", "data", "definition"]),
    ("api", &["definition"]),
    ("render", &["time", "data", "definition", "document"]),
    ("capture", &["definition"]),
    ("programs", &[]),
    ("sftp", &[]),
    ("directory", &[]),
    (
        "sources",
        &[
            "time",
            "data",
            "definition",
            "capture",
            "directory",
            "programs",
            "sftp",
        ],
    ),
    ("delivery", &["definition", "programs"]),
    ("store", &["api"]),
    (
        "service",
        &[
            "api",
            "time",
            "data",
            "definition",
            "document",
            "render",
            "capture",
            "sources",
            "delivery",
            "directory",
            "sftp",
            "store",
            "zones",
        ],
    ),
    ("zones", &["time"]),
    ("cli", &["api", "time", "zones", "service"]),
    ("demo", &[]),
    ("fixtures", &[]),
];

/// What a crate of the core may not have: a clock, files, a network, a database, drawing.
const NOT_IN_CORE: [&str; 8] = [
    "tokio", "rocket", "reqwest", "sqlx", "sea-orm", "typst", "resvg", "lettre",
];

fn crates() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("..")
}

fn folder(name: &str) -> PathBuf {
    let core = crates().join("core").join(name);
    if core.is_dir() {
        core
    } else {
        crates().join(name)
    }
}

/// The dependencies that a crate is built with; those of its tests do not count.
fn dependencies(name: &str) -> Vec<String> {
    let text = fs::read_to_string(folder(name).join("Cargo.toml")).unwrap();
    let mut inside = false;
    let mut found = Vec::new();
    for line in text.lines() {
        if line.starts_with('[') {
            inside = line == "[dependencies]";
        } else if inside && let Some((name, _)) = line.split_once(['.', ' ', '=']) {
            found.push(name.to_owned());
        }
    }
    found
}

#[test]
fn crates_depend_in_one_direction() {
    for (name, may) in MAY {
        for dependency in dependencies(name) {
            if let Some(ours) = dependency.strip_prefix("maple-lark-") {
                assert!(may.contains(&ours), "{name} must not depend on {ours}");
            }
        }
    }
}

#[test]
fn every_crate_has_its_place() {
    let mut found = BTreeSet::new();
    for root in [crates(), crates().join("core")] {
        for entry in fs::read_dir(root).unwrap() {
            let path = entry.unwrap().path();
            if path.join("Cargo.toml").exists() {
                found.insert(path.file_name().unwrap().to_string_lossy().into_owned());
            }
        }
    }
    let known: BTreeSet<String> = MAY.iter().map(|(name, _)| (*name).to_owned()).collect();
    assert_eq!(found, known);
}

#[test]
fn the_core_has_no_clock_file_network_or_database() {
    for name in ["time", "data", "definition", "document"] {
        let has = dependencies(name);
        for wrong in NOT_IN_CORE {
            assert!(!has.iter().any(|one| one == wrong), "{name} has {wrong}");
        }
        for (file, text) in sources(name) {
            for wrong in ["Utc::now", "SystemTime", "std::fs", "std::net", "std::env"] {
                assert!(!text.contains(wrong), "{name}/{file:?} uses {wrong}");
            }
        }
    }
}

/// The source files of a crate by the path of their module, without their tests.
fn sources(name: &str) -> BTreeMap<Vec<String>, String> {
    fn walk(folder: &Path, path: &[String], into: &mut BTreeMap<Vec<String>, String>) {
        for entry in fs::read_dir(folder).unwrap() {
            let file = entry.unwrap().path();
            let stem = file.file_stem().unwrap().to_string_lossy().into_owned();
            if stem.starts_with("tests") {
                continue;
            }
            let mut inner = path.to_vec();
            if !["mod", "lib", "main"].contains(&stem.as_str()) {
                inner.push(stem);
            }
            if file.is_dir() {
                walk(&file, &inner, into);
            } else if file.extension().is_some_and(|ending| ending == "rs") {
                into.insert(inner, without_tests(&fs::read_to_string(&file).unwrap()));
            }
        }
    }
    let mut found = BTreeMap::new();
    walk(&folder(name).join("src"), &[], &mut found);
    found
}

/// The text up to its tests, without comments.
fn without_tests(text: &str) -> String {
    text.split("#[cfg(test)]")
        .next()
        .unwrap_or_default()
        .lines()
        .map(|line| line.split("//").next().unwrap_or_default())
        .collect::<Vec<_>>()
        .join("\n")
}

/// The modules that a text names behind `crate::`, `super::` or `self::`, braces opened.
fn named(text: &str, own: &[String]) -> BTreeSet<Vec<String>> {
    let mut found = BTreeSet::new();
    for (at, _) in text.match_indices("crate::") {
        open(&text[at + "crate::".len()..], &mut Vec::new(), &mut found);
    }
    for (at, _) in text.match_indices("super::") {
        let mut base = own.to_vec();
        base.pop();
        let before = &text[..at];
        if before.ends_with("super::") {
            continue;
        }
        let mut rest = &text[at + "super::".len()..];
        while let Some(further) = rest.strip_prefix("super::") {
            base.pop();
            rest = further;
        }
        open(rest, &mut base, &mut found);
    }
    found
}

/// Reads one path, or several in braces.
fn open(text: &str, path: &mut Vec<String>, found: &mut BTreeSet<Vec<String>>) {
    let depth = path.len();
    let mut rest = text.trim_start();
    loop {
        if let Some(inner) = rest.strip_prefix('{') {
            let (mut level, mut begin) = (0, 0);
            for (at, sign) in inner.char_indices() {
                match sign {
                    '{' => level += 1,
                    '}' if level > 0 => level -= 1,
                    ',' | '}' if level == 0 => {
                        open(&inner[begin..at], &mut path.clone(), found);
                        begin = at + 1;
                        if sign == '}' {
                            break;
                        }
                    }
                    _ => {}
                }
            }
            break;
        }
        let end = rest
            .find(|c: char| !c.is_alphanumeric() && c != '_')
            .unwrap_or(rest.len());
        if end == 0 {
            break;
        }
        path.push(rest[..end].to_owned());
        match rest[end..].strip_prefix("::") {
            Some(further) => rest = further.trim_start(),
            None => break,
        }
    }
    if path.len() > depth {
        found.insert(path.clone());
    }
    path.truncate(depth);
}

#[test]
fn files_import_each_other_in_no_circle_larger_than_a_parent_and_its_children() {
    for (name, _) in MAY {
        let files = sources(name);
        let imports: BTreeMap<&Vec<String>, BTreeSet<&Vec<String>>> = files
            .iter()
            .map(|(own, text)| {
                let of = named(text, own)
                    .iter()
                    .filter_map(|path| {
                        (1..=path.len())
                            .rev()
                            .find_map(|length| files.get_key_value(&path[..length]))
                    })
                    .map(|(module, _)| module)
                    // A parent and its children may know each other.
                    .filter(|module| !own.starts_with(module) && !module.starts_with(own))
                    .collect();
                (own, of)
            })
            .collect();
        let reachable = |from: &Vec<String>| {
            let mut seen = BTreeSet::new();
            let mut next: Vec<&Vec<String>> = imports[from].iter().copied().collect();
            while let Some(one) = next.pop() {
                if seen.insert(one) {
                    next.extend(&imports[one]);
                }
            }
            seen
        };
        for own in files.keys() {
            let there = reachable(own);
            let circle: Vec<&Vec<String>> = there
                .iter()
                .copied()
                .filter(|other| *other == own || reachable(other).contains(own))
                .collect();
            assert!(
                circle.is_empty(),
                "files of {name} import each other in a circle: {circle:?}"
            );
        }
    }
}

#[test]
fn paths_in_braces_are_read_one_by_one() {
    let text = "use crate::{a::b::C, d};\nuse super::super::e::F;";
    let own = ["x".to_owned(), "y".to_owned(), "z".to_owned()];
    let found: Vec<String> = named(text, &own)
        .iter()
        .map(|path| path.join("::"))
        .collect();
    assert_eq!(found, ["a::b::C", "d", "x::e::F"]);
}

//! The map is true: what `ARCHITECTURE.md` and `docs/inside.md` name is there, and the first fits a page.

use std::{
    fs,
    path::{Path, PathBuf},
};

/// How many lines a page of the map may have.
const PAGE: usize = 80;

/// What the map may name.
const NAMED: [&str; 7] = [
    "crates",
    "console",
    "templates",
    "packaging",
    "scripts",
    "docs",
    "demo",
];

/// What is made by building, and not named.
const BUILT: [&str; 3] = ["node_modules", "target", "dist"];

/// How the names of files end.
const SOURCES: [&str; 8] = [".rs", ".ts", ".vue", ".toml", ".js", ".typ", ".sh", ".json"];

fn root() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../..")
}

/// All files below the folders that may be named, as paths from the root with a slash before.
fn files() -> Vec<String> {
    fn walk(folder: &Path, path: &str, into: &mut Vec<String>) {
        for entry in fs::read_dir(folder).unwrap() {
            let entry = entry.unwrap();
            let name = entry.file_name().to_string_lossy().into_owned();
            let inner = format!("{path}/{name}");
            if !entry.path().is_dir() {
                into.push(inner);
            } else if !BUILT.contains(&name.as_str()) {
                walk(&entry.path(), &inner, into);
            }
        }
    }
    let mut found = vec!["/Cargo.toml".to_owned()];
    for name in NAMED {
        walk(&root().join(name), &format!("/{name}"), &mut found);
    }
    found
}

/// The paths that a text names between backticks: files by their ending, folders by the slash in them.
fn paths(text: &str) -> Vec<&str> {
    text.split('`')
        .skip(1)
        .step_by(2)
        .filter(|word| !word.contains([' ', ':', '=', '(', '\n']) && !word.contains("KIND"))
        .filter(|word| !word.starts_with('/'))
        .filter(|word| word.contains('/') || SOURCES.iter().any(|ending| word.ends_with(ending)))
        .collect()
}

/// Whether a file has the path at its end, or lies in a folder that has.
fn is_there(path: &str, files: &[String]) -> bool {
    let end = format!("/{}", path.trim_end_matches('/'));
    let folder = format!("{end}/");
    files
        .iter()
        .any(|file| file.ends_with(&end) || file.contains(&folder))
}

#[test]
fn what_the_map_names_is_there() {
    let files = files();
    for map in ["ARCHITECTURE.md", "docs/inside.md"] {
        let text = fs::read_to_string(root().join(map)).unwrap();
        let named = paths(&text);
        assert!(named.len() > 20, "{map} names {} paths", named.len());
        let gone: Vec<&&str> = named
            .iter()
            .filter(|path| !is_there(path, &files))
            .collect();
        assert!(gone.is_empty(), "{map} names what is not there: {gone:?}");
    }
}

#[test]
fn the_map_is_a_page() {
    let text = fs::read_to_string(root().join("ARCHITECTURE.md")).unwrap();
    assert!(text.lines().count() <= PAGE);
}

#[test]
fn a_path_is_found_by_its_end_alone() {
    let files = ["/crates/store/src/look.rs".to_owned()];
    assert!(is_there("store/src/look.rs", &files));
    assert!(is_there("store/src/", &files));
    assert!(!is_there("ook.rs", &files));
    assert!(!is_there("store/sr", &files));
    let text = "`look.rs` and `SELECT 1 / 2`, `a::b`, `read/KIND.rs`, `/ready`, `engine/`";
    assert_eq!(paths(text), ["look.rs", "engine/"]);
}

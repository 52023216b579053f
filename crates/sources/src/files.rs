//! Files in a folder of this machine, or behind a URL.

use std::{
    fs::File,
    io::Cursor,
    path::{Path, PathBuf},
};

use maple_lark_definition::{FileRows, Setting, Source, Web};
use reqwest::Method;

use crate::{
    Answer, Greeting, Question, Reader, SettingProblem, SourceError,
    rows::Gathered,
    threads::computed,
    web::{Call, shown, without_sign_in},
};

/// How many files a pattern may find.
const MOST_FILES: usize = 10_000;

pub async fn read_folder(
    reader: &Reader,
    source: &Source,
    folder: &str,
    rows: &FileRows,
    question: Question<'_>,
) -> Result<Answer, SourceError> {
    let (reader, asked, folder, rows, window) = (
        reader.clone(),
        source.clone(),
        folder.to_owned(),
        rows.clone(),
        question.times.window.clone(),
    );
    let work = move || {
        let files = find(&reader, &asked, &folder, &rows.file)?;
        let mut gathered = Gathered::new(&asked, &rows, &window);
        for file in &files {
            let opened = File::open(file).map_err(|error| unreadable(&asked, file, &error))?;
            gathered.add(&shown_path(&folder, file), opened)?;
            if gathered.full() {
                break;
            }
        }
        let sent = format!(
            "{} of {}",
            rows.file,
            if files.len() == 1 {
                "1 file".to_owned()
            } else {
                format!("{} files", files.len())
            }
        );
        gathered.answer(sent)
    };
    computed(source, work).await
}

pub async fn read_web(
    reader: &Reader,
    source: &Source,
    web: &Web,
    rows: &FileRows,
    question: Question<'_>,
) -> Result<Answer, SourceError> {
    let url = reader.url(source, web, &rows.file).await?;
    let (call, address) = (
        Call {
            method: Method::GET,
            url: url.clone(),
            headers: Vec::new(),
            body: None,
        },
        shown(&url),
    );
    let response = reader.call(source, web, &call).await?;
    let bytes = reader.bytes(source, &address, response).await?;
    let (of, rows, window) = (source.clone(), rows.clone(), question.times.window.clone());
    computed(source, move || {
        let mut gathered = Gathered::new(&of, &rows, &window);
        gathered.add(&address, Cursor::new(&bytes))?;
        gathered.answer(format!("GET {}", without_sign_in(&url)))
    })
    .await
}

pub async fn greet(
    reader: &Reader,
    source: &Source,
    folder: &str,
) -> Result<Greeting, SourceError> {
    let (reader, of, inside) = (reader.clone(), source.clone(), folder.to_owned());
    let (files, root) = computed(source, move || {
        Ok((
            find(&reader, &of, &inside, "**/*")?,
            root(&reader, &of, &inside)?,
        ))
    })
    .await?;
    Ok(Greeting {
        found: format!(
            "{} in {}",
            if files.len() == 1 {
                "1 file".to_owned()
            } else {
                format!("{} files", files.len())
            },
            root.display()
        ),
        warning: None,
    })
}

fn unreadable(source: &Source, path: &Path, error: &std::io::Error) -> SourceError {
    SourceError::Files {
        source_name: source.name.clone(),
        words: format!("{} cannot be read: {error}", path.display()),
    }
}

/// The folder of a source, with its links followed.
///
/// # Errors
/// If it is not there, or none that sources may read.
pub fn root(reader: &Reader, source: &Source, folder: &str) -> Result<PathBuf, SourceError> {
    let problem = |problem: SettingProblem| SourceError::Setting {
        source_name: source.name.clone(),
        setting: "folder",
        reference: folder.to_owned(),
        problem,
    };
    let path = match folder.strip_prefix("env:") {
        None => folder.to_owned(),
        Some(name) => {
            let setting = Setting::Environment(name.to_owned());
            reader.permissions.check(&setting, None).map_err(problem)?;
            std::env::var(name).map_err(|_| problem(SettingProblem::NotSet))?
        }
    };
    // What may not be read is not told from what is not there.
    let root = Path::new(&path).canonicalize().ok();
    root.filter(|root| reader.permissions.may_read(root))
        .ok_or_else(|| problem(SettingProblem::NoFolder(path)))
}

/// The files that a pattern finds, by name; none outside the folder, wherever links lead.
pub fn find(
    reader: &Reader,
    source: &Source,
    folder: &str,
    pattern: &str,
) -> Result<Vec<PathBuf>, SourceError> {
    let root = root(reader, source, folder)?;
    let failed = |words: String| SourceError::Files {
        source_name: source.name.clone(),
        words,
    };
    let full = format!(
        "{}/{pattern}",
        glob::Pattern::escape(&root.to_string_lossy())
    );
    let options = glob::MatchOptions {
        require_literal_leading_dot: true,
        require_literal_separator: true,
        case_sensitive: true,
    };
    let found = glob::glob_with(&full, options)
        .map_err(|error| failed(format!("\"{pattern}\" is not a pattern: {error}")))?;
    let mut files = Vec::new();
    for path in found {
        let path = path.map_err(|error| failed(error.to_string()))?;
        let real = path
            .canonicalize()
            .map_err(|error| unreadable(source, &path, &error))?;
        if !real.starts_with(&root) {
            return Err(failed(format!(
                "{} leads out of the folder and is not read",
                path.display()
            )));
        }
        if real.is_file() {
            files.push(path);
        }
        if files.len() > MOST_FILES {
            return Err(failed(format!(
                "\"{pattern}\" finds more than {MOST_FILES} files; narrow it"
            )));
        }
    }
    if files.is_empty() && pattern != "**/*" {
        return Err(failed(format!(
            "\"{pattern}\" finds no file in {}",
            root.display()
        )));
    }
    Ok(files)
}

fn shown_path(folder: &str, file: &Path) -> String {
    file.strip_prefix(folder)
        .unwrap_or(file)
        .to_string_lossy()
        .into_owned()
}

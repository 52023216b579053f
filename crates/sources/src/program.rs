//! A program of the administrator's: what it prints are rows.

use std::{fs, os::unix::fs::PermissionsExt, process::ExitStatus};

use maple_lark_definition::{Output, Source};
use maple_lark_programs::{Group, prepared, words};
use tokio::io::{AsyncRead, AsyncReadExt};

use crate::{
    Answer, Greeting, Question, Reader, SourceError, filled::not_filled, rows::rows_of,
    threads::computed, within_size,
};

/// Starts the program with the question's arguments and reads what it prints. It gets no variables of
/// the service's environment but `PATH`, `HOME`, `LANG` and `TZ`, nothing on its standard input, and no shell
/// reads its arguments. Past the source's time, or when nobody waits any more, it is ended with all that it has
/// started.
///
/// # Errors
/// If it cannot be started, prints more than the source's `max-size`, ends with another code than 0, or
/// prints what cannot be read.
pub async fn read(
    reader: &Reader,
    source: &Source,
    name: &str,
    output: &Output,
    question: Question<'_>,
) -> Result<Answer, SourceError> {
    let failed = |words: String| SourceError::Query {
        source_name: source.name.clone(),
        words,
    };
    let own = command(reader, source, name)?;
    let arguments = arguments(source, output, question)?;
    let not_run = |error: std::io::Error| failed(format!("the program cannot be run: {error}"));
    let mut command =
        prepared(own).ok_or_else(|| failed("its configuration names no program".to_owned()))?;
    command.args(&arguments);
    let mut child = command.spawn().map_err(not_run)?;
    let group = Group::of(&child);
    let most = source.max_bytes.saturating_add(1);
    let (printed, complained) = (child.stdout.take(), child.stderr.take());
    let printing = async {
        let printed = beginning(printed, most).await;
        if printed
            .as_ref()
            .is_ok_and(|bytes| bytes.len() as u64 == most)
        {
            // Nobody reads the rest, so it would wait for ever.
            group.end();
        }
        printed
    };
    let (printed, complained) = tokio::join!(printing, words(complained));
    let printed = printed.map_err(not_run)?;
    within_size(source, printed.len())?;
    let status = child.wait().await.map_err(not_run)?;
    drop(group);
    if !status.success() {
        return Err(failed(ended_badly(status, &complained)));
    }
    let sent = std::iter::once(name)
        .chain(arguments.iter().map(String::as_str))
        .collect::<Vec<_>>()
        .join(" ");
    let (of, rows, window) = (
        source.clone(),
        output.rows.clone(),
        question.times.window.clone(),
    );
    computed(source, move || rows_of(&of, &rows, &window, &printed, sent)).await
}

/// That the program is there.
///
/// # Errors
/// If it is not, or cannot be run.
pub fn greet(reader: &Reader, source: &Source, name: &str) -> Result<Greeting, SourceError> {
    let command = command(reader, source, name)?;
    let failed = |words: String| SourceError::Query {
        source_name: source.name.clone(),
        words: format!("{}: {words}", command[0]),
    };
    let found = fs::metadata(&command[0]).map_err(|error| failed(error.to_string()))?;
    if !found.is_file() || found.permissions().mode() & 0o111 == 0 {
        return Err(failed("it cannot be run".to_owned()));
    }
    Ok(Greeting {
        found: format!("{} is there", command[0]),
        warning: None,
    })
}

/// A program's path and its own arguments, as the configuration has them.
fn command<'a>(
    reader: &'a Reader,
    source: &Source,
    name: &str,
) -> Result<&'a [String], SourceError> {
    let known = reader.programs.get(name).filter(|all| !all.is_empty());
    known.map(Vec::as_slice).ok_or_else(|| {
        let names = reader.programs.keys().map(String::as_str);
        SourceError::Query {
            source_name: source.name.clone(),
            words: format!(
                "there is no program \"{name}\" under [source-programs] in the configuration of the service.{}",
                maple_lark_time::nearest::suggestion(name, names)
            ),
        }
    })
}

/// The arguments with their values. A value does not become an option.
fn arguments(
    source: &Source,
    output: &Output,
    question: Question<'_>,
) -> Result<Vec<String>, SourceError> {
    let fill = |name: &str| question.filler(name);
    let filled = output.arguments.iter().map(|argument| {
        let written = argument.to_string();
        let filled = argument.fill(&fill).map_err(|error| not_filled(source, error))?;
        if filled.starts_with('-') && !written.starts_with('-') {
            return Err(SourceError::Query {
                source_name: source.name.clone(),
                words: format!(
                    "the value for {written} begins with \"-\", and the program would take it for an option; join it to an option, such as \"--name={{{{ name }}}}\""
                ),
            });
        }
        Ok(filled)
    });
    filled.collect()
}

async fn beginning(from: Option<impl AsyncRead + Unpin>, most: u64) -> std::io::Result<Vec<u8>> {
    let mut bytes = Vec::new();
    if let Some(from) = from {
        from.take(most).read_to_end(&mut bytes).await?;
    }
    Ok(bytes)
}

fn ended_badly(status: ExitStatus, complained: &str) -> String {
    let how = match status.code() {
        Some(code) => format!("the program ended with code {code}"),
        None => "the program was ended from outside".to_owned(),
    };
    if complained.is_empty() {
        format!("{how}, without a word")
    } else {
        format!("{how}: {complained}")
    }
}

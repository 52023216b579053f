//! Starts programs of the administrator's: without a shell, next to no environment, and everything that they
//! have started ends with them.

use std::process::Stdio;

use rustix::process::{Pid, Signal, kill_process_group};
use tokio::{
    io::{AsyncRead, AsyncReadExt},
    process::{Child, Command},
};

/// So much of what a program says is kept.
const MOST_WORDS: usize = 2000;
/// What it gets of the service's environment.
const KEPT: [&str; 4] = ["PATH", "HOME", "LANG", "TZ"];

/// A program with its own arguments, ready to be given more and started: in a process group of its own, with
/// pipes for what it prints and nothing to read. Nothing if no program is named.
#[must_use]
pub fn prepared(command: &[String]) -> Option<Command> {
    let (path, arguments) = command.split_first()?;
    let mut prepared = Command::new(path);
    prepared.args(arguments).env_clear();
    for kept in KEPT {
        if let Some(value) = std::env::var_os(kept) {
            prepared.env(kept, value);
        }
    }
    prepared
        .current_dir("/")
        .stdin(Stdio::null())
        .stdout(Stdio::piped())
        .stderr(Stdio::piped())
        .process_group(0)
        .kill_on_drop(true);
    Some(prepared)
}

/// All that a program has started; ends with it, or when it is dropped.
#[derive(Debug)]
pub struct Group(Option<Pid>);

impl Group {
    /// The group of a child that leads one, as those that are [`prepared`] do.
    #[must_use]
    pub fn of(child: &Child) -> Self {
        let number = child.id().and_then(|id| i32::try_from(id).ok());
        Self(number.and_then(Pid::from_raw))
    }

    /// Ends all of it at once.
    pub fn end(&self) {
        if let Some(leader) = self.0 {
            // Most likely it has ended by itself.
            let _ = kill_process_group(leader, Signal::KILL);
        }
    }
}

impl Drop for Group {
    fn drop(&mut self) {
        self.end();
    }
}

/// What a program says: all of it read, and its first three lines kept without what a terminal would obey.
pub async fn words(pipe: Option<impl AsyncRead + Unpin>) -> String {
    let Some(mut pipe) = pipe else {
        return String::new();
    };
    let (mut kept, mut part) = (Vec::new(), [0; 4096]);
    while let Ok(count @ 1..) = pipe.read(&mut part).await {
        let room = MOST_WORDS.saturating_sub(kept.len());
        kept.extend_from_slice(&part[..count.min(room)]);
    }
    let text = String::from_utf8_lossy(&kept);
    let lines = text.lines().map(str::trim).filter(|line| !line.is_empty());
    let plain = lines.map(|line| {
        let signs = line.chars();
        signs.filter(|c| !c.is_control()).collect::<String>()
    });
    plain.take(3).collect::<Vec<_>>().join("; ")
}

#[cfg(test)]
mod tests {
    use std::time::Duration;

    use super::*;

    fn shell(script: &str) -> Command {
        prepared(&["/bin/sh", "-c", script].map(str::to_owned)).unwrap()
    }

    #[tokio::test]
    async fn a_program_gets_little_and_its_words_are_kept() {
        assert!(prepared(&[]).is_none());
        let script = "env | sed 's/=.*//' | sort | tr '\\n' ' '; pwd; cat; printf '\\033[1mfour\\n five\\n\\nsix\\n' >&2";
        let mut child = shell(script).spawn().unwrap();
        let said = tokio::join!(words(child.stdout.take()), words(child.stderr.take()));
        assert!(child.wait().await.unwrap().success());
        let names = said.0.trim_end_matches('/').trim();
        // The shell itself adds where it is.
        for name in names.split(' ') {
            assert!(
                KEPT.contains(&name) || ["PWD", "_", "SHLVL", "OLDPWD"].contains(&name),
                "{name}"
            );
        }
        assert_eq!(said.1, "[1mfour; five; six");
        assert_eq!(words(None::<&[u8]>).await, "");
        let much = "many words ".repeat(1000);
        assert_eq!(words(Some(much.as_bytes())).await.len(), MOST_WORDS);
    }

    #[tokio::test]
    async fn all_that_it_has_started_ends_with_its_group() {
        let folder = tempfile::TempDir::new().unwrap();
        let file = folder.path().join("child");
        let script = format!(
            "sleep 1000 & echo $! > {}.new; mv {0}.new {0}; wait",
            file.display()
        );
        let child = shell(&script).spawn().unwrap();
        let group = Group::of(&child);
        while !file.exists() {
            tokio::time::sleep(Duration::from_millis(10)).await;
        }
        drop(group);
        let started = std::fs::read_to_string(&file).unwrap();
        let running = format!("/proc/{}/cmdline", started.trim());
        // Its body may wait to be collected; it has no command any more.
        while std::fs::read(&running).is_ok_and(|command| !command.is_empty()) {
            tokio::time::sleep(Duration::from_millis(10)).await;
        }
    }
}

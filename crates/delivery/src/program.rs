//! Programs that carry documents further: files by path, facts as JSON, an exit code that decides.

use std::{
    fs::{self, File, Permissions},
    io::{self, Write},
    os::unix::fs::PermissionsExt,
    path::PathBuf,
    process::{ExitStatus, Stdio},
    time::Duration,
};

use maple_lark_programs::{Group, prepared, words};
use tokio::io::AsyncWriteExt;

use crate::DeliveryError;

/// The exit code that asks to be tried again: `EX_TEMPFAIL` of `sysexits.h`.
const TEMPORARY: i32 = 75;

/// A program of the administrator's, with what it is started with.
#[derive(Debug, Clone)]
pub struct Program<'a> {
    /// What it is called, in words for people.
    pub name: &'a str,
    /// Its path and its arguments; no shell reads them.
    pub command: &'a [String],
    /// How long it may take.
    pub timeout: Duration,
}

/// Files for a program, in a folder that only this account reads. They go with it.
pub struct HandedOver {
    folder: tempfile::TempDir,
}

impl HandedOver {
    /// A folder without files.
    ///
    /// # Errors
    /// If it cannot be made.
    pub fn new() -> io::Result<Self> {
        let folder = tempfile::Builder::new().prefix("maple-lark-").tempdir()?;
        fs::set_permissions(folder.path(), Permissions::from_mode(0o700))?;
        Ok(Self { folder })
    }

    /// Writes a file and answers with its path.
    ///
    /// # Errors
    /// If it cannot be written, or the name is a path.
    pub fn file(&self, name: &str, bytes: &[u8]) -> io::Result<PathBuf> {
        if name.contains('/') || name.starts_with('.') {
            return Err(io::Error::other(format!("{name} is no plain file name")));
        }
        let path = self.folder.path().join(name);
        File::create(&path)?.write_all(bytes)?;
        Ok(path)
    }
}

/// Starts a program with `facts` on its standard input, waits for its end, and answers with the
/// first words that it printed.
///
/// It gets no variables of the service's environment but `PATH`, `HOME`, `LANG` and `TZ`. Exit
/// code 0 is taken as delivered, 75 as "try again later", any other as refused. Past its time,
/// or when nobody waits for it any more, it is ended with all that it has started.
///
/// # Errors
/// Temporary or not, as [`DeliveryError::is_temporary`] says, in the program's own words.
pub async fn run_program(program: &Program<'_>, facts: String) -> Result<String, DeliveryError> {
    let server = || format!("the program \"{}\"", program.name);
    let not_run = |error: io::Error| DeliveryError::Unreachable {
        server: server(),
        words: error.to_string(),
    };
    let mut command = prepared(program.command)
        .ok_or_else(|| not_run(io::Error::other("its configuration names no program")))?;
    command.stdin(Stdio::piped());
    let mut child = command.spawn().map_err(not_run)?;
    let _group = Group::of(&child);
    let (stdin, stdout, stderr) = (child.stdin.take(), child.stdout.take(), child.stderr.take());
    let ended = async {
        let tell = async {
            if let Some(mut stdin) = stdin {
                // One that does not care for the facts has closed it.
                let _ = stdin.write_all(facts.as_bytes()).await;
            }
        };
        let ((), said, complained) = tokio::join!(tell, words(stdout), words(stderr));
        (child.wait().await, said, complained)
    };
    let Ok((status, said, complained)) = tokio::time::timeout(program.timeout, ended).await else {
        return Err(DeliveryError::Unconfirmed {
            server: server(),
            words: format!("it did not end within {} s", program.timeout.as_secs()),
        });
    };
    let status = status.map_err(not_run)?;
    let words = kept(status, said, complained);
    match status.code() {
        Some(0) => Ok(words),
        Some(TEMPORARY) | None => Err(DeliveryError::Postponed {
            server: server(),
            words,
        }),
        Some(_) => Err(DeliveryError::Refused {
            server: server(),
            words,
        }),
    }
}

/// What a program said: its complaints first, unless all went well.
fn kept(status: ExitStatus, said: String, complained: String) -> String {
    match (complained.is_empty(), status.code()) {
        _ if status.success() && !said.is_empty() => said,
        (false, _) => complained,
        (true, _) if !said.is_empty() => said,
        (true, Some(code)) => format!("exit code {code}, without a word"),
        (true, None) => "it was ended from outside".to_owned(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    async fn ran(script: &str, seconds: u64) -> Result<String, DeliveryError> {
        let command = ["/bin/sh", "-c", script].map(str::to_owned);
        let program = Program {
            name: "ship",
            command: &command,
            timeout: Duration::from_secs(seconds),
        };
        run_program(&program, "{\"report\": \"daily\"}".to_owned()).await
    }

    #[tokio::test]
    async fn the_exit_code_decides_and_the_words_are_kept() {
        assert_eq!(
            ran("cat; echo; echo taken", 60).await.unwrap(),
            "{\"report\": \"daily\"}; taken"
        );
        let again = ran("echo the drive is full >&2; exit 75", 60)
            .await
            .unwrap_err();
        assert!(again.is_temporary());
        assert_eq!(
            again.to_string(),
            "the program \"ship\" refused for now: the drive is full"
        );
        let never = ran("exit 3", 60).await.unwrap_err();
        assert!(!never.is_temporary());
        assert_eq!(
            never.to_string(),
            "the program \"ship\" refused: exit code 3, without a word"
        );
        // Facts that nobody reads, and more words than anybody does.
        assert_eq!(
            ran("exec <&-; yes | head -c 1000000; exit 0", 60)
                .await
                .unwrap(),
            "y; y; y"
        );
        let gone = Program {
            name: "ship",
            command: &["/no/such/program".to_owned()],
            timeout: Duration::from_secs(9),
        };
        let error = run_program(&gone, String::new()).await.unwrap_err();
        assert!(
            error.is_temporary() && error.to_string().contains("No such file"),
            "{error}"
        );
    }

    #[tokio::test]
    async fn one_that_does_not_end_is_ended_with_all_it_started() {
        let folder = tempfile::TempDir::new().unwrap();
        let file = folder.path().join("child");
        let script = format!("sleep 1000 & echo $! > {}; wait", file.display());
        let error = ran(&script, 1).await.unwrap_err();
        assert!(
            matches!(error, DeliveryError::Unconfirmed { .. }),
            "{error}"
        );
        let child = fs::read_to_string(&file).unwrap();
        let running = format!("/proc/{}/cmdline", child.trim());
        // Its body may wait to be collected; it has no command any more.
        while fs::read(&running).is_ok_and(|command| !command.is_empty()) {
            tokio::time::sleep(Duration::from_millis(10)).await;
        }
    }

    #[test]
    fn files_are_for_this_account_alone_and_go_with_their_folder() {
        let handed = HandedOver::new().unwrap();
        let path = handed.file("daily.pdf", b"%PDF").unwrap();
        let mode = fs::metadata(path.parent().unwrap())
            .unwrap()
            .permissions()
            .mode();
        assert_eq!(mode & 0o777, 0o700);
        assert_eq!(fs::read(&path).unwrap(), b"%PDF");
        assert!(handed.file("../out.pdf", b"").is_err() && handed.file(".hidden", b"").is_err());
        drop(handed);
        assert!(!path.exists());
    }
}

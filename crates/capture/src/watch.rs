//! The browser as a process: started, kept from taking too much memory, and ended. A thread of
//! its own does all three, because the kernel ends what was started when the *thread* that
//! started it is gone; so no browser is left behind, however this process ends.

use std::{
    ffi::OsStr,
    io::{BufRead, BufReader},
    os::unix::process::CommandExt,
    path::{Path, PathBuf},
    process::{Child, Command, Stdio},
    sync::{
        Arc, Mutex, PoisonError,
        atomic::{AtomicBool, AtomicU64, AtomicUsize, Ordering},
        mpsc::{self, RecvTimeoutError},
    },
    time::{Duration, Instant},
};

use rustix::process::{Pid, Signal, kill_process, kill_process_group};
use tokio::sync::oneshot;

use crate::Problem;

/// How long a browser may take to start.
const START: Duration = Duration::from_secs(30);
/// How often its memory is looked at.
const LOOK: Duration = Duration::from_millis(250);
/// So many lines of what it says are kept, for an error.
const LINES: usize = 20;

/// A browser that runs.
pub(crate) struct Process {
    /// Where it listens for the debugging protocol.
    pub(crate) address: String,
    state: Arc<State>,
    stop: mpsc::Sender<()>,
}

#[derive(Default)]
struct State {
    ended: AtomicBool,
    /// Captures under way; its memory is looked at only then.
    busy: AtomicUsize,
    /// The most memory that one page may take, in bytes.
    most_memory: AtomicU64,
    /// Pages that were ended because they took more.
    ended_for_memory: AtomicUsize,
    /// The most memory that all of it has taken, in bytes.
    peak: AtomicU64,
    said: Mutex<Vec<String>>,
}

/// A capture under way.
pub(crate) struct Busy(Arc<State>);

impl Drop for Busy {
    fn drop(&mut self) {
        self.0.busy.fetch_sub(1, Ordering::AcqRel);
    }
}

impl Process {
    pub(crate) async fn start(
        program: &Path,
        arguments: Vec<String>,
        profile: &Path,
        most_memory: u64,
    ) -> Result<Self, Problem> {
        let state = Arc::new(State::default());
        state.most_memory.store(most_memory, Ordering::Release);
        let (stop, stopped) = mpsc::channel();
        let (started, start) = oneshot::channel();
        let (program, profile, of) = (program.to_owned(), profile.to_owned(), state.clone());
        std::thread::Builder::new()
            .name("browser".to_owned())
            .spawn(move || run(&program, &arguments, &profile, &of, &stopped, started))
            .map_err(|error| Problem::NotStarted(error.to_string()))?;
        let address = start
            .await
            .map_err(|_| Problem::NotStarted("the thread that starts it has ended".to_owned()))??;
        Ok(Self {
            address,
            state,
            stop,
        })
    }

    pub(crate) fn has_ended(&self) -> bool {
        self.state.ended.load(Ordering::Acquire)
    }

    /// Waits until it has ended.
    pub(crate) async fn end(&self) {
        while !self.has_ended() {
            tokio::time::sleep(LOOK).await;
        }
    }

    pub(crate) fn busy(&self) -> Busy {
        self.state.busy.fetch_add(1, Ordering::AcqRel);
        Busy(self.state.clone())
    }

    /// How many pages were ended for the memory that they took.
    pub(crate) fn ended_for_memory(&self) -> usize {
        self.state.ended_for_memory.load(Ordering::Acquire)
    }

    pub(crate) fn peak_memory(&self) -> u64 {
        self.state.peak.load(Ordering::Acquire)
    }
}

impl Drop for Process {
    fn drop(&mut self) {
        let _ = self.stop.send(());
    }
}

/// Its program, by way of one that has the kernel end it with this thread where there is one.
fn command(program: &Path, arguments: &[String]) -> Command {
    let leashed = ["/usr/bin/setpriv", "/bin/setpriv"]
        .iter()
        .find(|path| Path::new(path).exists());
    let mut command = match leashed {
        Some(leash) => {
            let mut command = Command::new(leash);
            command.args(["--pdeathsig", "KILL", "--"]).arg(program);
            command
        }
        None => {
            tracing::warn!("setpriv is missing: the browser may outlive a service that is killed");
            Command::new(program)
        }
    };
    command
        .args(arguments)
        .process_group(0)
        .stdin(Stdio::null())
        .stdout(Stdio::null())
        .stderr(Stdio::piped());
    command
}

fn run(
    program: &Path,
    arguments: &[String],
    profile: &Path,
    state: &Arc<State>,
    stopped: &mpsc::Receiver<()>,
    started: oneshot::Sender<Result<String, Problem>>,
) {
    let no_browser = |words: String| Problem::NoBrowser {
        program: program.display().to_string(),
        words,
    };
    // Looked for first, because the leash would say it in other words.
    if !is_there(program, &std::env::var_os("PATH").unwrap_or_default()) {
        let words = "there is no such program".to_owned();
        let _ = started.send(Err(no_browser(words)));
        return;
    }
    let mut child = match command(program, arguments).spawn() {
        Ok(child) => child,
        Err(error) => {
            let _ = started.send(Err(no_browser(error.to_string())));
            return;
        }
    };
    listen(&mut child, state.clone());
    let address = wait_for_address(&mut child, profile, state);
    let failed = address.is_err();
    let wanted = started.send(address).is_ok() && !failed;
    while wanted && matches!(stopped.recv_timeout(LOOK), Err(RecvTimeoutError::Timeout)) {
        if !matches!(child.try_wait(), Ok(None)) {
            break;
        }
        if state.busy.load(Ordering::Acquire) > 0 {
            look(child.id(), state);
        }
    }
    state.ended.store(true, Ordering::Release);
    end(&mut child);
}

/// Ends it with all that it has started: it may be a script that waits for the browser.
fn end(child: &mut Child) {
    if let Some(group) = Pid::from_raw(child.id().cast_signed()) {
        let _ = kill_process_group(group, Signal::KILL);
    }
    let _ = child.kill();
    let _ = child.wait();
}

/// Whether a program is there, by its path or by its name in one of the folders.
pub(crate) fn is_there(program: &Path, folders: &OsStr) -> bool {
    if program.components().count() > 1 {
        return program.is_file();
    }
    std::env::split_paths(folders).any(|folder| folder.join(program).is_file())
}

/// Keeps the last lines that it says.
fn listen(child: &mut Child, state: Arc<State>) {
    let Some(said) = child.stderr.take() else {
        return;
    };
    let listening = move || {
        for line in BufReader::new(said).lines().map_while(Result::ok) {
            let mut lines = state.said.lock().unwrap_or_else(PoisonError::into_inner);
            if lines.len() == LINES {
                lines.remove(0);
            }
            lines.push(line.chars().take(300).collect());
        }
    };
    // Without it the browser would only wait for somebody to listen.
    if let Err(error) = std::thread::Builder::new().spawn(listening) {
        tracing::warn!(%error, "nobody listens to the browser");
    }
}

/// It writes where it listens into its profile.
fn wait_for_address(child: &mut Child, profile: &Path, state: &State) -> Result<String, Problem> {
    let file: PathBuf = profile.join("DevToolsActivePort");
    let began = Instant::now();
    loop {
        if let Ok(text) = std::fs::read_to_string(&file)
            && let Some((port, path)) = text.split_once('\n')
        {
            return Ok(format!("ws://127.0.0.1:{port}{}", path.trim()));
        }
        let ended = child.try_wait().ok().flatten();
        if ended.is_some() || began.elapsed() > START {
            let said = state.said.lock().unwrap_or_else(PoisonError::into_inner);
            let telling = telling(&said);
            let how = ended.map_or_else(
                || format!("it does not answer after {} s", START.as_secs()),
                |status| format!("it ended with {status}"),
            );
            let said = telling.map(|line| format!(": {line}")).unwrap_or_default();
            return Err(Problem::NotStarted(how + &said));
        }
        std::thread::sleep(Duration::from_millis(10));
    }
}

/// The line that says most of why a browser has ended: the one about its sandbox, whatever it says
/// after that, else the last.
fn telling(said: &[String]) -> Option<&String> {
    let about_sandbox = |line: &&String| line.to_lowercase().contains("sandbox");
    said.iter()
        .find(about_sandbox)
        .or_else(|| said.iter().rev().find(|line| !line.trim().is_empty()))
}

/// Ends pages that take more memory than they may.
fn look(browser: u32, state: &State) {
    let Ok(all) = procfs::process::all_processes() else {
        return;
    };
    let page = procfs::page_size();
    let known: Vec<(i32, i32, u64)> = all
        .filter_map(|process| {
            let stat = process.ok()?.stat().ok()?;
            Some((stat.pid, stat.ppid, stat.rss * page))
        })
        .collect();
    let mut own = vec![browser.cast_signed()];
    let mut place = 0;
    while let Some(parent) = own.get(place).copied() {
        own.extend(
            known
                .iter()
                .filter(|(pid, ppid, _)| *ppid == parent && !own.contains(pid))
                .map(|(pid, _, _)| *pid)
                .collect::<Vec<_>>(),
        );
        place += 1;
    }
    let most = state.most_memory.load(Ordering::Acquire);
    let mut together = 0;
    for (pid, _, resident) in known.iter().filter(|(pid, _, _)| own.contains(pid)) {
        together += resident;
        if *resident > most && is_page(*pid) {
            state.ended_for_memory.fetch_add(1, Ordering::AcqRel);
            if let Some(pid) = Pid::from_raw(*pid) {
                let _ = kill_process(pid, Signal::KILL);
            }
        }
    }
    state.peak.fetch_max(together, Ordering::AcqRel);
}

fn is_page(pid: i32) -> bool {
    procfs::process::Process::new(pid)
        .and_then(|process| process.cmdline())
        .is_ok_and(|words| words.iter().any(|word| word.contains("--type=renderer")))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_said_of_the_sandbox_tells_most() {
        let said = |lines: &[&str]| -> Vec<String> {
            lines.iter().map(|line| (*line).to_owned()).collect()
        };
        let crash = said(&[
            "starting",
            "No usable sandbox! Update your kernel",
            "#0 0x5581",
            "",
        ]);
        assert!(telling(&crash).unwrap().starts_with("No usable sandbox"));
        let other = said(&["starting", "cannot open display", " "]);
        assert_eq!(telling(&other).unwrap(), "cannot open display");
        assert_eq!(telling(&[]), None);
    }
}

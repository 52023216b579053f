//! Browsers that die, idle or are missing. A program of its own, because it ends every browser that
//! it has started.

#[path = "pages/office.rs"]
#[expect(dead_code, reason = "the other program needs more of it")]
mod office;

use std::{
    os::unix::fs::PermissionsExt,
    time::{Duration, Instant},
};

use maple_lark_capture::{Order, Problem, Settings};
use maple_lark_definition::Finished;

use office::Office;

#[tokio::test(flavor = "multi_thread")]
async fn a_browser_that_dies_is_replaced_and_one_that_is_missing_is_said() {
    let office = Office::new().await;
    office.captured(&office.order("let-in")).await;
    let slow = Order {
        finished: Finished {
            after_milliseconds: 1500,
            ..Finished::default()
        },
        ..office.order("let-in")
    };
    let (captured, ()) = tokio::join!(office.captured(&slow), async {
        tokio::time::sleep(Duration::from_millis(700)).await;
        kill_own_browsers();
    });
    assert_eq!(captured.title, "Let in");

    let idle = Office::with(Settings {
        idle: Duration::from_millis(200),
        ..Settings::default()
    })
    .await;
    idle.captured(&idle.order("let-in")).await;
    let began = Instant::now();
    while idle.browser.peak_memory().await > 0 || idle.browser.runs().await {
        assert!(
            began.elapsed() < Duration::from_secs(20),
            "it is ended when idle"
        );
        tokio::time::sleep(Duration::from_millis(50)).await;
    }

    let none = Office::with(Settings {
        program: Some("no-such-browser".into()),
        ..Settings::default()
    })
    .await;
    let words = none.browser.version().await.unwrap_err().to_string();
    assert!(
        words.contains("Install Debian's package chromium-headless-shell or chromium"),
        "{words}"
    );
    a_browser_that_a_script_has_started_is_ended_with_it().await;
    a_page_that_crashes_is_said_and_the_browser_goes_on().await;
}

async fn a_browser_that_a_script_has_started_is_ended_with_it() {
    let folder = tempfile::tempdir().unwrap();
    let (script, number) = (folder.path().join("browser"), folder.path().join("number"));
    let words = format!(
        "#!/bin/sh\nchromium \"$@\" &\necho $! > '{}'\nwait\n",
        number.display()
    );
    std::fs::write(&script, words).unwrap();
    std::fs::set_permissions(&script, std::fs::Permissions::from_mode(0o755)).unwrap();
    let office = Office::with(Settings {
        program: Some(script),
        ..Settings::default()
    })
    .await;
    office.captured(&office.order("let-in")).await;
    let number: i32 = std::fs::read_to_string(number)
        .unwrap()
        .trim()
        .parse()
        .unwrap();
    assert!(is_alive(number));
    office.browser.end().await;
    let began = Instant::now();
    while is_alive(number) {
        assert!(
            began.elapsed() < Duration::from_secs(20),
            "it is left behind"
        );
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
}

fn is_alive(pid: i32) -> bool {
    procfs::process::Process::new(pid)
        .and_then(|process| process.stat())
        .is_ok_and(|stat| stat.state != 'Z')
}

/// A part of the test above: it would end this one's browser, too.
async fn a_page_that_crashes_is_said_and_the_browser_goes_on() {
    let office = Office::new().await;
    office.captured(&office.order("let-in")).await;
    let slow = Order {
        finished: Finished {
            after_milliseconds: 20_000,
            limit_seconds: 30,
            ..Finished::default()
        },
        ..office.order("let-in")
    };
    let began = Instant::now();
    // Over and over, so that it is in the middle of it however slow the machine is.
    let crashes = async {
        loop {
            tokio::time::sleep(Duration::from_millis(700)).await;
            kill(own_processes().filter(|process| words_of(process).contains("--type=renderer")));
        }
    };
    let failed = tokio::select! {
        failed = office.failed(&slow) => failed,
        () = crashes => unreachable!("they have no end"),
    };
    assert_eq!(failed.problem, Problem::Crashed);
    assert!(failed.picture.is_none(), "there is nothing to be seen");
    let waited = began.elapsed();
    assert!(waited < Duration::from_secs(20), "nobody waits: {waited:?}");
    office.captured(&office.order("let-in")).await;
}

/// The processes that this test program has started, and theirs.
fn own_processes() -> impl Iterator<Item = procfs::process::Process> {
    let mut own = vec![std::process::id().cast_signed()];
    let all: Vec<_> = procfs::process::all_processes()
        .unwrap()
        .flatten()
        .collect();
    // Processes are listed by number, and have been numbered as they were started.
    for process in &all {
        if let Ok(stat) = process.stat()
            && own.contains(&stat.ppid)
        {
            own.push(process.pid);
        }
    }
    all.into_iter()
        .filter(move |process| own[1..].contains(&process.pid))
}

fn words_of(process: &procfs::process::Process) -> String {
    process.cmdline().unwrap_or_default().join(" ")
}

fn kill(processes: impl Iterator<Item = procfs::process::Process>) {
    for process in processes {
        if let Some(pid) = rustix::process::Pid::from_raw(process.pid) {
            let _ = rustix::process::kill_process(pid, rustix::process::Signal::KILL);
        }
    }
}

/// Ends the browsers that this test program has started, as an accident would.
fn kill_own_browsers() {
    let own = std::process::id().cast_signed();
    kill(own_processes().filter(|process| {
        process.stat().is_ok_and(|stat| stat.ppid == own)
            && words_of(process).contains("maple-lark-browser-")
    }));
}

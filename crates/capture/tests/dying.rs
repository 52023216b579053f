//! Browsers that die, idle or are missing. A program of its own, because it ends every browser that
//! it has started.

#[path = "pages/office.rs"]
#[expect(dead_code, reason = "the other program needs more of it")]
mod office;

use std::time::{Duration, Instant};

use maple_lark_capture::{Order, Settings};
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
        program: "no-such-browser".into(),
        ..Settings::default()
    })
    .await;
    let words = none.browser.version().await.unwrap_err().to_string();
    assert!(
        words.contains("Install Debian's package chromium"),
        "{words}"
    );
}

/// Ends the browsers that this test program has started, as an accident would.
fn kill_own_browsers() {
    let own = std::process::id().cast_signed();
    for process in procfs::process::all_processes().unwrap().flatten() {
        let browser = process.stat().is_ok_and(|stat| stat.ppid == own)
            && process.cmdline().is_ok_and(|words| {
                words
                    .iter()
                    .any(|word| word.contains("maple-lark-browser-"))
            });
        if browser && let Some(pid) = rustix::process::Pid::from_raw(process.pid) {
            let _ = rustix::process::kill_process(pid, rustix::process::Signal::KILL);
        }
    }
}

//! Captures in real Chromium, of pages made for the purpose.

mod office;

use std::time::Duration;

use maple_lark_capture::{Kept, Order, PROGRAMS, Problem, Settings};
use maple_lark_definition::{Finished, Keep, PageStep, PageView};
use maple_lark_demo::WebServices;
use url::Url;

use office::{Office, door, look_at, parts, words};

#[tokio::test(flavor = "multi_thread")]
async fn a_board_behind_a_form_is_kept_whole_and_in_parts_and_signed_in_once() {
    let office = Office::new().await;
    let whole = office.captured(&office.board()).await;
    assert_eq!(whole.title, "Port office: harbours of the sound");
    assert!(whole.browser.starts_with("Chromium "), "{}", whole.browser);
    let Kept::Look { width, height, .. } = whole.kept else {
        panic!("no look")
    };
    let only = &parts(&whole)[0];
    let size = imagesize::blob_size(&only.png).unwrap();
    assert_eq!((size.width, size.height), (1000, height as usize));
    assert_eq!(width, 1000);
    assert!(height > 700, "all of it, not what a window shows");
    assert!(!only.cuts.is_empty());
    assert!(only.text.contains("Foot passengers a day"));
    assert!(!only.text.contains("one cookie"), "hidden");
    // The window is in the address and in the zone that the page was told.
    assert!(
        only.text.contains("13 Jul 2026, 01:00, Atlantic/Fa"),
        "{}",
        only.text
    );

    let order = Order {
        keep: look_at(&["#queue", "#berths"]),
        view: PageView {
            scale: 2,
            ..office.board().view
        },
        ..office.board()
    };
    let both = office.captured(&order).await;
    let found = parts(&both);
    assert_eq!(
        found
            .iter()
            .map(|part| (part.asked, part.title.as_str()))
            .collect::<Vec<_>>(),
        [(Some(0), "Lorries that wait"), (Some(1), "Berths")]
    );
    let size = imagesize::blob_size(&found[0].png).unwrap();
    assert_eq!(size.width, 2 * found[0].width as usize);
    assert!(found[0].text.contains("over time"), "{}", found[0].text);
    assert_eq!(office.sign_ins().await, 1, "the session was kept");

    // One that has ended is begun anew.
    let address = office.web.url("/port-office/end-sessions");
    let end = Order {
        steps: Vec::new(),
        finished: Finished {
            when: Some(format!(
                "window.ended ||= fetch('{address}', {{method: 'POST'}})"
            )),
            ..Finished::default()
        },
        ..office.order("let-in")
    };
    office.captured(&end).await;
    office.captured(&office.board()).await;
    assert_eq!(office.sign_ins().await, 2);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_wrong_password_is_said_and_seen_nowhere() {
    let office = Office::new().await;
    let wrong = Order {
        sign_in: door("not-the-password")[..4].to_vec(),
        ..office.board()
    };
    let failed = office.failed(&wrong).await;
    assert_eq!(failed.problem, Problem::SignedOut);
    assert!(failed.picture.is_some());
    // The page says the password back: whichever it was, the picture is the same.
    let mut pictures = Vec::new();
    for password in ["hunter2-secret", "another-one-of-mine"] {
        let steps = door(password);
        let asked = Order {
            steps: [&steps[1..4], &[PageStep::WaitFor("#nowhere".to_owned())]].concat(),
            finished: once(|_| {}),
            ..office.order("sign-in")
        };
        let failed = office.failed(&asked).await;
        let words = failed.problem.to_string();
        assert!(words.contains("\"#nowhere\" is not there"), "{words}");
        assert!(!words.contains(password), "{words}");
        let last = failed.steps.last().unwrap();
        assert_eq!(last.what, "wait for \"#nowhere\"");
        pictures.push(failed.picture.unwrap());
    }
    assert!(pictures[0] == pictures[1]);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_secret_is_typed_into_pages_of_its_hosts_alone() {
    let office = Office::new().await;
    let steps = door("hunter2-secret");
    let astray = Order {
        sign_in: [
            &[PageStep::Open("/port-office/astray".to_owned())],
            &steps[1..4],
        ]
        .concat(),
        ..office.board()
    };
    let problem = office.failed(&astray).await.problem.to_string();
    assert!(
        problem.contains("the page has led to localhost, where this secret may not be sent"),
        "{problem}"
    );
    assert_eq!(office.sign_ins().await, 0);
}

#[tokio::test(flavor = "multi_thread")]
async fn headers_and_cookies_go_to_the_pages_own_origin_only() {
    let office = Office::new().await;
    let order = Order {
        headers: vec![
            ("Authorization".to_owned(), "Bearer abc".to_owned()),
            ("X-Key".to_owned(), "k1".to_owned()),
        ],
        cookies: vec![("known".to_owned(), "yes".to_owned())],
        ..office.order("let-in")
    };
    assert_eq!(
        words(&office, &order).await,
        "authorization: Bearer abc; x-key: k1; cookie: known=yes"
    );
    // A capture leaves nothing behind for the next.
    assert_eq!(
        words(&office, &office.order("let-in")).await,
        "authorization: none; x-key: none; cookie: none"
    );
    let elsewhere = WebServices::start().await.unwrap();
    let target = elsewhere.url("/port-office/let-in");
    let order = Order {
        finished: Finished {
            when: Some(format!(
                "location.href === '{target}' || (window.went ||= (location.href = '{target}', true), false)"
            )),
            ..Finished::default()
        },
        ..order
    };
    assert_eq!(
        words(&office, &order).await,
        "authorization: none; x-key: none; cookie: known=yes",
        "cookies know no ports (RFC 6265), headers do"
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn a_page_is_told_zone_language_colours_and_style() {
    let office = Office::new().await;
    let order = Order {
        zone: "Pacific/Auckland".to_owned(),
        view: PageView {
            dark: Some(true),
            print_style: true,
            locale: "en-NZ".to_owned(),
            ..office.board().view
        },
        keep: look_at(&["#told"]),
        ..office.order("clock")
    };
    let told = words(&office, &order).await;
    assert!(
        told.starts_with(
            "Pacific/Auckland | en-NZ | 12:00:00 am | dark | print | still | 1000 | 1"
        ),
        "{told}"
    );
    let order = Order {
        view: office.board().view,
        zone: "UTC".to_owned(),
        ..order
    };
    let told = words(&office, &order).await;
    assert!(
        told.starts_with("UTC | en-GB | 12:00:00 | light | screen"),
        "{told}"
    );
}

/// Nothing but what is asked for, for as long as it may take here.
fn once(change: impl FnOnce(&mut Finished)) -> Finished {
    let mut finished = Finished {
        limit_seconds: 1,
        quiet_milliseconds: 0,
        ..Finished::default()
    };
    change(&mut finished);
    finished
}

fn one(words: &str) -> Vec<String> {
    vec![words.to_owned()]
}

#[tokio::test(flavor = "multi_thread")]
async fn what_is_waited_for_comes() {
    let office = Office::new().await;
    for finished in [
        once(|it| it.there = one("#late")),
        once(|it| it.gone = one(".spinner")),
        once(|it| it.text = one("here now")),
        once(|it| it.when = Some("window.isReady".to_owned())),
        once(|it| it.after_milliseconds = 700),
    ] {
        let order = Order {
            finished,
            keep: look_at(&["#late"]),
            ..office.order("sleeper")
        };
        assert_eq!(words(&office, &order).await, "here now");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn what_has_not_come_is_named() {
    let office = Office::new().await;
    for (finished, missing) in [
        (
            once(|it| it.there = one("#never")),
            "\"#never\" is not there",
        ),
        (once(|it| it.gone = one("p")), "\"p\" is still there"),
        (
            once(|it| it.text = one("nobody")),
            "the text \"nobody\" is not there",
        ),
        (
            once(|it| it.when = Some("window.no.such".to_owned())),
            "\"window.no.such\" is not true",
        ),
        (
            once(|it| it.quiet_milliseconds = 500),
            "it still loads something",
        ),
        (
            once(|it| it.when = Some("1 +".to_owned())),
            "the page's own expression failed: SyntaxError",
        ),
    ] {
        let order = Order {
            finished,
            ..office.order("sleeper")
        };
        let problem = office.failed(&order).await.problem.to_string();
        assert!(problem.contains(missing), "{problem}");
    }
    let missing = Order {
        keep: look_at(&["#nowhere"]),
        ..office.order("let-in")
    };
    let failed = office.failed(&missing).await;
    assert_eq!(failed.problem, Problem::NoPart("#nowhere".to_owned()));
}

#[tokio::test(flavor = "multi_thread")]
async fn tables_and_downloads_are_read() {
    let office = Office::new().await;
    let order = Order {
        keep: Keep::Table("#berths table".to_owned()),
        ..office.board()
    };
    let Kept::Table(rows) = office.captured(&order).await.kept else {
        panic!("no table")
    };
    assert_eq!(
        rows[0],
        ["Berth", "Harbour", "Calls", "Mean stay, min", "Last call"]
    );
    assert_eq!(rows.len(), 13);
    let order = Order {
        keep: Keep::Download,
        steps: vec![PageStep::Press("Download CSV".to_owned())],
        ..office.board()
    };
    let Kept::Download(file) = office.captured(&order).await.kept else {
        panic!("no file")
    };
    let file = String::from_utf8(file).unwrap();
    assert!(file.starts_with("berth,harbour,calls"), "{file}");
    for (line, row) in file.lines().zip(&rows).skip(1) {
        let cells: Vec<&str> = line.split(',').collect();
        assert_eq!(cells[..4], row[..4]);
    }
    // Others that begin meanwhile do not keep the file from being heard of.
    let other = office.order("let-in");
    let (downloaded, _) = tokio::join!(office.captured(&order), async {
        for _ in 0..3 {
            office.captured(&other).await;
        }
    });
    assert!(matches!(downloaded.kept, Kept::Download(_)));
    let order = Order {
        steps: Vec::new(),
        finished: Finished {
            limit_seconds: 4,
            ..Finished::default()
        },
        ..order
    };
    assert_eq!(office.failed(&order).await.problem, Problem::NoDownload);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_long_page_can_be_cut_between_its_blocks_and_is_printed_sharp() {
    let office = Office::new().await;
    let order = Order {
        keep: Keep::Look {
            parts: Vec::new(),
            printed: true,
        },
        ..office.order("long")
    };
    let captured = office.captured(&order).await;
    let only = &parts(&captured)[0];
    // Twelve blocks of 340 pixels with 20 between and around them.
    assert_eq!(only.height, 20 + 12 * 324);
    let expected: Vec<u32> = (1..12).map(|n| 10 + n * 324).collect();
    assert_eq!(only.cuts, expected);
    let Kept::Look { printed, .. } = &captured.kept else {
        panic!("no look")
    };
    let pdf = lopdf::Document::load_mem(printed.as_ref().unwrap()).unwrap();
    let pages = pdf.get_pages();
    assert_eq!(pages.len(), 1);
    assert!(
        pdf.extract_text(&[1])
            .unwrap()
            .contains("Words of block 12")
    );
}

fn soon(office: &Office, path: &str) -> Order {
    Order {
        limit: Duration::from_secs(6),
        finished: Finished {
            limit_seconds: 3,
            quiet_milliseconds: 300,
            after_milliseconds: 500,
            ..Finished::default()
        },
        ..office.order(path)
    }
}

/// Either may be the one that is installed.
#[tokio::test(flavor = "multi_thread")]
async fn both_browsers_see_the_same_page() {
    let mut seen = Vec::new();
    for program in PROGRAMS {
        let office = Office::with(Settings {
            program: Some(program.into()),
            ..Settings::default()
        })
        .await;
        let order = Order {
            keep: look_at(&["#queue", "#berths"]),
            ..office.board()
        };
        let captured = office.captured(&order).await;
        let places: Vec<_> = parts(&captured)
            .iter()
            .map(|part| {
                let size = imagesize::blob_size(&part.png).unwrap();
                let place = (part.x, part.y, part.width, part.height);
                (part.title.clone(), part.text.clone(), place, size.width)
            })
            .collect();
        seen.push((captured.title, captured.browser, places));
    }
    assert_eq!(seen[0].2.len(), 2);
    assert_eq!(seen[0], seen[1]);
}

#[tokio::test(flavor = "multi_thread")]
async fn nothing_that_a_page_does_holds_the_browser_up() {
    let office = Office::with(Settings {
        most_memory: 400_000_000,
        ..Settings::default()
    })
    .await;
    for path in ["windows", "dialogs"] {
        let order = Order {
            keep: look_at(&["#done"]),
            ..soon(&office, path)
        };
        office.captured(&order).await;
    }
    let failed = office.failed(&soon(&office, "looping")).await;
    let late = matches!(failed.problem, Problem::Timeout { .. });
    assert!(late, "{}", failed.problem);
    let greedy = Order {
        limit: Duration::from_secs(40),
        finished: Finished {
            there: vec!["#never".to_owned()],
            limit_seconds: 35,
            ..Finished::default()
        },
        ..office.order("greedy")
    };
    let failed = office.failed(&greedy).await;
    assert_eq!(failed.problem, Problem::Memory { megabytes: 400 });
    let reached = words(&office, &soon(&office, "let-in")).await;
    assert!(reached.starts_with("authorization"), "it still works");
}

#[tokio::test(flavor = "multi_thread")]
async fn addresses_that_lead_nowhere_are_told_apart() {
    let office = Office::new().await;
    // Nobody else gets this port, and nobody listens.
    let taken = tokio::net::TcpSocket::new_v4().unwrap();
    taken.bind("127.0.0.1:0".parse().unwrap()).unwrap();
    let port = taken.local_addr().unwrap().port();
    let mut dead = soon(&office, "let-in");
    dead.address.set_port(Some(port)).unwrap();
    for (order, words) in [
        (soon(&office, "silent"), "does not answer within 3 s"),
        (soon(&office, "circle"), "sends on in a circle"),
        (soon(&office, "nowhere"), "answers 404"),
        (dead, "nothing answers there"),
    ] {
        let problem = office.failed(&order).await.problem.to_string();
        assert!(problem.contains(words), "{problem}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn what_a_page_asks_for_is_held_to_the_same_bounds() {
    let office = Office::new().await;
    let reaching = Order {
        finished: Finished {
            text: vec!["reached".to_owned()],
            ..Finished::default()
        },
        keep: look_at(&["#got"]),
        ..office.order("reaching?at=http://127.0.0.1:9/")
    };
    let captured = office.captured(&reaching).await;
    assert_eq!(parts(&captured)[0].text, "reached 0");
    let note = captured.note.unwrap();
    assert!(
        note.contains("may not be reached: it is out of bounds"),
        "{note}"
    );
    let mut out = office.order("let-in");
    out.address = Url::parse("http://169.254.169.254/latest").unwrap();
    let failed = office.failed(&out).await;
    assert_eq!(
        failed.problem,
        Problem::OutOfBounds {
            address: "169.254.169.254:80".to_owned(),
            reason: "it is out of bounds".to_owned()
        }
    );
}

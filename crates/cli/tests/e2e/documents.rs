//! Every block in every format, through the service: made, written again, checked.

use std::collections::BTreeMap;

use fantoccini::wd::TimeoutConfiguration;
use serde_json::{Value, json};

use crate::{
    console::{Driver, see},
    place::{PATIENCE, Place, text},
    questions::{place_with_everything, store_own_token},
};

/// A place with the demo's definitions and data, and the gallery made once.
async fn gallery(place: &Place) -> (crate::place::Service, String) {
    drop(place.with_data().await);
    place
        .cluster
        .administer("grant pg_monitor to lark_statistics")
        .await
        .unwrap();
    let service = place.serve();
    place.sign_in();
    let applied = place.apply_demo();
    assert!(applied.status.success(), "{}", text(&applied.stderr));
    // There are three days of data: a week that has at least half of them, also on a Monday morning.
    let at = (chrono::Utc::now() + chrono::TimeDelta::hours(7 * 24 - 36)).to_rfc3339();
    let run = place.json(&["run", "gallery", "--no-delivery", "--at", &at]);
    assert_eq!(
        run["state"], "completed",
        "a block of the gallery failed: {run:#}"
    );
    let id = run["id"].as_str().unwrap().to_owned();
    (service, id)
}

fn files(folder: &std::path::Path) -> BTreeMap<String, Vec<u8>> {
    let entries = std::fs::read_dir(folder)
        .unwrap()
        .map(|entry| entry.unwrap());
    entries
        .map(|entry| {
            (
                entry.file_name().to_string_lossy().into_owned(),
                std::fs::read(entry.path()).unwrap(),
            )
        })
        .collect()
}

#[tokio::test(flavor = "multi_thread")]
async fn every_format_can_be_written_again_and_verified() {
    let place = Place::new().await;
    let (_service, run) = gallery(&place).await;
    let sent = place.folder.path().join("sent");
    place.json(&["download", &run, "--into", sent.to_str().unwrap()]);
    let sent_files = files(&sent);
    let endings: Vec<&str> = [
        "pdf", "html", "csv", "xlsx", "ods", "json", "xml", "txt", "png",
    ]
    .into_iter()
    .filter(|ending| sent_files.keys().any(|name| name.ends_with(ending)))
    .collect();
    assert_eq!(endings.len(), 9, "{:?}", sent_files.keys());
    assert!(
        sent_files.keys().all(|name| name.starts_with("gallery_")),
        "{:?}",
        sent_files.keys()
    );

    // The same snapshot gives the same bytes, in every format.
    for format in ["pdf", "html", "xlsx", "ods", "json", "xml", "txt", "png"] {
        let again = place.folder.path().join(format!("again-{format}"));
        place.json(&[
            "render",
            &run,
            "--format",
            format,
            "--into",
            again.to_str().unwrap(),
        ]);
        for (name, bytes) in files(&again) {
            assert!(sent_files[&name] == bytes, "{name} was written otherwise");
        }
    }
    let pdf = sent.join(
        sent_files
            .keys()
            .find(|name| name.ends_with(".pdf"))
            .unwrap(),
    );
    let verified = place.json(&["verify", pdf.to_str().unwrap()]);
    assert_eq!(
        (
            &verified[0][1]["snapshot_unaltered"],
            &verified[0][1]["reproducible"]
        ),
        (&json!(true), &json!(true)),
        "{verified:#}"
    );
    assert_eq!(verified[0][1]["report"], "gallery");

    // One chart by itself; what is no chart, or not there, is said.
    let alone = place.folder.path().join("alone");
    place.json(&[
        "render",
        &run,
        "--format",
        "png",
        "--block",
        "Lines with a threshold and marked spans",
        "--into",
        alone.to_str().unwrap(),
    ]);
    let pictures = files(&alone);
    let (name, picture) = pictures.first_key_value().unwrap();
    assert!(
        name.starts_with("gallery_")
            && name.ends_with("_lines-with-a-threshold-and-marked-spans.png")
            && picture.starts_with(b"\x89PNG"),
        "{name}"
    );
    for (arguments, words) in [
        (
            ["--format", "png", "--block", "Linse with a threshold"],
            "there is no block of this title. Did you mean \"Lines with a threshold and marked spans\"?",
        ),
        (
            [
                "--format",
                "png",
                "--block",
                "Key figures with change and trend",
            ],
            "this block is no chart; there are \"Lines with a threshold",
        ),
        (
            ["--format", "pdf", "--block", "Area"],
            "a block by itself is written as png",
        ),
    ] {
        let refused = place.lark(&[&["render", &run], &arguments[..]].concat());
        assert_eq!(refused.status.code(), Some(5), "{arguments:?}");
        assert!(
            text(&refused.stderr).contains(words),
            "{arguments:?}: {}",
            text(&refused.stderr)
        );
    }

    // One byte makes another file of it.
    let mut bytes = std::fs::read(&pdf).unwrap();
    let middle = bytes.len() / 2;
    bytes[middle] ^= 1;
    let altered = place.folder.path().join("altered.pdf");
    std::fs::write(&altered, bytes).unwrap();
    let refused = place.lark(&["verify", altered.to_str().unwrap()]);
    assert_eq!(refused.status.code(), Some(1));
    assert!(
        text(&refused.stdout).contains("not known"),
        "{}",
        text(&refused.stdout)
    );
    // A format that is none, and a run that is none.
    assert_eq!(
        place
            .lark(&["render", &run, "--format", "doc"])
            .status
            .code(),
        Some(2)
    );
    assert_eq!(
        place
            .lark(&[
                "render",
                "01a20778-04ba-70ff-853b-f952290418d2",
                "--format",
                "pdf"
            ])
            .status
            .code(),
        Some(5)
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn every_report_of_the_demo_is_json_as_its_schema_says_and_html_that_fits_a_phone() {
    let (place, _services) = place_with_everything().await;
    let administration = "grant pg_monitor to lark_statistics";
    place.cluster.administer(administration).await.unwrap();
    let _service = place.serve();
    place.sign_in();
    store_own_token(&place);
    assert!(place.apply_demo().status.success());
    let demo = concat!(env!("CARGO_MANIFEST_DIR"), "/../../demo");
    let schema: Value =
        serde_json::from_str(include_str!("../../../../docs/document.schema.json")).unwrap();
    let schema = jsonschema::options()
        .should_validate_formats(true)
        .build(&schema)
        .unwrap();
    let driver = Driver::start();
    let phone = driver.phone(&place.folder.path().join("phone")).await;
    let (mut documents, mut pages, mut tables) = (0, 0, 0);
    for file in std::fs::read_dir(format!("{demo}/reports")).unwrap() {
        let file = file.unwrap().path();
        let report = file.file_stem().unwrap().to_str().unwrap();
        // A block may fail, for the data is of three days only; what it says instead is checked, too.
        let run = place.lark(&["run", report, "--no-delivery", "--output", "json"]);
        let run: Value = serde_json::from_slice(&run.stdout).unwrap();
        let run = run["id"].as_str().unwrap();
        let into = place.folder.path().join(report);
        let folder = into.to_str().unwrap();
        place.json(&["render", run, "--format", "json", "--into", folder]);
        let html = place.folder.path().join(format!("{report}-html"));
        let folder = html.to_str().unwrap();
        place.json(&["render", run, "--format", "html", "--into", folder]);
        // For the checkers of "make test-documents".
        if let Ok(kept) = std::env::var("MAPLE_LARK_DOCUMENTS") {
            let folder = format!("{kept}/{report}");
            place.json(&["render", run, "--format", "pdf", "--into", &folder]);
        }
        for name in files(&html).keys() {
            let page = format!("file://{}", html.join(name).display());
            phone.goto(&page).await.unwrap();
            let out = phone.execute(STICKS_OUT, Vec::new()).await.unwrap();
            assert_eq!(out, json!([]), "{name}");
            let (some, wrong) = cards(&phone).await;
            assert_eq!(wrong, json!([]), "{name}");
            tables += usize::from(some);
            pages += 1;
            phone.execute(LONG_WORDS, Vec::new()).await.unwrap();
            let out = phone.execute(STICKS_OUT, Vec::new()).await.unwrap();
            assert_eq!(out, json!([]), "{name} with long words");
        }
        let mail = whole_mail(&place, report).await;
        let page = place.folder.path().join(format!("{report}-mail.html"));
        std::fs::write(&page, mail).unwrap();
        phone
            .goto(&format!("file://{}", page.display()))
            .await
            .unwrap();
        for wrong in [STICKS_OUT, TINY_LETTERS] {
            let wrong = phone.execute(wrong, Vec::new()).await.unwrap();
            assert_eq!(wrong, json!([]), "the mail of {report}");
        }
        phone.execute(LONG_WORDS, Vec::new()).await.unwrap();
        let out = phone.execute(STICKS_OUT, Vec::new()).await.unwrap();
        assert_eq!(out, json!([]), "the mail of {report} with long words");
        for (name, bytes) in files(&into) {
            let document: Value = serde_json::from_slice(&bytes).unwrap();
            let wrong: Vec<String> = schema
                .iter_errors(&document)
                .map(|error| format!("{}: {error}", error.instance_path()))
                .collect();
            assert!(wrong.is_empty(), "{name}: {wrong:#?}");
            documents += 1;
        }
    }
    assert!(documents >= 10, "{documents} documents");
    assert!(pages >= 10, "{pages} pages");
    assert!(tables >= 5, "{tables} pages with cards");
    phone.close().await.unwrap();
}

/// What is wider than the screen and in no box that scrolls: the page itself, or any of its parts,
/// letters of figures included.
const STICKS_OUT: &str = "const wide = document.documentElement.clientWidth;
    const out = document.documentElement.scrollWidth > wide ? ['the page: ' + document.documentElement.scrollWidth] : [];
    const scrolls = (one) => one && one !== document.body && (['auto', 'scroll', 'hidden'].includes(getComputedStyle(one).overflowX) || scrolls(one.parentElement));
    for (const one of document.querySelectorAll('body *')) {
        const box = one.getBoundingClientRect();
        if (box.width && box.right > wide + 1 && !scrolls(one.parentElement)) out.push(one.tagName + ' ' + one.textContent.trim().slice(0, 40));
    }
    return out;";

/// Gives all that has words one that is wider than the screen.
const LONG_WORDS: &str = "for (const one of document.querySelectorAll('h1, h2, h3, p, li, dd, .name, .value, .scroll td')) one.append(' ' + 'abcdefgh'.repeat(60));";

/// Charts of a mail whose letters are smaller than 7.5 pixels as they are shown. They are drawn with
/// letters of 11 at two and a half times their size. A page that somebody else has drawn is as it is.
const TINY_LETTERS: &str = "return [...document.images].filter((one) => one.src.startsWith('data:') && !one.closest('td').textContent.includes('As the page looked') && one.clientWidth / one.naturalWidth * 2.5 * 11 < 7.5).map((one) => one.alt)";

/// Whether the page on a phone has tables whose rows are cards, and what is wrong with these: a cell that
/// does not say what it is, or that does not stand below the one before.
async fn cards(phone: &fantoccini::Client) -> (bool, Value) {
    let look = "const wrong = [];
        const tables = [...document.querySelectorAll('table.cards')];
        for (const table of tables) {
            const heads = [...table.tHead.rows[0].cells].map((one) => one.textContent.trim());
            for (const row of [...table.tBodies[0].rows].slice(0, 20)) {
                const cells = [...row.cells].filter((cell) => cell.colSpan === 1 && getComputedStyle(cell).display !== 'none');
                cells.slice(1).forEach((cell, i) => {
                    const label = JSON.parse(getComputedStyle(cell, '::before').content);
                    if (label !== heads[cell.cellIndex]) wrong.push(`${label} is not ${heads[cell.cellIndex]}`);
                    if (cell.getBoundingClientRect().top < cells[i].getBoundingClientRect().bottom - 1) wrong.push(`${label} stands beside ${heads[cells[i].cellIndex]}`);
                });
            }
        }
        return [tables.length > 0, wrong]";
    let found = phone.execute(look, Vec::new()).await.unwrap();
    (found[0] == json!(true), found[1].clone())
}

/// The mail of a report with all that it has, as a page.
async fn whole_mail(place: &Place, report: &str) -> String {
    let preview = format!(
        "http://{}/api/v1/reports/{report}/message-preview",
        place.address
    );
    let asked = reqwest::Client::new().post(preview);
    let asked = asked
        .bearer_auth(place.token())
        .json(&json!({ "body": "full" }));
    let answer = asked.send().await.unwrap();
    let preview: Value = answer.json().await.unwrap();
    let html = preview["html"].as_str();
    html.unwrap_or_else(|| panic!("{report}: {preview:#}"))
        .to_owned()
}

/// What axe-core finds on the page that is open, once nothing on it moves: a menu that fades away is
/// not what its reader works with.
pub async fn barriers(browser: &fantoccini::Client) -> Value {
    // A large page takes its time where other tests run beside it.
    let patient = TimeoutConfiguration::new(Some(PATIENCE), None, None);
    browser.update_timeouts(patient).await.unwrap();
    let checker = concat!(
        env!("CARGO_MANIFEST_DIR"),
        "/../../console/node_modules/axe-core/axe.min.js"
    );
    browser
        .execute(&std::fs::read_to_string(checker).unwrap(), Vec::new())
        .await
        .unwrap();
    let script = "const done = arguments[arguments.length - 1];
        const moves = () => document.getAnimations().some((one) => Number.isFinite(one.effect.getComputedTiming().endTime))
            || document.querySelector('[class*=\"-leave-active\"], [class*=\"-enter-active\"]');
        const look = () => axe.run(document)
            .then((found) => done(found.violations.map((one) => one.id + ': ' + one.help + ' ' + one.nodes[0].html)));
        const wait = (still, frames) => still === 5 || frames === 600
            ? look()
            : requestAnimationFrame(() => wait(moves() ? 0 : still + 1, frames + 1));
        wait(0, 0);";
    browser.execute_async(script, Vec::new()).await.unwrap()
}

/// Read, sort, filter and switch off by keys and presses, on a file from a disk.
async fn it_answers_its_reader(browser: &fantoccini::Client) {
    let ask = async |script: &str| browser.execute(script, Vec::new()).await.unwrap();
    let first = "const figure = [...document.querySelectorAll('figure')].find((one) => one.querySelector('script') && one.querySelector('.switches')); ";
    let of_first = |then: &str| format!("{first}{then}");
    let said =
        of_first("return figure.querySelector('[role=slider]').getAttribute('aria-valuetext')");
    ask(&of_first("figure.querySelector('[role=slider]').focus()")).await;
    let keys = async |keys: &str| {
        let focused = browser.active_element().await.unwrap();
        focused.send_keys(keys).await.unwrap();
        ask(&said).await.as_str().unwrap().to_owned()
    };
    let (home, right, end) = ("\u{e011}", "\u{e014}", "\u{e010}");
    let (one, next, last) = (keys(home).await, keys(right).await, keys(end).await);
    assert!(one != next && next != last, "{one}\n{next}\n{last}");
    for said in [&one, &next, &last] {
        let (at, values) = said.split_once(" · ").unwrap();
        assert!(
            at.contains(':') && values.contains(": ") && values.ends_with(" ms"),
            "{said}"
        );
    }
    let below = ask(&of_first(
        "return figure.querySelector('.reading').textContent",
    ))
    .await;
    assert_eq!(below, json!(last), "whoever sees it reads the same");
    // A line is switched off, and stays on paper.
    let shown =
        of_first("return getComputedStyle(figure.querySelector(\"[data-of='0']\")).display");
    assert_ne!(ask(&shown).await, json!("none"));
    ask(&of_first("figure.querySelector('.switches input').click()")).await;
    assert_eq!(ask(&shown).await, json!("none"));
    ask(&of_first("figure.querySelector('.switches input').click()")).await;
    // Bars say what they are.
    let bars = "const figure = [...document.querySelectorAll('figure')].find((one) => !one.querySelector('script') && one.querySelector('[data-says]'));
        const control = figure.querySelector('[role=slider]');
        control.dispatchEvent(new KeyboardEvent('keydown', { key: 'End' }));
        return [control.getAttribute('aria-valuetext'), [...figure.querySelectorAll('svg')[0].querySelectorAll('[data-says]')].at(-1).dataset.says, figure.querySelectorAll('svg')[0].querySelectorAll('.asked').length]";
    let bars = ask(bars).await;
    assert_eq!((&bars[0], &bars[2]), (&bars[1], &json!(1)), "{bars}");
    // A table by a column of numbers, both ways, and by words.
    let table = "const table = [...document.querySelectorAll('table')].find((one) => one.closest('.block') && one.closest('.block').querySelector('.filter'));
        const column = [...table.tHead.rows[0].cells].findIndex((one) => one.classList.contains('number'));
        const rows = () => [...table.tBodies[0].rows].filter((row) => !row.classList.contains('sum') && getComputedStyle(row).display !== 'none');
        const values = () => rows().map((row) => Number(row.cells[column].textContent.replaceAll(',', '').match(/-?[\\d.]+/)?.[0])).filter((one) => !Number.isNaN(one));
        const head = table.tHead.rows[0].cells[column]; ";
    for (way, sorted) in [("ascending", "a <= b"), ("descending", "a >= b")] {
        let pressed = format!(
            "{table} head.querySelector('button').click(); const all = values();
             return [head.getAttribute('aria-sort'), all.length > 2 && all.slice(1).every((b, i) => {{ const a = all[i]; return {sorted} }})]"
        );
        assert_eq!(ask(&pressed).await, json!([way, true]));
    }
    let filtered = format!(
        "{table} const before = rows().length; const word = rows()[0].cells[0].textContent.trim();
         const words = table.closest('.block').querySelector('.filter input');
         words.value = word; words.dispatchEvent(new Event('input'));
         const some = rows(); const said = table.closest('.block').querySelector('[role=status]').textContent;
         const all = some.every((row) => row.textContent.includes(word));
         words.value = ''; words.dispatchEvent(new Event('input'));
         return [some.length > 0 && some.length < before && all, said === `${{some.length}} of ${{before}} rows`, rows().length === before]"
    );
    assert_eq!(ask(&filtered).await, json!([true, true, true]));
}

/// By rules of others: axe-core, in a browser, on the page as a reader opens it.
#[tokio::test(flavor = "multi_thread")]
async fn the_html_has_no_barriers_that_a_checker_finds() {
    let place = Place::new().await;
    let (_service, run) = gallery(&place).await;
    let folder = place.folder.path().join("sent");
    place.json(&[
        "download",
        &run,
        "--format",
        "html",
        "--into",
        folder.to_str().unwrap(),
    ]);
    let page = std::fs::read_dir(&folder)
        .unwrap()
        .next()
        .unwrap()
        .unwrap()
        .path();
    let driver = Driver::start();
    let browser = driver.browser(&place.folder.path().join("profile")).await;
    browser
        .goto(&format!("file://{}", page.display()))
        .await
        .unwrap();
    see(&browser, "//h1").await;
    it_answers_its_reader(&browser).await;
    let found = barriers(&browser).await;
    assert_eq!(found, json!([]), "{found:#}");
    // Nothing is asked of the network, and nothing sticks out on a phone.
    let asked = browser
        .execute("return performance.getEntriesByType('resource').map((entry) => entry.name).filter((name) => !name.startsWith('data:'))", Vec::new())
        .await
        .unwrap();
    assert_eq!(asked, json!([]));
    browser.set_window_size(390, 800).await.unwrap();
    let wider = browser
        .execute(
            "return document.documentElement.scrollWidth - document.documentElement.clientWidth",
            Vec::new(),
        )
        .await
        .unwrap();
    assert_eq!(wider, json!(0));
    let found = barriers(&browser).await;
    assert_eq!(found, json!([]), "on a phone: {found:#}");
    browser.close().await.unwrap();
}

#[tokio::test]
async fn a_look_is_tried_on_a_sample_before_it_is_saved() {
    let place = Place::new().await;
    let _service = place.serve();
    let http = reqwest::Client::new();
    place.sign_in();
    let token = place.token();
    let preview = async |text: &str| {
        let request = http
            .post(format!("http://{}/api/v1/themes/preview", place.address))
            .bearer_auth(&token)
            .json(&json!({ "text": text }));
        let answer = request.send().await.unwrap();
        (
            answer.status().as_u16(),
            answer.bytes().await.unwrap().to_vec(),
        )
    };
    let (status, day) = preview("[theme]\nname = \"plain\"\n").await;
    assert!(status == 200 && day.starts_with(b"\x89PNG"));
    let (_, night) =
        preview("[theme]\nname = \"dark\"\ntheme = \"dark\"\norientation = \"landscape\"\n").await;
    assert_ne!(day, night);
    let (status, words) = preview(
        "[theme]\nname = \"bad\"\naccent = \"blue\"\nlogo = \"https://logo.example/a.png\"\n",
    )
    .await;
    let words = text(&words);
    assert_eq!(status, 422);
    assert!(
        words.contains("is not a colour such as") && words.contains("must be a data URL"),
        "{words}"
    );
}

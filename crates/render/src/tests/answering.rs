//! HTML that answers its reader: what its script gets is what the chart shows, and nothing else runs.

use scraper::Selector;
use serde_json::Value as Json;

use super::*;

fn answering() -> Document {
    let mut document = document(disks(&[("a", 95.5), ("b's \"<host>\"", 12.0)]));
    document.interactive = true;
    document
}

/// As the page's script reads them.
fn steps(text: &str) -> Vec<i64> {
    let signs: Vec<char> = ('A'..='Z')
        .chain('a'..='z')
        .chain('0'..='9')
        .chain(['+', '/'])
        .collect();
    let (mut at, mut step, mut place, mut all) = (0, 0, 1, Vec::new());
    for sign in text.chars() {
        let bits = signs.iter().position(|one| *one == sign).unwrap() as i64;
        step += bits % 32 * place;
        place *= 32;
        if bits < 32 {
            at += if step % 2 == 1 {
                (1 - step) / 2
            } else {
                step / 2
            };
            all.push(at);
            (step, place) = (0, 1);
        }
    }
    all
}

fn read_by_its_script(page: &str, selector: &str) -> Vec<Json> {
    let parsed = scraper::Html::parse_document(page);
    let selector = Selector::parse(selector).unwrap();
    let found = parsed.select(&selector).map(|one| {
        let text: String = one.text().collect();
        serde_json::from_str(&text).unwrap()
    });
    found.collect()
}

#[test]
fn only_the_script_of_the_page_may_run_in_it_and_only_where_the_report_wants_it() {
    let mut document = answering();
    let page = html(&document).unwrap();
    assert_eq!(page, html(&document).unwrap());
    let parsed = scraper::Html::parse_document(&page);
    let all = |selector: &str| -> Vec<_> {
        let selector = Selector::parse(selector).unwrap();
        parsed.select(&selector).collect()
    };
    let policy = all("meta[http-equiv=Content-Security-Policy]")[0].attr("content");
    let policy = policy.unwrap();
    assert!(
        policy.starts_with("default-src 'none'") && policy.contains(script_policy()),
        "{policy}"
    );
    let runs: Vec<String> = all("script:not([type])")
        .iter()
        .map(|one| one.text().collect())
        .collect();
    assert_eq!(runs, [crate::answering::SCRIPT], "as it was hashed");
    assert!(all("[onclick], [onload], [src^=http]").is_empty());
    // A bar says what it is, whatever its name is.
    let said: Vec<_> = all("svg [data-says]");
    let said: Vec<&str> = said
        .iter()
        .filter_map(|one| one.attr("data-says"))
        .collect();
    assert!(said.contains(&"b's \"<host>\": 12.0\u{a0}%"), "{said:?}");

    document.interactive = false;
    let plain = html(&document).unwrap();
    assert!(
        !plain.contains("<script") && !plain.contains("data-says") && !plain.contains("data-of")
    );
    let more = page.len() - plain.len();
    assert!(more < 40_000, "{more} bytes more");
    let mail = mail_body(&answering(), MailContent::Full, &Context::default());
    assert!(!mail.unwrap().html.unwrap().contains("<script"));
    assert!(!html_of_blocks(&answering()).unwrap().contains("<script"));
}

#[test]
fn what_is_read_at_a_point_is_the_value_there() {
    let page = html(&answering()).unwrap();
    let data = read_by_its_script(&page, "figure script");
    assert_eq!(data.len(), 1, "bars say what they are");
    let lines = data[0]["frames"][0].as_array().unwrap();
    let names: Vec<&str> = lines
        .iter()
        .map(|one| one["name"].as_str().unwrap())
        .collect();
    assert_eq!(names, ["booking", "pay<ment>"]);
    let read = |line: &Json, key: &str| steps(line[key].as_str().unwrap());
    let scale = 10_f64.powi(data[0]["decimals"].as_i64().unwrap() as i32);
    assert_eq!(data[0]["unit"], "ms");
    for line in lines {
        let (times, values) = (read(line, "t"), read(line, "v"));
        assert_eq!(
            (times, &line["every"]),
            ((0..300).collect(), &Json::from(300))
        );
        let expected: Vec<f64> = (0..300).map(|i| 200.0 + f64::from(i % 40)).collect();
        let found: Vec<f64> = values.iter().map(|value| *value as f64 / scale).collect();
        assert_eq!(found, expected);
    }
    let settings = &read_by_its_script(&page, "#reader")[0];
    let shifts = settings["shifts"].as_array().unwrap();
    assert_eq!(shifts.len(), 2, "the clocks go back: {settings}");
}

#[test]
fn a_stack_is_read_by_its_parts() {
    let dashboard = DASHBOARD.replace("show = \"line\"", "show = \"stacked-area\"");
    let mut document = document_of(&dashboard, disks(&[("a", 95.5)]));
    document.interactive = true;
    let page = html(&document).unwrap();
    let data = read_by_its_script(&page, "figure script");
    assert_eq!(data[0]["stack"], true);
    for line in data[0]["frames"][0].as_array().unwrap() {
        let values = steps(line["v"].as_str().unwrap());
        assert_eq!(values[..3], [200, 201, 202], "not the sum of both");
    }
}

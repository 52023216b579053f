use std::{
    collections::BTreeMap,
    time::{Duration, Instant},
};

use crate::place::{Place, small_report_for};

#[tokio::test(flavor = "multi_thread")]
async fn a_report_every_minute_fires_by_itself_once_an_instant_with_two_processes() {
    let place = Place::new().await;
    let first = place.serve();
    let second = place.serve_another();
    place.sign_in();
    let report = small_report_for("a@orrin-sound.example")
        .instead_of("[window]", "[window]\nlast = \"PT1H\"")
        .table("[schedule]\nevery = \"PT1M\"");
    place.apply_small(&report);
    let began = Instant::now();
    let runs = loop {
        let page = place.json(&["runs"]);
        let runs = page["items"].as_array().unwrap().clone();
        if runs.iter().filter(|run| run["settled"] == true).count() >= 2 {
            break runs;
        }
        assert!(
            began.elapsed() < Duration::from_secs(300),
            "nothing fires by itself: {page:#}\n{}{}",
            first.log(),
            second.log()
        );
        tokio::time::sleep(Duration::from_millis(500)).await;
    };
    let mut instants = BTreeMap::new();
    for run in &runs {
        let at = run["scheduled_for"].as_str().unwrap();
        assert!(at.ends_with(":00Z"), "{at} is not a whole minute");
        assert_eq!(run["cause"], "schedule");
        *instants.entry(at.to_owned()).or_insert(0) += 1;
    }
    assert!(instants.values().all(|count| *count == 1), "{instants:?}");
    let settled = runs
        .iter()
        .filter(|run| run["state"] == "delivered")
        .count();
    assert!(place.mail.messages().len() >= settled && place.mail.messages().len() <= runs.len());
}

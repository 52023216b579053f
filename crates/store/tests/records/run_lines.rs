//! The log of a run is kept with it, in order and within bounds, and goes with it.

use maple_lark_store::run_lines::{MOST_LINES, RunLine};

use super::*;

fn line(run_id: Uuid, text: &str) -> RunLine {
    RunLine {
        run_id,
        at: at(0),
        level: "info".into(),
        text: text.into(),
    }
}

#[tokio::test]
async fn lines_are_kept_in_order_and_within_bounds() {
    let place = Place::new().await;
    let (run, other) = (place.new_run("r", 0).await, place.new_run("other", 0).await);
    let gone = Uuid::now_v7();
    place
        .add_run_lines(&[
            line(run, "it begins"),
            line(gone, "nobody"),
            line(other, "another"),
            line(run, "it ends"),
        ])
        .await
        .unwrap();
    let texts = async |run: Uuid, page: u64, size: u64| {
        let found = place.run_lines(run, page, size).await.unwrap();
        let texts: Vec<String> = found.items.into_iter().map(|line| line.text).collect();
        (texts, found.total)
    };
    assert_eq!(
        texts(run, 1, 10).await,
        (vec!["it begins".to_owned(), "it ends".to_owned()], 2)
    );
    assert_eq!(texts(run, 2, 1).await, (vec!["it ends".to_owned()], 2));
    assert_eq!(texts(gone, 1, 10).await.1, 0);
    // One that says the same again and again fills nothing up.
    for _ in 0..3 {
        let many = vec![line(other, "again"); MOST_LINES as usize / 2];
        place.add_run_lines(&many).await.unwrap();
    }
    let (_, total) = texts(other, 1, 1).await;
    assert!((MOST_LINES..MOST_LINES * 2).contains(&total), "{total}");
    assert_eq!(texts(run, 1, 1).await.1, 2, "each run has its own");
}

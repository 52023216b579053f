//! How the content of a run was judged stands beside its state wherever runs are listed.

use maple_lark_store::{pictures::Pictures, runs::RunFilter, teams::Sight};
use uuid::Uuid;

use super::{LEASE, Place, at, run, snapshot};

#[tokio::test]
async fn a_run_is_judged_as_the_worst_of_its_snapshots() {
    let place = Place::new().await;
    let new = run(Uuid::now_v7(), "daily", 0);
    place.add_run(&new).await.unwrap();
    let claimed = place
        .claim_run(Uuid::now_v7(), at(0), LEASE, &[], None)
        .await;
    let claim = claimed.unwrap().unwrap().claim();
    let mut kept = Vec::new();
    for key in ["havnes", "ostrey", "skarvoy"] {
        let mut one = snapshot(new.id, key.as_bytes().to_vec());
        one.values_key = key.to_owned();
        place
            .keep_snapshot(claim, one.clone(), &Pictures::new())
            .await
            .unwrap();
        kept.push(one.id);
    }
    let all = RunFilter {
        report: None,
        state: None,
        sight: Sight::All,
    };
    let status = || async {
        let listed = place.runs(&all, 1, 10).await.unwrap();
        listed.items[0].status.clone()
    };
    assert_eq!(status().await, None, "nothing is made yet");
    // The words are those of documents, which begin with a capital.
    for (snapshot, word, worst) in [
        (kept[0], "OK", "ok"),
        (kept[1], "Critical", "critical"),
        (kept[2], "Warning", "critical"),
        // Written anew after a takeover, it may come to something else.
        (kept[1], "Unknown", "warning"),
        (kept[2], "OK", "unknown"),
    ] {
        place
            .judge_snapshot(claim, snapshot, word, None)
            .await
            .unwrap();
        assert_eq!(status().await.as_deref(), Some(worst), "after {word}");
    }
    let days = [at(-10), at(10)];
    let days = place.run_days(None, &days, &Sight::All).await.unwrap();
    assert_eq!(days[0].status.as_deref(), Some("unknown"));
}

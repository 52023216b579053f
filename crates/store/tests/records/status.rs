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
            .keep_snapshot(claim, one.clone(), &Pictures::new(), None)
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

#[tokio::test]
async fn a_run_has_another_mark_after_each_change_of_what_it_has() {
    let place = Place::new().await;
    let mut administrator = place.administrator().await;
    let (one, other) = (place.new_run("r", 0).await, place.new_run("r", 1).await);
    let mark = async || {
        let marks = place
            .run_marks(&[one, other, Uuid::now_v7()])
            .await
            .unwrap();
        assert_eq!(marks.len(), 2, "those that there are");
        marks.into_iter().find(|(id, _)| *id == one).unwrap().1
    };
    let mut seen = vec![mark().await];
    assert_eq!(mark().await, seen[0], "nothing has happened");
    let snapshot = Uuid::now_v7();
    for sql in [
        "update runs set state = 'collecting' where id = '{run}'".to_owned(),
        "insert into run_steps (run_id, kind, subject, state, started_at) values ('{run}', 'collect', 'q', 'running', now())".to_owned(),
        "update run_steps set state = 'done' where run_id = '{run}'".to_owned(),
        format!("insert into snapshots (id, run_id, values_key, sha256, body, created_at) values ('{snapshot}', '{{run}}', 'k', 'x', '', now())"),
        format!("insert into documents (id, run_id, snapshot_id, format, file_name, media_type, sha256, size, body, created_at) values (gen_random_uuid(), '{{run}}', '{snapshot}', 'csv', 'a.csv', 'text/csv', 'x', 0, '', now())"),
        format!("insert into deliveries (id, run_id, snapshot_id, audience, channel, recipient, state, message_id, next_attempt_at, created_at) values (gen_random_uuid(), '{{run}}', '{snapshot}', 'all', 'mail', 'a@orrin-sound.example', 'waiting', 'm', now(), now())"),
        "update deliveries set state = 'accepted' where run_id = '{run}'".to_owned(),
    ] {
        let sql = sql.replace("{run}", &one.to_string());
        sqlx::raw_sql(sqlx::AssertSqlSafe(sql.clone()))
            .execute(&mut administrator)
            .await
            .unwrap();
        let now = mark().await;
        assert!(!seen.contains(&now), "after {sql}");
        seen.push(now);
    }
    // What happens to another is nothing of this one.
    sqlx::raw_sql(sqlx::AssertSqlSafe(format!(
        "update runs set state = 'collecting' where id = '{other}'"
    )))
    .execute(&mut administrator)
    .await
    .unwrap();
    assert_eq!(mark().await, *seen.last().unwrap());
}

//! Snapshots and documents in a folder: moved either way by a service that is killed again and again,
//! and never lost.

use std::{
    fs,
    path::Path,
    time::{Duration, Instant},
};

use sha2::{Digest, Sha256};
use sqlx::{Connection, Executor, PgConnection, Row};

use crate::place::{PATIENCE, Place, ran, small_report, until};

/// So many documents are there, so that moving them takes longer than a process lives.
const DOCUMENTS: i64 = 800;

/// Copies of a document with bodies of their own, a few with the same, as a busy year leaves them.
const MANY: &str = "with one as (select * from documents order by id limit 1) \
    insert into documents (id, run_id, snapshot_id, format, file_name, media_type, sha256, size, body, created_at, variant) \
    select gen_random_uuid(), run_id, snapshot_id, format, n || '.csv', media_type, encode(sha256(b), 'hex'), octet_length(b), b, created_at, variant \
    from one, generate_series(1, 800) n, lateral (select convert_to(repeat(md5((n / 2)::text), 100 + n % 7), 'UTF8') as b) bodies";

/// The configuration with a place for bodies, and which way they go.
fn configure(place: &Place, base: &str, folder: &Path, keep: &str) {
    let table = format!(
        "[storage]\nkeep = \"{keep}\"\nfolder = \"{}\"\nremove-after = \"PT1S\"\n",
        folder.display()
    );
    fs::write(&place.config, format!("{base}{table}")).unwrap();
}

async fn counted(connection: &mut PgConnection, sql: &'static str) -> i64 {
    sqlx::query_scalar(sql).fetch_one(connection).await.unwrap()
}

const INSIDE: &str = "select count(*) from documents where outside is null";
const OUTSIDE: &str = "select count(*) from documents where outside is not null";

/// How many documents lie neither in their row nor in the folder as what they are.
async fn lost(connection: &mut PgConnection, folder: &Path) -> Vec<String> {
    let rows = connection
        .fetch_all("select file_name, sha256, body, outside from documents")
        .await
        .unwrap();
    let mut lost = Vec::new();
    for row in rows {
        let sha256: String = row.get("sha256");
        let body = match row.get::<Option<String>, _>("outside") {
            Some(name) => fs::read(folder.join(&name[..2]).join(&name)).unwrap_or_default(),
            None => row.get("body"),
        };
        if hex::encode(Sha256::digest(&body)) != sha256 {
            lost.push(row.get("file_name"));
        }
    }
    lost
}

#[tokio::test(flavor = "multi_thread")]
async fn bodies_are_moved_either_way_by_a_service_that_is_killed_again_and_again() {
    let place = Place::new().await;
    let base = fs::read_to_string(&place.config).unwrap();
    let folder = place.folder.path().join("bodies");
    fs::create_dir(&folder).unwrap();
    let service = place.serve();
    place.sign_in();
    place.apply_small(&small_report());
    ran(&place, "small");
    drop(service);
    let mut records = place.records().await;
    records.execute(MANY).await.unwrap();
    let all = counted(&mut records, "select count(*) from documents").await;
    assert!(all > DOCUMENTS);

    let (mut ended_midway, mut rounds) = (0, 0);
    for keep in ["outside", "database"] {
        configure(&place, &base, &folder, keep);
        let left = if keep == "outside" { INSIDE } else { OUTSIDE };
        while counted(&mut records, left).await > 0 {
            rounds += 1;
            assert!(rounds < 60, "it comes to no end");
            let before = counted(&mut records, left).await;
            let service = place.serve();
            let began = Instant::now();
            while counted(&mut records, left).await == before {
                assert!(began.elapsed() < PATIENCE, "nothing is moved");
                tokio::time::sleep(Duration::from_millis(20)).await;
            }
            // Each lives a little longer than the last.
            tokio::time::sleep(Duration::from_millis(97 * rounds)).await;
            service.kill();
            ended_midway += u32::from(counted(&mut records, left).await > 0);
            assert!(lost(&mut records, &folder).await.is_empty());
        }
    }
    assert!(
        ended_midway >= 2,
        "killed in the middle of it {ended_midway} times only"
    );

    // What is in the folder still is removed, an hour after the last process said that it puts it there.
    records
        .execute("update outside_bodies set not_before = now()")
        .await
        .unwrap();
    let service = place.serve();
    // It looks at them when it starts, and removes them at its next look; another's start is one, too.
    let seen = "select count(*) from outside_bodies where unused_since is null";
    let began = Instant::now();
    while counted(&mut records, seen).await > 0 {
        assert!(began.elapsed() < PATIENCE, "nobody looks at them");
        tokio::time::sleep(Duration::from_millis(100)).await;
    }
    drop(service);
    records
        .execute("update outside_bodies set not_before = now(), unused_since = now() - interval '1 minute'")
        .await
        .unwrap();
    let service = place.serve();
    until("the folder to be empty", || {
        let prefixes = fs::read_dir(&folder).unwrap().flatten();
        let files = prefixes.flat_map(|prefix| fs::read_dir(prefix.path()).unwrap());
        // What was half written when a process was killed is swept up later.
        let whole = files
            .flatten()
            .filter(|file| !file.file_name().to_string_lossy().contains('#'));
        (whole.count() == 0).then_some(())
    });
    drop(service);
    assert!(lost(&mut records, &folder).await.is_empty());
    records.close().await.unwrap();
}

//! Pictures of live pages: kept once for a run, given back with each snapshot that shows them.

use maple_lark_store::pictures::Pictures;
use sea_orm::{ConnectionTrait, Database, DbBackend, Statement};
use uuid::Uuid;

use super::{LEASE, Place, at, snapshot};

fn picture(name: &str, length: usize) -> (String, std::sync::Arc<[u8]>) {
    (name.to_owned(), vec![name.len() as u8; length].into())
}

#[tokio::test]
async fn equal_pictures_of_one_run_are_kept_once() {
    let place = Place::new().await;
    let id = place.new_run("daily", 0).await;
    let run = place
        .claim_run(Uuid::now_v7(), at(10), LEASE, &[], None)
        .await;
    let claim = run.unwrap().unwrap().claim();
    // One that goes in parts, and one that does not.
    let (large, small) = (picture("large one", (2 << 20) + 5), picture("small", 9));
    let both = Pictures::from([large.clone(), small.clone()]);
    let one = Pictures::from([large.clone()]);
    let first = snapshot(id, b"first".to_vec());
    let mut second = snapshot(id, b"second".to_vec());
    second.values_key = "others".to_owned();
    place
        .keep_snapshot(claim, first.clone(), &both, None)
        .await
        .unwrap();
    place
        .keep_snapshot(claim, second.clone(), &one, None)
        .await
        .unwrap();
    // Made again after a crash, it brings nothing.
    let again = snapshot(id, b"again".to_vec());
    let other = Pictures::from([picture("another", 3)]);
    place
        .keep_snapshot(claim, again, &other, None)
        .await
        .unwrap();

    let kept = Database::connect(&place.url).await.unwrap();
    let counted = Statement::from_string(DbBackend::Postgres, "select count(*) as n from pictures");
    let row = kept.query_one_raw(counted).await.unwrap().unwrap();
    assert_eq!(row.try_get::<i64>("", "n").unwrap(), 2);
    let whole = place.whole_snapshot(first.id).await.unwrap().unwrap();
    assert_eq!(whole.stored, first);
    assert!(whole.pictures == both);
    let whole = place.whole_snapshot(second.id).await.unwrap().unwrap();
    assert!(whole.pictures == one);
    assert!(
        place
            .whole_snapshot(Uuid::now_v7())
            .await
            .unwrap()
            .is_none()
    );
}

//! Bodies outside of the database: they come back as they were, are moved either way, and wherever a
//! process ends, none is lost and none stays for ever.

use std::{
    collections::BTreeSet,
    fmt, fs,
    path::Path,
    sync::{
        Arc,
        atomic::{AtomicUsize, Ordering},
    },
};

use async_trait::async_trait;
use chrono::TimeDelta;
use futures::{StreamExt, stream::BoxStream};
use maple_lark_store::{
    Store, StoreError,
    documents::{Document, StoredSnapshot},
    outside::{Keeps, Moved, Outside},
    pictures::Pictures,
    runs::Run,
};
use object_store::{
    CopyOptions, GetOptions, GetResult, ListResult, MultipartUpload, ObjectMeta, ObjectStore,
    PutMultipartOptions, PutOptions, PutPayload, PutResult, local::LocalFileSystem,
    path::Path as Name,
};
use sha2::{Digest, Sha256};
use sqlx::Row;
use tempfile::TempDir;
use tokio::sync::Notify;
use uuid::Uuid;

use super::{LEASE, Place, at, document, snapshot};

/// Long enough to go in parts.
const LONG: usize = (2 << 20) + 7;

fn sha256(body: &[u8]) -> String {
    hex::encode(Sha256::digest(body))
}

/// A snapshot, documents and pictures of one run.
struct Kept {
    run: Run,
    snapshot: StoredSnapshot,
    documents: Vec<Document>,
    pictures: Pictures,
}

impl Kept {
    async fn new(place: &Place, report: &str) -> Self {
        let id = place.new_run(report, 0).await;
        let run = place
            .claim_run(Uuid::now_v7(), at(10), LEASE, &[], None)
            .await;
        let run = run.unwrap().unwrap();
        let snapshot = snapshot(id, format!("the snapshot of {report}").into_bytes());
        let body = |name: &str, length: usize| {
            let mut body = format!("{name} of {report}\n").into_bytes();
            body.resize(length.max(body.len()), b'x');
            body
        };
        let documents = [("a.csv", 0), ("b.csv", LONG)].map(|(name, length)| {
            let body = body(name, length);
            let mut one = document(id, snapshot.id, name, body);
            one.sha256 = sha256(&one.body);
            one
        });
        let picture = (format!("{report}'s picture"), vec![7; 30_000].into());
        Self {
            run,
            snapshot,
            documents: documents.to_vec(),
            pictures: Pictures::from([picture]),
        }
    }

    async fn keep(&self, store: &Store) -> Result<(), StoreError> {
        let claim = self.run.claim();
        store
            .keep_snapshot(claim, self.snapshot.clone(), &self.pictures, None)
            .await?;
        store
            .keep_documents(claim, self.documents.clone(), None)
            .await
    }

    /// Whether everything comes back as it was.
    async fn is_whole(&self, store: &Store) {
        let whole = store.whole_snapshot(self.snapshot.id).await.unwrap();
        let whole = whole.unwrap();
        assert_eq!(whole.stored, self.snapshot);
        assert!(whole.pictures == self.pictures);
        let mut found = store
            .documents_of_snapshot(self.snapshot.id, "")
            .await
            .unwrap();
        found.sort_by(|one, other| one.file_name.cmp(&other.file_name));
        assert!(found == self.documents);
    }
}

fn outside(folder: &TempDir, keeps: Keeps) -> Outside {
    Outside::folder(folder.path(), keeps).unwrap()
}

fn with(place: &Place, outside: Outside) -> Store {
    place.store.clone().with_outside(Some(outside))
}

/// The names of what lies in a folder.
fn lying_in(folder: &Path) -> BTreeSet<String> {
    let prefixes = fs::read_dir(folder).unwrap().flatten();
    let files = prefixes.flat_map(|prefix| fs::read_dir(prefix.path()).unwrap().flatten());
    files
        .map(|file| file.file_name().into_string().unwrap())
        .collect()
}

/// Moves and removes until there is nothing left to do.
async fn settle(store: &Store, now: i64, grace: TimeDelta) -> Moved {
    let mut all = Moved::default();
    for _ in 0..50 {
        let skipped: Vec<Uuid> = all.lost.iter().map(|(id, _)| *id).collect();
        let moved = store.move_bodies((at(now), grace), &skipped, 2).await;
        let moved = moved.unwrap();
        if moved.is_nothing() {
            return all;
        }
        all.out += moved.out;
        all.back += moved.back;
        all.removed += moved.removed;
        all.lost.extend(moved.lost);
    }
    panic!("there is no end to it: {all:?}")
}

impl Place {
    /// Bytes of bodies that rows have, and the names of those that lie outside.
    async fn rows(&self) -> (i64, BTreeSet<String>) {
        let mut connection = self.cluster.connect("maple_lark").await.unwrap();
        let all = "select body, outside from documents union all select body, outside from snapshots union all select body, outside from pictures";
        let inside = format!(
            "select coalesce(sum(octet_length(body)), 0)::bigint as n from ({all}) all_rows"
        );
        let inside = sqlx::query(sqlx::AssertSqlSafe(inside)).fetch_one(&mut connection);
        let inside = inside.await.unwrap().get("n");
        let named =
            format!("select distinct outside from ({all}) all_rows where outside is not null");
        let named = sqlx::query(sqlx::AssertSqlSafe(named)).fetch_all(&mut connection);
        let named = named.await.unwrap();
        (inside, named.iter().map(|row| row.get("outside")).collect())
    }

    async fn change(&self, sql: &'static str) {
        let mut connection = self.cluster.connect("maple_lark").await.unwrap();
        sqlx::raw_sql(sql).execute(&mut connection).await.unwrap();
    }
}

const LATER: i64 = 400 * 86_400;

#[tokio::test]
async fn what_is_kept_outside_comes_back_as_it_was_and_lies_there_once() {
    let (place, folder) = (Place::new().await, TempDir::new().unwrap());
    let store = with(&place, outside(&folder, Keeps::Outside));
    let mut kept = Kept::new(&place, "daily").await;
    // The same again under another name.
    let mut same = kept.documents[0].clone();
    (same.id, same.file_name) = (Uuid::now_v7(), "c.csv".to_owned());
    kept.documents.push(same);
    kept.keep(&store).await.unwrap();

    kept.is_whole(&store).await;
    let (inside, named) = place.rows().await;
    assert_eq!((inside, named.len()), (0, 4));
    assert_eq!(lying_in(folder.path()), named);
    assert!(named.contains(&sha256(&kept.documents[1].body)));
    // Without the place they are not lost, and it is said why they cannot be read.
    let refused = place.store.whole_snapshot(kept.snapshot.id).await;
    assert!(matches!(refused, Err(StoreError::NoPlace)));
    // What a run takes is counted wherever it lies.
    place
        .change("update runs set state = 'completed', finished_at = created_at")
        .await;
    store.measure(10).await.unwrap();
    let bytes = store.holdings().await.unwrap();
    let lengths: usize = kept.documents.iter().map(|one| one.body.len()).sum();
    assert_eq!(bytes.document_bytes, lengths as i64);
    assert_eq!(
        bytes.snapshot_bytes,
        kept.snapshot.body.len() as i64 + 30_000
    );
}

#[tokio::test]
async fn bodies_are_moved_either_way_and_what_nobody_needs_goes_after_a_while() {
    let (place, folder) = (Place::new().await, TempDir::new().unwrap());
    let all = [
        Kept::new(&place, "daily").await,
        Kept::new(&place, "weekly").await,
    ];
    for kept in &all {
        kept.keep(&place.store).await.unwrap();
    }
    let out = with(&place, outside(&folder, Keeps::Outside));
    let day = TimeDelta::days(1);
    let moved = settle(&out, 0, day).await;
    assert_eq!((moved.out, moved.back, moved.removed), (8, 0, 0));
    assert_eq!(place.rows().await.0, 0);
    for kept in &all {
        kept.is_whole(&out).await;
    }
    // A picture that both show lies there once.
    assert_eq!(lying_in(folder.path()).len(), 7);

    let back = with(&place, outside(&folder, Keeps::Inside));
    let moved = settle(&back, LATER, day).await;
    assert_eq!((moved.out, moved.back, moved.removed), (0, 8, 0));
    for kept in &all {
        kept.is_whole(&place.store).await;
    }
    // An older copy of the records finds them for a day.
    assert_eq!(lying_in(folder.path()).len(), 7);
    assert_eq!(settle(&back, LATER + 86_399, day).await.removed, 0);
    assert_eq!(settle(&back, LATER + 86_400, day).await.removed, 7);
    assert!(lying_in(folder.path()).is_empty());
}

#[tokio::test]
async fn what_was_let_go_leaves_the_place_but_not_what_another_shows() {
    let (place, folder) = (Place::new().await, TempDir::new().unwrap());
    let store = with(&place, outside(&folder, Keeps::Outside));
    let (one, other) = (
        Kept::new(&place, "daily").await,
        Kept::new(&place, "weekly").await,
    );
    one.keep(&store).await.unwrap();
    other.keep(&store).await.unwrap();
    assert_eq!(lying_in(folder.path()).len(), 7);
    place
        .change("delete from runs where report = 'daily'")
        .await;
    // The two runs have a picture in common.
    assert_eq!(settle(&store, LATER, TimeDelta::zero()).await.removed, 3);
    other.is_whole(&store).await;
    assert_eq!(lying_in(folder.path()), place.rows().await.1);
}

#[tokio::test]
async fn what_was_altered_or_is_missing_is_named_and_keeps_nothing_else_back() {
    let (place, folder) = (Place::new().await, TempDir::new().unwrap());
    let store = with(&place, outside(&folder, Keeps::Outside));
    let kept = Kept::new(&place, "daily").await;
    kept.keep(&store).await.unwrap();
    assert!(store.seal_day(at(LATER), at(LATER)).await.unwrap());
    let day = at(0).date_naive();
    let proof = store.prove_day(day).await.unwrap().unwrap();
    assert!(proof.altered.is_empty() && proof.missing.is_empty());

    let lies = |body: &[u8]| {
        let name = sha256(body);
        folder.path().join(&name[..2]).join(name)
    };
    // As long as before, with one byte changed.
    let mut changed = kept.documents[1].body.clone();
    changed[1000] ^= 1;
    fs::write(lies(&kept.documents[1].body), changed).unwrap();
    fs::remove_file(lies(&kept.documents[0].body)).unwrap();
    let proof = store.prove_day(day).await.unwrap().unwrap();
    assert_eq!(proof.altered.len(), 1);
    assert_eq!(proof.altered[0].file_name, "b.csv");
    assert_eq!(proof.missing.len(), 1);
    assert_eq!(proof.missing[0].file_name, "a.csv");
    let refused = store.document(kept.documents[1].id).await.unwrap_err();
    assert!(matches!(refused, StoreError::BodyAltered(_)), "{refused}");
    let refused = store.document(kept.documents[0].id).await.unwrap_err();
    assert!(matches!(refused, StoreError::BodyMissing(_)), "{refused}");

    // The rest comes back.
    let back = with(&place, outside(&folder, Keeps::Inside));
    let moved = settle(&back, LATER, TimeDelta::zero()).await;
    assert_eq!((moved.back, moved.lost.len()), (2, 2));
    let whole = place.store.whole_snapshot(kept.snapshot.id).await.unwrap();
    assert_eq!(whole.unwrap().stored, kept.snapshot);
    assert!(
        lies(&kept.documents[1].body).exists(),
        "what is left of it stays"
    );
}

#[tokio::test]
async fn a_place_that_fails_keeps_no_report_from_being_made() {
    let (place, folder) = (Place::new().await, TempDir::new().unwrap());
    let store = with(&place, outside(&folder, Keeps::Outside));
    let path = folder.path().to_owned();
    drop(folder);
    fs::write(&path, "no folder any more").unwrap();
    let kept = Kept::new(&place, "daily").await;
    kept.keep(&store).await.unwrap();
    kept.is_whole(&store).await;
    assert_eq!(place.rows().await.1.len(), 0);
    fs::remove_file(&path).unwrap();
    // What was begun and not ended is nobody's.
    fs::create_dir(&path).unwrap();
    let again = with(&place, Outside::folder(&path, Keeps::Outside).unwrap());
    assert_eq!(settle(&again, 0, TimeDelta::zero()).await.out, 4);
    assert_eq!(lying_in(&path), place.rows().await.1);
    kept.is_whole(&again).await;
    fs::remove_dir_all(&path).unwrap();
}

#[tokio::test]
async fn what_was_left_half_written_is_swept_up_after_an_hour() {
    let folder = TempDir::new().unwrap();
    let prefix = folder.path().join("ab");
    fs::create_dir(&prefix).unwrap();
    let (old, new, whole) = (
        prefix.join("abc#1"),
        prefix.join("abd#1"),
        prefix.join("abe"),
    );
    let long_ago = std::time::SystemTime::now() - std::time::Duration::from_secs(7200);
    for path in [&old, &new, &whole] {
        fs::write(path, "half").unwrap();
    }
    for path in [&old, &whole] {
        let file = fs::File::options().write(true).open(path).unwrap();
        file.set_modified(long_ago).unwrap();
    }
    let place = outside(&folder, Keeps::Outside);
    assert_eq!(place.sweep().await.unwrap(), 1);
    assert!(!old.exists() && new.exists() && whole.exists());
}

/// A folder whose user comes to an end before or after one of the things that it does.
#[derive(Debug)]
struct Ending {
    folder: LocalFileSystem,
    /// How many more things are done.
    left: AtomicUsize,
    ended: Notify,
}

impl Ending {
    async fn may_go_on(&self) {
        let counted = |left: usize| left.checked_sub(1);
        if self
            .left
            .fetch_update(Ordering::SeqCst, Ordering::SeqCst, counted)
            .is_err()
        {
            self.ended.notify_one();
            std::future::pending::<()>().await;
        }
    }
}

impl fmt::Display for Ending {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        self.folder.fmt(f)
    }
}

#[async_trait]
impl ObjectStore for Ending {
    async fn put_opts(
        &self,
        name: &Name,
        body: PutPayload,
        options: PutOptions,
    ) -> object_store::Result<PutResult> {
        self.may_go_on().await;
        let put = self.folder.put_opts(name, body, options).await;
        self.may_go_on().await;
        put
    }

    async fn put_multipart_opts(
        &self,
        name: &Name,
        options: PutMultipartOptions,
    ) -> object_store::Result<Box<dyn MultipartUpload>> {
        self.folder.put_multipart_opts(name, options).await
    }

    async fn get_opts(&self, name: &Name, options: GetOptions) -> object_store::Result<GetResult> {
        self.may_go_on().await;
        self.folder.get_opts(name, options).await
    }

    fn delete_stream(
        &self,
        names: BoxStream<'static, object_store::Result<Name>>,
    ) -> BoxStream<'static, object_store::Result<Name>> {
        let removed = self.folder.delete_stream(names);
        // The stream may outlive its folder, so what counts is counted at its beginning.
        match self
            .left
            .fetch_update(Ordering::SeqCst, Ordering::SeqCst, |left| {
                left.checked_sub(2)
            }) {
            Ok(_) => removed,
            Err(1) => {
                self.left.store(0, Ordering::SeqCst);
                self.ended.notify_one();
                removed.chain(futures::stream::pending()).skip(1).boxed()
            }
            Err(_) => {
                self.ended.notify_one();
                futures::stream::pending().boxed()
            }
        }
    }

    fn list(&self, prefix: Option<&Name>) -> BoxStream<'static, object_store::Result<ObjectMeta>> {
        self.folder.list(prefix)
    }

    async fn list_with_delimiter(&self, prefix: Option<&Name>) -> object_store::Result<ListResult> {
        self.folder.list_with_delimiter(prefix).await
    }

    async fn copy_opts(
        &self,
        from: &Name,
        to: &Name,
        options: CopyOptions,
    ) -> object_store::Result<()> {
        self.folder.copy_opts(from, to, options).await
    }
}

/// Does something with a place that ends after so many steps. Answers whether it came to its end.
async fn until_it_ends(
    place: &Place,
    folder: &TempDir,
    (keeps, steps): (Keeps, usize),
    work: impl AsyncFnOnce(&Store),
) -> bool {
    let ending = Arc::new(Ending {
        folder: LocalFileSystem::new_with_prefix(folder.path()).unwrap(),
        left: AtomicUsize::new(steps),
        ended: Notify::new(),
    });
    let store = with(place, Outside::new(ending.clone(), keeps));
    // What was going on is dropped, with its transactions.
    tokio::select! {
        () = ending.ended.notified() => false,
        () = work(&store) => true,
    }
}

#[tokio::test]
async fn wherever_a_process_ends_nothing_is_lost_and_nothing_stays_for_ever() {
    let (place, folder) = (Place::new().await, TempDir::new().unwrap());
    let out = with(&place, outside(&folder, Keeps::Outside));
    let back = with(&place, outside(&folder, Keeps::Inside));
    let (zero, mut ends) = (TimeDelta::zero(), 0);
    for (number, keeps) in [Keeps::Outside, Keeps::Inside, Keeps::Outside]
        .into_iter()
        .enumerate()
    {
        for steps in 0.. {
            let kept = Kept::new(&place, &format!("r{number}.{steps}")).await;
            // The first process ends while it writes, or while it moves.
            let done = until_it_ends(&place, &folder, (keeps, steps), async |store| {
                if number == 2 {
                    kept.keep(store).await.unwrap();
                } else {
                    let before = if keeps == Keeps::Outside {
                        &place.store
                    } else {
                        &out
                    };
                    kept.keep(before).await.unwrap();
                    settle(store, LATER, TimeDelta::zero()).await;
                }
            })
            .await;
            // Another takes its work over; what was kept once is kept.
            kept.keep(&out).await.unwrap();
            kept.is_whole(&out).await;
            settle(&out, LATER, zero).await;
            kept.is_whole(&out).await;
            let (inside, named) = place.rows().await;
            assert_eq!(
                (inside, &named),
                (0, &lying_in(folder.path())),
                "{keeps:?} {steps}"
            );
            // And the other way.
            settle(&back, LATER, zero).await;
            kept.is_whole(&place.store).await;
            assert!(lying_in(folder.path()).is_empty(), "{keeps:?} {steps}");
            place.change("delete from runs").await;
            if done {
                break;
            }
            ends += 1;
        }
    }
    assert!(ends > 20, "it was ended {ends} times only");
}

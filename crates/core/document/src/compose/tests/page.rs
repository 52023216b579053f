//! Live pages as they were kept.

use std::sync::Arc;

use maple_lark_data::digest::sha256;

use super::*;
use crate::{
    capture::{Blobs, Capture, CapturedPart},
    snapshot::BadSnapshot,
};

/// A snapshot that shows a page with one picture, and the picture.
fn captured() -> (Snapshot, String, Arc<[u8]>) {
    let picture: Arc<[u8]> = b"a picture".as_slice().into();
    let name = sha256(&picture);
    let mut snapshot = snapshot("show = \"page\"", rows(&[("a", Some(0.1))]));
    let part = CapturedPart {
        title: String::new(),
        selector: None,
        description: "Ferries at their berths".to_owned(),
        x: 0,
        y: 0,
        width: 800,
        height: 600,
        cuts: Vec::new(),
        picture: name.clone(),
    };
    for definition in &mut snapshot.definitions {
        let page = definition
            .text
            .replace("sql = \"select 1\"", "page = \"/board\"");
        definition.text = page;
    }
    snapshot.queries[0].capture = Some(Capture {
        address: "https://office.orrin-sound.example/board".to_owned(),
        title: "Harbours".to_owned(),
        browser: "Chromium".to_owned(),
        finished_after_milliseconds: 900,
        width: 800,
        height: 600,
        parts: vec![part],
        printed: None,
    });
    (snapshot, name, picture)
}

#[test]
fn pictures_are_kept_beside_the_snapshot_and_proved_by_it() {
    let (mut snapshot, name, picture) = captured();
    let stranger: Arc<[u8]> = b"of another snapshot".as_slice().into();
    let kept = Blobs::from([
        (name.clone(), picture.clone()),
        (sha256(&stranger), stranger),
    ]);
    let before = snapshot.seal();
    snapshot.blobs.insert(name.clone(), picture);
    let sealed = snapshot.seal();
    assert_eq!(sealed, before, "they are no part of its bytes");

    let opened = Snapshot::open(&sealed.bytes).unwrap();
    let whole = opened.clone().with_pictures(&kept).unwrap();
    assert_eq!(whole, snapshot);
    let document = compose(&whole).unwrap();
    assert_eq!(document.failed, []);
    let Body::Page { parts, .. } = &document.sections[0].blocks[0].body else {
        panic!("{:?}", document.sections[0].blocks[0].body)
    };
    assert_eq!(&*parts[0].png, b"a picture");

    let altered: Arc<[u8]> = b"another picture".as_slice().into();
    for bad in [Blobs::new(), Blobs::from([(name.clone(), altered)])] {
        let error = opened.clone().with_pictures(&bad).unwrap_err();
        assert!(matches!(&error, BadSnapshot::Picture(named) if *named == name));
        assert!(error.to_string().ends_with("is missing or was altered"));
    }
}

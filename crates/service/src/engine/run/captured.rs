//! A live page that was captured, as a snapshot keeps it.

use maple_lark_capture::{Captured, Kept, Part, StepTime};
use maple_lark_data::digest::sha256;
use maple_lark_definition::{Ask, Keep, Query};
use maple_lark_document::capture::{Blobs, Capture, CapturedPart};

/// What a snapshot keeps of a page, and the pictures beside it.
pub fn kept(query: &Query, address: &str, captured: Captured) -> Option<(Capture, Blobs)> {
    let Some(Ask::Page(page)) = query.ask() else {
        return None;
    };
    let (
        Kept::Look {
            parts,
            width,
            height,
            printed,
        },
        Keep::Look { parts: asked, .. },
    ) = (captured.kept, &page.keep)
    else {
        return None;
    };
    let mut blobs = Blobs::new();
    let mut add = |bytes: Vec<u8>| {
        let digest = sha256(&bytes);
        blobs.insert(digest.clone(), bytes.into());
        digest
    };
    let part = |part: Part| {
        let asked = part.asked.and_then(|place| asked.get(place));
        CapturedPart {
            title: asked
                .and_then(|asked| asked.title.clone())
                .unwrap_or(part.title),
            selector: asked.map(|asked| asked.selector.clone()),
            description: asked
                .and_then(|asked| asked.description.clone())
                .unwrap_or(part.text),
            x: part.x,
            y: part.y,
            width: part.width,
            height: part.height,
            cuts: part.cuts,
            picture: add(part.png),
        }
    };
    let parts = parts.into_iter().map(part).collect();
    let printed = printed.map(add);
    let capture = Capture {
        address: address.to_owned(),
        title: captured.title,
        browser: captured.browser,
        finished_after_milliseconds: captured.finished_after.as_millis() as u64,
        width,
        height,
        parts,
        printed,
    };
    Some((capture, blobs))
}

/// What was done on a page, each with its time, in words.
pub fn in_words(steps: &[StepTime]) -> String {
    let steps: Vec<String> = steps
        .iter()
        .map(|step| format!("{} {:.1} s", step.what, step.took.as_secs_f64()))
        .collect();
    steps.join(", ")
}

//! A live page as it was captured, as a reader sees it.

use crate::{
    capture::Capture,
    compose::{CannotShow, Context, answers},
    document::{Body, PagePart},
    snapshot::Outcome,
};

/// What a block shows of the page that its query has captured: all that was kept of it, or one
/// part.
pub(super) fn page(
    context: &Context<'_>,
    query: &str,
    part: Option<&str>,
) -> Result<Body, CannotShow> {
    let query = answers::query(context.dashboard, query)?;
    let snapshot = context.snapshot;
    let record = snapshot
        .query(&context.dashboard.name, query.record())
        .ok_or_else(|| CannotShow::NoAnswer(query.record().to_owned()))?;
    if let Outcome::Failed(reason) = &record.outcome {
        return Err(CannotShow::QueryFailed(reason.clone()));
    }
    let capture = record
        .capture
        .as_ref()
        .ok_or_else(|| CannotShow::NoCapture(query.name.clone()))?;
    let blob = |sha256: &String| {
        let bytes = snapshot.blobs.get(sha256).cloned();
        bytes.ok_or_else(|| CannotShow::NoCapture(query.name.clone()))
    };
    let mut parts = Vec::new();
    for kept in capture
        .parts
        .iter()
        .filter(|kept| part.is_none_or(|name| kept.is_named(name)))
    {
        parts.push(PagePart {
            // What the whole page is called, the block says.
            title: kept
                .selector
                .as_ref()
                .map_or_else(String::new, |_| kept.title.clone()),
            description: described(capture, &kept.description),
            x: kept.x,
            y: kept.y,
            width: kept.width,
            height: kept.height,
            cuts: kept.cuts.clone(),
            png: blob(&kept.picture)?,
        });
    }
    if parts.is_empty() {
        return Err(CannotShow::NoPart {
            query: query.name.clone(),
            part: part.unwrap_or_default().to_owned(),
        });
    }
    Ok(Body::Page {
        parts,
        address: capture.address.clone(),
        width: capture.width,
        height: capture.height,
        printed: capture.printed.as_ref().map(blob).transpose()?,
    })
}

/// What assistive technology says of a part; never nothing.
fn described(capture: &Capture, description: &str) -> String {
    let said = description.trim();
    if !said.is_empty() {
        return said.to_owned();
    }
    if capture.title.is_empty() {
        format!("Picture of {}", capture.address)
    } else {
        format!("Picture of the page {}", capture.title)
    }
}

//! Snapshots as they are kept.

use maple_lark_document::{Snapshot, snapshot::BadSnapshot};
use maple_lark_store::pictures::WholeSnapshot;

/// A snapshot that was kept, with the pictures that it names. Opening it is work for a processor.
///
/// # Errors
/// If it cannot be read, or one of its pictures is missing or was altered.
pub fn open(kept: &WholeSnapshot) -> Result<Snapshot, BadSnapshot> {
    Snapshot::open(&kept.stored.body)?.with_pictures(&kept.pictures)
}

//! A live page as it was kept in a snapshot.

use std::{collections::BTreeMap, sync::Arc};

use serde::{Deserialize, Serialize};

/// What captures keep beside their words: pictures (PNG) and printed pages (PDF), by the SHA-256
/// of their bytes, so that equal ones are kept once.
pub type Blobs = BTreeMap<String, Arc<[u8]>>;

/// A live page, or parts of it, as they looked. Lengths are in CSS pixels.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Capture {
    /// Where the page is, as it was asked for, without what signs in.
    pub address: String,
    /// The page's own title.
    pub title: String,
    /// The browser, with its version.
    pub browser: String,
    /// From the first request until the page had finished.
    pub finished_after_milliseconds: u64,
    /// The whole page.
    pub width: u32,
    /// The whole page.
    pub height: u32,
    /// What was kept, in the order that it was asked for.
    pub parts: Vec<CapturedPart>,
    /// The whole page, printed by the browser on one sheet of its own size: the SHA-256 of it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub printed: Option<String>,
}

/// A part of a page; the whole of it, where no parts were asked for. Lengths are in CSS pixels.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct CapturedPart {
    /// What the author calls it, or the page does; may be empty.
    pub title: String,
    /// Where it was found; nothing for the whole page.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub selector: Option<String>,
    /// What it shows, for those who do not see it.
    pub description: String,
    /// From the page's left.
    pub x: u32,
    /// From the page's top.
    pub y: u32,
    /// How wide it is.
    pub width: u32,
    /// How high it is.
    pub height: u32,
    /// Heights, from its top, at which it can be cut through nothing.
    pub cuts: Vec<u32>,
    /// The SHA-256 of its picture.
    pub picture: String,
}

impl CapturedPart {
    /// Whether a block that names a part means this one.
    #[must_use]
    pub fn is_named(&self, name: &str) -> bool {
        self.title == name || self.selector.as_deref() == Some(name)
    }
}

/// Where a part is cut so that each piece fits on a sheet: pairs of top and bottom, from the part's
/// top. A block that is higher than a sheet stays whole as long as it can be set in half its size;
/// else it is cut.
///
/// `most` is the height of a sheet. Pieces follow one another without a gap.
#[must_use]
pub fn pieces(height: u32, cuts: &[u32], most: u32) -> Vec<(u32, u32)> {
    let most = most.max(1);
    let mut pieces = Vec::new();
    let mut top = 0;
    while top < height {
        let fits = top.saturating_add(most);
        let bottom = if fits >= height {
            height
        } else {
            let before = cuts.iter().rfind(|cut| **cut > top && **cut <= fits);
            let after = cuts.iter().find(|cut| **cut > fits).unwrap_or(&height);
            match before {
                Some(cut) => *cut,
                None if *after - top <= 2 * most => *after,
                None => fits,
            }
        };
        pieces.push((top, bottom.min(height)));
        top = bottom;
    }
    pieces
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    #[test]
    fn pages_are_cut_between_their_blocks() {
        assert_eq!(pieces(900, &[], 1000), [(0, 900)]);
        // The last cut that fits.
        assert_eq!(
            pieces(2000, &[300, 700, 950, 1400], 1000),
            [(0, 950), (950, 1400), (1400, 2000)]
        );
        // A block that is higher than a sheet stays whole; one that is far higher does not.
        assert_eq!(pieces(1600, &[1500], 1000), [(0, 1500), (1500, 1600)]);
        assert_eq!(pieces(3000, &[], 1000), [(0, 1000), (1000, 3000)]);
        assert_eq!(pieces(0, &[], 0), []);
    }

    proptest! {
        #[test]
        fn pieces_follow_one_another_and_leave_nothing_out(
            height in 1_u32..20_000,
            mut cuts in prop::collection::vec(1_u32..20_000, 0..60),
            most in 1_u32..3_000,
        ) {
            cuts.retain(|cut| *cut < height);
            cuts.sort_unstable();
            let pieces = pieces(height, &cuts, most);
            prop_assert_eq!(pieces[0].0, 0);
            prop_assert_eq!(pieces[pieces.len() - 1].1, height);
            prop_assert!(pieces.windows(2).all(|pair| pair[0].1 == pair[1].0));
            prop_assert!(pieces.iter().all(|(top, bottom)| top < bottom && bottom - top <= 2 * most));
        }
    }
}

//! How long what was made is kept: a report's table `[keep]`, and the same for all reports.

use chrono::{DateTime, Utc};
use maple_lark_time::{Zone, span::Span};

/// How long what comes of runs is kept after they are over; for good where nothing is said.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct KeepTerms {
    /// How long documents are kept.
    pub documents: Option<Span>,
    /// How long snapshots are kept, of which documents can be made again.
    pub snapshots: Option<Span>,
    /// How long the records of runs are kept.
    pub records: Option<Span>,
    /// Of so many runs documents are kept at most.
    pub most_runs: Option<u32>,
    /// Documents and snapshots take so many megabytes (10⁶ bytes) at most.
    pub most_megabytes: Option<u64>,
}

/// Why terms cannot hold together: documents go first, then snapshots, then records.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum BadKeepTerms {
    /// Snapshots have a term and documents have none.
    #[error(
        "snapshots go after documents: say how long documents are kept, too, with documents = \"…\""
    )]
    SnapshotsAlone,
    /// Records have a term and snapshots have none.
    #[error(
        "records go after snapshots: say how long snapshots are kept, too, with snapshots = \"…\""
    )]
    RecordsAlone,
    /// Snapshots would go before documents.
    #[error("snapshots are kept at least as long as documents")]
    SnapshotsFirst,
    /// Records would go before snapshots.
    #[error("records are kept at least as long as snapshots")]
    RecordsFirst,
}

impl BadKeepTerms {
    /// The key that is wrong.
    pub(crate) fn key(self) -> &'static str {
        match self {
            Self::SnapshotsAlone | Self::SnapshotsFirst => "snapshots",
            Self::RecordsAlone | Self::RecordsFirst => "records",
        }
    }
}

impl KeepTerms {
    /// Whether one thing goes after the other: documents, snapshots, records.
    ///
    /// # Errors
    /// If a term can never come, or is shorter than the one before it.
    pub fn in_order(&self) -> Result<(), BadKeepTerms> {
        let now = DateTime::<Utc>::UNIX_EPOCH;
        let cut = |span: Span| span.before(now, Zone::UTC);
        let documents_go =
            self.documents.is_some() || self.most_runs.is_some() || self.most_megabytes.is_some();
        if self.snapshots.is_some() && !documents_go {
            return Err(BadKeepTerms::SnapshotsAlone);
        }
        if self.records.is_some() && self.snapshots.is_none() {
            return Err(BadKeepTerms::RecordsAlone);
        }
        let is_shorter = |later: Option<Span>, first: Option<Span>| matches!((later, first), (Some(later), Some(first)) if cut(later) > cut(first));
        if is_shorter(self.snapshots, self.documents) {
            return Err(BadKeepTerms::SnapshotsFirst);
        }
        if is_shorter(self.records, self.snapshots) {
            return Err(BadKeepTerms::RecordsFirst);
        }
        Ok(())
    }

    /// What it says, for people: `documents 2 years, snapshots 3 years`.
    #[must_use]
    pub fn words(&self) -> String {
        let terms = [
            ("documents", self.documents),
            ("snapshots", self.snapshots),
            ("records", self.records),
        ];
        let terms = terms
            .into_iter()
            .filter_map(|(what, span)| Some(format!("{what} {}", span?.readable())));
        let mut said: Vec<String> = terms.collect();
        if let Some(runs) = self.most_runs {
            let s = if runs == 1 { "" } else { "s" };
            said.push(format!("documents of at most {runs} run{s}"));
        }
        if let Some(megabytes) = self.most_megabytes {
            said.push(format!("at most {megabytes} MB"));
        }
        if said.is_empty() {
            "for good".to_owned()
        } else {
            said.join(", ")
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn keep(terms: [&str; 3]) -> KeepTerms {
        let [documents, snapshots, records] = terms.map(|text| text.parse().ok());
        KeepTerms {
            documents,
            snapshots,
            records,
            ..KeepTerms::default()
        }
    }

    #[test]
    fn one_goes_after_the_other() {
        assert_eq!(KeepTerms::default().in_order(), Ok(()));
        assert_eq!(keep(["P1Y", "P1Y", "P5Y"]).in_order(), Ok(()));
        assert_eq!(keep(["P1Y", "-", "-"]).in_order(), Ok(()));
        assert_eq!(keep(["P12M", "P1Y", "P366D"]).in_order(), Ok(()));
        let why = |terms| keep(terms).in_order().unwrap_err().to_string();
        assert!(why(["-", "P1Y", "-"]).starts_with("snapshots go after documents"));
        assert!(why(["P1Y", "-", "P2Y"]).starts_with("records go after snapshots"));
        assert!(why(["P1Y", "P30D", "-"]).contains("as long as documents"));
        assert!(why(["P1D", "P30D", "P1W"]).contains("as long as snapshots"));
        let by_number = KeepTerms {
            most_runs: Some(10),
            ..keep(["-", "P1Y", "-"])
        };
        assert_eq!(by_number.in_order(), Ok(()));
    }

    #[test]
    fn it_says_itself() {
        assert_eq!(KeepTerms::default().words(), "for good");
        let all = KeepTerms {
            most_runs: Some(1),
            most_megabytes: Some(500),
            ..keep(["P2Y", "P30M", "-"])
        };
        assert_eq!(
            all.words(),
            "documents 2 years, snapshots 2 years 6 months, documents of at most 1 run, at most 500 MB"
        );
    }
}

//! The frozen data of one run for one set of parameter values: the only truth that
//! documents are made from.

use std::{borrow::Cow, collections::BTreeMap};

use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use sha2::{Digest, Sha256};

use crate::{
    definition::{Dashboard, Definition, DefinitionSet, ParameterValue, Problem, Report},
    table::Table,
    window::Window,
};

/// Everything a document needs. Its bytes ([`Snapshot::to_bytes`]) are what is stored and
/// hashed; a document made from the same bytes is the same document.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Snapshot {
    /// The version of this layout.
    pub layout: u32,
    pub run_id: String,
    pub report: String,
    /// The instant that the window follows from.
    pub scheduled_for: DateTime<Utc>,
    /// When the last query had ended.
    pub made_at: DateTime<Utc>,
    pub window: Window,
    /// Why the data may be incomplete, if it was not ready when the run's wait was over.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub incomplete: Option<String>,
    pub values: BTreeMap<String, ParameterValue>,
    /// The report and its dashboards as they were when the run began.
    pub definitions: Vec<FrozenDefinition>,
    pub queries: Vec<QueryRecord>,
}

#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct FrozenDefinition {
    pub file: String,
    pub text: String,
}

/// What was asked, of whom, when, and what came back.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct QueryRecord {
    pub dashboard: String,
    pub name: String,
    pub source: String,
    pub source_title: String,
    /// As the author wrote it; values were bound, not pasted.
    pub text: String,
    pub started: DateTime<Utc>,
    pub ended: DateTime<Utc>,
    /// What a reader should know of the rows, such as that some were left out.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub note: Option<String>,
    pub outcome: Outcome,
}

#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Outcome {
    Rows(Table),
    Failed(String),
}

#[derive(Debug, thiserror::Error)]
pub enum BadSnapshot {
    #[error("the snapshot cannot be read: {0}")]
    Unreadable(#[from] serde_json::Error),
    #[error("the snapshot has layout {0}; this version reads layout 1")]
    Layout(u32),
    #[error("a definition frozen in the snapshot is not valid: {0}")]
    Definition(Problem),
    #[error("the snapshot has no definition of the report \"{0}\"")]
    NoReport(String),
}

impl Snapshot {
    pub const LAYOUT: u32 = 1;

    /// The canonical bytes: JSON with keys in a fixed order.
    pub fn to_bytes(&self) -> Vec<u8> {
        // Every value in a snapshot has a JSON form: keys are text and numbers are finite
        // or kept by name (see `Table`), so this cannot fail.
        serde_json::to_vec(self).unwrap_or_default()
    }

    pub fn from_bytes(bytes: &[u8]) -> Result<Self, BadSnapshot> {
        let snapshot: Snapshot = serde_json::from_slice(bytes)?;
        if snapshot.layout != Self::LAYOUT {
            return Err(BadSnapshot::Layout(snapshot.layout));
        }
        Ok(snapshot)
    }

    /// The report and its dashboards, in the report's order, as they were.
    pub fn definitions(&self) -> Result<(Report, Vec<Dashboard>), BadSnapshot> {
        let (mut report, mut dashboards) = (None, BTreeMap::new());
        for frozen in &self.definitions {
            match Definition::parse(&frozen.file, &frozen.text) {
                Ok(Definition::Report(found)) if found.name == self.report => report = Some(*found),
                Ok(Definition::Dashboard(found)) => drop(dashboards.insert(found.name.clone(), found)),
                Ok(_) => {}
                Err(problems) => return Err(problems.into_iter().next().map_or_else(|| BadSnapshot::NoReport(self.report.clone()), BadSnapshot::Definition)),
            }
        }
        let report = report.ok_or_else(|| BadSnapshot::NoReport(self.report.clone()))?;
        let set = DefinitionSet { dashboards, ..DefinitionSet::default() };
        let ordered = set.dashboards_of(&report).into_iter().map(Cow::into_owned).collect();
        Ok((report, ordered))
    }

    pub fn query(&self, dashboard: &str, name: &str) -> Option<&QueryRecord> {
        self.queries.iter().find(|record| record.dashboard == dashboard && record.name == name)
    }

    /// The queries that failed, with their reasons.
    pub fn failures(&self) -> impl Iterator<Item = (&QueryRecord, &str)> {
        self.queries.iter().filter_map(|record| match &record.outcome {
            Outcome::Failed(reason) => Some((record, reason.as_str())),
            Outcome::Rows(_) => None,
        })
    }
}

/// SHA-256 in small hexadecimal letters.
pub fn sha256(bytes: &[u8]) -> String {
    hex::encode(Sha256::digest(bytes))
}

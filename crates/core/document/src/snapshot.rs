//! The frozen data of one run for one set of parameter values: the only truth that
//! documents are made from.

use std::{
    borrow::Cow,
    collections::BTreeMap,
    io::{self, BufReader},
};

use base64::{Engine, engine::general_purpose::STANDARD};
use chrono::{DateTime, Utc};
use flate2::{Compression, GzBuilder, read::GzDecoder};
use maple_lark_data::{
    PackedTable,
    digest::{Digesting, sha256, written},
};
use maple_lark_definition::{
    Dashboard, Definition, DefinitionSet, ParameterValue, Problem, Report, Theme,
};
use maple_lark_time::{Window, Zone, zone::rules_in_use};
use serde::{Deserialize, Serialize, de::DeserializeOwned};

use crate::capture::{Blobs, Capture};

/// Everything a document needs. Its canonical bytes ([`Snapshot::seal`]) are what is stored
/// and hashed; a document made from the same bytes is the same document.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Snapshot {
    /// The version of this layout.
    pub layout: u32,
    /// The run that it was taken for.
    pub run_id: String,
    /// The report.
    pub report: String,
    /// The instant that the window follows from.
    pub scheduled_for: DateTime<Utc>,
    /// When the last query had ended.
    pub made_at: DateTime<Utc>,
    /// The window that its queries were asked for.
    pub window: Window,
    /// The rules of the window's zone, so that newer ones change nothing in a document that is
    /// made again. Snapshots from before these were kept have none.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub zone_rules: Option<ZoneRules>,
    /// Why the data may be incomplete, if it was not ready when the run's wait was over.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub incomplete: Option<String>,
    /// The archive's latest day and its digest when the snapshot was taken: whoever has a document
    /// made of it can tell later whether what was made before is what it was.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub archive_head: Option<String>,
    /// The values of the report's parameters.
    pub values: BTreeMap<String, ParameterValue>,
    /// The report and its dashboards as they were when the run began.
    pub definitions: Vec<FrozenDefinition>,
    /// The queries, in the order of their dashboards.
    pub queries: Vec<QueryRecord>,
    /// The pictures and printed pages of what was captured. They are no part of the canonical
    /// bytes, which name each by its SHA-256: snapshots of one run share them.
    #[serde(skip)]
    pub blobs: Blobs,
}

/// The rules that a time zone had.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct ZoneRules {
    /// The release of the IANA time zone database.
    pub version: String,
    /// TZif (RFC 9636) in base 64.
    pub tzif: String,
}

impl ZoneRules {
    /// Those that a zone has now.
    #[must_use]
    pub fn in_use(zone: Zone) -> Option<Self> {
        Some(Self {
            version: rules_in_use().version,
            tzif: STANDARD.encode(zone.rules()?),
        })
    }

    /// The zone with these rules.
    fn zone(&self, name: &str) -> Result<Zone, BadSnapshot> {
        let bytes = STANDARD.decode(&self.tzif);
        let bytes = bytes.map_err(|_| BadSnapshot::ZoneRules("they are not base 64".to_owned()))?;
        Zone::with_rules(name, &bytes).map_err(|error| BadSnapshot::ZoneRules(error.to_string()))
    }
}

/// A definition as it was when the run was claimed.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct FrozenDefinition {
    /// The name of its file.
    pub file: String,
    /// Its text.
    pub text: String,
}

/// What was asked, of whom, when, and what came back.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct QueryRecord {
    /// The dashboard that the query belongs to.
    pub dashboard: String,
    /// The query's name.
    pub name: String,
    /// The source's name.
    pub source: String,
    /// The source's title.
    pub source_title: String,
    /// As the author wrote it; values were bound, not pasted.
    pub text: String,
    /// When it was asked.
    pub started: DateTime<Utc>,
    /// When the answer was complete, or had failed.
    pub ended: DateTime<Utc>,
    /// What a reader should know of the rows, such as that some were left out.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub note: Option<String>,
    /// What came back.
    pub outcome: Outcome,
    /// How a live page looked, where one was asked for. The rows then list its parts.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub capture: Option<Capture>,
    /// The rows of an earlier time that a query of the dashboard compares these with.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub earlier: BTreeMap<Time, EarlierRows>,
}

/// Which earlier time rows are of.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Time {
    /// That of the run before, for the same values.
    Run,
    /// The window that the report's is compared with.
    Window,
    /// That of a run which the definition names, for the same values.
    Named,
}

/// Rows of an earlier time.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum EarlierRows {
    /// There are none; a sentence says why.
    Nothing(String),
    /// These.
    Rows {
        /// The window that they were asked for.
        window: Window,
        /// The rows as they came.
        table: PackedTable,
    },
}

/// What came back of a query.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Outcome {
    /// Its rows.
    Rows(PackedTable),
    /// The reason why there are none.
    Failed(String),
}

/// What a snapshot's documents are composed by.
pub struct Frozen {
    /// The report.
    pub report: Report,
    /// The dashboards that it shows.
    pub dashboards: Vec<Dashboard>,
    /// Colours, fonts, logo and page.
    pub theme: Theme,
}

/// A snapshot as it is stored.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Sealed {
    /// The canonical bytes, packed with gzip (RFC 1952).
    pub bytes: Vec<u8>,
    /// SHA-256 of the canonical bytes, before they were packed.
    pub sha256: String,
}

/// Why the bytes are no snapshot that documents can be composed of.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum BadSnapshot {
    /// They are not the JSON that a snapshot is.
    #[error("the snapshot cannot be read: {0}")]
    Unreadable(#[from] serde_json::Error),
    /// They have a layout that this version does not know.
    #[error("the snapshot has layout {0}; this version reads layout 1")]
    Layout(u32),
    /// A frozen definition cannot be read any more.
    #[error("a definition frozen in the snapshot is not valid: {0}")]
    Definition(Problem),
    /// The frozen rules of the time zone cannot be read.
    #[error("the rules of the snapshot's time zone cannot be read: {0}")]
    ZoneRules(String),
    /// A picture is not there, or has not the SHA-256 that the snapshot names.
    #[error("the picture {0} that the snapshot names is missing or was altered")]
    Picture(String),
    /// The report is not among the frozen definitions.
    #[error("the snapshot has no definition of the report \"{0}\"")]
    NoReport(String),
}

impl Snapshot {
    /// The number of the layout that is written. Older ones are read.
    pub const LAYOUT: u32 = 1;

    /// Packs the snapshot's canonical bytes: JSON with keys in a fixed order. They are never
    /// in memory in one piece.
    #[must_use]
    pub fn seal(&self) -> Sealed {
        let gzip = GzBuilder::new().write(Vec::new(), Compression::fast());
        let mut sealing = Digesting::new(gzip);
        // Every value in a snapshot has a JSON form: keys are text and numbers are finite
        // or kept by name (see `PackedTable`); and memory takes every byte.
        let packed = written(self, self.rows_size(), &mut sealing);
        debug_assert!(packed.is_ok());
        let (sha256, gzip) = sealing.finish();
        Sealed {
            bytes: gzip.finish().unwrap_or_default(),
            sha256,
        }
    }

    /// How many bytes the rows of its queries take, before they are compressed.
    fn rows_size(&self) -> usize {
        let outcomes = self.queries.iter().map(|query| &query.outcome);
        let sizes = outcomes.map(|outcome| match outcome {
            Outcome::Rows(table) => table.size(),
            Outcome::Failed(_) => 0,
        });
        sizes.sum()
    }

    /// The snapshot as [`Snapshot::open`] gives it back of what was sealed: whoever has it still
    /// need not open it.
    ///
    /// # Errors
    /// As for [`Snapshot::open`].
    pub fn as_opened(mut self) -> Result<Self, BadSnapshot> {
        if self.layout != Self::LAYOUT {
            return Err(BadSnapshot::Layout(self.layout));
        }
        if let Some(rules) = &self.zone_rules {
            self.window.zone = rules.zone(self.window.zone.name())?;
        }
        Ok(self)
    }

    /// Opens what [`Snapshot::seal`] has packed, or its canonical bytes as they are.
    pub fn open(bytes: &[u8]) -> Result<Self, BadSnapshot> {
        unpacked::<Self>(bytes)?.as_opened()
    }

    /// The SHA-256 of every picture and printed page that the snapshot names.
    pub fn pictures(&self) -> impl Iterator<Item = &str> {
        let captures = self
            .queries
            .iter()
            .filter_map(|query| query.capture.as_ref());
        captures.flat_map(|capture| {
            let parts = capture.parts.iter().map(|part| part.picture.as_str());
            parts.chain(capture.printed.as_deref())
        })
    }

    /// The snapshot with the pictures that it names. Others are left out.
    ///
    /// # Errors
    /// If one of them is missing or is not what its SHA-256 says.
    pub fn with_pictures(mut self, kept: &Blobs) -> Result<Self, BadSnapshot> {
        let mut blobs = Blobs::new();
        for name in self.pictures() {
            let bytes = kept.get(name).filter(|bytes| sha256(bytes) == name);
            let bytes = bytes.ok_or_else(|| BadSnapshot::Picture(name.to_owned()))?;
            blobs.insert(name.to_owned(), bytes.clone());
        }
        self.blobs = blobs;
        Ok(self)
    }

    /// SHA-256 of the canonical bytes in what [`Snapshot::seal`] has packed.
    ///
    /// # Errors
    /// If they cannot be unpacked.
    pub fn digest_of(bytes: &[u8]) -> io::Result<String> {
        let mut digest = Digesting::new(io::sink());
        match bytes {
            [0x1f, 0x8b, ..] => io::copy(&mut GzDecoder::new(bytes), &mut digest)?,
            mut plain => io::copy(&mut plain, &mut digest)?,
        };
        Ok(digest.finish().0)
    }

    /// The report, its dashboards in its order, and its theme, as they were.
    pub fn definitions(&self) -> Result<Frozen, BadSnapshot> {
        let (mut report, mut dashboards, mut theme) = (None, BTreeMap::new(), None);
        for frozen in &self.definitions {
            match Definition::parse(&frozen.file, &frozen.text) {
                Ok(Definition::Report(found)) if found.name == self.report => report = Some(*found),
                Ok(Definition::Dashboard(found)) => {
                    drop(dashboards.insert(found.name.clone(), found))
                }
                Ok(Definition::Theme(found)) => theme = Some(found.value),
                Ok(_) => {}
                Err(problems) => {
                    return Err(problems.into_iter().next().map_or_else(
                        || BadSnapshot::NoReport(self.report.clone()),
                        BadSnapshot::Definition,
                    ));
                }
            }
        }
        let report: Report = report.ok_or_else(|| BadSnapshot::NoReport(self.report.clone()))?;
        let set = DefinitionSet {
            dashboards,
            ..DefinitionSet::default()
        };
        let dashboards = set
            .dashboards_of(&report)
            .into_iter()
            .map(Cow::into_owned)
            .collect();
        let theme = theme
            .filter(|theme| {
                report
                    .theme
                    .as_ref()
                    .is_some_and(|name| name.value == theme.name)
            })
            .unwrap_or_default();
        Ok(Frozen {
            report,
            dashboards,
            theme,
        })
    }

    /// The record of a dashboard's query.
    #[must_use]
    pub fn query(&self, dashboard: &str, name: &str) -> Option<&QueryRecord> {
        self.queries
            .iter()
            .find(|record| record.dashboard == dashboard && record.name == name)
    }

    /// The queries that failed, with their reasons.
    pub fn failures(&self) -> impl Iterator<Item = (&QueryRecord, &str)> {
        self.queries
            .iter()
            .filter_map(|record| match &record.outcome {
                Outcome::Failed(reason) => Some((record, reason.as_str())),
                Outcome::Rows(_) => None,
            })
    }
}

fn unpacked<T: DeserializeOwned>(bytes: &[u8]) -> Result<T, serde_json::Error> {
    match bytes {
        [0x1f, 0x8b, ..] => {
            serde_json::from_reader(BufReader::with_capacity(1 << 16, GzDecoder::new(bytes)))
        }
        bytes => serde_json::from_slice(bytes),
    }
}

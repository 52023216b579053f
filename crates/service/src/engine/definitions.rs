//! Definitions as parsed values: those that are stored now, or those a run began with.

use std::{
    collections::{BTreeMap, BTreeSet},
    sync::{Arc, Mutex, MutexGuard},
};

use maple_lark_definition::{Definition, DefinitionSet, Kind, Origin, Problem, Report, edit};
use maple_lark_document::snapshot::FrozenDefinition;
use maple_lark_store::{Store, StoreError, definitions::StoredDefinition, teams::Sight};

/// Parsed definitions with the texts they came from.
#[derive(Default, Clone)]
pub struct Definitions {
    pub set: DefinitionSet,
    texts: BTreeMap<(Kind, String), FrozenDefinition>,
    /// Names of definitions that are not among these, because whoever looks does not see them.
    hidden: BTreeSet<(Kind, String)>,
}

/// Why the definitions that a run began with cannot be read.
#[derive(Debug, thiserror::Error)]
pub enum FrozenError {
    #[error("the run's definitions cannot be read: {0}")]
    Json(#[from] serde_json::Error),
    #[error("{}", .0.iter().map(ToString::to_string).collect::<Vec<_>>().join("; "))]
    Definitions(Vec<Problem>),
}

/// The parsed definitions, kept for as long as the stored ones stay the same.
#[derive(Default)]
pub struct Cache(Mutex<Option<Cached>>);

/// The definitions of one version: all of them, and what each group of people sees.
struct Cached {
    version: i64,
    all: Arc<Definitions>,
    seen: BTreeMap<Vec<String>, Arc<Definitions>>,
}

/// So many groups of people have theirs kept.
const MOST_SEEN: usize = 200;

impl Cache {
    pub async fn current(&self, store: &Store) -> Result<Arc<Definitions>, StoreError> {
        let version = store.definitions_version().await?;
        let known = |kept: &Option<Cached>| {
            let kept = kept.as_ref().filter(|kept| kept.version == version);
            kept.map(|kept| kept.all.clone())
        };
        if let Some(definitions) = known(&self.kept()) {
            return Ok(definitions);
        }
        let all = Arc::new(Definitions::stored(&store.definitions().await?));
        *self.kept() = Some(Cached {
            version,
            all: all.clone(),
            seen: BTreeMap::new(),
        });
        Ok(all)
    }

    /// Those that somebody sees.
    pub async fn seen(&self, store: &Store, sight: &Sight) -> Result<Arc<Definitions>, StoreError> {
        let all = self.current(store).await?;
        let Some(teams) = sight.teams() else {
            return Ok(all);
        };
        let of_these = |kept: &Cached| Arc::ptr_eq(&kept.all, &all);
        if let Some(kept) = self.kept().as_ref().filter(|kept| of_these(kept))
            && let Some(seen) = kept.seen.get(teams)
        {
            return Ok(seen.clone());
        }
        let seen = Arc::new(all.seen_by(teams));
        if let Some(kept) = self.kept().as_mut().filter(|kept| of_these(kept))
            && kept.seen.len() < MOST_SEEN
        {
            kept.seen.insert(teams.clone(), seen.clone());
        }
        Ok(seen)
    }

    fn kept(&self) -> MutexGuard<'_, Option<Cached>> {
        self.0
            .lock()
            .unwrap_or_else(|poisoned| poisoned.into_inner())
    }
}

/// Parses files into a set; all problems of all files are reported together.
pub fn parse_all<'a>(
    files: impl IntoIterator<Item = (&'a str, &'a str)>,
) -> Result<Vec<Definition>, Vec<Problem>> {
    let (mut definitions, mut problems) = (Vec::new(), Vec::new());
    for (file, text) in files {
        match Definition::parse(file, text) {
            Ok(definition) => definitions.push(definition),
            Err(found) => problems.extend(found),
        }
    }
    if problems.is_empty() {
        Ok(definitions)
    } else {
        Err(problems)
    }
}

impl Definitions {
    /// What is stored now. A definition that an older version has let in and that cannot be
    /// read any more is left out and logged; it cannot be run, and the others can.
    pub fn stored(stored: &[StoredDefinition]) -> Self {
        let mut definitions = Self::default();
        for one in stored {
            match Definition::parse(&one.file, &one.text) {
                Ok(definition) => definitions.put(
                    definition,
                    FrozenDefinition {
                        file: one.file.clone(),
                        text: one.text.clone(),
                    },
                ),
                Err(problems) => {
                    for problem in problems {
                        tracing::error!(%problem, "a stored definition cannot be read");
                    }
                }
            }
        }
        definitions
    }

    /// What a run began with.
    pub fn frozen(frozen: &serde_json::Value) -> Result<Self, FrozenError> {
        let texts: Vec<FrozenDefinition> = serde_json::from_value(frozen.clone())?;
        let parsed = parse_all(
            texts
                .iter()
                .map(|frozen| (frozen.file.as_str(), frozen.text.as_str())),
        )
        .map_err(FrozenError::Definitions)?;
        let mut definitions = Self::default();
        for (definition, text) in parsed.into_iter().zip(texts) {
            definitions.put(definition, text);
        }
        Ok(definitions)
    }

    /// What whoever is in these teams sees of them.
    fn seen_by(&self, teams: &[String]) -> Self {
        let set = self.set.seen_by(teams);
        let sees = |(kind, name): &(Kind, String)| set.teams_of(*kind, name).is_some();
        let texts = self.texts.iter().filter(|(key, _)| sees(key));
        let texts = texts
            .map(|(key, text)| (key.clone(), text.clone()))
            .collect();
        let hidden = self
            .texts
            .keys()
            .filter(|key| !sees(key))
            .cloned()
            .collect();
        Self { set, texts, hidden }
    }

    /// Whether a name belongs to something that whoever looks does not see.
    pub fn hides(&self, kind: Kind, name: &str) -> bool {
        self.hidden.contains(&(kind, name.to_owned()))
    }

    /// The text of one, as it is stored.
    pub fn text_of(&self, kind: Kind, name: &str) -> Option<&str> {
        let kept = self.texts.get(&(kind, name.to_owned()));
        kept.map(|kept| kept.text.as_str())
    }

    pub fn put(&mut self, definition: Definition, text: FrozenDefinition) {
        self.texts
            .insert((definition.kind(), definition.name().to_owned()), text);
        self.set.put(definition);
    }

    /// The texts of the report and its dashboards: what a snapshot needs to be composed. Who
    /// else gets the report is not in them.
    pub fn composed_from(&self) -> Vec<FrozenDefinition> {
        let needed = |(kind, _): &(Kind, String)| {
            matches!(kind, Kind::Report | Kind::Dashboard | Kind::Theme)
        };
        self.texts
            .iter()
            .filter(|(key, _)| needed(key))
            .map(|((kind, _), frozen)| match kind {
                Kind::Report => FrozenDefinition {
                    file: frozen.file.clone(),
                    text: edit::without_audiences(&frozen.text),
                },
                _ => frozen.clone(),
            })
            .collect()
    }

    /// The texts that a run of `report` needs: its own, its dashboards' and their sources'.
    #[expect(
        clippy::too_many_lines,
        reason = "follows what a report needs, kind by kind"
    )]
    pub fn freeze(&self, report: &Report) -> serde_json::Value {
        let mut needed = BTreeSet::from([(Kind::Report, report.name.clone())]);
        needed.extend(
            report
                .theme
                .iter()
                .map(|theme| (Kind::Theme, theme.value.clone())),
        );
        needed.extend(
            self.set
                .dashboard_names(report)
                .into_iter()
                .map(|name| (Kind::Dashboard, name)),
        );
        for query in self
            .set
            .dashboards_of(report)
            .iter()
            .flat_map(|dashboard| &dashboard.queries)
        {
            match &query.origin {
                Origin::Source { name, .. } => {
                    needed.insert((Kind::Source, name.value.clone()));
                }
                Origin::Sampler(name) => {
                    needed.insert((Kind::Sampler, name.value.clone()));
                }
                Origin::Query(_) => {}
            }
        }
        for list in report
            .audiences
            .iter()
            .flat_map(|audience| [&audience.to, &audience.cc, &audience.bcc])
        {
            let (people, groups) = self.set.names_in(list);
            needed.extend(
                people
                    .into_iter()
                    .map(|name| (Kind::Person, name.to_owned())),
            );
            needed.extend(
                groups
                    .into_iter()
                    .map(|name| (Kind::Group, name.to_owned())),
            );
        }
        if !report.audience_queries.is_empty() {
            // Its rows may name anybody.
            needed.extend(
                self.texts
                    .keys()
                    .filter(|(kind, _)| matches!(kind, Kind::Person | Kind::Group))
                    .cloned(),
            );
            needed.extend(
                report
                    .audience_queries
                    .iter()
                    .map(|query| (Kind::Source, query.source.value.clone())),
            );
        }
        needed.extend(
            report
                .message_template
                .iter()
                .map(|message_template| (Kind::MessageTemplate, message_template.value.clone())),
        );
        needed.extend(
            report
                .readiness
                .iter()
                .map(|readiness| (Kind::Source, readiness.source.value.clone())),
        );
        let texts: Vec<&FrozenDefinition> = needed
            .iter()
            .filter_map(|key| self.texts.get(key))
            .collect();
        serde_json::to_value(texts).unwrap_or_default()
    }
}

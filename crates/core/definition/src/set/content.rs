//! Dashboards as they show themselves: with borrowed blocks in place and changes made.

use std::{borrow::Cow, collections::BTreeMap, rc::Rc};

use maple_lark_data::figures::Operation;
use maple_lark_time::nearest::suggestion;

use crate::{
    limits,
    model::{
        block::{Block, BlockKind, Borrowed, Changes, Limit},
        dashboard::Dashboard,
        query::{Origin, Query},
        report::Change,
        width::Width,
    },
    problem::{Place, Placed},
};

/// Why a block cannot be taken from another dashboard, or changed.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum CannotTake {
    /// There is no dashboard of that name.
    #[error("there is no dashboard \"{name}\".{suggestion}")]
    NoDashboard {
        /// The name.
        name: String,
        /// The nearest name there is, as a sentence; empty if none is near.
        suggestion: String,
    },
    /// A dashboard takes a block from itself, perhaps by way of others.
    #[error("{0} would take a block from itself")]
    FromItself(String),
    /// A dashboard takes a block by way of too many others.
    #[error("{0} borrows a block through more than {most} dashboards", most = limits::BORROWING_DEPTH)]
    TooDeep(String),
    /// The dashboard has no block of that title.
    #[error("the dashboard \"{dashboard}\" has no block \"{block}\".{suggestion}")]
    NoBlock {
        /// The dashboard.
        dashboard: String,
        /// The title.
        block: String,
        /// The nearest title there is, as a sentence; empty if none is near.
        suggestion: String,
    },
    /// No dashboard of the report has the block that is to be changed.
    #[error("no dashboard of this report has a block \"{block}\".{suggestion}")]
    NothingToChange {
        /// Its title.
        block: String,
        /// The nearest title there is, as a sentence; empty if none is near.
        suggestion: String,
    },
}

/// A block that is not there, at the place that asks for it.
#[derive(Debug, Clone, PartialEq)]
pub struct Missing {
    /// The place that asks for it.
    pub place: Place,
    /// Why it is not there.
    pub reason: CannotTake,
}

/// A dashboard with the blocks that it takes from others in their places, with their queries
/// (named `dashboard.query`) and parameters, and without those that are hidden. What cannot be taken is left out and told.
pub fn whole<'a>(
    dashboard: &'a Dashboard,
    all: &BTreeMap<String, Dashboard>,
    missing: &mut Vec<Missing>,
) -> Cow<'a, Dashboard> {
    Borrowing {
        all,
        path: vec![dashboard.name.clone()],
        known: BTreeMap::new(),
    }
    .whole(dashboard, missing)
}

/// Dashboards that take blocks from dashboards that take blocks.
struct Borrowing<'d> {
    all: &'d BTreeMap<String, Dashboard>,
    /// The dashboards on the way to the one that is looked at.
    path: Vec<String>,
    /// Those that were looked at, each once, with the first thing that is missing.
    known: BTreeMap<String, (Rc<Dashboard>, Option<CannotTake>)>,
}

impl Borrowing<'_> {
    fn whole<'a>(
        &mut self,
        dashboard: &'a Dashboard,
        missing: &mut Vec<Missing>,
    ) -> Cow<'a, Dashboard> {
        if dashboard
            .sections
            .iter()
            .flat_map(|section| &section.blocks)
            .all(|block| block.borrowed.is_none() && !block.changes.hide)
        {
            return Cow::Borrowed(dashboard);
        }
        let mut made = dashboard.clone();
        let sections = std::mem::take(&mut made.sections);
        for mut section in sections {
            let blocks = std::mem::take(&mut section.blocks);
            let is_hidden = !blocks.is_empty() && blocks.iter().all(|block| block.changes.hide);
            for block in blocks {
                match &block.borrowed {
                    None if block.changes.hide => {}
                    None => section.blocks.push(block),
                    Some(borrowed) => match self.take(&mut made, borrowed, &block) {
                        Ok(taken) => section.blocks.extend(taken),
                        Err(reason) => missing.push(Missing {
                            place: borrowed.dashboard.place.clone(),
                            reason,
                        }),
                    },
                }
            }
            // A section that has lost all its blocks says nothing.
            if !is_hidden {
                made.sections.push(section);
            }
        }
        Cow::Owned(made)
    }

    /// The dashboard that a block is taken from, whole, and what it is missing.
    fn other(&mut self, name: &str) -> Result<(Rc<Dashboard>, Option<CannotTake>), CannotTake> {
        let all = self.all;
        let other = all.get(name).ok_or_else(|| CannotTake::NoDashboard {
            name: name.to_owned(),
            suggestion: suggestion(name, all.keys().map(String::as_str)),
        })?;
        if self.path.iter().any(|before| before == name) {
            return Err(CannotTake::FromItself(self.path.join(" → ")));
        }
        if self.path.len() >= limits::BORROWING_DEPTH {
            return Err(CannotTake::TooDeep(self.path.join(" → ")));
        }
        if let Some(known) = self.known.get(name) {
            return Ok(known.clone());
        }
        self.path.push(name.to_owned());
        let mut missing = Vec::new();
        let whole = Rc::new(self.whole(other, &mut missing).into_owned());
        self.path.pop();
        let found = (whole, missing.into_iter().next().map(|first| first.reason));
        self.known.insert(name.to_owned(), found.clone());
        Ok(found)
    }

    fn take(
        &mut self,
        into: &mut Dashboard,
        borrowed: &Borrowed,
        block: &Block,
    ) -> Result<Option<Block>, CannotTake> {
        let name = &borrowed.dashboard.value;
        let (other, missing) = self.other(name)?;
        let blocks = || other.sections.iter().flat_map(|section| &section.blocks);
        let found = blocks().find(|candidate| candidate.title == borrowed.title);
        let mut taken = found.cloned().ok_or_else(|| match missing {
            // It is not there because it could not be taken itself.
            Some(reason) => reason,
            None => CannotTake::NoBlock {
                dashboard: name.clone(),
                block: borrowed.title.clone(),
                suggestion: suggestion(&borrowed.title, blocks().map(|block| block.title.as_str())),
            },
        })?;
        let renamed = |query: &str| format!("{name}.{query}");
        for query in taken.queries_mut() {
            let mut wanted = vec![query.value.clone()];
            while let Some(next) = wanted.pop() {
                if into
                    .queries
                    .iter()
                    .any(|known| known.name == renamed(&next))
                {
                    continue;
                }
                let Some(original) = other.queries.iter().find(|known| known.name == next) else {
                    continue;
                };
                wanted.extend(original.needs().map(str::to_owned));
                let mut copy = original.clone();
                copy.name = renamed(&next);
                copy.recorded_as = copy.recorded_as.map(|name| renamed(&name));
                if let Origin::Query(of) = &mut copy.origin {
                    of.value = renamed(&of.value);
                }
                for operation in &mut copy.then {
                    operation.rename(renamed);
                }
                into.queries.push(copy);
            }
            query.value = renamed(&query.value);
        }
        for parameter in &other.parameters {
            if !into
                .parameters
                .iter()
                .any(|known| known.name == parameter.name)
            {
                into.parameters.push(parameter.clone());
            }
        }
        taken.borrowed = None;
        Ok(changed(into, taken, &block.changes))
    }
}

/// Makes the changes of a report to its dashboards; answers the titles that were not found.
#[expect(
    clippy::too_many_lines,
    reason = "finds, changes and tells what is missing in one walk"
)]
pub fn change(dashboards: &mut [Cow<'_, Dashboard>], changes: &[Change]) -> Vec<Missing> {
    let mut missing = Vec::new();
    for change in changes {
        let mut found = false;
        for dashboard in dashboards.iter_mut() {
            let here = change
                .dashboard
                .as_ref()
                .is_none_or(|name| name.value == dashboard.name);
            let has = dashboard.sections.iter().any(|section| {
                section
                    .blocks
                    .iter()
                    .any(|block| block.title == change.block.value)
            });
            if !here || !has {
                continue;
            }
            found = true;
            let dashboard = dashboard.to_mut();
            for at in 0..dashboard.sections.len() {
                let blocks = std::mem::take(&mut dashboard.sections[at].blocks);
                for block in blocks {
                    let kept = if block.title == change.block.value {
                        changed(dashboard, block, &change.changes)
                    } else {
                        Some(block)
                    };
                    dashboard.sections[at].blocks.extend(kept);
                }
            }
        }
        if !found {
            let titles: Vec<&str> = dashboards
                .iter()
                .flat_map(|d| &d.sections)
                .flat_map(|section| &section.blocks)
                .map(|block| block.title.as_str())
                .collect();
            let reason = CannotTake::NothingToChange {
                block: change.block.value.clone(),
                suggestion: suggestion(&change.block.value, titles),
            };
            missing.push(Missing {
                place: change.block.place.clone(),
                reason,
            });
        }
    }
    for dashboard in dashboards.iter_mut() {
        if dashboard
            .sections
            .iter()
            .any(|section| section.blocks.is_empty())
        {
            // A section that has lost all its blocks says nothing.
            dashboard
                .to_mut()
                .sections
                .retain(|section| !section.blocks.is_empty());
        }
    }
    missing
}

pub(crate) fn changed(
    dashboard: &mut Dashboard,
    mut block: Block,
    changes: &Changes,
) -> Option<Block> {
    if changes.hide {
        return None;
    }
    if let Some(title) = &changes.title {
        block.title.clone_from(title);
    }
    if changes.note.is_some() {
        block.note.clone_from(&changes.note);
    }
    if let Some(width) = changes.width {
        block.width = Some(width);
    }
    if let Some(kind) = &changes.kind {
        block.kind = kind.clone();
    }
    if block.kind.is_chart() {
        block.width = block.width.map(|width| width.max(Width::LEAST_OF_CHARTS));
    }
    if let Some(limit) = changes.limit {
        if let BlockKind::Table { limit: rows, .. } = &mut block.kind {
            *rows = match limit {
                Limit::Rows(rows) => Some(rows),
                Limit::All => Some(usize::MAX),
            };
        }
        block.query = block.query.map(|query| Placed {
            value: with_limit(dashboard, &query.value, limit),
            place: query.place,
        });
    }
    Some(block)
}

/// A query with another limit beside the one that has its rows; the same query, if it has no
/// limit of its own.
fn with_limit(dashboard: &mut Dashboard, name: &str, limit: Limit) -> String {
    let Some(query) = dashboard.queries.iter().find(|query| query.name == name) else {
        return name.to_owned();
    };
    let limits = |operation: &Operation| {
        matches!(operation, Operation::Top { .. } | Operation::Limit { .. })
    };
    if !query.then.iter().any(limits) {
        return name.to_owned();
    }
    let mut copy: Query = query.clone();
    let recorded = copy.recorded_as.take().unwrap_or_else(|| name.to_owned());
    copy.recorded_as = Some(recorded);
    copy.name = format!("{name}.limited.{}", dashboard.queries.len());
    copy.then = copy
        .then
        .into_iter()
        .filter_map(|operation| match (operation, limit) {
            (Operation::Limit { .. }, Limit::Rows(rows)) => Some(Operation::Limit { rows }),
            (Operation::Limit { .. }, Limit::All) => None,
            (
                Operation::Top {
                    of,
                    order,
                    others,
                    sum,
                    ..
                },
                Limit::Rows(rows),
            ) => Some(Operation::Top {
                rows,
                of,
                order,
                others,
                sum,
            }),
            (Operation::Top { of, order, .. }, Limit::All) => Some(Operation::Top {
                rows: usize::MAX,
                of,
                order,
                others: None,
                sum: Vec::new(),
            }),
            (other, _) => Some(other),
        })
        .collect();
    let name = copy.name.clone();
    dashboard.queries.push(copy);
    name
}

//! What a dashboard definition holds: parameters, queries, and sections of blocks.

use maple_lark_time::{Window, window::Step};

use crate::{
    model::{
        block::Block,
        dashboard_template::MadeFrom,
        parameter::Parameter,
        query::{Origin, Query},
        width::Width,
    },
    problem::{Place, Placed},
};

/// Queries, and the blocks that show them.
#[derive(Debug, Clone, PartialEq)]
pub struct Dashboard {
    /// Its name, unique among dashboards.
    pub name: String,
    /// The team that it belongs to; none if it belongs to all.
    pub teams: Vec<Placed<String>>,
    /// Its title for people.
    pub title: String,
    /// What it is about, in a sentence.
    pub summary: Option<String>,
    /// The template that it was made of, if it was.
    pub made_from: Option<MadeFrom>,
    /// What can be chosen.
    pub parameters: Vec<Parameter>,
    /// The queries, by whose names blocks show them.
    pub queries: Vec<Query>,
    /// The sections, in order.
    pub sections: Vec<Section>,
    /// Where it was read.
    pub place: Place,
}

/// How many points across a figure shows well.
const POINTS_ACROSS: usize = 320;

impl Dashboard {
    /// The texts of its sections and blocks, as their author wrote them.
    pub fn texts(&self) -> impl Iterator<Item = &str> {
        self.sections.iter().flat_map(|section| {
            section
                .text
                .as_deref()
                .into_iter()
                .chain(section.blocks.iter().filter_map(Block::written_text))
        })
    }

    /// Whether a query's answer is made of the rows recorded under `record`.
    #[must_use]
    pub fn rests_on(&self, query: &str, record: &str) -> bool {
        let Some(query) = self.queries.iter().find(|known| known.name == query) else {
            return false;
        };
        // Names only lead back to earlier queries of the list, so this ends.
        query.record() == record || query.needs().any(|needed| self.rests_on(needed, record))
    }

    /// The queries that must be asked: those that the answer of some block, or of one of the
    /// queries `also`, is made of, each once.
    #[must_use]
    pub fn asked(&self, also: &[String]) -> Vec<&Query> {
        let blocks = || self.sections.iter().flat_map(|section| &section.blocks);
        let wanted = || {
            blocks()
                .flat_map(Block::queries)
                .map(|name| &name.value)
                .chain(also)
        };
        let shown = |record: &str| wanted().any(|name| self.rests_on(name, record));
        let own = self.queries.iter().filter(|query| {
            query.recorded_as.is_none() && !matches!(query.origin, Origin::Query(_))
        });
        own.filter(|query| shown(&query.name)).collect()
    }

    /// The step behind a query's `:steps`: its own, or one that fits the window and the
    /// widest figure that shows the query.
    #[must_use]
    pub fn step(&self, query: &Query, window: &Window) -> Step {
        let blocks = self.sections.iter().flat_map(|section| &section.blocks);
        let shows = blocks.filter(|block| {
            block
                .queries()
                .any(|name| self.rests_on(&name.value, query.record()))
        });
        let widest = shows
            .map(|block| block.width.unwrap_or(Width::FULL))
            .max()
            .unwrap_or(Width::HALF);
        query.step.unwrap_or_else(|| {
            Step::fitting(window, POINTS_ACROSS * usize::from(widest.twelfths()) / 12)
        })
    }
}

/// Blocks under a title of their own.
#[derive(Debug, Clone, PartialEq)]
pub struct Section {
    /// The title.
    pub title: String,
    /// A text above the blocks, in Markdown.
    pub text: Option<String>,
    /// The blocks, in order.
    pub blocks: Vec<Block>,
}

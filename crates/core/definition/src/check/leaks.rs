//! Whether those who are to see different things would see the same.

use std::{borrow::Cow, collections::BTreeSet};

use crate::{
    model::{dashboard::Dashboard, query::Query, report::Report},
    problem::Problem,
    set::DefinitionSet,
};

impl DefinitionSet {
    /// Where the audiences of a report differ in a parameter, every query that it shows goes by
    /// it, or its author says that everybody may see the same. Otherwise each would get the rows
    /// of all the others.
    pub(super) fn check_leaks(
        &self,
        report: &Report,
        dashboards: &[Cow<'_, Dashboard>],
        problems: &mut Vec<Problem>,
    ) {
        let differing = self.differing(report);
        if differing.is_empty() {
            return;
        }
        for dashboard in dashboards {
            for query in dashboard.shown_queries() {
                let not_by = differing
                    .iter()
                    .find(|parameter| !goes_by(dashboard, query, parameter, 0));
                if let Some(parameter) = not_by {
                    let words = format!(
                        "the audiences of the report \"{}\" have different values of \"{parameter}\", but the query \"{}\" does not use it, so every audience would get the same rows. Use :{parameter} in the query, or set same-for-all = true if everyone may see all of them",
                        report.name, query.name
                    );
                    problems.push(query.place.problem(words));
                }
            }
        }
    }

    /// The parameters whose values are not the same for all audiences.
    fn differing(&self, report: &Report) -> BTreeSet<String> {
        let by_rows = report
            .audience_queries
            .iter()
            .flat_map(|query| query.parameters.keys().cloned());
        let mut differing: BTreeSet<String> = by_rows.collect();
        let mut seen = report
            .audiences
            .iter()
            .map(|audience| self.values(report, Some(&audience.parameters)));
        if let Some(first) = seen.next() {
            for values in seen {
                let other = values
                    .iter()
                    .filter(|(name, value)| first.get(*name) != Some(value));
                differing.extend(other.map(|(name, _)| name.clone()));
            }
        }
        differing
    }
}

impl Dashboard {
    /// The queries whose rows its blocks show.
    fn shown_queries(&self) -> impl Iterator<Item = &Query> {
        let blocks = self.sections.iter().flat_map(|section| &section.blocks);
        let shown: BTreeSet<&str> = blocks
            .flat_map(|block| block.queries())
            .map(|query| query.value.as_str())
            .collect();
        let queries = self.queries.iter();
        queries.filter(move |query| shown.contains(query.name.as_str()))
    }

    /// Whether all that it shows goes by a parameter: every query is asked with it, or takes its rows
    /// from one that is, or its author says that everybody may see the same.
    #[must_use]
    pub fn goes_by(&self, parameter: &str) -> bool {
        self.shown_queries()
            .all(|query| goes_by(self, query, parameter, 0))
    }
}

/// A query that takes rows from a query that takes rows …: so deep, and no deeper.
const MOST_DEPTH: usize = 20;

fn goes_by(dashboard: &Dashboard, query: &Query, parameter: &str, depth: usize) -> bool {
    query.same_for_all
        || query
            .ask()
            .is_some_and(|ask| ask.names().iter().any(|name| name == parameter))
        || (depth < MOST_DEPTH
            && query.needs().any(|needed| {
                let needed = dashboard.queries.iter().find(|other| other.name == needed);
                needed.is_some_and(|needed| goes_by(dashboard, needed, parameter, depth + 1))
            }))
}

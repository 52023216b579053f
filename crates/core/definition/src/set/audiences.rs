//! Who the audiences of a report are: those that it names, and those that a query finds.

use std::collections::{BTreeMap, HashSet};

use maple_lark_data::{PackedTable, Value};
use maple_lark_time::{Zone, nearest::suggestion};

use crate::{
    model::{
        audience::{Audience, AudienceQuery, ResolvedAudience},
        mailbox::BadMailbox,
        parameter::{Parameter, ParameterValue},
        people::Addressee,
        report::Report,
    },
    problem::Placed,
    set::DefinitionSet,
};

/// Names of audiences that a query has given must fit into one line and one file name.
const LONGEST_NAME: usize = 120;

/// So many audiences may come of one query.
const MOST_AUDIENCES: usize = 5_000;

/// Why the answer to an audience query names no audiences.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum BadAudiences {
    /// The answer lacks a column.
    #[error("the audience query gives no column \"{name}\".{suggestion}")]
    NoColumn {
        /// The column.
        name: String,
        /// The nearest name there is, as a sentence; empty if none is near.
        suggestion: String,
    },
    /// The answer has more rows than a run may have audiences.
    #[error("the audience query gives more than {MOST_AUDIENCES} rows")]
    TooMany,
    /// One row is no audience.
    #[error("row {row} of the audience query: {problem}")]
    Row {
        /// Which one, counted from 1.
        row: usize,
        /// What is wrong with it.
        #[source]
        problem: BadRow,
    },
}

/// What is wrong with one row.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum BadRow {
    /// It has no value where it must have one.
    #[error("the column \"{0}\" is empty")]
    Empty(String),
    /// An audience of that name came before it.
    #[error("there is an audience \"{0}\" already")]
    Taken(String),
    /// There is no person of that name.
    #[error("there is no person or group \"{0}\"")]
    NoPerson(String),
    /// It names nobody to send to.
    #[error("the column \"{0}\" names nobody")]
    Nobody(String),
    /// An address is none.
    #[error(transparent)]
    Address(#[from] BadMailbox),
    /// A value does not suit its parameter.
    #[error("{0}")]
    Value(String),
}

impl DefinitionSet {
    /// The audiences that a report names itself.
    pub fn audiences(&self, report: &Report) -> Vec<ResolvedAudience> {
        let resolved = |audience: &Audience| ResolvedAudience {
            name: audience.name.clone(),
            to: self.recipients(&audience.to),
            cc: self.recipients(&audience.cc),
            bcc: self.recipients(&audience.bcc),
            values: self.values(report, Some(&audience.parameters)),
            ..audience.options.resolved()
        };
        report
            .audiences
            .iter()
            .map(resolved)
            .map(without_repeats)
            .collect()
    }

    /// The audiences in the rows that an audience query was answered with.
    ///
    /// # Errors
    /// If the rows do not hold what the query was to give.
    pub fn audiences_from(
        &self,
        report: &Report,
        query: &AudienceQuery,
        table: &PackedTable,
    ) -> Result<Vec<ResolvedAudience>, BadAudiences> {
        let column = |name: &str| {
            let known = || table.columns.iter().map(|column| column.name.as_str());
            known()
                .position(|known| known == name)
                .ok_or_else(|| BadAudiences::NoColumn {
                    name: name.to_owned(),
                    suggestion: suggestion(name, known()),
                })
        };
        let (name_at, to_at) = (column(&query.name)?, column(&query.to)?);
        let values_at = query
            .parameters
            .iter()
            .map(|(name, placed)| Ok((name.as_str(), column(&placed.value)?)))
            .collect::<Result<Vec<_>, BadAudiences>>()?;
        if table.len() > MOST_AUDIENCES || table.truncated {
            return Err(BadAudiences::TooMany);
        }
        let parameters = self.parameters_of(report);
        let mut taken: HashSet<String> = report
            .audiences
            .iter()
            .map(|audience| audience.name.clone())
            .collect();
        let mut found: Vec<ResolvedAudience> = Vec::new();
        for (row, row_number) in table.rows().zip(1..) {
            let wrong = |problem: BadRow| BadAudiences::Row {
                row: row_number,
                problem,
            };
            let name = name_of(&row[name_at].exact(report.zone));
            if name.trim().is_empty() {
                return Err(wrong(BadRow::Empty(query.name.clone())));
            }
            if !taken.insert(name.clone()) {
                return Err(wrong(BadRow::Taken(name)));
            }
            let listed = self
                .addressees(&row[to_at].exact(report.zone), query)
                .map_err(wrong)?;
            let mut given = BTreeMap::new();
            for (parameter, at) in &values_at {
                let known = parameters.iter().filter(|known| known.name == *parameter);
                let value = fitting(known, &row[*at], report.zone).map_err(wrong)?;
                let place = query.place.clone();
                given.insert((*parameter).to_owned(), Placed { value, place });
            }
            found.push(without_repeats(ResolvedAudience {
                name,
                to: self.recipients(&listed),
                values: self.values(report, Some(&given)),
                ..query.options.resolved()
            }));
        }
        Ok(found)
    }

    /// Those whom a cell lists, apart by commas or semicolons.
    fn addressees(
        &self,
        cell: &str,
        query: &AudienceQuery,
    ) -> Result<Vec<Placed<Addressee>>, BadRow> {
        let parts = cell.split([',', ';']).map(str::trim);
        let mut listed = Vec::new();
        for part in parts.filter(|part| !part.is_empty()) {
            let value: Addressee = part.parse()?;
            if let Addressee::Named(name) = &value
                && !self.people.contains_key(name)
                && !self.groups.contains_key(name)
            {
                return Err(BadRow::NoPerson(name.clone()));
            }
            listed.push(Placed {
                value,
                place: query.place.clone(),
            });
        }
        if listed.is_empty() && query.options.channels.is_empty() {
            return Err(BadRow::Nobody(query.to.clone()));
        }
        Ok(listed)
    }
}

/// The name of an audience as a cell gives it: on one line, and no longer than fits.
fn name_of(cell: &str) -> String {
    cell.chars()
        .filter(|c| !c.is_control())
        .take(LONGEST_NAME)
        .collect()
}

/// The value of a parameter as a cell gives it: as text, or as a number where that alone fits.
fn fitting<'p>(
    mut parameters: impl Iterator<Item = &'p Parameter> + Clone,
    cell: &Value,
    zone: Zone,
) -> Result<ParameterValue, BadRow> {
    let text = ParameterValue::Text(cell.exact(zone));
    let Some(refusal) = parameters.clone().find_map(|known| known.refusal(&text)) else {
        return Ok(text);
    };
    match cell.as_number().map(ParameterValue::Number) {
        Some(number) if parameters.all(|known| known.refusal(&number).is_none()) => Ok(number),
        _ => Err(BadRow::Value(refusal)),
    }
}

/// Who is named in several lists gets one mail, by the first of them.
fn without_repeats(mut audience: ResolvedAudience) -> ResolvedAudience {
    let mut seen: Vec<String> = Vec::new();
    for list in [&mut audience.to, &mut audience.cc, &mut audience.bcc] {
        list.retain(|recipient| {
            let address = recipient.mailbox.address.to_lowercase();
            let new = !seen.contains(&address);
            if new {
                seen.push(address);
            }
            new
        });
    }
    audience
}

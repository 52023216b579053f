//! Who the audiences of a report are: those that it names, and those that a query finds.

use std::collections::BTreeMap;

use maple_lark_data::PackedTable;
use maple_lark_time::nearest::suggestion;

use crate::{
    model::{
        audience::{Audience, AudienceQuery, ResolvedAudience},
        mailbox::BadMailbox,
        parameter::ParameterValue,
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
    /// If the rows do not hold what the query was to give, in words that name the row.
    pub fn audiences_from(
        &self,
        report: &Report,
        query: &AudienceQuery,
        table: &PackedTable,
    ) -> Result<Vec<ResolvedAudience>, String> {
        let column = |name: &str| {
            let near = || {
                suggestion(
                    name,
                    table.columns.iter().map(|column| column.name.as_str()),
                )
            };
            table
                .columns
                .iter()
                .position(|column| column.name == name)
                .ok_or_else(|| format!("the audience query gives no column \"{name}\".{}", near()))
        };
        let (name_at, to_at) = (column(&query.name)?, column(&query.to)?);
        let values_at = query
            .parameters
            .iter()
            .map(|(name, placed)| Ok((name, column(&placed.value)?)))
            .collect::<Result<Vec<_>, String>>()?;
        if table.len() > MOST_AUDIENCES || table.truncated {
            return Err(format!(
                "the audience query gives more than {MOST_AUDIENCES} rows"
            ));
        }
        let parameters = self.parameters_of(report);
        let mut found: Vec<ResolvedAudience> = Vec::new();
        for (index, row) in table.rows().enumerate() {
            let row_number = index + 1;
            let wrong = |words: String| format!("row {row_number} of the audience query: {words}");
            let text = |at: usize| row[at].exact(report.zone);
            let name: String = text(name_at)
                .chars()
                .filter(|c| !c.is_control())
                .take(LONGEST_NAME)
                .collect();
            if name.trim().is_empty() {
                return Err(wrong(format!("the column \"{}\" is empty", query.name)));
            }
            if found.iter().any(|earlier| earlier.name == name)
                || report.audiences.iter().any(|other| other.name == name)
            {
                return Err(wrong(format!("there is an audience \"{name}\" already")));
            }
            let mut listed = Vec::new();
            for part in text(to_at)
                .split([',', ';'])
                .map(str::trim)
                .filter(|part| !part.is_empty())
            {
                let value: Addressee = part
                    .parse()
                    .map_err(|error: BadMailbox| wrong(error.to_string()))?;
                if let Addressee::Named(name) = &value
                    && !self.people.contains_key(name)
                    && !self.groups.contains_key(name)
                {
                    return Err(wrong(format!("there is no person or group \"{name}\"")));
                }
                listed.push(Placed {
                    value,
                    place: query.place.clone(),
                });
            }
            if listed.is_empty() && query.options.channels.is_empty() {
                return Err(wrong(format!("the column \"{}\" names nobody", query.to)));
            }
            let mut given = BTreeMap::new();
            for (parameter, at) in &values_at {
                let value = ParameterValue::Text(text(*at));
                let number = row[*at].as_number().map(ParameterValue::Number);
                let fitting = |value: &ParameterValue| {
                    parameters
                        .iter()
                        .filter(|known| &known.name == *parameter)
                        .find_map(|known| known.refusal(value))
                };
                let value = match (fitting(&value), number) {
                    (None, _) => value,
                    (Some(_), Some(number)) if fitting(&number).is_none() => number,
                    (Some(refusal), _) => return Err(wrong(refusal)),
                };
                given.insert(
                    (*parameter).clone(),
                    Placed {
                        value,
                        place: query.place.clone(),
                    },
                );
            }
            let audience = ResolvedAudience {
                name,
                to: self.recipients(&listed),
                values: self.values(report, Some(&given)),
                ..query.options.resolved()
            };
            found.push(without_repeats(audience));
        }
        Ok(found)
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

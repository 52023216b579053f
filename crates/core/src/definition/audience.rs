//! Who gets a report, and which parameter values they may see.

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};

use super::{
    Ask, DefinitionSet, ParameterValue, Problem, Report,
    dashboard::read_values,
    people::{Addressee, Recipient, read_addressees},
    reader::{Node, Place, Placed},
    set::Values,
};
use crate::{nearest::suggestion, packed::PackedTable, status::Status};

/// Recipients and the parameter values that they may see.
#[derive(Debug, Clone, PartialEq)]
pub struct Audience {
    pub name: String,
    pub to: Vec<Placed<Addressee>>,
    pub cc: Vec<Placed<Addressee>>,
    pub bcc: Vec<Placed<Addressee>>,
    pub parameters: BTreeMap<String, Placed<ParameterValue>>,
    pub manner: Manner,
    pub place: Place,
}

/// How an audience is served.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Manner {
    /// One mail that names them all, instead of one each.
    pub together: bool,
    /// Where else its documents go.
    pub channels: Vec<Placed<String>>,
    /// It gets something only when the document is at least this bad.
    pub only_when: Option<Status>,
}

/// Audiences that a query names: one for each of its rows.
#[derive(Debug, Clone, PartialEq)]
pub struct AudienceQuery {
    pub source: Placed<String>,
    pub ask: Ask,
    /// The column with the audience's name.
    pub name: String,
    /// The column with its addresses, separated by commas, or people and groups.
    pub to: String,
    /// The column behind each parameter's value.
    pub parameters: BTreeMap<String, Placed<String>>,
    pub manner: Manner,
    pub place: Place,
}

/// An audience of one run: everybody found, every value known.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct ResolvedAudience {
    pub name: String,
    pub to: Vec<Recipient>,
    pub cc: Vec<Recipient>,
    pub bcc: Vec<Recipient>,
    pub together: bool,
    pub channels: Vec<String>,
    pub only_when: Option<Status>,
    pub values: Values,
}

impl ResolvedAudience {
    /// Everybody who gets a mail, and how they stand in its head: `to`, `cc` or `bcc`.
    pub fn everybody(&self) -> impl Iterator<Item = (&'static str, &Recipient)> {
        let listed = [("to", &self.to), ("cc", &self.cc), ("bcc", &self.bcc)];
        listed
            .into_iter()
            .flat_map(|(role, list)| list.iter().map(move |recipient| (role, recipient)))
    }
}

pub(super) fn read_audience(node: Node<'_>) -> Audience {
    let name = node.required("name").value;
    let (to, cc, bcc) = (
        read_addressees(&node, "to"),
        read_addressees(&node, "cc"),
        read_addressees(&node, "bcc"),
    );
    let manner = read_manner(&node);
    if !node.has("to") && manner.channels.is_empty() {
        node.report_self("the key \"to\" is missing here; it lists the recipients (or name channels = [\"…\"] that its documents go to)");
    }
    let parameters = read_values(node.table("parameters"));
    let place = node.place();
    node.close();
    Audience {
        name,
        to,
        cc,
        bcc,
        parameters,
        manner,
        place,
    }
}

fn read_manner(node: &Node<'_>) -> Manner {
    let only_when = match node.choice("only-when", &["warning", "critical"]) {
        Some("warning") => Some(Status::Warning),
        Some(_) => Some(Status::Critical),
        None => None,
    };
    Manner {
        together: node.truth("together").unwrap_or(false),
        channels: node.texts("channels"),
        only_when,
    }
}

pub(super) fn read_query(node: Node<'_>) -> Option<AudienceQuery> {
    let source = node.required("source");
    let ask = super::query::read_ask(&node);
    let (name, to) = (node.required("name").value, node.required("to").value);
    let mut parameters = BTreeMap::new();
    if let Some(table) = node.table("parameters") {
        for key in table.keys() {
            match table.value_of(&key).and_then(|(value, place)| {
                Some(Placed {
                    value: value.as_str()?.to_owned(),
                    place,
                })
            }) {
                Some(column) => drop(parameters.insert(key, column)),
                None => table.report(
                    &key,
                    "must be the name of the column that holds its value, in quotes",
                ),
            }
        }
    }
    if parameters.is_empty() {
        node.report_self(
            "say which column narrows what an audience sees: parameters = { port = \"code\" }",
        );
    }
    let manner = read_manner(&node);
    let place = node.place();
    node.close();
    Some(AudienceQuery {
        source,
        ask: ask?,
        name,
        to,
        parameters,
        manner,
        place,
    })
}

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
            ..audience.manner.resolved()
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
                    .map_err(|error: super::BadMailbox| wrong(error.to_string()))?;
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
            if listed.is_empty() && query.manner.channels.is_empty() {
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
                ..query.manner.resolved()
            };
            found.push(without_repeats(audience));
        }
        Ok(found)
    }

    pub(super) fn check_audiences(&self, report: &Report, problems: &mut Vec<Problem>) {
        for audience in &report.audiences {
            for list in [&audience.to, &audience.cc, &audience.bcc] {
                self.check_addressees(list, problems);
            }
            self.check_channels(&audience.manner.channels, problems);
        }
        for query in &report.audience_queries {
            self.check_channels(&query.manner.channels, problems);
        }
    }

    fn check_channels(&self, channels: &[Placed<String>], problems: &mut Vec<Problem>) {
        for name in channels {
            match self.channels.get(&name.value) {
                None => {
                    let near = suggestion(&name.value, self.channels.keys().map(String::as_str));
                    problems.push(
                        name.place
                            .problem(format!("there is no channel \"{}\".{near}", name.value)),
                    );
                }
                Some(channel) if matches!(channel.kind, super::ChannelKind::MailServer(_)) => {
                    problems.push(name.place.problem(format!(
                        "\"{}\" is a mail server; name it as mail-server under [deliver]",
                        name.value
                    )));
                }
                Some(_) => {}
            }
        }
    }
}

impl Manner {
    fn resolved(&self) -> ResolvedAudience {
        ResolvedAudience {
            name: String::new(),
            to: Vec::new(),
            cc: Vec::new(),
            bcc: Vec::new(),
            together: self.together,
            channels: self
                .channels
                .iter()
                .map(|name| name.value.clone())
                .collect(),
            only_when: self.only_when,
            values: Values::new(),
        }
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

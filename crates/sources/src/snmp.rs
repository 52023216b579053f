//! Objects of SNMP agents (RFC 3416): of devices and machines that are asked by UDP, by version 2c (RFC 1901)
//! or 3 (RFC 3414). Nothing is ever set there.

use std::{collections::BTreeMap, time::Duration};

use maple_lark_data::{Column, ColumnKind, Table, Value};
use maple_lark_definition::{
    Objects, ObjectsOperation, SnmpAgent, SnmpSignIn, Source,
    mib::{self, dotted, named},
};
use snmp2::{AsyncSession, Error, Oid, v3::AuthErrorKind};

use crate::{
    Answer, Greeting, Reader, SourceError,
    catalogue::{Entry, Item, MOST, found},
    server::Place,
    snmp_credentials::SnmpCredentials,
    within_size,
};

/// How long one answer is waited for before it is asked again: datagrams get lost.
const PATIENCE: Duration = Duration::from_secs(2);
/// How often is asked in all.
const TRIES: usize = 4;
/// So many objects are asked for in one request: their answers fit into a datagram of any agent.
const AT_ONCE: usize = 20;
/// So many rows of a walk are asked for in one request.
const REPETITIONS: u32 = 25;
/// The interfaces' addresses are octets, also where they could be read as letters.
const OCTETS: &str = "ifPhysAddress";

/// One row, a row for each index, or one for each instance, as the question has it.
///
/// Times in hundredths (`TimeTicks`) are seconds; enumerated values of the standard tree are words; texts
/// that cannot be read are their octets, such as `00:1b:44`. What the agent does not have is missing.
///
/// # Errors
/// If the agent does not answer, or refuses.
pub async fn read(
    reader: &Reader,
    source: &Source,
    agent: &SnmpAgent,
    objects: &Objects,
) -> Result<Answer, SourceError> {
    let mut session = Session::open(reader, source, agent).await?;
    let table = match objects.operation {
        ObjectsOperation::Get => get(&mut session, objects).await?,
        ObjectsOperation::Walk => walk(&mut session, objects).await?,
        ObjectsOperation::Table => by_index(&mut session, objects).await?,
    };
    Ok(Answer::of(table, objects.written()))
}

/// What it calls itself.
pub async fn greet(
    reader: &Reader,
    source: &Source,
    agent: &SnmpAgent,
) -> Result<Greeting, SourceError> {
    let mut session = Session::open(reader, source, agent).await?;
    let system = [1, 3, 6, 1, 2, 1, 1];
    let asked = [5, 1].map(|object| [&system[..], &[object, 0]].concat());
    let found = session.get(&asked).await?;
    let texts: Vec<String> = found
        .into_iter()
        .filter_map(|(_, value)| value.text())
        .collect();
    let warning = matches!(agent.sign_in, SnmpSignIn::Community(_)).then(|| {
        "its community goes over the network as it is, and so does what it answers; version 3 protects both".to_owned()
    });
    Ok(Greeting {
        found: if texts.is_empty() {
            "it answers, and tells no name".to_owned()
        } else {
            texts.join(": ")
        },
        warning,
    })
}

/// The tables of the standard tree; whether the agent has them is known by asking.
pub fn catalogue(search: &str) -> Vec<Entry> {
    let tables = mib::TABLES.iter().filter(|table| {
        let mut texts = vec![table.name, table.description];
        texts.extend(table.objects.iter().map(|object| object.name));
        found(search, &texts)
    });
    let entries = tables.map(|table| Entry {
        name: table.name.to_owned(),
        kind: if table.has_rows { "table" } else { "group" }.to_owned(),
        unit: String::new(),
        description: table.description.to_owned(),
        items: table
            .objects
            .iter()
            .map(|object| Item {
                name: object.name.to_owned(),
                kind: "object".to_owned(),
                description: String::new(),
                values: Vec::new(),
            })
            .collect(),
    });
    entries.take(MOST).collect()
}

/// A value that was answered.
#[derive(Debug, Clone, PartialEq)]
enum Found {
    /// There is nothing behind it.
    End,
    Missing,
    Whole(i64),
    Number(f64),
    Text(String),
}

impl Found {
    /// The value of an object by its number.
    fn of(number: &[u64], value: &snmp2::Value<'_>) -> Self {
        let name = named(number).0;
        match value {
            snmp2::Value::Integer(value) => {
                let word = name.and_then(|name| mib::word(name, *value));
                word.map_or(Self::Whole(*value), |word| Self::Text(word.to_owned()))
            }
            snmp2::Value::Counter32(value) | snmp2::Value::Unsigned32(value) => {
                Self::Whole(i64::from(*value))
            }
            snmp2::Value::Counter64(value) => {
                i64::try_from(*value).map_or(Self::Number(*value as f64), Self::Whole)
            }
            snmp2::Value::Timeticks(hundredths) => Self::Number(f64::from(*hundredths) / 100.0),
            snmp2::Value::Boolean(value) => Self::Whole(i64::from(*value)),
            snmp2::Value::OctetString(bytes) if name == Some(OCTETS) => Self::Text(octets(bytes)),
            snmp2::Value::OctetString(bytes) => Self::Text(readable(bytes)),
            snmp2::Value::Opaque(bytes) => Self::Text(octets(bytes)),
            snmp2::Value::IpAddress(address) => {
                Self::Text(std::net::Ipv4Addr::from(*address).to_string())
            }
            snmp2::Value::ObjectIdentifier(object) => Self::Text(object.to_string()),
            snmp2::Value::EndOfMibView => Self::End,
            _ => Self::Missing,
        }
    }

    fn text(self) -> Option<String> {
        match self {
            Self::End | Self::Missing => None,
            Self::Whole(value) => Some(value.to_string()),
            Self::Number(value) => Some(value.to_string()),
            Self::Text(text) => Some(text).filter(|text| !text.is_empty()),
        }
    }
}

/// A text, or its octets if it is none. Some agents end a text with a zero.
fn readable(bytes: &[u8]) -> String {
    let trimmed = bytes.strip_suffix(&[0]).unwrap_or(bytes);
    match std::str::from_utf8(trimmed) {
        Ok(text)
            if !text
                .chars()
                .any(|c| c.is_control() && !matches!(c, '\n' | '\r' | '\t')) =>
        {
            text.trim().to_owned()
        }
        _ => octets(bytes),
    }
}

fn octets(bytes: &[u8]) -> String {
    let pairs: Vec<String> = bytes.iter().map(|byte| format!("{byte:02x}")).collect();
    pairs.join(":")
}

/// Columns of what was found, each of the narrowest kind that holds all of it.
fn table(names: Vec<String>, rows: Vec<Vec<Found>>, truncated: bool) -> Table {
    let kind = |place: usize| {
        let cells = || rows.iter().filter_map(|row| row.get(place));
        if cells().any(|cell| matches!(cell, Found::Text(_))) {
            ColumnKind::Text
        } else if cells().any(|cell| matches!(cell, Found::Number(_))) {
            ColumnKind::Number
        } else if cells().any(|cell| matches!(cell, Found::Whole(_))) {
            ColumnKind::Integer
        } else {
            ColumnKind::Text
        }
    };
    let columns: Vec<Column> = names
        .into_iter()
        .enumerate()
        .map(|(place, name)| Column {
            name,
            kind: kind(place),
        })
        .collect();
    let cell = |kind: ColumnKind, found: Found| match (kind, found) {
        (_, Found::End | Found::Missing) => Value::Missing,
        (ColumnKind::Integer, Found::Whole(value)) => Value::Integer(value),
        (ColumnKind::Number, Found::Whole(value)) => Value::Number(value as f64),
        (ColumnKind::Number, Found::Number(value)) => Value::Number(value),
        (_, other) => other.text().map_or(Value::Missing, Value::Text),
    };
    let rows = rows.into_iter().map(|row| {
        let kinds = columns.iter().map(|column| column.kind);
        kinds
            .zip(row)
            .map(|(kind, found)| cell(kind, found))
            .collect()
    });
    Table {
        rows: rows.collect(),
        columns,
        truncated,
    }
}

/// The names of columns; two objects of one name are told apart by their numbers.
fn columns(objects: &Objects) -> Vec<String> {
    let mut names: Vec<String> = Vec::new();
    for object in &objects.objects {
        let name = object.column();
        let taken = names.contains(&name);
        names.push(if taken {
            format!("{name}_{}", dotted(&object.number).replace('.', "_"))
        } else {
            name
        });
    }
    names
}

async fn get(session: &mut Session<'_>, objects: &Objects) -> Result<Table, SourceError> {
    // A single object is there once, with this index.
    let numbers: Vec<Vec<u64>> = objects
        .objects
        .iter()
        .map(|object| match named(&object.number) {
            (Some(_), index) if index.is_empty() => [&object.number[..], &[0]].concat(),
            _ => object.number.clone(),
        })
        .collect();
    let mut found = BTreeMap::new();
    for part in numbers.chunks(AT_ONCE) {
        found.extend(session.get(part).await?);
    }
    let row = numbers
        .iter()
        .map(|number| found.remove(number).unwrap_or(Found::Missing));
    Ok(table(columns(objects), vec![row.collect()], false))
}

async fn walk(session: &mut Session<'_>, objects: &Objects) -> Result<Table, SourceError> {
    let (mut rows, mut more) = (Vec::new(), false);
    for object in &objects.objects {
        let limit = session.source.row_limit.saturating_sub(rows.len());
        let (found, cut) = session.walk(&object.number, limit).await?;
        more |= cut;
        rows.extend(found.into_iter().map(|(number, value)| {
            let (name, index) = named(&number);
            let name = name.map_or_else(|| dotted(&number), str::to_owned);
            let number = match value {
                Found::Whole(value) => Found::Number(value as f64),
                Found::Number(value) => Found::Number(value),
                Found::End | Found::Missing | Found::Text(_) => Found::Missing,
            };
            let text = value.text().map_or(Found::Missing, Found::Text);
            vec![Found::Text(name), Found::Text(dotted(&index)), text, number]
        }));
    }
    let names = ["object", "index", "value", "number"].map(str::to_owned);
    Ok(table(names.to_vec(), rows, more))
}

async fn by_index(session: &mut Session<'_>, objects: &Objects) -> Result<Table, SourceError> {
    let mut rows: BTreeMap<Vec<u64>, Vec<Found>> = BTreeMap::new();
    let (width, mut more) = (objects.objects.len(), false);
    for (place, object) in objects.objects.iter().enumerate() {
        let (found, cut) = session
            .walk(&object.number, session.source.row_limit)
            .await?;
        more |= cut;
        for (number, value) in found {
            let index = number[object.number.len()..].to_vec();
            let row = rows
                .entry(index)
                .or_insert_with(|| vec![Found::Missing; width]);
            row[place] = value;
        }
    }
    let limit = session.source.row_limit;
    more |= rows.len() > limit;
    let names = std::iter::once("index".to_owned()).chain(columns(objects));
    let rows = rows.into_iter().take(limit).map(|(index, row)| {
        let index = match index[..] {
            [one] => i64::try_from(one).map_or(Found::Missing, Found::Whole),
            _ => Found::Text(dotted(&index)),
        };
        std::iter::once(index).chain(row).collect()
    });
    let rows = rows.collect();
    Ok(table(names.collect(), rows, more))
}

/// Somebody whom the agent knows, who asks one thing after another.
struct Session<'a> {
    source: &'a Source,
    address: String,
    session: AsyncSession,
    bytes: usize,
}

/// What is asked of an agent.
enum Request<'a> {
    Get(&'a [Vec<u64>]),
    Next(&'a [u64]),
}

impl<'a> Session<'a> {
    async fn open(
        reader: &Reader,
        source: &'a Source,
        agent: &SnmpAgent,
    ) -> Result<Self, SourceError> {
        let Place {
            address,
            host,
            addresses,
            ..
        } = Place::of(reader, source, &agent.address).await?;
        let who = reader.snmp_credentials(&agent.sign_in, &host).await;
        let who = who.map_err(|error| error.of(source))?;
        let session = match who {
            SnmpCredentials::Community(community) => {
                AsyncSession::new_v2c(&addresses[..], community.as_bytes(), 1).await
            }
            SnmpCredentials::User { security, .. } => {
                AsyncSession::new_v3(&addresses[..], 1, *security).await
            }
        };
        let session = session.map_err(|error| SourceError::Unreachable {
            source_name: source.name.clone(),
            address: address.clone(),
            words: error.to_string(),
        })?;
        let mut own = Self {
            source,
            address,
            session,
            bytes: 0,
        };
        own.begin().await?;
        Ok(own)
    }

    /// Learns who answers, which version 3 needs to know first.
    async fn begin(&mut self) -> Result<(), SourceError> {
        for _ in 0..TRIES {
            match tokio::time::timeout(PATIENCE, self.session.init()).await {
                Ok(Ok(())) => return Ok(()),
                Ok(Err(error)) if !passing(&error) => return Err(self.refused(&error)),
                Ok(Err(_)) | Err(_) => {}
            }
        }
        Err(self.silent())
    }

    async fn get(&mut self, numbers: &[Vec<u64>]) -> Result<Vec<(Vec<u64>, Found)>, SourceError> {
        self.ask(Request::Get(numbers)).await
    }

    /// All below a number, at most `limit`, and whether there are more.
    async fn walk(
        &mut self,
        below: &[u64],
        limit: usize,
    ) -> Result<(Vec<(Vec<u64>, Found)>, bool), SourceError> {
        let (mut found, mut last) = (Vec::new(), below.to_vec());
        loop {
            let part = self.ask(Request::Next(&last)).await?;
            let before = last.clone();
            for (number, value) in part {
                if value == Found::End || !number.starts_with(below) {
                    return Ok((found, false));
                }
                // An agent that goes backwards would be asked for ever.
                if number <= last {
                    return Err(SourceError::Query {
                        source_name: self.source.name.clone(),
                        words: format!("what it answers does not go on behind {}", dotted(&last)),
                    });
                }
                if found.len() == limit {
                    return Ok((found, true));
                }
                self.bytes += 48
                    + 8 * number.len()
                    + match &value {
                        Found::Text(text) => text.len(),
                        _ => 0,
                    };
                within_size(self.source, self.bytes)?;
                last.clone_from(&number);
                found.push((number, value));
            }
            // An answer always has something, if only that nothing is left.
            if last == before {
                return Err(self.refused(&Error::AsnUnsupportedType));
            }
        }
    }

    async fn ask(&mut self, request: Request<'_>) -> Result<Vec<(Vec<u64>, Found)>, SourceError> {
        for _ in 0..TRIES {
            match tokio::time::timeout(PATIENCE, once(&mut self.session, &request)).await {
                Ok(Ok(Ok(found))) => return Ok(found),
                Ok(Ok(Err(status))) => return Err(self.answered(status)),
                Ok(Err(error)) if !passing(&error) => return Err(self.refused(&error)),
                Ok(Err(_)) | Err(_) => {}
            }
        }
        Err(self.silent())
    }

    fn silent(&self) -> SourceError {
        SourceError::Unreachable {
            source_name: self.source.name.clone(),
            address: self.address.clone(),
            words: format!(
                "no answer within {} s; an agent that does not know who asks does not answer, either",
                PATIENCE.as_secs() * TRIES as u64
            ),
        }
    }

    fn refused(&self, error: &Error) -> SourceError {
        let (source_name, address) = (self.source.name.clone(), self.address.clone());
        match error {
            Error::AuthFailure(kind) => SourceError::SignIn {
                source_name,
                address,
                words: kind.to_string(),
            },
            Error::CommunityMismatch => SourceError::SignIn {
                source_name,
                address,
                words: "it answers with another community".to_owned(),
            },
            Error::Send | Error::Receive => SourceError::Unreachable {
                source_name,
                address,
                words: "nobody listens there".to_owned(),
            },
            other => SourceError::Answer {
                source_name,
                address,
                words: other.to_string(),
            },
        }
    }

    /// An error status (RFC 3416, 3).
    fn answered(&self, status: u32) -> SourceError {
        let words = match status {
            snmp2::snmp::ERRSTATUS_TOOBIG => "the answer does not fit; ask for fewer objects",
            snmp2::snmp::ERRSTATUS_NOACCESS | snmp2::snmp::ERRSTATUS_AUTHORIZATIONERROR => {
                "this may not be asked"
            }
            snmp2::snmp::ERRSTATUS_NOSUCHNAME => "there is no such object",
            _ => "the agent has an error of its own",
        };
        SourceError::Query {
            source_name: self.source.name.clone(),
            words: format!("{words} (error status {status})"),
        }
    }
}

/// Whether an error goes by when asked again: an answer to what was asked before, clocks that had to be told.
fn passing(error: &Error) -> bool {
    matches!(
        error,
        Error::RequestIdMismatch
            | Error::AuthUpdated
            | Error::AuthFailure(
                AuthErrorKind::EngineBootsMismatch
                    | AuthErrorKind::EngineTimeMismatch
                    | AuthErrorKind::MessageIdMismatch
            )
    )
}

/// What is answered to one request: values by their numbers, or an error status.
type Answered = Result<Vec<(Vec<u64>, Found)>, u32>;

async fn once(session: &mut AsyncSession, request: &Request<'_>) -> Result<Answered, Error> {
    let oid = |number: &[u64]| Oid::from(number).map_err(|_| Error::ValueOutOfRange);
    let pdu = match request {
        Request::Get(numbers) => {
            let oids = numbers.iter().map(|number| oid(number));
            let oids: Vec<Oid<'static>> = oids.collect::<Result<_, _>>()?;
            let oids: Vec<&Oid<'_>> = oids.iter().collect();
            session.get_many(&oids).await?
        }
        Request::Next(after) => {
            let oid = oid(after)?;
            session.getbulk(&[&oid], 0, REPETITIONS).await?
        }
    };
    if pdu.error_status != snmp2::snmp::ERRSTATUS_NOERROR {
        return Ok(Err(pdu.error_status));
    }
    let found = pdu.varbinds.filter_map(|(oid, value)| {
        let number: Vec<u64> = oid.iter()?.collect();
        let value = Found::of(&number, &value);
        Some((number, value))
    });
    Ok(Ok(found.collect()))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn values_become_what_people_read() {
        let status = [1, 3, 6, 1, 2, 1, 2, 2, 1, 8, 3];
        let address = [1, 3, 6, 1, 2, 1, 2, 2, 1, 6, 3];
        let other = [1, 3, 6, 1, 4, 1, 5];
        let text = |text: &str| Found::Text(text.to_owned());
        for (number, value, read) in [
            (&status[..], snmp2::Value::Integer(2), text("down")),
            (&status[..], snmp2::Value::Integer(9), Found::Whole(9)),
            (
                &address[..],
                snmp2::Value::OctetString(b"abcdef"),
                text("61:62:63:64:65:66"),
            ),
            (
                &other[..],
                snmp2::Value::OctetString(b"Kai 2 \0"),
                text("Kai 2"),
            ),
            (
                &other[..],
                snmp2::Value::OctetString(&[1, 255]),
                text("01:ff"),
            ),
            (&other[..], snmp2::Value::Timeticks(150), Found::Number(1.5)),
            (
                &other[..],
                snmp2::Value::Counter64(u64::MAX),
                Found::Number(u64::MAX as f64),
            ),
            (
                &other[..],
                snmp2::Value::IpAddress([10, 0, 0, 7]),
                text("10.0.0.7"),
            ),
            (&other[..], snmp2::Value::NoSuchInstance, Found::Missing),
            (&other[..], snmp2::Value::Null, Found::Missing),
            (&other[..], snmp2::Value::EndOfMibView, Found::End),
        ] {
            assert_eq!(Found::of(number, &value), read, "{value:?}");
        }
    }

    #[test]
    fn a_column_is_of_the_narrowest_kind_that_holds_it() {
        let rows = vec![
            vec![
                Found::Whole(1),
                Found::Whole(2),
                Found::Text("up".into()),
                Found::Missing,
            ],
            vec![
                Found::Missing,
                Found::Number(0.5),
                Found::Whole(9),
                Found::Missing,
            ],
        ];
        let names = ["a", "b", "c", "d"].map(str::to_owned).to_vec();
        let table = table(names, rows, false);
        let kinds: Vec<ColumnKind> = table.columns.iter().map(|column| column.kind).collect();
        assert_eq!(
            kinds,
            [
                ColumnKind::Integer,
                ColumnKind::Number,
                ColumnKind::Text,
                ColumnKind::Text
            ]
        );
        assert_eq!(
            table.rows[1],
            [
                Value::Missing,
                Value::Number(0.5),
                Value::Text("9".into()),
                Value::Missing
            ]
        );
    }
}

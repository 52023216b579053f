//! Entries of a directory (LDAP, RFC 4511), in pages (RFC 2696). Nothing is ever written there.

use std::{collections::BTreeSet, sync::Arc, time::Duration};

use base64::{Engine, engine::general_purpose::STANDARD};
use ldap3::{
    Ldap, LdapError, Scope, SearchEntry,
    adapters::{Adapter, EntriesOnly, PagedResults},
    ldap_escape,
};
use maple_lark_data::{Column, ColumnKind, Table, Value};
use maple_lark_definition::{DirectoryServer, DirectoryTls, Field, Search, SearchScope, Source};
use maple_lark_directory::{Protection, Way, trusting};
use rustls::ClientConfig;
use tokio::net::TcpStream;

use crate::{
    Answer, Greeting, Question, Reader, SettingProblem, SourceError, catalogue::Entry, cells,
    filled::not_filled, ldap_schema, server::Place, within_size,
};

/// Entries of one page.
const PAGE: i32 = 500;
/// What the entry's own name is called among its attributes.
const NAME: &str = "dn";
/// What an answer leaves out after the directory's own limits (RFC 4511, 4.1.9): of time, of size, of
/// administration.
const LIMITS: [u32; 3] = [3, 4, 11];

/// A row for each entry that matches. An attribute with several values has them in one cell, with commas;
/// one that is no text is in base64 (RFC 4648).
///
/// # Errors
/// If the directory cannot be reached, refuses the sign-in or the search, or the filter is none.
pub async fn read(
    reader: &Reader,
    source: &Source,
    server: &DirectoryServer,
    search: &Search,
    question: Question<'_>,
) -> Result<Answer, SourceError> {
    let escape = |text: &str| ldap_escape(text).into_owned();
    let filter = search
        .filter
        .fill_escaped(&|name| question.filler(name), &escape)
        .map_err(|error| not_filled(source, error))?;
    if ldap3::parse_filter(&filter).is_err() {
        return Err(refused(
            source,
            format!("{filter} is not a search filter (RFC 4515)"),
        ));
    }
    let base = search.base.as_deref().unwrap_or(&server.base);
    let scope = match search.scope {
        SearchScope::Subtree => Scope::Subtree,
        SearchScope::OneLevel => Scope::OneLevel,
        SearchScope::Base => Scope::Base,
    };
    let mut connection = connect(reader, source, server).await?;
    let found = entries(source, &mut connection, (base, scope), &filter, search).await?;
    let _ = connection.unbind().await;
    let mut table = if search.fields.is_empty() {
        all_attributes(found.entries)
    } else {
        fields(source, &search.fields, &found.entries)?
    };
    table.truncated = found.more;
    let sent = format!("{filter}, {} of {base}", search.scope.name());
    let note = found.limit.map(|words| {
        format!("the directory ended the answer by a limit of its own ({words}); rows are missing")
    });
    Ok(Answer {
        note,
        ..Answer::of(table, sent)
    })
}

/// Who answers, and what it has.
pub async fn greet(
    reader: &Reader,
    source: &Source,
    server: &DirectoryServer,
) -> Result<Greeting, SourceError> {
    let mut connection = connect(reader, source, server).await?;
    let everything = "(objectClass=*)";
    let answer = connection
        .search(&server.base, Scope::Base, everything, ["1.1"])
        .await;
    let answer = answer.map_err(|error| failed(source, server, error))?;
    let _ = connection.unbind().await;
    match answer.1.rc {
        0 if !answer.0.is_empty() => Ok(Greeting {
            found: format!("{} is there", server.base),
            warning: server
                .user
                .is_none()
                .then(|| "it is asked unnamed; a user may see more".to_owned()),
        }),
        0 | 32 => Err(refused(
            source,
            format!("there is no entry {}, or it may not be seen", server.base),
        )),
        _ => Err(refused(source, answer.1.to_string())),
    }
}

/// The classes of its schema, each with its attributes.
pub async fn catalogue(
    reader: &Reader,
    source: &Source,
    server: &DirectoryServer,
    search: &str,
) -> Result<Vec<Entry>, SourceError> {
    let mut connection = connect(reader, source, server).await?;
    let failed = |error: LdapError| failed(source, server, error);
    let everything = "(objectClass=*)";
    let root = connection
        .search("", Scope::Base, everything, ["subschemaSubentry"])
        .await
        .map_err(failed)?;
    let root = root.0.into_iter().next().map(SearchEntry::construct);
    let place = root.and_then(|root| values(&root, "subschemaSubentry").into_iter().next());
    let Some(place) = place else {
        return Ok(Vec::new());
    };
    let schema = connection
        .search(
            &place,
            Scope::Base,
            "(objectClass=subschema)",
            ["objectClasses"],
        )
        .await
        .map_err(failed)?;
    let _ = connection.unbind().await;
    let schema = schema.0.into_iter().next().map(SearchEntry::construct);
    let classes = schema.map(|schema| values(&schema, "objectClasses"));
    Ok(ldap_schema::entries(&classes.unwrap_or_default(), search))
}

/// What a search found.
struct Found {
    entries: Vec<SearchEntry>,
    /// Whether there are more than the source's limit of rows.
    more: bool,
    /// By which limit of its own the directory ended the answer.
    limit: Option<String>,
}

async fn entries(
    source: &Source,
    connection: &mut Ldap,
    (base, scope): (&str, Scope),
    filter: &str,
    search: &Search,
) -> Result<Found, SourceError> {
    let words = |error: LdapError| refused(source, error.to_string());
    let asked = |field: &Field| field.path.clone().unwrap_or_else(|| field.name.clone());
    let mut attributes: Vec<String> = search.fields.iter().map(asked).collect();
    if attributes.is_empty() {
        attributes.push("*".to_owned());
    }
    let adapters: Vec<Box<dyn Adapter<'_, String, Vec<String>>>> = vec![
        Box::new(EntriesOnly::new()),
        Box::new(PagedResults::new(PAGE)),
    ];
    let mut stream = connection
        .with_timeout(Duration::from_secs(source.timeout_seconds))
        .streaming_search_with(adapters, base, scope, filter, attributes)
        .await
        .map_err(words)?;
    let (mut found, mut bytes) = (Vec::new(), 0);
    while let Some(entry) = stream.next().await.map_err(words)? {
        if found.len() == source.row_limit {
            // Whoever lets go of the connection ends the search.
            return Ok(Found {
                entries: found,
                more: true,
                limit: None,
            });
        }
        let entry = SearchEntry::construct(entry);
        bytes += weight(&entry);
        within_size(source, bytes)?;
        found.push(entry);
    }
    let result = stream.finish().await;
    match result.rc {
        0 => Ok(Found {
            entries: found,
            more: false,
            limit: None,
        }),
        code if LIMITS.contains(&code) => Ok(Found {
            entries: found,
            more: true,
            limit: Some(result.to_string()),
        }),
        32 => Err(refused(
            source,
            format!("there is no entry {base}, or it may not be seen"),
        )),
        _ => Err(refused(source, result.to_string())),
    }
}

/// So many bytes an entry takes, about.
fn weight(entry: &SearchEntry) -> usize {
    let texts = entry.attrs.iter().map(|(name, values)| {
        name.len() + values.iter().map(|value| value.len() + 24).sum::<usize>()
    });
    let bytes = entry.bin_attrs.iter().map(|(name, values)| {
        name.len() + values.iter().map(|value| value.len() + 24).sum::<usize>()
    });
    entry.dn.len() + texts.sum::<usize>() + bytes.sum::<usize>()
}

/// The values of an attribute; names of attributes have no case (RFC 4512, 2.5).
fn values(entry: &SearchEntry, attribute: &str) -> Vec<String> {
    if attribute.eq_ignore_ascii_case(NAME) {
        return vec![entry.dn.clone()];
    }
    let same = |name: &String| name.eq_ignore_ascii_case(attribute);
    let texts = entry.attrs.iter().filter(|(name, _)| same(name));
    let bytes = entry.bin_attrs.iter().filter(|(name, _)| same(name));
    let texts = texts.flat_map(|(_, values)| values.iter().cloned());
    texts
        .chain(bytes.flat_map(|(_, values)| values.iter().map(|value| STANDARD.encode(value))))
        .collect()
}

/// All that was found, each attribute a column by its name.
fn all_attributes(entries: Vec<SearchEntry>) -> Table {
    let names: BTreeSet<String> = entries
        .iter()
        .flat_map(|entry| entry.attrs.keys().chain(entry.bin_attrs.keys()).cloned())
        .collect();
    let texts = entries.into_iter().map(|entry| {
        let attributes = names.iter().map(|name| values(&entry, name).join(", "));
        std::iter::once(entry.dn.clone())
            .chain(attributes.collect::<Vec<_>>())
            .collect()
    });
    let texts = texts.collect();
    cells::typed(
        std::iter::once(NAME.to_owned()).chain(names.iter().cloned()),
        texts,
    )
}

/// The attributes that are asked for, each of the kind that is said.
fn fields(
    source: &Source,
    fields: &[Field],
    entries: &[SearchEntry],
) -> Result<Table, SourceError> {
    let mut rows = Vec::new();
    for (number, entry) in entries.iter().enumerate() {
        let cells = fields.iter().map(|field| {
            let attribute = field.path.as_ref().unwrap_or(&field.name);
            let mut text = values(entry, attribute).join(", ");
            if field.kind == ColumnKind::Instant {
                text = generalized(&text).unwrap_or(text);
            }
            let json = if text.is_empty() {
                serde_json::Value::Null
            } else {
                serde_json::Value::String(text)
            };
            cells::from_json(&json, field).map_err(|error| SourceError::Cell {
                source_name: source.name.clone(),
                row: number + 1,
                column: field.name.clone(),
                error,
            })
        });
        rows.push(cells.collect::<Result<Vec<Value>, _>>()?);
    }
    let columns = fields.iter().map(|field| Column {
        name: field.name.clone(),
        kind: field.kind,
    });
    Ok(Table {
        columns: columns.collect(),
        rows,
        truncated: false,
    })
}

/// A time as directories write it (RFC 4517, 3.3.13: `20261129120000Z`) as ISO 8601 has it.
fn generalized(text: &str) -> Option<String> {
    let (digits, rest) = text.split_at_checked(14)?;
    if !digits.bytes().all(|byte| byte.is_ascii_digit()) {
        return None;
    }
    let zone = rest.trim_start_matches(['.', ',']);
    let zone = zone.trim_start_matches(|c: char| c.is_ascii_digit());
    let fraction = &rest[..rest.len() - zone.len()];
    let zone = match zone.len() {
        // An offset has a colon there.
        5 => format!("{}:{}", &zone[..3], &zone[3..]),
        _ => zone.to_owned(),
    };
    Some(format!(
        "{}-{}-{}T{}:{}:{}{}{zone}",
        &digits[..4],
        &digits[4..6],
        &digits[6..8],
        &digits[8..10],
        &digits[10..12],
        &digits[12..],
        fraction.replace(',', ".")
    ))
}

/// A connection of the source's user.
async fn connect(
    reader: &Reader,
    source: &Source,
    server: &DirectoryServer,
) -> Result<Ldap, SourceError> {
    let Place {
        address,
        host,
        addresses,
        ..
    } = Place::of(reader, source, &server.address).await?;
    let tls = trusted(source, server).await?;
    let unreachable = |words: String| SourceError::Unreachable {
        source_name: source.name.clone(),
        address: address.clone(),
        words,
    };
    // Only what was looked at is connected to.
    let stream = TcpStream::connect(&addresses[..]).await;
    let stream = stream.and_then(TcpStream::into_std);
    let way = Way {
        host: &address,
        protection: match server.tls {
            DirectoryTls::Tls => Protection::Tls,
            DirectoryTls::StartTls => Protection::StartTls,
            DirectoryTls::Off => Protection::None,
        },
        tls,
        timeout: Duration::from_secs(source.timeout_seconds),
        stream: Some(stream.map_err(|error| unreachable(error.to_string()))?),
    };
    let connected = maple_lark_directory::connect(way).await;
    let mut connection = connected.map_err(|error| unreachable(error.to_string()))?;
    if let (Some(user), Some(password)) = (&server.user, &server.password) {
        let looked_up = |name, setting| reader.resolve_for(source, name, setting, Some(&host));
        let user = looked_up("user", user).await?;
        let password = looked_up("password", password).await?;
        let refused = |words: String| SourceError::SignIn {
            source_name: source.name.clone(),
            address: address.clone(),
            words,
        };
        if password.is_empty() {
            let words = "the password is empty, and nobody is signed in without one";
            return Err(refused(words.to_owned()));
        }
        let answer = connection.simple_bind(&user, &password).await;
        let answer = answer.map_err(|error| failed(source, server, error))?;
        if answer.rc != 0 {
            return Err(refused(answer.to_string()));
        }
    }
    Ok(connection)
}

/// Whom a protected way trusts; nothing if it is not protected.
async fn trusted(
    source: &Source,
    server: &DirectoryServer,
) -> Result<Option<Arc<ClientConfig>>, SourceError> {
    if server.tls == DirectoryTls::Off {
        return Ok(None);
    }
    let unusable = |words: String| SourceError::Setting {
        source_name: source.name.clone(),
        setting: "ca-file",
        reference: server.ca_file.clone().unwrap_or_default(),
        problem: SettingProblem::Certificates(words),
    };
    let pem = match &server.ca_file {
        Some(path) => {
            let pem = tokio::fs::read(path).await;
            Some(pem.map_err(|error| unusable(error.to_string()))?)
        }
        None => None,
    };
    let trusted = trusting(pem.as_deref());
    Ok(Some(trusted.map_err(|error| unusable(error.to_string()))?))
}

fn refused(source: &Source, words: String) -> SourceError {
    SourceError::Query {
        source_name: source.name.clone(),
        words,
    }
}

fn failed(source: &Source, server: &DirectoryServer, error: LdapError) -> SourceError {
    match error {
        LdapError::Timeout { .. } => SourceError::Timeout {
            source_name: source.name.clone(),
            seconds: source.timeout_seconds,
        },
        LdapError::LdapResult { result } => refused(source, result.to_string()),
        other => SourceError::Unreachable {
            source_name: source.name.clone(),
            address: server.address.written(),
            words: other.to_string(),
        },
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn times_of_directories_are_read() {
        let read = |text: &str| generalized(text).unwrap_or_default();
        assert_eq!(read("20261129120000Z"), "2026-11-29T12:00:00Z");
        assert_eq!(read("20261129120000.5Z"), "2026-11-29T12:00:00.5Z");
        assert_eq!(
            read("20261129120000,25+0130"),
            "2026-11-29T12:00:00.25+01:30"
        );
        assert_eq!(read("2026-11-29T12:00"), "");
        assert_eq!(read("today"), "");
    }
}

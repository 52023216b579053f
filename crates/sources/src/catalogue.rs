//! What can be asked of a source: tables with their columns, metrics with their labels,
//! files, checks.

use maple_lark_definition::{CheckKind, DatabaseServer, Listing, Source, Web};
use reqwest::Method;
use serde_json::Value as Json;
use serde_json_path::JsonPath;
use sqlx::{Connection, Row};

use crate::{
    Reader, SourceError, files, json, open_metrics, postgresql,
    threads::computed,
    web::{Call, shown},
};

/// So many entries are shown.
pub(crate) const MOST: usize = 500;

/// A table, a metric, a file or a check.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Entry {
    /// What a query calls it.
    pub name: String,
    /// `table`, `view`, `counter`, `gauge`, `file` …
    pub kind: String,
    pub unit: String,
    pub description: String,
    pub items: Vec<Item>,
}

/// A column or a label.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Item {
    pub name: String,
    pub kind: String,
    pub description: String,
    /// Some values that a label has.
    pub values: Vec<String>,
}

/// Whether what is searched for stands in one of the texts, in capitals or not.
pub(crate) fn found(search: &str, texts: &[&str]) -> bool {
    let search = search.trim().to_lowercase();
    search.is_empty()
        || texts
            .iter()
            .any(|text| text.to_lowercase().contains(&search))
}

/// Tables and views that the account may read.
pub async fn postgresql(
    reader: &Reader,
    source: &Source,
    settings: &DatabaseServer,
    search: &str,
) -> Result<Vec<Entry>, SourceError> {
    let mut connection = postgresql::connect(reader, source, settings).await?;
    let refused = |error: sqlx::Error| postgresql::query_error(source, error);
    let sql = "select case when n.nspname = any(current_schemas(false)) then c.relname::text else n.nspname || '.' || c.relname end as name, \
         case c.relkind when 'v' then 'view' when 'm' then 'materialized view' when 'f' then 'foreign table' else 'table' end as kind, \
         coalesce(obj_description(c.oid, 'pg_class'), '') as description, a.attname::text as item, format_type(a.atttypid, a.atttypmod) as item_kind, \
         coalesce(col_description(c.oid, a.attnum), '') as item_description \
       from pg_class c join pg_namespace n on n.oid = c.relnamespace join pg_attribute a on a.attrelid = c.oid \
       where c.relkind in ('r', 'v', 'm', 'f', 'p') and a.attnum > 0 and not a.attisdropped and not c.relispartition \
         and n.nspname not in ('information_schema', 'pg_toast') and (n.nspname <> 'pg_catalog' or c.relname like 'pg_stat%') \
         and has_column_privilege(c.oid, a.attnum, 'select') \
       order by n.nspname = 'pg_catalog', n.nspname, c.relname, a.attnum";
    let rows = sqlx::query(sql)
        .fetch_all(&mut connection)
        .await
        .map_err(refused)?;
    let _ = connection.close().await;
    let lines = rows.iter().map(|row| line_of(row).map_err(refused));
    Ok(tables(lines.collect::<Result<_, _>>()?, search))
}

/// One column of a table, with what its table is.
pub struct Line {
    pub name: String,
    pub kind: String,
    pub description: String,
    pub item: Item,
}

/// A row with the columns `name`, `kind`, `description`, `item`, `item_kind` and
/// `item_description`, all of them texts.
pub fn line_of<'r, R: Row>(row: &'r R) -> Result<Line, sqlx::Error>
where
    &'static str: sqlx::ColumnIndex<R>,
    String: sqlx::Decode<'r, R::Database> + sqlx::Type<R::Database>,
{
    Ok(Line {
        name: row.try_get("name")?,
        kind: row.try_get("kind")?,
        description: row.try_get("description")?,
        item: Item {
            name: row.try_get("item")?,
            kind: row.try_get("item_kind")?,
            description: row.try_get("item_description")?,
            values: Vec::new(),
        },
    })
}

/// The tables that lines, those of a table one after the other, tell of; those in which `search`
/// is found.
pub fn tables(lines: Vec<Line>, search: &str) -> Vec<Entry> {
    let mut entries: Vec<Entry> = Vec::new();
    for line in lines {
        match entries.last_mut().filter(|entry| entry.name == line.name) {
            Some(entry) => entry.items.push(line.item),
            None => entries.push(Entry {
                name: line.name,
                kind: line.kind,
                unit: String::new(),
                description: line.description,
                items: vec![line.item],
            }),
        }
    }
    let wanted = |entry: &Entry| {
        found(search, &[&entry.name, &entry.description])
            || entry
                .items
                .iter()
                .any(|item| found(search, &[&item.name, &item.description]))
    };
    entries.retain(wanted);
    entries.truncate(MOST);
    entries
}

pub async fn open_metrics(
    reader: &Reader,
    source: &Source,
    web: &Web,
    search: &str,
) -> Result<Vec<Entry>, SourceError> {
    let (families, _) = open_metrics::families(reader, source, web).await?;
    let wanted = families
        .into_iter()
        .filter(|family| found(search, &[&family.name, &family.help]))
        .take(MOST);
    let entry = |family: crate::open_metrics_text::Family| {
        let mut items: Vec<Item> = Vec::new();
        for (label, value) in family.samples.iter().flat_map(|sample| &sample.labels) {
            let item = match items.iter_mut().find(|item| item.name == *label) {
                Some(item) => item,
                None => {
                    items.push(Item {
                        name: label.clone(),
                        kind: "label".to_owned(),
                        description: String::new(),
                        values: Vec::new(),
                    });
                    let last = items.len() - 1;
                    &mut items[last]
                }
            };
            if item.values.len() < 20 && !item.values.contains(value) {
                item.values.push(value.clone());
            }
        }
        Entry {
            name: family.name,
            kind: family.kind,
            unit: family.unit,
            description: family.help,
            items,
        }
    };
    Ok(wanted.map(entry).collect())
}

/// What a service lists where its definition says.
pub async fn listed(
    reader: &Reader,
    source: &Source,
    web: &Web,
    listing: &Listing,
    search: &str,
) -> Result<Vec<Entry>, SourceError> {
    let call = Call {
        method: Method::GET,
        url: reader.url(source, web, &listing.path).await?,
        headers: Vec::new(),
        body: None,
    };
    let address = shown(&call.url);
    let response = reader.call(source, web, &call).await?;
    let bytes = reader.bytes(source, &address, response).await?;
    let (of, listing, search) = (source.clone(), listing.clone(), search.to_owned());
    let work = move || entries_of(&of, &listing, &search, &address, &bytes);
    computed(source, work).await
}

fn entries_of(
    source: &Source,
    listing: &Listing,
    search: &str,
    address: &str,
    bytes: &[u8],
) -> Result<Vec<Entry>, SourceError> {
    let failed = |words: String| SourceError::Answer {
        source_name: source.name.clone(),
        address: address.to_owned(),
        words,
    };
    let json = json::parse(source, address, bytes)?;
    // The definition has checked the paths.
    let path =
        |text: &str| JsonPath::parse(text).map_err(|error| failed(format!("{text}: {error}")));
    let rows = path(&listing.rows)?;
    let texts = |row: &Json, text: &str| {
        Ok::<_, SourceError>(
            path(text)?
                .query(row)
                .all()
                .into_iter()
                .flat_map(words_of)
                .collect::<Vec<String>>(),
        )
    };
    let first = |row: &Json, text: &Option<String>| match text {
        Some(text) => Ok(texts(row, text)?.into_iter().next().unwrap_or_default()),
        None => Ok(String::new()),
    };
    let mut entries = Vec::new();
    // One list of names means its names.
    for row in rows.query(&json).all().into_iter().flat_map(each) {
        let Some(name) = texts(row, &listing.name)?.into_iter().next() else {
            continue;
        };
        let description = first(row, &listing.description)?;
        if !found(search, &[&name, &description]) {
            continue;
        }
        let items = listing
            .items
            .as_deref()
            .map(|items| texts(row, items))
            .transpose()?
            .unwrap_or_default();
        let item = |name: String| Item {
            name,
            kind: String::new(),
            description: String::new(),
            values: Vec::new(),
        };
        entries.push(Entry {
            name,
            kind: first(row, &listing.kind)?,
            unit: first(row, &listing.unit)?,
            description,
            items: items.into_iter().map(item).collect(),
        });
        if entries.len() == MOST {
            break;
        }
    }
    Ok(entries)
}

fn each(json: &Json) -> Vec<&Json> {
    match json {
        Json::Array(entries) => entries.iter().collect(),
        other => vec![other],
    }
}

/// Texts and numbers as they read; the texts of a list; nothing else.
fn words_of(json: &Json) -> Vec<String> {
    match json {
        Json::String(text) if !text.is_empty() => vec![text.clone()],
        Json::Number(number) => vec![number.to_string()],
        Json::Array(entries) => entries
            .iter()
            .filter_map(|entry| entry.as_str().map(str::to_owned))
            .collect(),
        _ => Vec::new(),
    }
}

pub async fn folder(
    reader: &Reader,
    source: &Source,
    folder: &str,
    search: &str,
) -> Result<Vec<Entry>, SourceError> {
    let (reader, of, inside) = (reader.clone(), source.clone(), folder.to_owned());
    let (root, names) = computed(source, move || {
        Ok((
            files::root(&reader, &of, &inside)?,
            files::find(&reader, &of, &inside, "**/*")?,
        ))
    })
    .await?;
    let names = names.into_iter().map(|path| {
        path.strip_prefix(&root)
            .unwrap_or(&path)
            .to_string_lossy()
            .into_owned()
    });
    Ok(file_entries(names, search))
}

/// The files whose names have `search` in them.
pub fn file_entries(names: impl Iterator<Item = String>, search: &str) -> Vec<Entry> {
    let wanted = names.filter(|name| found(search, &[name])).take(MOST);
    let entry = |name| Entry {
        kind: "file".to_owned(),
        name,
        unit: String::new(),
        description: String::new(),
        items: Vec::new(),
    };
    wanted.map(entry).collect()
}

pub fn checks(search: &str) -> Vec<Entry> {
    let describe = |kind: CheckKind| match kind {
        CheckKind::Tcp => "host:port accepts a connection",
        CheckKind::Http => "a URL answers, with which status and how fast",
        CheckKind::Certificate => {
            "how many days the certificate of host:port is valid, and whether it is trusted"
        }
        CheckKind::Dns => "the addresses of a name",
        CheckKind::Disk => "how full the file system of a folder of this machine is",
        CheckKind::Processor => "how busy the processors of this machine are, within a second",
        CheckKind::Memory => "how much memory this machine has and uses",
        CheckKind::Load => "the load of this machine, and since when it is up",
        CheckKind::Network => "octets and errors of this machine's network interfaces",
        CheckKind::Units => "the states of this machine's systemd units",
        CheckKind::Journal => {
            "how many lines of each unit and priority this machine's journal has in the window"
        }
    };
    let entries = CheckKind::ALL.into_iter().map(|kind| Entry {
        name: kind.name().to_owned(),
        kind: "check".to_owned(),
        unit: String::new(),
        description: describe(kind).to_owned(),
        items: Vec::new(),
    });
    entries
        .filter(|entry| found(search, &[&entry.name, &entry.description]))
        .collect()
}

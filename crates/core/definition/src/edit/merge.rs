//! Tables of a text that are given other keys.

use serde_json::{Map, Value as Json};
use toml_edit::{Array, ArrayOfTables, InlineTable, Item, Table, Value};

use super::{BadEdit, keys, set};

/// Objects go no deeper than this; no definition does.
const MOST_DEPTH: usize = 16;

/// So many entries of a list are compared with one another; those of longer lists are the same if
/// they stand at the same place.
const MOST_PAIRS: usize = 250_000;
/// So many entries of a text are known again elsewhere in it.
const MOST_KNOWN: usize = 2_000;

/// What a reader looks for first stands first.
const FIRST: [&str; 7] = ["name", "show", "title", "kind", "do", "query", "source"];

/// Lists whose entries are one line each where they are new; the entries of others are tables.
const LINES: [&str; 3] = ["measure", "filter", "field"];

/// Merges a patch (RFC 7396): what is null goes, objects are merged, all else takes the place of
/// what was there.
pub(super) fn merge(
    table: &mut Table,
    patch: &Map<String, Json>,
    depth: usize,
) -> Result<(), BadEdit> {
    if depth > MOST_DEPTH {
        return Err(BadEdit::TooDeep);
    }
    for (key, wanted) in sorted(patch) {
        match (wanted, table.get_mut(key)) {
            (Json::Object(inner), Some(Item::Table(known))) => merge(known, inner, depth + 1)?,
            (Json::Object(inner), Some(item)) if item.is_inline_table() => {
                with_inline(item, |table| merge(table, inner, depth + 1))?;
            }
            (Json::Object(inner), _) => {
                let mut made = new_table();
                merge(&mut made, inner, depth + 1)?;
                table.insert(key, Item::Table(made));
            }
            _ => put(table, key, wanted, &[], depth)?,
        }
    }
    Ok(())
}

/// Entries of lists as they were anywhere in a text, with what each says.
pub(super) type Entries = [(Json, Table)];

/// Makes a table say exactly these keys. What is new in a list is taken from `known` where that
/// says the same, with its comments.
pub(super) fn make(
    table: &mut Table,
    wanted: &Map<String, Json>,
    known: &Entries,
    depth: usize,
) -> Result<(), BadEdit> {
    let there = table.iter().map(|(key, _)| key.to_owned());
    let gone: Vec<String> = there.filter(|key| !wanted.contains_key(key)).collect();
    for key in gone {
        table.remove(&key);
    }
    for (key, value) in sorted(wanted) {
        put(table, key, value, known, depth)?;
    }
    Ok(())
}

/// The entries of every list of tables in a table.
pub(super) fn entries_of(table: &Table) -> Vec<(Json, Table)> {
    let mut found = Vec::new();
    for (key, item) in table.iter() {
        if found.len() > MOST_KNOWN {
            break;
        }
        match item {
            Item::Table(inner) => found.extend(entries_of(inner)),
            Item::ArrayOfTables(entries) => {
                let said = said(key, item).unwrap_or_default();
                for (said, entry) in said.into_iter().zip(entries.iter()) {
                    found.extend(entries_of(entry));
                    let mut entry = entry.clone();
                    without_place(&mut entry);
                    found.push((said, entry));
                }
            }
            _ => {}
        }
    }
    found
}

/// Forgets where a table stood in the text: it is written after what stands before it.
fn without_place(table: &mut Table) {
    table.set_position(None);
    for (_, item) in table.iter_mut() {
        match item {
            Item::Table(inner) => without_place(inner),
            Item::ArrayOfTables(entries) => entries.iter_mut().for_each(without_place),
            _ => {}
        }
    }
}

fn sorted(keys: &Map<String, Json>) -> Vec<(&String, &Json)> {
    let mut entries: Vec<_> = keys.iter().collect();
    entries.sort_by_key(|(key, _)| {
        let place = FIRST.iter().position(|first| first == key);
        place.unwrap_or(FIRST.len())
    });
    entries
}

fn new_table() -> Table {
    let mut table = Table::new();
    table.decor_mut().set_prefix("\n");
    table
}

/// A table in one line, changed as any other, which stays in its line.
fn with_inline<T>(
    item: &mut Item,
    change: impl FnOnce(&mut Table) -> Result<T, BadEdit>,
) -> Result<T, BadEdit> {
    let Some(inline) = item.as_inline_table() else {
        return change(&mut new_table());
    };
    let decor = inline.decor().clone();
    let mut table = inline.clone().into_table();
    let done = change(&mut table)?;
    let mut inline = table.into_inline_table();
    inline.fmt();
    *inline.decor_mut() = decor;
    *item = Item::Value(inline.into());
    Ok(done)
}

/// Puts a value at a key, in the form that is there.
fn put(
    table: &mut Table,
    key: &str,
    wanted: &Json,
    known: &Entries,
    depth: usize,
) -> Result<(), BadEdit> {
    if depth > MOST_DEPTH {
        return Err(BadEdit::TooDeep);
    }
    match wanted {
        Json::Null => drop(table.remove(key)),
        Json::Object(inner) => match table.get_mut(key) {
            Some(Item::Table(there)) => make(there, inner, known, depth + 1)?,
            Some(item) if item.is_inline_table() => {
                with_inline(item, |table| make(table, inner, known, depth + 1))?;
            }
            _ => {
                let mut made = new_table();
                make(&mut made, inner, known, depth + 1)?;
                table.insert(key, Item::Table(made));
            }
        },
        Json::Array(entries) if !entries.is_empty() && entries.iter().all(Json::is_object) => {
            put_tables(table, key, entries, known, depth)?;
        }
        plain => {
            let value = serde::Serialize::serialize(plain, toml_edit::ser::ValueSerializer::new());
            let value = value.map_err(|error| BadEdit::NoValue {
                key: key.to_owned(),
                reason: error.to_string(),
            })?;
            set(table, key, value);
        }
    }
    Ok(())
}

/// Puts a list of tables in the place of what was there. Entries that were there keep their
/// comments, also where they are moved.
fn put_tables(
    table: &mut Table,
    key: &str,
    entries: &[Json],
    known: &Entries,
    depth: usize,
) -> Result<(), BadEdit> {
    let there = table.get(key);
    let said = there.and_then(|item| said(key, item));
    if said.as_deref() == Some(entries) {
        return Ok(());
    }
    let in_lines = match there {
        Some(Item::Value(Value::Array(_))) => true,
        Some(Item::ArrayOfTables(_)) => false,
        _ => LINES.contains(&key),
    };
    let old = tables_of(there);
    let origins = origins(&said.unwrap_or_default(), entries);
    let few = if entries.len() > MOST_KNOWN {
        &[]
    } else {
        &known[..known.len().min(MOST_KNOWN)]
    };
    let stay_in_order = origins.iter().flatten().is_sorted();
    let mut made = Vec::new();
    for (entry, origin) in entries.iter().zip(&origins) {
        let same = || {
            let alike = |key| move |(said, _): &&(Json, Table)| same_text(said, entry, key);
            let equal = few.iter().find(|(said, _)| said == entry);
            // What was moved and changed at once is known by its title.
            equal.or_else(|| few.iter().filter(alike("show")).find(alike("title")))
        };
        let mut table = origin
            .and_then(|place| old.get(place).cloned())
            .or_else(|| same().map(|(_, table)| table.clone()))
            .unwrap_or_else(new_table);
        if let Some(entry) = entry.as_object() {
            make(&mut table, entry, known, depth + 1)?;
        }
        if !stay_in_order {
            without_place(&mut table);
        }
        made.push(table);
    }
    let item = if in_lines {
        Item::Value(Value::Array(lines(made)))
    } else {
        Item::ArrayOfTables(ArrayOfTables::from_iter(made))
    };
    match table.get_mut(key) {
        Some(there) => *there = item,
        None => drop(table.insert(key, item)),
    }
    Ok(())
}

fn tables_of(list: Option<&Item>) -> Vec<Table> {
    match list {
        Some(Item::ArrayOfTables(tables)) => tables.iter().cloned().collect(),
        Some(Item::Value(Value::Array(array))) => {
            let tables = array.iter().filter_map(Value::as_inline_table);
            tables.map(|one| one.clone().into_table()).collect()
        }
        _ => Vec::new(),
    }
}

/// What the tables of a list say; nothing if it is no list of tables.
fn said(key: &str, item: &Item) -> Option<Vec<Json>> {
    let mut document = toml_edit::DocumentMut::new();
    document.insert(key, item.clone());
    let mut said = keys(&document.to_string()).ok()?;
    match said.get_mut(key)?.take() {
        Json::Array(entries) => Some(entries),
        _ => None,
    }
}

/// For each wanted entry, the place of the old one that it is: one that says the same, or has the
/// same name, or the same title, or else one that stood at its place and is nobody else's.
fn origins(old: &[Json], wanted: &[Json]) -> Vec<Option<usize>> {
    if old.len().saturating_mul(wanted.len()) > MOST_PAIRS {
        let by_place = |at: usize| (at < old.len()).then_some(at);
        return (0..wanted.len()).map(by_place).collect();
    }
    let mut found: Vec<Option<usize>> = vec![None; wanted.len()];
    let mut free: Vec<bool> = vec![true; old.len()];
    let alike: [fn(&Json, &Json) -> bool; 4] = [
        |one, other| one == other,
        |one, other| same_text(one, other, "name"),
        |one, other| same_text(one, other, "title"),
        |one, other| same_text(one, other, "column") && same_text(one, other, "do"),
    ];
    for is_alike in alike {
        for (entry, place) in wanted.iter().zip(&mut found) {
            if place.is_none() {
                *place = (0..old.len()).find(|at| free[*at] && is_alike(&old[*at], entry));
                if let Some(at) = place {
                    free[*at] = false;
                }
            }
        }
    }
    for (at, place) in found.iter_mut().enumerate() {
        if place.is_none() && free.get(at) == Some(&true) {
            free[at] = false;
            *place = Some(at);
        }
    }
    found
}

fn same_text(one: &Json, other: &Json, key: &str) -> bool {
    let text = |json: &Json| json.get(key).and_then(Json::as_str).map(str::to_owned);
    text(one).is_some_and(|text_of_one| text(other) == Some(text_of_one))
}

/// A list with one line for each entry.
fn lines(tables: Vec<Table>) -> Array {
    let mut array = Array::new();
    for table in tables {
        let mut inline: InlineTable = table.into_inline_table();
        inline.fmt();
        let mut value = Value::InlineTable(inline);
        value.decor_mut().set_prefix("\n  ");
        value.decor_mut().set_suffix("");
        array.push_formatted(value);
    }
    array.set_trailing("\n");
    array.set_trailing_comma(true);
    array
}

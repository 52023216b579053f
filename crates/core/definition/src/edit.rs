//! Changes to a definition's text that leave everything else in it as its author wrote it.

use toml_edit::{ArrayOfTables, DocumentMut, Item, Table, TableLike, Value};

use crate::model::kind::Kind;

/// Why a definition's text could not be changed.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum BadEdit {
    /// The text is not TOML.
    #[error("the definition cannot be read: {0}")]
    Unreadable(String),
    /// It has no table of that name.
    #[error("the definition has no table [{0}]")]
    NoTable(&'static str),
    /// A value has no form in TOML.
    #[error("the value of \"{key}\" cannot be written: {reason}")]
    NoValue {
        /// The key.
        key: String,
        /// What the library said.
        reason: String,
    },
    /// Objects are within objects without end.
    #[error("the change is too deep")]
    TooDeep,
    /// The changed table could not be written down.
    #[error("[{table}] cannot be written: {reason}")]
    Unwritable {
        /// The table.
        table: &'static str,
        /// What the library said.
        reason: String,
    },
}

/// The text of a definition under another name and title.
///
/// # Errors
/// If the text is no definition of that kind.
pub fn renamed(text: &str, kind: Kind, name: &str, title: &str) -> Result<String, BadEdit> {
    let mut document = read(text)?;
    let table = document
        .get_mut(kind.name())
        .and_then(Item::as_table_like_mut)
        .ok_or(BadEdit::NoTable(kind.name()))?;
    set(table, "name", name.into());
    set(table, "title", title.into());
    Ok(document.to_string())
}

/// The text of a report without its audiences: what one of them sees must not name another.
/// A text that cannot be read is given back empty.
#[must_use]
pub fn without_audiences(text: &str) -> String {
    let Ok(mut document) = read(text) else {
        return String::new();
    };
    document.remove("audience");
    document.remove("audiences-from");
    document.to_string()
}

/// The text of a report with another time zone, schedule and window. A table that is not
/// given is removed; keys that stay the same keep their place and comments.
///
/// # Errors
/// If the text is no report, or a table cannot be written as TOML (a number that is not
/// finite, for instance).
pub fn rescheduled(
    text: &str,
    zone: &str,
    schedule: Option<&serde_json::Value>,
    window: Option<&serde_json::Value>,
) -> Result<String, BadEdit> {
    let mut document = read(text)?;
    let report = document
        .get_mut("report")
        .and_then(Item::as_table_like_mut)
        .ok_or(BadEdit::NoTable("report"))?;
    set(report, "time-zone", zone.into());
    for (name, wanted) in [("window", window), ("schedule", schedule)] {
        let Some(wanted) = wanted else {
            document.remove(name);
            continue;
        };
        let wanted = toml_edit::ser::to_document(wanted).map_err(|error| BadEdit::Unwritable {
            table: name,
            reason: error.to_string(),
        })?;
        if document.get(name).and_then(Item::as_table_like).is_none() {
            let mut table = Table::new();
            table.decor_mut().set_prefix("\n");
            document.insert(name, Item::Table(table));
        }
        let Some(table) = document.get_mut(name).and_then(Item::as_table_like_mut) else {
            continue;
        };
        let gone: Vec<String> = table
            .iter()
            .map(|(key, _)| key.to_owned())
            .filter(|key| !wanted.contains_key(key))
            .collect();
        for key in gone {
            table.remove(&key);
        }
        for (key, item) in wanted.iter() {
            if let Some(value) = item.as_value() {
                set(table, key, value.clone());
            }
        }
    }
    Ok(document.to_string())
}

/// The keys of a definition as JSON: tables are objects, lists of tables are lists of them.
///
/// # Errors
/// If the text is not TOML.
pub fn keys(text: &str) -> Result<serde_json::Value, BadEdit> {
    toml_edit::de::from_str(text).map_err(|error| BadEdit::Unreadable(error.message().to_owned()))
}

/// The text of a definition with some of its keys changed, by a JSON merge patch (RFC 7396):
/// what is null goes, objects are merged, everything else takes the old value's place. Comments,
/// the order of keys and whatever the patch does not name stay. An empty text becomes a new
/// definition.
///
/// # Errors
/// If the text is not TOML, or a value has no form in TOML (null within a list).
pub fn patched(
    text: &str,
    patch: &serde_json::Map<String, serde_json::Value>,
) -> Result<String, BadEdit> {
    let mut document = read(text)?;
    merge(document.as_table_mut(), patch, 0)?;
    let text = document.to_string();
    Ok(format!("{}\n", text.trim()))
}

/// Objects go no deeper than this; no definition does.
const MOST_DEPTH: usize = 16;

fn merge(
    table: &mut Table,
    patch: &serde_json::Map<String, serde_json::Value>,
    depth: usize,
) -> Result<(), BadEdit> {
    use serde_json::Value as Json;
    if depth > MOST_DEPTH {
        return Err(BadEdit::TooDeep);
    }
    // What a reader looks for first stands first.
    let place = |key: &str| {
        ["name", "title", "kind"]
            .iter()
            .position(|first| *first == key)
    };
    let mut entries: Vec<_> = patch.iter().collect();
    entries.sort_by_key(|(key, _)| place(key).unwrap_or(3));
    for (key, wanted) in entries {
        match wanted {
            Json::Null => drop(table.remove(key)),
            Json::Object(inner) => match table.get_mut(key) {
                Some(Item::Table(known)) => merge(known, inner, depth + 1)?,
                known => {
                    // What stands in one line stays there.
                    let inline = known.and_then(|item| item.as_inline_table().cloned());
                    let mut made = inline
                        .clone()
                        .map_or_else(Table::new, toml_edit::InlineTable::into_table);
                    merge(&mut made, inner, depth + 1)?;
                    let item = match inline {
                        Some(_) => Item::Value(made.into_inline_table().into()),
                        None => {
                            made.decor_mut().set_prefix("\n");
                            Item::Table(made)
                        }
                    };
                    table.insert(key, item);
                }
            },
            Json::Array(entries) if !entries.is_empty() && entries.iter().all(Json::is_object) => {
                put_tables(table, key, entries, depth)?;
            }
            plain => {
                let value =
                    serde::Serialize::serialize(plain, toml_edit::ser::ValueSerializer::new());
                let value = value.map_err(|error| BadEdit::NoValue {
                    key: key.clone(),
                    reason: error.to_string(),
                })?;
                set(table, key, value);
            }
        }
    }
    Ok(())
}

/// Puts a list of tables in place of what was there, unless that says the same.
fn put_tables(
    table: &mut Table,
    key: &str,
    entries: &[serde_json::Value],
    depth: usize,
) -> Result<(), BadEdit> {
    let mut tables = ArrayOfTables::new();
    for entry in entries.iter().filter_map(serde_json::Value::as_object) {
        let mut made = Table::new();
        made.decor_mut().set_prefix("\n");
        merge(&mut made, entry, depth + 1)?;
        tables.push(made);
    }
    let is_same = table.get(key).is_some_and(|known| {
        let alone = |item: Item| {
            let mut document = DocumentMut::new();
            document.insert(key, item);
            keys(&document.to_string()).ok()
        };
        alone(known.clone()) == alone(Item::ArrayOfTables(tables.clone()))
    });
    if !is_same {
        table.insert(key, Item::ArrayOfTables(tables));
    }
    Ok(())
}

fn read(text: &str) -> Result<DocumentMut, BadEdit> {
    text.parse()
        .map_err(|error: toml_edit::TomlError| BadEdit::Unreadable(error.message().to_owned()))
}

/// Sets a key; a value that stays the same keeps how it is written, and any keeps what
/// stands around it.
pub(crate) fn set(table: &mut dyn TableLike, key: &str, mut value: Value) {
    match table.get_mut(key).and_then(Item::as_value_mut) {
        Some(old) if same(old, &value) => {}
        Some(old) => {
            *value.decor_mut() = old.decor().clone();
            *old = value;
        }
        None => drop(table.insert(key, Item::Value(value))),
    }
}

pub(crate) fn same(one: &Value, other: &Value) -> bool {
    let bare = |value: &Value| {
        let mut value = value.clone();
        value.decor_mut().clear();
        if let Value::Array(array) = &mut value {
            array.fmt();
        }
        value.to_string()
    };
    one.as_str()
        .zip(other.as_str())
        .map_or_else(|| bare(one) == bare(other), |(one, other)| one == other)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::model::kind::Kind;

    const REPORT: &str = "# The morning page\n[report]\nname = \"daily\"   # never change\ntitle = \"Daily\"\ntime-zone = \"UTC\"\ndashboards = [\"a\"]\n\n\
        [window]\nprevious = \"day\"\n\n[schedule] # when\nevery = \"day\"\nat = '07:30' # before the stand-up\n\n[[audience]]\nname = \"All\"\nto = [\"a@orrin-sound.example\"]\n";

    #[test]
    fn only_what_is_changed_changes() {
        let schedule = serde_json::json!({ "every": "weekday", "at": "07:30" });
        let window = serde_json::json!({ "previous": "day" });
        let text = rescheduled(REPORT, "Atlantic/Faroe", Some(&schedule), Some(&window)).unwrap();
        assert_eq!(
            text,
            REPORT
                .replace("\"UTC\"", "\"Atlantic/Faroe\"")
                .replace("every = \"day\"", "every = \"weekday\"")
        );
    }

    #[test]
    fn keys_and_tables_that_are_not_wanted_go() {
        let schedule = serde_json::json!({ "every": "PT15M" });
        let text = rescheduled(
            REPORT,
            "UTC",
            Some(&schedule),
            Some(&serde_json::json!({ "last": "PT1H" })),
        )
        .unwrap();
        assert!(
            text.contains("[window]\nlast = \"PT1H\"\n")
                && text.contains("[schedule] # when\nevery = \"PT15M\"\n")
                && !text.contains("07:30"),
            "{text}"
        );
        let text = rescheduled(REPORT, "UTC", None, None).unwrap();
        assert!(
            !text.contains("[schedule]")
                && !text.contains("[window]")
                && text.contains("[[audience]]"),
            "{text}"
        );
        let again = rescheduled(&text, "UTC", Some(&schedule), None).unwrap();
        assert!(
            again.contains("\n[schedule]\nevery = \"PT15M\"\n"),
            "{again}"
        );
    }

    fn patch(text: &str, patch: serde_json::Value) -> String {
        patched(text, patch.as_object().unwrap()).unwrap()
    }

    #[test]
    fn a_patch_changes_what_it_names_and_nothing_else() {
        use serde_json::json;
        let same = patch(REPORT, keys(REPORT).unwrap());
        assert_eq!(
            same, REPORT,
            "what a text says already changes nothing in it"
        );
        let text = patch(
            REPORT,
            json!({
                "report": { "title": "Every day", "owner": "ann@orrin-sound.example" },
                "schedule": { "at": ["06:00", "18:00"], "every": null },
                "window": null,
            }),
        );
        assert_eq!(
            text,
            REPORT
                .replace("\"Daily\"", "\"Every day\"")
                .replace(
                    "dashboards = [\"a\"]\n",
                    "dashboards = [\"a\"]\nowner = \"ann@orrin-sound.example\"\n"
                )
                .replace("[window]\nprevious = \"day\"\n\n", "")
                .replace("every = \"day\"\n", "")
                .replace(
                    "at = '07:30' # before",
                    "at = [\"06:00\", \"18:00\"] # before"
                )
        );
        let text = patch(
            REPORT,
            json!({ "audience": [{ "name": "B", "to": ["b@orrin-sound.example"] }] }),
        );
        assert!(
            text.ends_with("\n[[audience]]\nname = \"B\"\nto = [\"b@orrin-sound.example\"]\n"),
            "{text}"
        );
        let inline = "[source]\nsign-in = { kind = \"bearer\", token = \"secret:a\" } # kept\n";
        let text = patch(
            inline,
            json!({ "source": { "sign-in": { "token": "secret:b" } } }),
        );
        assert!(
            text.contains("sign-in = {") && text.contains("secret:b"),
            "{text}"
        );
    }

    #[test]
    fn a_patch_of_nothing_is_a_new_definition() {
        use serde_json::json;
        let source = json!({ "source": { "name": "db", "kind": "http-json", "sign-in": { "kind": "bearer", "token": "secret:db" }, "row-limit": 10, "x": null } });
        assert_eq!(
            patch("", source),
            "[source]\nname = \"db\"\nkind = \"http-json\"\nrow-limit = 10\n\n[source.sign-in]\nkind = \"bearer\"\ntoken = \"secret:db\"\n"
        );
        let refused = patched("", json!({ "a": [1, null] }).as_object().unwrap());
        assert!(
            matches!(refused, Err(BadEdit::NoValue { .. })),
            "{refused:?}"
        );
        let mut deep = json!(1);
        for _ in 0..40 {
            deep = json!({ "a": deep });
        }
        assert!(matches!(
            patched("", deep.as_object().unwrap()),
            Err(BadEdit::TooDeep)
        ));
        assert!(matches!(
            patched("[", &serde_json::Map::new()),
            Err(BadEdit::Unreadable(_))
        ));
    }

    #[test]
    fn a_copy_has_another_name_and_its_comments() {
        let text = renamed(REPORT, Kind::Report, "daily-copy", "Daily, for the port").unwrap();
        assert!(text.starts_with("# The morning page\n[report]\nname = \"daily-copy\"   # never change\ntitle = \"Daily, for the port\"\n"), "{text}");
        assert!(matches!(
            renamed(REPORT, Kind::Source, "x", "X"),
            Err(BadEdit::NoTable("source"))
        ));
    }
}

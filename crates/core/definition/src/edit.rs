//! Changes to a definition's text that leave everything else in it as its author wrote it.

use toml_edit::{DocumentMut, Item, Table, TableLike, Value};

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

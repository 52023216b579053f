//! Keys of a definition as they are given on the command line, and as the tables of a file.

use maple_lark_api::{Kind, Words};
use serde_json::{Map, Value};

/// Not KEY=VALUE.
#[derive(Debug, PartialEq, Eq, thiserror::Error)]
#[error("\"{0}\" is not KEY=VALUE, such as address=db1:5432")]
pub struct NoAssignment(String);

pub fn assignment(text: &str) -> Result<(Vec<String>, Value), NoAssignment> {
    let refused = || NoAssignment(text.chars().take(200).collect());
    let (key, value) = text.split_once('=').ok_or_else(refused)?;
    let path: Vec<String> = key.trim().split('.').map(str::to_owned).collect();
    if path.iter().any(String::is_empty) {
        return Err(refused());
    }
    let value = match value.trim() {
        "" => Value::Null,
        // A time or a version is no number.
        plain => match serde_json::from_str(plain) {
            Ok(found @ (Value::Number(_) | Value::Bool(_) | Value::Array(_))) => found,
            _ => Value::from(value),
        },
    };
    Ok((path, value))
}

/// The tables that stand beside the one that a definition is named after.
const TABLES: [&str; 18] = [
    "window",
    "schedule",
    "message",
    "deliver",
    "approval",
    "files",
    "keep",
    "send",
    "readiness",
    "parameters",
    "query",
    "parameter",
    "section",
    "audience",
    "audiences-from",
    "change",
    "input",
    "dashboard",
];

/// Keys as the tables of a file. A key without a table is the definition's own.
pub fn tables(kind: Kind, keys: Vec<(Vec<String>, Value)>) -> Map<String, Value> {
    let mut all = Map::new();
    for (mut path, value) in keys {
        let first = path[0].as_str();
        let has_table = path.len() > 1 && (first == kind.word() || TABLES.contains(&first));
        if !has_table {
            path.insert(0, kind.word().to_owned());
        }
        put(&mut all, &path, value);
    }
    all
}

fn put(table: &mut Map<String, Value>, path: &[String], value: Value) {
    match path {
        [] => {}
        [key] => drop(table.insert(key.clone(), value)),
        [key, rest @ ..] => {
            let inner = table
                .entry(key.clone())
                .or_insert_with(|| Value::Object(Map::new()));
            if !inner.is_object() {
                *inner = Value::Object(Map::new());
            }
            if let Some(inner) = inner.as_object_mut() {
                put(inner, rest, value);
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use serde_json::json;

    use super::*;

    #[test]
    fn keys_are_tables_of_a_file() {
        let keys = [
            "address=db1:5432",
            "row-limit=10",
            "at=07:30",
            "schedule.at=07:30",
            "sign-in.token=secret:a",
            "members=[\"a\", \"b\"]",
            "numbers=",
            "title={\"a\": 1}",
        ];
        let keys = keys.iter().map(|key| assignment(key).unwrap()).collect();
        assert_eq!(
            Value::Object(tables(Kind::Source, keys)),
            json!({
                "source": {
                    "address": "db1:5432", "row-limit": 10, "at": "07:30", "numbers": null,
                    "sign-in": { "token": "secret:a" }, "members": ["a", "b"], "title": "{\"a\": 1}",
                },
                "schedule": { "at": "07:30" },
            })
        );
        for bad in ["address", "=x", "a..b=1", ""] {
            let told = assignment(bad).unwrap_err().to_string();
            assert!(told.contains("KEY=VALUE"), "{told}");
        }
    }

    #[test]
    fn a_later_key_takes_the_place_of_an_earlier_one() {
        let mut table = Map::new();
        put(&mut table, &["a".to_owned()], json!(1));
        put(&mut table, &["a".to_owned(), "b".to_owned()], json!(2));
        assert_eq!(Value::Object(table), json!({ "a": { "b": 2 } }));
    }
}

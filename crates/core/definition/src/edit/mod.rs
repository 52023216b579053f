//! Changes to a definition's text that leave everything else in it as its author wrote it.

mod merge;

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

/// The text of a definition that belongs to a team alone: with `teams` for what teams share, with `team` for
/// everything else.
///
/// # Errors
/// If the text is no definition of that kind.
pub fn given_to(text: &str, kind: Kind, team: &str) -> Result<String, BadEdit> {
    let mut document = read(text)?;
    let table = document
        .get_mut(kind.name())
        .and_then(Item::as_table_like_mut)
        .ok_or(BadEdit::NoTable(kind.name()))?;
    match kind {
        Kind::Source | Kind::Channel => set(table, "teams", Value::from_iter([team])),
        _ => set(table, "team", team.into()),
    }
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
    merge::merge(document.as_table_mut(), patch, 0)?;
    let text = document.to_string();
    Ok(format!("{}\n", text.trim()))
}

/// The text of a definition that says exactly these keys. Comments stay with what they are beside
/// or above, also where it is moved; so does how a value is written that stays the same. A list in
/// brackets that changes loses the comments inside it. An empty text becomes a new definition.
///
/// # Errors
/// If the text is not TOML, or a value has no form in TOML (null within a list).
pub fn rewritten(
    text: &str,
    keys: &serde_json::Map<String, serde_json::Value>,
) -> Result<String, BadEdit> {
    let mut document = read(text)?;
    let known = merge::entries_of(document.as_table());
    merge::make(document.as_table_mut(), keys, &known, 0)?;
    Ok(format!("{}\n", document.to_string().trim()))
}

/// The keys of a dashboard with nothing but one block, and the queries and parameters that it
/// needs: whoever looks at one block need not wait for the others. Nothing if there is no such
/// block. Both places are counted from 1, as in the keys of problems.
#[must_use]
pub fn only_block(
    keys: &serde_json::Map<String, serde_json::Value>,
    section: usize,
    block: usize,
) -> Option<serde_json::Map<String, serde_json::Value>> {
    let block = keys
        .get("section")?
        .get(section.checked_sub(1)?)?
        .get("block")?
        .get(block.checked_sub(1)?)?;
    // Whoever looks at it by itself wants to see it.
    let mut block = block.clone();
    block.as_object_mut()?.remove("hide");
    Some(with_only(keys, &block))
}

/// The keys of a dashboard with nothing but a table of one query, after so many of the steps that
/// follow it; after all of them if no number is given. Nothing if there is no such query.
#[must_use]
pub fn only_query(
    keys: &serde_json::Map<String, serde_json::Value>,
    name: &str,
    steps: Option<usize>,
) -> Option<serde_json::Map<String, serde_json::Value>> {
    use serde_json::{Value, json};
    let mut keys = keys.clone();
    let mut queries = keys.get_mut("query")?.as_array_mut()?.iter_mut();
    let query = queries.find(|query| query.get("name").and_then(Value::as_str) == Some(name))?;
    if let (Some(steps), Some(then)) = (steps, query.get_mut("then").and_then(Value::as_array_mut))
    {
        then.truncate(steps);
    }
    if let Some(query) = query.as_object_mut()
        && query.get("then") == Some(&json!([]))
    {
        query.remove("then");
    }
    let table = json!({ "show": "table", "title": name, "query": name });
    Some(with_only(&keys, &table))
}

fn with_only(
    keys: &serde_json::Map<String, serde_json::Value>,
    block: &serde_json::Value,
) -> serde_json::Map<String, serde_json::Value> {
    use serde_json::{Value, json};
    let list = |key: &str| {
        keys.get(key)
            .and_then(Value::as_array)
            .into_iter()
            .flatten()
    };
    // A query is needed if anything that is needed says its name.
    let mut needed = vec![block.clone()];
    needed.extend(list("parameter").cloned());
    let mut left: Vec<&Value> = list("query").collect();
    let mut next = 0;
    while next < needed.len() {
        let by = needed[next].clone();
        next += 1;
        left.retain(|query| {
            let name = query.get("name").and_then(Value::as_str);
            let is_named = name.is_some_and(|name| says(&by, name));
            if is_named {
                needed.push((*query).clone());
            }
            !is_named
        });
    }
    let mut alone = keys.clone();
    // In their order: a query stands behind those whose answers it needs.
    let queries = list("query").filter(|query| !left.contains(query));
    alone.insert("query".to_owned(), queries.cloned().collect());
    let section = json!([{ "title": "Block", "block": [block] }]);
    alone.insert("section".to_owned(), section);
    alone
}

fn says(value: &serde_json::Value, text: &str) -> bool {
    use serde_json::Value;
    match value {
        Value::String(found) => found == text,
        Value::Array(entries) => entries.iter().any(|entry| says(entry, text)),
        Value::Object(entries) => entries.values().any(|entry| says(entry, text)),
        _ => false,
    }
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
        // Also where nothing stands at the end of it.
        for end in [json!(1), json!({})] {
            let mut deep = end;
            for _ in 0..40 {
                deep = json!({ "a": deep });
            }
            let deep = deep.as_object().unwrap();
            assert!(matches!(patched("", deep), Err(BadEdit::TooDeep)));
            assert!(matches!(rewritten("", deep), Err(BadEdit::TooDeep)));
        }
        assert!(matches!(
            patched("[", &serde_json::Map::new()),
            Err(BadEdit::Unreadable(_))
        ));
    }

    const DASHBOARD: &str = "# Of the whole line\n[dashboard]\nname = \"line\" # stays\ntitle = \"Line\"\n\n\
        # --- load ---\n[[query]]\nname = \"load\"\nsource = \"ops\"\n[query.pick]\ntable = \"host_samples\"\nmeasure = [\n  { column = \"cpu\", with = \"mean\" }, # of all\n]\n\n\
        [[query.then]]\ndo = \"top\"\nrows = 10 # enough\nof = \"cpu\"\n\n[[query]]\nname = \"disks\" # full ones\nsource = \"ops\"\nsql = \"\"\"\nselect 1\n\"\"\"\n\n\
        [[section]]\ntitle = \"Hosts\"\n\n# who is busy\n[[section.block]]\nshow = \"bar\"\ntitle = \"Load\"\nquery = \"load\"\nlabel = \"host\"\nvalue = \"cpu\"\n\n\
        # what fills\n[[section.block]]\nshow = \"table\"\ntitle = \"Disks\"\nquery = \"disks\"\n\n[[section]]\ntitle = \"More\"\n";

    fn rewrite(text: &str, change: impl FnOnce(&mut serde_json::Value)) -> String {
        let mut wanted = keys(text).unwrap();
        change(&mut wanted);
        let changed = rewritten(text, wanted.as_object().unwrap()).unwrap();
        assert_eq!(keys(&changed).unwrap(), wanted, "{changed}");
        changed
    }

    #[test]
    fn a_text_says_other_keys_and_keeps_its_comments() {
        use serde_json::json;
        assert_eq!(rewrite(DASHBOARD, |_| ()), DASHBOARD);
        let text = rewrite(DASHBOARD, |keys| {
            keys["query"][0]["then"][0]["rows"] = 5.into();
            keys["section"][0]["block"][0]["note"] = "Noon".into();
            keys["query"][1].as_object_mut().unwrap().remove("sql");
            keys["query"][1]["pick"] =
                json!({ "table": "disks", "measure": [{ "column": "used", "with": "max" }] });
        });
        assert_eq!(
            text,
            DASHBOARD
                .replace("rows = 10", "rows = 5")
                .replace("value = \"cpu\"\n\n# what", "value = \"cpu\"\nnote = \"Noon\"\n\n# what")
                .replace(
                    "sql = \"\"\"\nselect 1\n\"\"\"\n",
                    "\n[query.pick]\nmeasure = [\n  { column = \"used\", with = \"max\" },\n]\ntable = \"disks\"\n"
                )
        );
        // A new block stands where it was put, and a new query after the others.
        let text = rewrite(DASHBOARD, |keys| {
            let blocks = keys["section"][0]["block"].as_array_mut().unwrap();
            blocks.insert(1, json!({ "show": "text", "text": "Read on." }));
            let queries = keys["query"].as_array_mut().unwrap();
            queries.push(json!({ "name": "new", "source": "ops", "sql": "select 2" }));
        });
        let place = |words: &str| {
            text.find(words)
                .unwrap_or_else(|| panic!("{words}: {text}"))
        };
        let places = [
            "# --- load",
            "# enough",
            "# full ones",
            "name = \"new\"",
            "# who is busy",
            "Read on.",
            "# what fills",
            "More",
        ]
        .map(place);
        assert!(places.is_sorted(), "{text}");
    }

    #[test]
    fn what_is_moved_takes_its_comments_along() {
        let swapped = rewrite(DASHBOARD, |keys| {
            keys["section"][0]["block"]
                .as_array_mut()
                .unwrap()
                .swap(0, 1);
            keys["query"].as_array_mut().unwrap().swap(0, 1);
        });
        let elsewhere = rewrite(DASHBOARD, |keys| {
            let mut block = keys["section"][0]["block"]
                .as_array_mut()
                .unwrap()
                .remove(0);
            block["width"] = 6.into();
            keys["section"][1]["block"] = vec![block].into();
        });
        for (text, order) in [
            (
                &swapped,
                [
                    "# full ones",
                    "# --- load",
                    "# enough",
                    "# what fills\n[[section.block]]\nshow = \"table\"",
                    "# who is busy\n[[section.block]]\nshow = \"bar\"",
                    "More",
                ],
            ),
            (
                &elsewhere,
                [
                    "# --- load",
                    "# enough",
                    "# full ones",
                    "# what fills\n[[section.block]]",
                    "More",
                    "# who is busy\n[[section.block]]\nshow = \"bar\"",
                ],
            ),
        ] {
            let places = order.map(|words| {
                text.find(words)
                    .unwrap_or_else(|| panic!("{words}: {text}"))
            });
            assert!(places.is_sorted(), "{text}");
        }
    }

    #[test]
    fn a_list_that_no_definition_has_takes_no_longer_than_it_is_long() {
        use serde_json::json;
        // All pairs of these would be a thousand million comparisons.
        let entries = |title: &str| -> Vec<serde_json::Value> {
            (0..30_000)
                .map(|n| json!({ "title": format!("{title} {n}") }))
                .collect()
        };
        let text = rewritten("", json!({ "block": entries("One") }).as_object().unwrap()).unwrap();
        let other = json!({ "block": entries("Other"), "section": entries("Third") });
        let changed = rewritten(&text, other.as_object().unwrap()).unwrap();
        assert_eq!(keys(&changed).unwrap(), other);
    }

    #[test]
    fn one_block_needs_only_what_its_queries_need() {
        use serde_json::json;
        let keys = json!({
            "dashboard": { "name": "a", "title": "A" },
            "parameter": [{ "name": "port", "choices-from": "ports" }],
            "query": [
                { "name": "ports" }, { "name": "load" },
                { "name": "joined", "of": "load", "then": [{ "do": "join", "with": "roles", "on": ["host"] }] },
                { "name": "roles" }, { "name": "other" },
            ],
            "section": [{ "title": "One", "block": [{ "show": "text", "text": "other" }, { "show": "table", "query": "joined", "hide": true }] }],
        });
        let alone = only_block(keys.as_object().unwrap(), 1, 2).unwrap();
        let queries = alone["query"]
            .as_array()
            .unwrap()
            .iter()
            .map(|query| query["name"].as_str().unwrap());
        let queries: Vec<&str> = queries.collect();
        assert_eq!(queries, ["ports", "load", "joined", "roles"]);
        assert_eq!(
            alone["section"],
            json!([{ "title": "Block", "block": [{ "show": "table", "query": "joined" }] }])
        );
        for (section, block) in [(1, 3), (2, 1), (1, 0), (0, 1)] {
            assert_eq!(only_block(keys.as_object().unwrap(), section, block), None);
        }
    }

    fn some_keys()
    -> impl proptest::strategy::Strategy<Value = serde_json::Map<String, serde_json::Value>> {
        use proptest::prelude::*;
        use serde_json::Value as Json;
        let plain = prop_oneof![
            any::<bool>().prop_map(Json::from),
            any::<i32>().prop_map(Json::from),
            "[a-c\"#\n]{0,4}".prop_map(Json::from),
            prop::collection::vec("[a-c]{1,2}", 0..3).prop_map(Json::from),
        ];
        let value = plain.prop_recursive(3, 24, 4, |inner| {
            let object = prop::collection::btree_map("(name|title|a|then|measure)", inner, 0..4)
                .prop_map(|map| Json::Object(map.into_iter().collect()));
            prop_oneof![
                object.clone(),
                prop::collection::vec(object, 1..4).prop_map(Json::from)
            ]
        });
        prop::collection::btree_map("(query|section|block|name|filter)", value, 0..5)
            .prop_map(|map| map.into_iter().collect())
    }

    proptest::proptest! {
        #[test]
        fn a_text_says_whatever_keys_it_is_given(first in some_keys(), second in some_keys()) {
            let text = rewritten("", &first).unwrap();
            proptest::prop_assert_eq!(keys(&text).unwrap(), serde_json::Value::Object(first));
            let other = rewritten(&text, &second).unwrap();
            proptest::prop_assert_eq!(keys(&other).unwrap(), serde_json::Value::Object(second.clone()));
            proptest::prop_assert_eq!(rewritten(&other, &second).unwrap(), other);
        }
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

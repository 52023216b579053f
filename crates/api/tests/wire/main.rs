//! What travels between the service and its clients: each order and each answer is written out once
//! in full, and held against its type and against the schema that the API describes it with.

#![allow(
    clippy::too_many_lines,
    reason = "each thing that travels is written out once, in full"
)]

mod answers;
mod orders;
mod words;

use std::collections::BTreeSet;

use serde::{Serialize, de::DeserializeOwned};
use serde_json::{Map, Value};
use utoipa::PartialSchema;

/// The names in a schema: all of its properties, and those that must be there.
struct Described {
    properties: BTreeSet<String>,
    required: BTreeSet<String>,
}

impl Described {
    fn of<T: PartialSchema>() -> Self {
        let schema = serde_json::to_value(T::schema()).expect("a schema is JSON");
        // What is flattened into a type stands beside the type's own part.
        let parts = schema["allOf"].as_array().cloned();
        let mut described = Self {
            properties: BTreeSet::new(),
            required: BTreeSet::new(),
        };
        for part in parts.unwrap_or_else(|| vec![schema]) {
            let properties = part["properties"].as_object();
            described
                .properties
                .extend(properties.into_iter().flat_map(Map::keys).cloned());
            let required = part["required"].as_array().cloned().unwrap_or_default();
            described
                .required
                .extend(required.iter().filter_map(Value::as_str).map(str::to_owned));
        }
        described
    }

    /// With the names of what is flattened into it.
    fn and(mut self, other: Self) -> Self {
        self.properties.extend(other.properties);
        self.required.extend(other.required);
        self
    }
}

/// What holds of everything that travels. Its fields all have a value in `full`.
fn holds<T: Serialize + DeserializeOwned>(full: &Value, described: &Described) {
    let name = std::any::type_name::<T>();
    let read: T = serde_json::from_value(full.clone())
        .unwrap_or_else(|error| panic!("{name} is not read: {error}"));
    assert_eq!(
        &serde_json::to_value(&read).expect("it is JSON"),
        full,
        "{name} is written otherwise than it was read"
    );
    let keys: BTreeSet<String> = full
        .as_object()
        .expect("an object")
        .keys()
        .cloned()
        .collect();
    assert_eq!(keys, described.properties, "{name} and its description");
    for key in &keys {
        let mut without = full.clone();
        without.as_object_mut().expect("an object").remove(key);
        match serde_json::from_value::<T>(without) {
            Ok(_) => assert!(
                !described.required.contains(key),
                "{name} is read without {key}, which is described as required"
            ),
            Err(error) => {
                assert!(
                    described.required.contains(key),
                    "{name} without {key}, which is not described as required: {error}"
                );
                assert!(error.to_string().contains(key), "{name}: {error}");
            }
        }
    }
}

fn with_another_field(full: &Value) -> Value {
    let mut more = full.clone();
    more["no-such-field"] = Value::from(1);
    more
}

/// An order: a field that is not known is refused by its name, lest it is believed to do something.
fn order<T: Serialize + DeserializeOwned + PartialSchema>(full: Value) {
    holds::<T>(&full, &Described::of::<T>());
    let error = serde_json::from_value::<T>(with_another_field(&full))
        .err()
        .unwrap_or_else(|| panic!("{} takes any field", std::any::type_name::<T>()));
    assert!(error.to_string().contains("`no-such-field`"), "{error}");
}

/// An answer: a client of yesterday reads it although the service of today says more.
fn answer<T: Serialize + DeserializeOwned + PartialSchema>(full: Value) {
    answer_as::<T>(full, &Described::of::<T>());
}

/// An answer into which the fields of another one are flattened.
fn answer_with<T, Inner>(full: Value)
where
    T: Serialize + DeserializeOwned + PartialSchema,
    Inner: PartialSchema,
{
    answer_as::<T>(full, &Described::of::<T>().and(Described::of::<Inner>()));
}

fn answer_as<T: Serialize + DeserializeOwned>(full: Value, described: &Described) {
    holds::<T>(&full, described);
    let read = serde_json::from_value::<T>(with_another_field(&full));
    assert!(
        read.is_ok(),
        "{} of a newer service",
        std::any::type_name::<T>()
    );
}

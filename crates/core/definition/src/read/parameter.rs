//! Reads parameters from their tables.

use std::collections::BTreeMap;

use crate::{
    model::{
        parameter::{Parameter, ParameterKind, ParameterValue},
        query::times::Times,
    },
    problem::Placed,
    read::{name::read_identifier, node::Node},
};

pub(crate) fn read_parameter(node: Node<'_>) -> Parameter {
    let name = read_identifier(&node, "name");
    if Times::NAMES.contains(&name.as_str()) {
        node.report(
            "name",
            format!("\"{name}\" is the window's own parameter; choose another name"),
        );
    }
    let title = node
        .text("title")
        .map_or_else(|| name.clone(), |title| title.value);
    let choices: Vec<String> = node
        .texts("choices")
        .into_iter()
        .map(|choice| choice.value)
        .collect();
    let choices_from = node.text("choices-from");
    let kind = match node.choice("kind", &["text", "number", "choice", "list"]) {
        Some("number") => ParameterKind::Number,
        Some("choice") => {
            if choices.is_empty() == choices_from.is_none() {
                node.report_self("a parameter of kind \"choice\" needs either choices = [\"…\"] or choices-from, the name of a query");
            }
            ParameterKind::Choice(choices)
        }
        Some("list") => ParameterKind::List,
        _ => ParameterKind::Text,
    };
    let mut parameter = Parameter {
        name,
        title,
        kind,
        default: None,
        choices_from,
    };
    node.known_key("default");
    if let Some((value, _)) = node.value_of("default") {
        match value_from_toml(value) {
            Some(value) => match parameter.refusal(&value) {
                Some(refusal) => node.report("default", refusal),
                None => parameter.default = Some(value),
            },
            None => node.report("default", "must be a text, a number or a list of texts"),
        }
    }
    node.close();
    parameter
}

pub(crate) fn value_from_toml(value: &toml_edit::Value) -> Option<ParameterValue> {
    if let Some(text) = value.as_str() {
        return Some(ParameterValue::Text(text.to_owned()));
    }
    if let Some(number) = value
        .as_float()
        .or_else(|| value.as_integer().map(|n| n as f64))
    {
        return number.is_finite().then_some(ParameterValue::Number(number));
    }
    let items: Option<Vec<String>> = value
        .as_array()?
        .iter()
        .map(|item| item.as_str().map(str::to_owned))
        .collect();
    items.map(ParameterValue::List)
}

/// Reads a table of parameter values; the names are checked against dashboards later.
pub(crate) fn read_values(node: Option<Node<'_>>) -> BTreeMap<String, Placed<ParameterValue>> {
    let Some(node) = node else {
        return BTreeMap::new();
    };
    let mut values = BTreeMap::new();
    for key in node.keys() {
        match node
            .value_of(&key)
            .and_then(|(value, place)| Some((value_from_toml(value)?, place)))
        {
            Some((value, place)) => {
                values.insert(key, Placed { value, place });
            }
            None => node.report(&key, "must be a text, a number or a list of texts"),
        }
    }
    values
}

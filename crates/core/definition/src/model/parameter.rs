//! Parameters of dashboards, and their values.

use std::collections::BTreeMap;

use maple_lark_time::{english::quoted_list, nearest::suggestion};
use serde::{Deserialize, Serialize};

use crate::problem::Placed;

/// The values that a run's queries are asked with, by parameter name.
pub type Values = BTreeMap<String, ParameterValue>;

/// What can be chosen about a dashboard's queries.
#[derive(Debug, Clone, PartialEq)]
pub struct Parameter {
    /// Its name in queries.
    pub name: String,
    /// Its title for people.
    pub title: String,
    /// Which values it takes.
    pub kind: ParameterKind,
    /// Its value where none is given.
    pub default: Option<ParameterValue>,
    /// The query of this dashboard whose first column has the values to choose from; a
    /// second one has their titles. It may be asked with other parameters.
    pub choices_from: Option<Placed<String>>,
}

/// Which values a parameter takes.
#[derive(Debug, Clone, PartialEq)]
pub enum ParameterKind {
    /// Any text.
    Text,
    /// Any number.
    Number,
    /// One of these words.
    Choice(Vec<String>),
    /// Any number of texts, bound as an array.
    List,
}

/// The value of a parameter.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(untagged)]
pub enum ParameterValue {
    /// One text.
    Text(String),
    /// A number.
    Number(f64),
    /// Several texts.
    List(Vec<String>),
}

impl ParameterValue {
    /// For people: a list reads `a, b, c`.
    #[must_use]
    pub fn readable(&self) -> String {
        match self {
            Self::Text(text) => text.clone(),
            Self::Number(number) => number.to_string(),
            Self::List(items) => items.join(", "),
        }
    }
}

impl Parameter {
    /// Why `value` does not fit this parameter, or nothing if it does.
    pub fn refusal(&self, value: &ParameterValue) -> Option<String> {
        match (&self.kind, value) {
            (ParameterKind::Text, ParameterValue::Text(_))
            | (ParameterKind::Number, ParameterValue::Number(_))
            | (ParameterKind::List, ParameterValue::List(_)) => None,
            // What the query answers is known only when it is asked.
            (ParameterKind::Choice(_), ParameterValue::Text(_)) if self.choices_from.is_some() => {
                None
            }
            (ParameterKind::Choice(words), ParameterValue::Text(given))
                if words.contains(given) =>
            {
                None
            }
            (ParameterKind::Choice(words), ParameterValue::Text(given)) => {
                let words: Vec<&str> = words.iter().map(String::as_str).collect();
                Some(format!(
                    "\"{given}\" is not one of {}.{}",
                    quoted_list(&words),
                    suggestion(given, words.iter().copied())
                ))
            }
            (ParameterKind::Text | ParameterKind::Choice(_), _) => {
                Some("must be a text in quotes".to_owned())
            }
            (ParameterKind::Number, _) => Some("must be a number".to_owned()),
            (ParameterKind::List, _) => {
                Some("must be a list of texts, such as [\"a\", \"b\"]".to_owned())
            }
        }
    }
}

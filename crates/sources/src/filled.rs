//! The values that stand in the places of a question's texts.

use maple_lark_definition::{FillError, Filler, ParameterValue, Source};

use crate::{Question, SourceError};

impl Question<'_> {
    /// The window's times and the parameters' values, by their names.
    pub(crate) fn filler(&self, name: &str) -> Option<Filler> {
        let parameter = || {
            self.values.get(name).map(|value| match value {
                ParameterValue::Text(text) => Filler::Text(text.clone()),
                ParameterValue::Number(number) => Filler::Number(*number),
                ParameterValue::List(items) => Filler::List(items.clone()),
            })
        };
        self.times.filler(name).or_else(parameter)
    }
}

/// Why a question cannot be asked of a source.
pub fn not_filled(source: &Source, error: FillError) -> SourceError {
    match error {
        FillError::NoValue(name) => SourceError::NoValue {
            source_name: source.name.clone(),
            name,
        },
        other => SourceError::Query {
            source_name: source.name.clone(),
            words: other.to_string(),
        },
    }
}

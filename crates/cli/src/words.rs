//! Options whose values are the words of an enum of the API.

use clap::builder::{PossibleValuesParser, TypedValueParser};
use maple_lark_api::Words;

/// Reads one of the words; help and completion list them all.
pub fn words<T: Words + Send + Sync>() -> impl TypedValueParser<Value = T> {
    let all = T::ALL.iter().map(|one| one.word()).collect::<Vec<_>>();
    PossibleValuesParser::new(all).try_map(|word| T::from_word(&word))
}

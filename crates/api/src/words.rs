//! Enums that travel as words: in the API, in tables and on the command line.

use std::fmt;

/// An enum of which each value has one word in kebab-case, the same everywhere.
pub trait Words: Copy + PartialEq + fmt::Debug + 'static {
    /// What a value of it is called in errors: `state of a run`.
    const WHAT: &'static str;
    /// Every value, in the order of its definition.
    const ALL: &'static [Self];

    /// The word for this value.
    fn word(self) -> &'static str;

    /// The value with this word.
    ///
    /// # Errors
    /// If no value has it, with the words that there are.
    fn from_word(text: &str) -> Result<Self, UnknownWord> {
        Self::ALL
            .iter()
            .copied()
            .find(|one| one.word() == text)
            .ok_or_else(|| UnknownWord::new::<Self>(text))
    }
}

/// A word that is none of those of an enum.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("\"{given}\" is no {what}; it is one of {}", known.join(", "))]
pub struct UnknownWord {
    given: String,
    what: &'static str,
    known: Vec<&'static str>,
}

impl UnknownWord {
    fn new<T: Words>(given: &str) -> Self {
        Self {
            given: given.chars().take(200).collect(),
            what: T::WHAT,
            known: T::ALL.iter().map(|one| one.word()).collect(),
        }
    }
}

/// Defines an enum with its words.
macro_rules! words {
    ($(#[$outer:meta])* $name:ident, $what:literal, { $($(#[$inner:meta])* $variant:ident = $word:literal),* $(,)? }) => {
        $(#[$outer])*
        #[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, serde::Serialize, serde::Deserialize, utoipa::ToSchema)]
        #[serde(rename_all = "kebab-case")]
        pub enum $name {
            $($(#[$inner])* $variant,)*
        }

        impl $crate::words::Words for $name {
            const WHAT: &'static str = $what;
            const ALL: &'static [Self] = &[$(Self::$variant),*];

            fn word(self) -> &'static str {
                match self {
                    $(Self::$variant => $word,)*
                }
            }
        }

        impl std::fmt::Display for $name {
            fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
                f.pad($crate::words::Words::word(*self))
            }
        }

        impl std::str::FromStr for $name {
            type Err = $crate::words::UnknownWord;

            fn from_str(text: &str) -> Result<Self, Self::Err> {
                $crate::words::Words::from_word(text)
            }
        }
    };
}
pub(crate) use words;

//! Enums in columns: stored as their words.

use std::{fmt, ops::Deref};

use maple_lark_api::Words;
use sea_orm::{
    ColIdx, DbErr, QueryResult, TryGetError, TryGetable, Value,
    sea_query::{ArrayType, ColumnType, Nullable, ValueType, ValueTypeErr},
};

/// A value of an enum in a text column. A word that the enum does not have is an error of the
/// database, not a value.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Stored<T>(pub T);

impl<T> Deref for Stored<T> {
    type Target = T;

    fn deref(&self) -> &T {
        &self.0
    }
}

impl<T: PartialEq> PartialEq<T> for Stored<T> {
    fn eq(&self, other: &T) -> bool {
        self.0 == *other
    }
}

impl<T: fmt::Display> fmt::Display for Stored<T> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        self.0.fmt(f)
    }
}

impl<T> From<T> for Stored<T> {
    fn from(value: T) -> Self {
        Self(value)
    }
}

impl<T: Words> From<Stored<T>> for Value {
    fn from(stored: Stored<T>) -> Self {
        stored.0.word().into()
    }
}

impl<T: Words> TryGetable for Stored<T> {
    fn try_get_by<I: ColIdx>(row: &QueryResult, index: I) -> Result<Self, TryGetError> {
        let word = String::try_get_by(row, index)?;
        T::from_word(&word)
            .map(Self)
            .map_err(|error| DbErr::Type(error.to_string()).into())
    }
}

impl<T: Words> ValueType for Stored<T> {
    fn try_from(value: Value) -> Result<Self, ValueTypeErr> {
        let word = <String as ValueType>::try_from(value)?;
        T::from_word(&word).map(Self).map_err(|_| ValueTypeErr)
    }

    fn type_name() -> String {
        T::WHAT.to_owned()
    }

    fn array_type() -> ArrayType {
        ArrayType::String
    }

    fn column_type() -> ColumnType {
        ColumnType::Text
    }
}

impl<T: Words> Nullable for Stored<T> {
    fn null() -> Value {
        String::null()
    }
}

/// Words as a list in SQL: `'due', 'waiting'`. They are letters and hyphens only.
pub(crate) fn sql_list<T: Words>(all: impl IntoIterator<Item = T>) -> String {
    all.into_iter()
        .map(|one| format!("'{}'", one.word()))
        .collect::<Vec<_>>()
        .join(", ")
}

/// Words to be bound as an array.
pub(crate) fn words<T: Words>(all: impl IntoIterator<Item = T>) -> Vec<String> {
    all.into_iter().map(|one| one.word().to_owned()).collect()
}

//! Enums of the core as the API has them: every word of each.

use maple_lark_definition::{ChannelType, Format, Kind};
use utoipa::openapi::{Object, ObjectBuilder, schema::Type};

use crate::words::Words;

impl Words for Format {
    const WHAT: &'static str = "format of documents";
    const ALL: &'static [Self] = &Self::ALL;

    fn word(self) -> &'static str {
        self.name()
    }
}

impl Words for Kind {
    const WHAT: &'static str = "kind of definition";
    const ALL: &'static [Self] = &Self::ALL;

    fn word(self) -> &'static str {
        self.name()
    }
}

impl Words for ChannelType {
    const WHAT: &'static str = "type of channel";
    const ALL: &'static [Self] = &Self::ALL;

    fn word(self) -> &'static str {
        self.name()
    }
}

fn schema<T: Words>() -> Object {
    ObjectBuilder::new()
        .schema_type(Type::String)
        .enum_values(Some(T::ALL.iter().map(|one| one.word())))
        .build()
}

/// The formats of documents.
pub fn format() -> Object {
    schema::<Format>()
}

/// How deliveries travel.
pub fn channel_type() -> Object {
    schema::<ChannelType>()
}

/// The kinds of definitions.
pub fn kind() -> Object {
    schema::<Kind>()
}

//! What may name a definition.

/// Whether a text can name what has no name space, such as a team, a secret or a calendar: up to 60 small letters, digits and hyphens.
#[must_use]
pub fn is_name(text: &str) -> bool {
    let valid = |c: char| c.is_ascii_lowercase() || c.is_ascii_digit() || c == '-';
    !text.is_empty()
        && text.chars().all(valid)
        && text.len() <= 60
        && !text.starts_with('-')
        && !text.ends_with('-')
}

/// Whether a text can name a definition: a name of its own, or one in a team's name space, such as
/// `port.daily`; up to 60 characters in all.
#[must_use]
pub fn is_definition_name(text: &str) -> bool {
    let parts = text.split_once('.');
    text.len() <= 60
        && parts.map_or_else(
            || is_name(text),
            |(team, own)| is_name(team) && is_name(own),
        )
}

/// A name in a team's name space: `daily` of the team `port` is `port.daily`. One that is in a name space
/// stays as it is.
#[must_use]
pub fn in_name_space(team: &str, name: &str) -> String {
    if name.contains('.') {
        name.to_owned()
    } else {
        format!("{team}.{name}")
    }
}

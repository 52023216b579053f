//! What may name a definition.

/// Whether a text can name a definition or a team: up to 60 small letters, digits and hyphens.
#[must_use]
pub fn is_name(text: &str) -> bool {
    let valid = |c: char| c.is_ascii_lowercase() || c.is_ascii_digit() || c == '-';
    !text.is_empty()
        && text.chars().all(valid)
        && text.len() <= 60
        && !text.starts_with('-')
        && !text.ends_with('-')
}

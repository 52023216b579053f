//! Words of English that sentences and errors are made of.

use chrono::Weekday;

/// So much of a text is said again in an error.
const MOST_SAID: usize = 200;

/// A text as it may be said again in an error: on one line, and cut where it is long.
#[must_use]
pub fn shortened(text: &str) -> String {
    let mut characters = text.chars().map(|c| if c.is_control() { ' ' } else { c });
    let mut said: String = characters.by_ref().take(MOST_SAID).collect();
    if characters.next().is_some() {
        said.push('…');
    }
    said
}

/// `"a", "b", "c"`, for lists of the words that are valid.
#[must_use]
pub fn quoted_list(words: &[&str]) -> String {
    words
        .iter()
        .map(|word| format!("\"{word}\""))
        .collect::<Vec<_>>()
        .join(", ")
}

pub(crate) const WEEKDAYS: [Weekday; 7] = [
    Weekday::Mon,
    Weekday::Tue,
    Weekday::Wed,
    Weekday::Thu,
    Weekday::Fri,
    Weekday::Sat,
    Weekday::Sun,
];

/// The days of the week from Monday, in small letters, as definitions write them.
pub const WEEKDAY_NAMES: [&str; 7] = [
    "monday",
    "tuesday",
    "wednesday",
    "thursday",
    "friday",
    "saturday",
    "sunday",
];

/// The weekday that one of [`WEEKDAY_NAMES`] names.
#[must_use]
pub fn weekday_from_name(name: &str) -> Option<Weekday> {
    WEEKDAY_NAMES
        .iter()
        .position(|known| *known == name)
        .map(|i| WEEKDAYS[i])
}

/// The English name with a capital: `Monday`.
#[must_use]
pub fn weekday_name(day: Weekday) -> &'static str {
    [
        "Monday",
        "Tuesday",
        "Wednesday",
        "Thursday",
        "Friday",
        "Saturday",
        "Sunday",
    ][day.num_days_from_monday() as usize]
}

/// `a, b and c`.
#[must_use]
pub fn list(items: &[String]) -> String {
    match items {
        [] => String::new(),
        [one] => one.clone(),
        [rest @ .., last] => format!("{} and {last}", rest.join(", ")),
    }
}

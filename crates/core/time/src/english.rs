//! Words of English that sentences and errors are made of.

use chrono::Weekday;

/// `"a", "b", "c"`, for lists of the words that are valid.
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

pub const WEEKDAY_NAMES: [&str; 7] = [
    "monday",
    "tuesday",
    "wednesday",
    "thursday",
    "friday",
    "saturday",
    "sunday",
];

pub fn weekday_from_name(name: &str) -> Option<Weekday> {
    WEEKDAY_NAMES
        .iter()
        .position(|known| *known == name)
        .map(|i| WEEKDAYS[i])
}

/// The English name with a capital: `Monday`.
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
pub fn list(items: &[String]) -> String {
    match items {
        [] => String::new(),
        [one] => one.clone(),
        [rest @ .., last] => format!("{} and {last}", rest.join(", ")),
    }
}

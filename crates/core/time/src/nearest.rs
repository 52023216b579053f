//! Finds the valid word a mistyped one was probably meant to be.

/// The candidate closest to `given`, if one is close enough to be worth suggesting.
///
/// Closeness is Jaro–Winkler similarity of the lower-cased words; below 0.78 nothing is
/// suggested, since a wrong suggestion is worse than none. An empty `given` suggests
/// nothing.
///
/// ```
/// use maple_lark_time::nearest::nearest;
/// assert_eq!(nearest("shedule", ["schedule", "window"]), Some("schedule"));
/// assert_eq!(nearest("colour", ["window", "zone"]), None);
/// ```
pub fn nearest<'a>(given: &str, candidates: impl IntoIterator<Item = &'a str>) -> Option<&'a str> {
    let given = given.to_lowercase();
    candidates
        .into_iter()
        .map(|candidate| {
            (
                strsim::jaro_winkler(&given, &candidate.to_lowercase()),
                candidate,
            )
        })
        .filter(|(score, _)| *score >= 0.78)
        .max_by(|a, b| a.0.total_cmp(&b.0))
        .map(|(_, candidate)| candidate)
}

/// ` Did you mean "x"?`, or nothing: ready to be put behind a sentence.
pub fn suggestion<'a>(given: &str, candidates: impl IntoIterator<Item = &'a str>) -> String {
    nearest(given, candidates)
        .map(|word| format!(" Did you mean \"{word}\"?"))
        .unwrap_or_default()
}

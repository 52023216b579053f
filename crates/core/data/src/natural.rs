//! Names as people put them in order: `host-2` before `host-10`.

use std::cmp::Ordering;

/// How two names stand to each other: numbers in them by how much they are, letters whether they are
/// capital or not. Only names that are the same, sign by sign, are equal.
///
/// ```
/// use maple_lark_data::natural;
///
/// let mut names = ["db-10", "DB-9", "db-2", "db"];
/// names.sort_by(|a, b| natural::compare(a, b));
/// assert_eq!(names, ["db", "db-2", "DB-9", "db-10"]);
/// ```
#[must_use]
pub fn compare(a: &str, b: &str) -> Ordering {
    alphanumeric_sort::compare_str(a.to_lowercase(), b.to_lowercase()).then_with(|| a.cmp(b))
}

/// The places of names as people put them in order, if they come in alphabetical order, as from a
/// database that was asked for that; nothing if they come in another one, which somebody chose.
#[must_use]
pub fn order(names: &[&str]) -> Option<Vec<usize>> {
    if names.len() < 2 || !names.is_sorted_by_key(|name| name.to_lowercase()) {
        return None;
    }
    let mut places: Vec<usize> = (0..names.len()).collect();
    places.sort_by(|a, b| compare(names[*a], names[*b]));
    Some(places).filter(|places| !places.is_sorted())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn numbers_in_names_count_as_what_they_are() {
        for (less, more) in [
            ("host-2", "host-10"),
            ("host-2-b", "host-10-a"),
            ("a", "a1"),
            ("Havnes-kiosk-9", "havnes-kiosk-12"),
            ("v1.9", "v1.10"),
            ("7", "10"),
            ("x99999999999999999999998", "x99999999999999999999999"),
            ("", "a"),
        ] {
            assert_eq!(compare(less, more), Ordering::Less, "{less} {more}");
            assert_eq!(compare(more, less), Ordering::Greater, "{more} {less}");
        }
        assert_eq!(compare("a-01", "a-01"), Ordering::Equal);
        assert_ne!(compare("a-01", "a-1"), Ordering::Equal);
        assert_ne!(compare("A", "a"), Ordering::Equal);
    }

    #[test]
    fn only_what_comes_by_the_alphabet_is_put_in_another_order() {
        assert_eq!(order(&["h-1", "h-10", "h-2"]), Some(vec![0, 2, 1]));
        assert_eq!(order(&["h-10", "h-1", "h-2"]), None, "somebody chose it");
        assert_eq!(order(&["h-1", "h-2", "h-3"]), None, "nothing changes");
        assert_eq!(order(&[]), None);
    }
}

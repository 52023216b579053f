//! Search filters (RFC 4515) with a gap for what is looked for.

use std::str::FromStr;

use ldap3::ldap_escape;

/// A filter with one or more gaps `{}`, such as `(&(objectClass=person)(uid={}))`. What is put into
/// a gap is escaped, so that it is nothing but a value.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Filter(String);

/// A text that is no filter with a gap.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum BadFilter {
    #[error("\"{0}\" has no \"{{}}\", in whose place the value is put, such as \"(uid={{}})\"")]
    NoGap(String),
    #[error("\"{0}\" is not a search filter (RFC 4515), such as \"(uid={{}})\"")]
    NoFilter(String),
}

impl FromStr for Filter {
    type Err = BadFilter;

    fn from_str(text: &str) -> Result<Self, BadFilter> {
        if !text.contains("{}") {
            return Err(BadFilter::NoGap(text.to_owned()));
        }
        let whole = text.starts_with('(') && text.ends_with(')');
        let filter = Self(text.to_owned());
        if !whole || ldap3::parse_filter(filter.of("x")).is_err() {
            return Err(BadFilter::NoFilter(text.to_owned()));
        }
        Ok(filter)
    }
}

impl Filter {
    /// The filter that looks for this value.
    #[must_use]
    pub fn of(&self, value: &str) -> String {
        self.0.replace("{}", &ldap_escape(value))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn filter(text: &str) -> Result<Filter, BadFilter> {
        text.parse()
    }

    #[test]
    fn a_value_is_a_value_whatever_signs_it_has() {
        let people = filter("(&(objectClass=person)(uid={}))").unwrap();
        assert_eq!(people.of("runa"), "(&(objectClass=person)(uid=runa))");
        assert_eq!(
            people.of("*)(uid=*))(|(uid=*"),
            "(&(objectClass=person)(uid=\\2a\\29\\28uid=\\2a\\29\\29\\28|\\28uid=\\2a))"
        );
        assert_eq!(
            people.of("a\\b\0"),
            "(&(objectClass=person)(uid=a\\5cb\\00))"
        );
    }

    #[test]
    fn every_gap_is_filled() {
        let either = filter("(|(uid={})(mail={}))").unwrap();
        assert_eq!(either.of("x"), "(|(uid=x)(mail=x))");
    }

    #[test]
    fn what_is_no_filter_is_refused_with_an_example() {
        let words = filter("(uid=runa)").unwrap_err().to_string();
        assert!(words.contains("has no \"{}\""), "{words}");
        for wrong in ["uid={}", "(uid={}", "(&(uid={})", "({})", "((uid={}))"] {
            let words = filter(wrong).unwrap_err().to_string();
            assert!(words.contains("RFC 4515"), "{wrong}: {words}");
        }
    }
}

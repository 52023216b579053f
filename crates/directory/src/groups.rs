//! Which groups somebody is in.

use crate::Filter;

/// How a person's groups are known.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Groups {
    /// They are not asked for.
    None,
    /// The person's entry lists them, such as in `memberOf`.
    Attribute(String),
    /// Their entries, below this one, list the person.
    Search { base: String, filter: Filter },
}

/// Whether two distinguished names are of one entry: case and the spaces around their signs do not
/// count (RFC 4514, RFC 4518). Names that are escaped in different ways are not told to be the same.
#[must_use]
pub fn same_entry(one: &str, other: &str) -> bool {
    plain(one) == plain(other)
}

fn plain(name: &str) -> String {
    let mut plain = String::with_capacity(name.len());
    let mut escaped = false;
    let mut after_sign = true;
    for sign in name.trim().chars().flat_map(char::to_lowercase) {
        if escaped {
            plain.push(sign);
            escaped = false;
            after_sign = false;
            continue;
        }
        match sign {
            '\\' => {
                plain.push(sign);
                escaped = true;
            }
            ',' | '=' | '+' => {
                let end = plain.trim_end_matches(' ').len();
                // A space that is escaped belongs to the value.
                if !plain[..end].ends_with('\\') {
                    plain.truncate(end);
                }
                plain.push(sign);
                after_sign = true;
            }
            ' ' if after_sign => {}
            other => {
                plain.push(other);
                after_sign = false;
            }
        }
    }
    plain
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn case_and_spaces_do_not_count() {
        let one = "cn=Night Desk,ou=Groups,dc=orrin-sound,dc=example";
        for other in [
            "CN=night desk,OU=groups,DC=orrin-sound,DC=example",
            "cn=Night Desk, ou=Groups, dc=orrin-sound, dc=example",
            " cn = Night Desk ,ou=Groups,dc=orrin-sound,dc=example ",
        ] {
            assert!(same_entry(one, other), "{other}");
        }
    }

    #[test]
    fn what_differs_in_a_value_is_another_entry() {
        let one = "cn=night desk,ou=groups";
        for other in [
            "cn=nightdesk,ou=groups",
            "cn=night desk",
            "cn=night desk,ou=groups,dc=x",
            "cn=night\\, desk,ou=groups",
            "cn=night desk\\ ,ou=groups",
            "",
        ] {
            assert!(!same_entry(one, other), "{other}");
        }
    }

    #[test]
    fn an_escaped_sign_is_part_of_a_value() {
        assert!(same_entry("cn=Holm\\, Runa,ou=p", "cn=holm\\, runa, ou=p"));
        assert!(!same_entry("cn=holm\\, runa,ou=p", "cn=holm,runa,ou=p"));
    }
}

//! Which addresses the reports of a team may go to.

use glob::{MatchOptions, Pattern};
use maple_lark_definition::Mailbox;
use maple_lark_store::teams::Team;

/// Whether an address fits one of a team's patterns; any does if there are none.
fn fits(patterns: &[String], address: &str) -> bool {
    let options = MatchOptions {
        case_sensitive: false,
        ..MatchOptions::new()
    };
    let fits = |one: &String| Pattern::new(one).is_ok_and(|one| one.matches_with(address, options));
    patterns.is_empty() || patterns.iter().any(fits)
}

/// A mailbox that reports of a team do not go to.
#[derive(Debug, PartialEq, Eq, thiserror::Error)]
#[error(
    "reports of the team \"{team}\" go to {patterns} alone, and not to {mailbox}; ask an administrator"
)]
pub struct NotWrittenTo {
    team: String,
    patterns: String,
    mailbox: String,
}

/// Says which of these mailboxes a team's reports do not go to, if any.
///
/// # Errors
/// The first of them, with the patterns that there are.
pub fn refused<'a>(
    team: &Team,
    mut mailboxes: impl Iterator<Item = &'a str>,
) -> Result<(), NotWrittenTo> {
    let address = |written: &str| match written.parse::<Mailbox>() {
        Ok(mailbox) => mailbox.address,
        Err(_) => written.to_owned(),
    };
    match mailboxes.find(|one| !fits(&team.addresses, &address(one))) {
        None => Ok(()),
        Some(other) => Err(NotWrittenTo {
            team: team.name.clone(),
            patterns: team.addresses.join(", "),
            mailbox: other.to_owned(),
        }),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn reports_of_a_team_go_to_its_addresses() {
        let team = |patterns: &[&str]| Team {
            name: "port".to_owned(),
            title: "Port".to_owned(),
            addresses: patterns.iter().map(|one| (*one).to_owned()).collect(),
            members: 0,
        };
        let port = team(&["*@port.example", "desk@orrin-sound.example"]);
        for fine in [
            "a@port.example",
            "Ann <A.B@PORT.example>",
            "desk@orrin-sound.example",
        ] {
            assert_eq!(refused(&port, [fine].into_iter()), Ok(()), "{fine}");
        }
        for other in [
            "a@other.example",
            "a@port.example.evil.example",
            "xdesk@orrin-sound.example",
        ] {
            let refused = refused(&port, ["a@port.example", other].into_iter());
            let words = refused.unwrap_err().to_string();
            assert!(words.contains(&format!("and not to {other}")), "{words}");
        }
        assert_eq!(
            refused(&team(&[]), ["anybody@else.example"].into_iter()),
            Ok(())
        );
    }
}

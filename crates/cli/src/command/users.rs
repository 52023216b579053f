//! Those who sign in: invited, changed and removed by an administrator; and your own password.

use std::{
    collections::BTreeMap,
    io::IsTerminal,
    path::{Path, PathBuf},
};

use clap::{Args, Subcommand, ValueEnum};
use maple_lark_api::{
    Invitation, Membership, NewUser, PasswordChange, Role, SignsInBy, TeamView, UserChange,
    UserEntry, UserPage,
};
use serde::{Deserialize, Serialize};

use crate::{
    client::Client,
    command::hand_over::hand_over,
    failure::Failure,
    output::{self, Output, confirmed, instant, table},
};

/// Those who sign in: invite, change, disable and remove them
///
/// An invitation is a link by which somebody chooses a password. It is good once, for seven days, and
/// is mailed if the user has an address and the service a mail server; else it is printed, for you to
/// hand over. The same link is how somebody gets a new password.
#[derive(Args)]
#[command(
    after_help = "Examples:\n  maple-lark users\n  maple-lark users invite runa.holm --role author --email runa@orrin-sound.example\n  maple-lark users role runa.holm administrator\n  maple-lark users link runa.holm\n  maple-lark users values havnes.office port=havnes\n  maple-lark users import colleagues.csv --check\n  maple-lark users hand-over runa@orrin-sound.example ada.berg --check"
)]
pub struct Users {
    #[command(subcommand)]
    action: Option<Action>,
}

#[derive(Subcommand)]
enum Action {
    /// List them; this is what happens without a word
    List,
    /// Invite somebody
    Invite {
        /// What they sign in with
        name: String,
        /// What they may do
        #[arg(long, value_enum, default_value = "viewer")]
        role: RoleName,
        /// Where the invitation goes
        #[arg(long)]
        email: Option<String>,
    },
    /// Invite everybody in a CSV file: name, role, email, teams (separated by spaces); names that are
    /// there already are passed over
    Import {
        /// The file, with a line of headings
        file: PathBuf,
        /// Say what would be done, and do nothing
        #[arg(long)]
        check: bool,
    },
    /// Give somebody another role
    Role {
        name: String,
        #[arg(value_enum)]
        role: RoleName,
    },
    /// Give somebody another mail address
    Email { name: String, email: String },
    /// Hold a viewer to parameter values: they see documents and published views made with these, and
    /// nothing else
    Values {
        name: String,
        /// A parameter with its values, such as port=havnes,skarvoy
        #[arg(required_unless_present = "none", value_parser = values)]
        values: Vec<(String, Vec<String>)>,
        /// Hold them to none any more
        #[arg(long, conflicts_with = "values")]
        none: bool,
    },
    /// Make another invitation, or a link for a new password
    Link { name: String },
    /// Sign somebody out and keep them out; nothing of theirs is removed
    Disable { name: String },
    /// Let somebody in again
    Enable { name: String },
    /// Ask somebody for no second factor any more who has lost their device and their recovery codes;
    /// their passkeys go, too
    ResetSecondFactor { name: String },
    /// Give the reports that somebody owns to somebody else, all at once: notices about them go there
    HandOver {
        /// Whose they are: a user, or the mail address of somebody who has gone
        from: String,
        /// Who gets them: a user with a mail address, or an address
        to: String,
        /// Only say which they are
        #[arg(long)]
        check: bool,
        /// Do not ask first
        #[arg(long)]
        yes: bool,
    },
    /// Remove somebody with their sessions and tokens; what they have made stays
    Remove {
        name: String,
        /// Do not ask first
        #[arg(long)]
        yes: bool,
    },
}

#[derive(Clone, Copy, ValueEnum)]
enum RoleName {
    /// Sees reports, runs and documents
    Viewer,
    /// Makes and runs reports
    Author,
    /// Runs the place: sources, channels, secrets and users
    Administrator,
}

impl From<RoleName> for Role {
    fn from(name: RoleName) -> Self {
        match name {
            RoleName::Viewer => Self::Viewer,
            RoleName::Author => Self::Author,
            RoleName::Administrator => Self::Administrator,
        }
    }
}

/// Not a parameter with its values.
#[derive(Debug, PartialEq, Eq, thiserror::Error)]
#[error("\"{0}\" is not a parameter with its values, such as port=havnes,skarvoy")]
struct BadValues(String);

/// A parameter with its values as they are typed.
fn values(text: &str) -> Result<(String, Vec<String>), BadValues> {
    let wrong = || BadValues(text.to_owned());
    let (name, values) = text.split_once('=').ok_or_else(wrong)?;
    let values = values
        .split(',')
        .map(str::trim)
        .filter(|one| !one.is_empty());
    let values: Vec<String> = values.map(str::to_owned).collect();
    if name.trim().is_empty() || values.is_empty() {
        return Err(wrong());
    }
    Ok((name.trim().to_owned(), values))
}

fn held_words(held_to: &BTreeMap<String, Vec<String>>) -> String {
    let each = held_to.iter();
    let each = each.map(|(name, values)| format!("{name} = {}", values.join(", ")));
    each.collect::<Vec<_>>().join("; ")
}

/// Where a user is found; so is somebody who has gone, by a mail address.
fn path(name: &str) -> String {
    let mut path = "/users/".to_owned();
    for byte in name.bytes() {
        match byte {
            b'-' | b'.' | b'_' | b'~' | b'@' => path.push(char::from(byte)),
            letter if letter.is_ascii_alphanumeric() => path.push(char::from(letter)),
            other => path.push_str(&format!("%{other:02X}")),
        }
    }
    path
}

impl Users {
    #[expect(
        clippy::too_many_lines,
        reason = "one arm for each command, in the order of the help"
    )]
    pub async fn run(self, client: &Client, output: Output) -> Result<(), Failure> {
        match self.action.unwrap_or(Action::List) {
            Action::List => list(client, output).await,
            Action::Invite { name, role, email } => {
                let new = NewUser {
                    name,
                    role: role.into(),
                    email,
                };
                let invitation: Invitation = client.post("/users", &new).await?;
                invited(output, &invitation);
                Ok(())
            }
            Action::ResetSecondFactor { name } => {
                client
                    .delete(&format!("{}/second-factor", path(&name)))
                    .await?;
                println!("{name} is asked for no second factor any more.");
                Ok(())
            }
            Action::Import { file, check } => import(client, output, &file, check).await,
            Action::Link { name } => {
                let path = format!("{}/invitation", path(&name));
                let invitation: Invitation = client.post(&path, &serde_json::json!({})).await?;
                invited(output, &invitation);
                Ok(())
            }
            Action::Role { name, role } => {
                let change = UserChange {
                    role: Some(role.into()),
                    ..UserChange::default()
                };
                let said = format!("{name} is {} now.", Role::from(role));
                changed(client, &name, &change, &said).await
            }
            Action::Email { name, email } => {
                let said = format!("Mail for {name} goes to {email} now.");
                let change = UserChange {
                    email: Some(email),
                    ..UserChange::default()
                };
                changed(client, &name, &change, &said).await
            }
            Action::Values { name, values, .. } => {
                let held_to: BTreeMap<_, _> = values.into_iter().collect();
                let said = if held_to.is_empty() {
                    format!("{name} is held to no values any more.")
                } else {
                    format!(
                        "{name} sees only what was made for {}.",
                        held_words(&held_to)
                    )
                };
                let change = UserChange {
                    held_to: Some(held_to),
                    ..UserChange::default()
                };
                changed(client, &name, &change, &said).await
            }
            Action::Disable { name } => {
                let change = UserChange {
                    disabled: Some(true),
                    ..UserChange::default()
                };
                let said = format!("{name} is signed out and cannot sign in.");
                changed(client, &name, &change, &said).await
            }
            Action::Enable { name } => {
                let change = UserChange {
                    disabled: Some(false),
                    ..UserChange::default()
                };
                changed(
                    client,
                    &name,
                    &change,
                    &format!("{name} can sign in again."),
                )
                .await
            }
            Action::HandOver {
                from,
                to,
                check,
                yes,
            } => hand_over(client, output, (&path(&from), &to), (check, yes)).await,
            Action::Remove { name, yes } => {
                if !yes
                    && !confirmed(&format!(
                        "Remove {name}? Their sessions and tokens go; reports and other definitions stay."
                    ))
                {
                    return Err(Failure::Declined("nobody was removed"));
                }
                client.delete(&path(&name)).await?;
                println!("Removed.");
                Ok(())
            }
        }
    }
}

async fn everybody(client: &Client) -> Result<Vec<UserEntry>, Failure> {
    let (mut all, mut page) = (Vec::new(), 1);
    loop {
        let path = format!("/users?page={page}&size=200");
        let found: UserPage = client.get(&path).await?;
        let more = (page * found.size) < found.total;
        all.extend(found.items);
        if !more {
            break;
        }
        page += 1;
    }
    Ok(all)
}

async fn list(client: &Client, output: Output) -> Result<(), Failure> {
    let all = everybody(client).await?;
    output::print(output, &all, |all| {
        let rows = all.iter().map(|user| {
            vec![
                user.name.clone(),
                user.role.to_string(),
                described(user),
                user.email.clone().unwrap_or_else(|| "–".to_owned()),
                instant(user.last_seen_at),
            ]
        });
        table(
            &["NAME", "ROLE", "STATE", "EMAIL", "LAST SEEN"],
            rows.collect(),
            "Nobody.",
        );
    });
    Ok(())
}

/// Their state, with what is particular about them.
fn described(user: &UserEntry) -> String {
    let mut words = state_of(user).to_owned();
    if user.second_factor {
        words += ", second factor";
    }
    match user.passkeys {
        0 => {}
        1 => words += ", a passkey",
        count => words = format!("{words}, {count} passkeys"),
    }
    if !user.held_to.is_empty() {
        words = format!("{words}, sees only {}", held_words(&user.held_to));
    }
    words
}

/// Whether somebody can sign in, at a glance.
fn state_of(user: &UserEntry) -> &'static str {
    match (user.disabled_at, user.left_at, user.invited_until) {
        (Some(_), ..) => "◇ disabled",
        (None, Some(_), _) => "◇ left the directory",
        (None, None, _) if user.signs_in_by == SignsInBy::Directory => "● active, by the directory",
        (None, None, _) if user.signs_in_by == SignsInBy::Provider => {
            "● active, by the identity provider"
        }
        (None, None, _) if user.has_password => "● active",
        (None, None, Some(_)) => "○ invited",
        (None, None, None) => "▲ invitation ended",
    }
}

/// A line of a file of users.
#[derive(Debug, PartialEq, Eq, Deserialize)]
#[serde(deny_unknown_fields)]
struct Line {
    name: String,
    role: Role,
    #[serde(default)]
    email: String,
    #[serde(default)]
    teams: String,
}

/// Why a file of users is not taken.
#[derive(Debug, thiserror::Error)]
enum BadLine {
    #[error(
        "line {number}: {source}; the headings are name,role,email,teams, and a role is viewer, author or administrator"
    )]
    Unread { number: usize, source: csv::Error },
    #[error("line {number}: \"{name}\" stands in it twice")]
    Twice { number: usize, name: String },
}

/// Everybody whom a file names; the whole file is read before anybody is invited.
fn lines(text: &str) -> Result<Vec<Line>, BadLine> {
    let mut reader = csv::ReaderBuilder::new()
        .trim(csv::Trim::All)
        .from_reader(text.as_bytes());
    let mut found: Vec<Line> = Vec::new();
    for (number, line) in (2..).zip(reader.deserialize()) {
        let line: Line = line.map_err(|source| BadLine::Unread { number, source })?;
        if found.iter().any(|known| known.name == line.name) {
            let name = line.name;
            return Err(BadLine::Twice { number, name });
        }
        found.push(line);
    }
    Ok(found)
}

/// What became of somebody in a file.
#[derive(Serialize)]
struct Imported {
    name: String,
    invitation: Option<Invitation>,
    teams: Vec<String>,
    /// Why nothing was done.
    passed_over: Option<&'static str>,
}

async fn import(client: &Client, output: Output, file: &Path, check: bool) -> Result<(), Failure> {
    let shown = file.display();
    let text = std::fs::read_to_string(file)
        .map_err(|error| Failure::Local(format!("{shown} cannot be read: {error}")))?;
    let wanted = lines(&text).map_err(|error| Failure::Local(format!("{shown}: {error}")))?;
    let known = everybody(client).await?;
    let teams: Vec<TeamView> = client.get("/teams").await?;
    for line in &wanted {
        let mut named = line.teams.split_whitespace();
        if let Some(other) = named.find(|name| !teams.iter().any(|team| team.name == *name)) {
            return Err(Failure::Local(format!(
                "{shown}: there is no team \"{other}\" for {}; nobody was invited",
                line.name
            )));
        }
    }
    let mut done = Vec::new();
    for line in wanted {
        let is_known = known.iter().any(|user| user.name == line.name);
        let named: Vec<String> = line.teams.split_whitespace().map(str::to_owned).collect();
        let invitation = if is_known || check {
            None
        } else {
            let new = NewUser {
                name: line.name.clone(),
                role: line.role,
                email: Some(line.email).filter(|email| !email.is_empty()),
            };
            let invitation: Invitation = client.post("/users", &new).await?;
            for team in &named {
                let path = format!("/teams/{team}/members/{}", line.name);
                client.put(&path, &Membership::default()).await?;
            }
            Some(invitation)
        };
        done.push(Imported {
            name: line.name,
            invitation,
            teams: named,
            passed_over: is_known.then_some("is there already"),
        });
    }
    output::print(output, &done, |done| print_imported(done));
    Ok(())
}

fn print_imported(done: &[Imported]) {
    let rows = done.iter().map(|one| {
        let what = match (&one.invitation, one.passed_over) {
            (_, Some(why)) => why.to_owned(),
            (None, None) => "would be invited".to_owned(),
            (Some(sent), None) => match (&sent.mailed_to, &sent.link) {
                (Some(email), _) => format!("link mailed to {email}"),
                (None, link) => link.clone().unwrap_or_default(),
            },
        };
        vec![one.name.clone(), one.teams.join(", "), what]
    });
    table(
        &["NAME", "TEAMS", "WHAT"],
        rows.collect(),
        "The file names nobody.",
    );
}

fn invited(output: Output, invitation: &Invitation) {
    output::print(output, invitation, |one| {
        let until = instant(Some(one.expires_at));
        match (&one.mailed_to, &one.link) {
            (Some(email), _) => {
                println!(
                    "The link for {} was mailed to {email}. It is good once, until {until}.",
                    one.name
                );
            }
            (None, link) => {
                println!(
                    "Hand this link to {}; it was not mailed: {}.\n{}\nIt is good once, until {until}, and shown only now.",
                    one.name,
                    one.reason.as_deref().unwrap_or("there is no address"),
                    link.as_deref().unwrap_or_default()
                );
            }
        }
    });
}

async fn changed(
    client: &Client,
    name: &str,
    change: &UserChange,
    said: &str,
) -> Result<(), Failure> {
    client.patch_only(&path(name), change).await?;
    println!("{said}");
    Ok(())
}

/// Change your password
///
/// Asks for the one that you have and the one that you want, or takes them from two lines of standard
/// input. Browsers that are signed in as you are signed out; tokens stay.
#[derive(Args)]
pub struct Password {}

impl Password {
    pub async fn run(self, client: &Client) -> Result<(), Failure> {
        let failed =
            |error: std::io::Error| Failure::Local(format!("no password was given: {error}"));
        let (current, new) = if std::io::stdin().is_terminal() {
            let current = rpassword::prompt_password("Current password: ").map_err(failed)?;
            let new = rpassword::prompt_password("New password: ").map_err(failed)?;
            let again = rpassword::prompt_password("New password again: ").map_err(failed)?;
            if new != again {
                return Err(Failure::Local(
                    "the two are not alike; nothing was changed".to_owned(),
                ));
            }
            (current, new)
        } else {
            let mut lines = std::io::stdin().lines();
            let mut line = || lines.next().transpose().map(Option::unwrap_or_default);
            (line().map_err(failed)?, line().map_err(failed)?)
        };
        let change = PasswordChange { current, new };
        client.put("/session/password", &change).await?;
        println!("Changed. Browsers that were signed in as you are signed out.");
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_file_of_users_is_read_whole_or_not_at_all() {
        let read = lines("name,role,email,teams\n runa , author, runa@orrin-sound.example, port crew\nada,viewer,,\n").unwrap();
        assert_eq!(read.len(), 2);
        assert_eq!(
            (read[0].name.as_str(), read[0].role),
            ("runa", Role::Author)
        );
        assert_eq!(
            (read[0].teams.as_str(), read[1].email.as_str()),
            ("port crew", "")
        );
        assert_eq!(lines("name,role\n").unwrap(), []);
        assert_eq!(lines("name,role\nada,viewer\n").unwrap()[0].teams, "");
        for (text, words) in [
            ("name,role\nada,king\n", "line 2"),
            (
                "name,role\nada,viewer\nada,author\n",
                "line 3: \"ada\" stands in it twice",
            ),
            ("name,rank\nada,viewer\n", "the headings are name,role"),
        ] {
            let error = lines(text).unwrap_err().to_string();
            assert!(error.contains(words), "{error}");
        }
    }
}

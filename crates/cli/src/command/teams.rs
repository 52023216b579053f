use clap::{Args, Subcommand};
use maple_lark_api::{Membership, NewTeam, TeamChange, TeamView};

use crate::{
    client::Client,
    failure::Failure,
    output::{self, Output, confirmed, table},
};

/// Teams: who shares definitions, and where their reports may go
///
/// A definition with team = "port" belongs to the team "port": nobody outside it sees the definition, its
/// runs, documents or notices. One without a team belongs to all. A source or a channel is shared by
/// teams = ["port", "crew"].
#[derive(Args)]
#[command(
    after_help = "Examples:\n  maple-lark teams\n  maple-lark teams new port --title \"Port operations\" --addresses '*@orrin-sound.example'\n  maple-lark teams add port runa.holm --owner\n  maple-lark teams drop port runa.holm"
)]
pub struct Teams {
    #[command(subcommand)]
    action: Option<Action>,
}

#[derive(Subcommand)]
enum Action {
    /// List yours, or all if you are an administrator; this is the default
    List,
    /// Make one
    New {
        /// What definitions call it: small letters, digits and hyphens
        name: String,
        /// For people; its name if left out
        #[arg(long)]
        title: Option<String>,
        /// A pattern of addresses that its reports may go to; may be given several times, any address if left out
        #[arg(long, value_name = "PATTERN")]
        addresses: Vec<String>,
    },
    /// Change its title or its addresses
    Set {
        name: String,
        /// What people see
        #[arg(long)]
        title: Option<String>,
        /// The patterns from now on, instead of all before
        #[arg(long, value_name = "PATTERN")]
        addresses: Vec<String>,
        /// Let its reports go to any address
        #[arg(long, conflicts_with = "addresses")]
        any_address: bool,
    },
    /// Put a user into it
    Add {
        name: String,
        user: String,
        /// Who may add and remove members
        #[arg(long)]
        owner: bool,
    },
    /// Take a user out of it
    Drop { name: String, user: String },
    /// Remove one that no definition belongs to
    Remove {
        name: String,
        /// Do not ask first
        #[arg(long)]
        yes: bool,
    },
}

impl Teams {
    #[expect(
        clippy::too_many_lines,
        reason = "one arm for each command, in the order of the help"
    )]
    pub async fn run(self, client: &Client, output: Output) -> Result<(), Failure> {
        match self.action.unwrap_or(Action::List) {
            Action::List => {
                let all: Vec<TeamView> = client.get("/teams").await?;
                output::print(output, &all, |all| print(all));
                return Ok(());
            }
            Action::New {
                name,
                title,
                addresses,
            } => {
                let new = NewTeam {
                    name,
                    title,
                    addresses,
                };
                client.post_only("/teams", &new).await?;
                println!(
                    "Made. Put users into it: maple-lark teams add {} NAME",
                    new.name
                );
            }
            Action::Set {
                name,
                title,
                addresses,
                any_address,
            } => {
                let change = TeamChange {
                    title,
                    addresses: (any_address || !addresses.is_empty()).then_some(addresses),
                };
                client
                    .patch_only(&format!("/teams/{name}"), &change)
                    .await?;
                println!("Changed.");
            }
            Action::Add { name, user, owner } => {
                let path = format!("/teams/{name}/members/{user}");
                client.put(&path, &Membership { owner }).await?;
                let what = if owner { "owns" } else { "is in" };
                println!("{user} {what} {name} now.");
            }
            Action::Drop { name, user } => {
                client
                    .delete(&format!("/teams/{name}/members/{user}"))
                    .await?;
                println!("{user} is no longer in {name}.");
            }
            Action::Remove { name, yes } => {
                if !yes
                    && !confirmed(&format!(
                        "Remove the team {name}? Runs that were made for it are seen by administrators alone then."
                    ))
                {
                    return Err(Failure::Declined("no team was removed"));
                }
                client.delete(&format!("/teams/{name}")).await?;
                println!("Removed.");
            }
        }
        Ok(())
    }
}

fn print(all: &[TeamView]) {
    let rows = all.iter().map(|team| {
        let members = team.members.iter().map(|member| {
            if member.owner {
                format!("{} (owner)", member.name)
            } else {
                member.name.clone()
            }
        });
        vec![
            team.name.clone(),
            team.title.clone(),
            members.collect::<Vec<_>>().join(", "),
            team.definitions.to_string(),
            if team.addresses.is_empty() {
                "any".to_owned()
            } else {
                team.addresses.join(", ")
            },
        ]
    });
    table(
        &["NAME", "TITLE", "MEMBERS", "DEFINITIONS", "MAY WRITE TO"],
        rows.collect(),
        "No teams: everything belongs to all.",
    );
}

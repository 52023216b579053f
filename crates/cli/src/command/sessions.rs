//! Your own browsers that are signed in, and your passkeys.

use clap::{Args, Subcommand};
use maple_lark_api::{Passkey, SessionView};
use uuid::Uuid;

use crate::{
    client::Client,
    failure::Failure,
    output::{self, Output, instant, table},
};

/// The browsers that are signed in as you: list them and sign one out
#[derive(Args)]
#[command(
    after_help = "Examples:\n  maple-lark sessions\n  maple-lark sessions end 019a7c5e-6c1d-7d0e-8c41-0d6f2f4f9a10"
)]
pub struct Sessions {
    #[command(subcommand)]
    action: Option<SessionAction>,
}

#[derive(Subcommand)]
enum SessionAction {
    /// List them; this is the default
    List,
    /// Sign one out
    End {
        /// Its identifier, from the list
        id: Uuid,
    },
}

impl Sessions {
    pub async fn run(self, client: &Client, output: Output) -> Result<(), Failure> {
        if let Some(SessionAction::End { id }) = self.action {
            client.delete(&format!("/sessions/{id}")).await?;
            println!("Signed out.");
            return Ok(());
        }
        let all: Vec<SessionView> = client.get("/sessions").await?;
        output::print(output, &all, |all| {
            let unknown = || "unknown".to_owned();
            let rows = all.iter().map(|one| {
                vec![
                    one.id.to_string(),
                    one.address.clone().unwrap_or_else(unknown),
                    instant(Some(one.created_at)),
                    instant(Some(one.expires_at)),
                    one.used_with.clone().unwrap_or_else(unknown),
                ]
            });
            table(
                &["ID", "FROM", "SINCE", "UNTIL", "BROWSER"],
                rows.collect(),
                "No browser is signed in as you.",
            );
        });
        Ok(())
    }
}

/// Your passkeys: list them and remove one
///
/// A passkey is added in the console, where the browser can ask your device for it.
#[derive(Args)]
#[command(
    after_help = "Examples:\n  maple-lark passkeys\n  maple-lark passkeys remove 019a7c5e-6c1d-7d0e-8c41-0d6f2f4f9a10"
)]
pub struct Passkeys {
    #[command(subcommand)]
    action: Option<PasskeyAction>,
}

#[derive(Subcommand)]
enum PasskeyAction {
    /// List them; this is the default
    List,
    /// Remove one; nobody signs in with it any more
    Remove {
        /// Its identifier, from the list
        id: Uuid,
    },
}

impl Passkeys {
    pub async fn run(self, client: &Client, output: Output) -> Result<(), Failure> {
        if let Some(PasskeyAction::Remove { id }) = self.action {
            client.delete(&format!("/session/passkeys/{id}")).await?;
            println!("Removed.");
            return Ok(());
        }
        let all: Vec<Passkey> = client.get("/session/passkeys").await?;
        output::print(output, &all, |all| {
            let rows = all.iter().map(|one| {
                vec![
                    one.id.to_string(),
                    one.title.clone(),
                    instant(Some(one.created_at)),
                    one.last_used_at
                        .map_or_else(|| "never".to_owned(), |used| instant(Some(used))),
                ]
            });
            table(
                &["ID", "DEVICE", "ADDED", "USED LAST"],
                rows.collect(),
                "None. Add one in the console, on the page of your sign-in.",
            );
        });
        Ok(())
    }
}

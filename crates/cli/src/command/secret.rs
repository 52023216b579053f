//! Secrets that the service keeps encrypted.

use std::io::{IsTerminal, Read};

use clap::{Args, Subcommand};
use maple_lark_api::{NewSecret, SecretView};

use crate::{
    client::Client,
    failure::Failure,
    output::{self, Output, confirmed, instant, table},
};

/// Secrets that the service keeps encrypted; definitions refer to them as "secret:NAME"
#[derive(Args)]
pub struct Secret {
    #[command(subcommand)]
    action: Action,
}

#[derive(Subcommand)]
enum Action {
    /// Store a secret, asked for on the terminal or read from standard input
    Set { name: String },
    /// List the names of the secrets; what they are is shown nowhere
    List,
    /// Remove a secret; sources that refer to it can no longer sign in
    Remove {
        name: String,
        /// Do not ask first
        #[arg(long)]
        yes: bool,
    },
}

impl Secret {
    pub async fn run(self, client: &Client, output: Output) -> Result<(), Failure> {
        match self.action {
            Action::Set { name } => {
                let value = read_secret(&name)?;
                client
                    .put(&format!("/secrets/{name}"), &NewSecret { value })
                    .await?;
                println!("Stored. Definitions refer to it as \"secret:{name}\".");
            }
            Action::List => {
                let names: Vec<SecretView> = client.get("/secrets").await?;
                output::print(output, &names, |names| {
                    let rows = names
                        .iter()
                        .map(|secret| {
                            vec![
                                secret.name.clone(),
                                instant(Some(secret.updated_at)),
                                secret.updated_by.clone(),
                            ]
                        })
                        .collect();
                    table(&["NAME", "SET", "BY"], rows, "No secrets are stored.");
                });
            }
            Action::Remove { name, yes } => {
                if !yes
                    && !confirmed(&format!(
                        "Remove the secret \"{name}\"? Sources that refer to it can no longer sign in."
                    ))
                {
                    return Err(Failure::Declined("nothing was removed"));
                }
                client.delete(&format!("/secrets/{name}")).await?;
                println!("Removed.");
            }
        }
        Ok(())
    }
}

fn read_secret(name: &str) -> Result<String, Failure> {
    let failed =
        |error: std::io::Error| Failure::Local(format!("the secret cannot be read: {error}"));
    let value = if std::io::stdin().is_terminal() {
        rpassword::prompt_password(format!("Secret \"{name}\": ")).map_err(failed)?
    } else {
        let mut text = String::new();
        std::io::stdin().read_to_string(&mut text).map_err(failed)?;
        text.trim_end_matches(['\r', '\n']).to_owned()
    };
    if value.is_empty() {
        Err(Failure::Local(
            "the secret is empty; nothing was stored".to_owned(),
        ))
    } else {
        Ok(value)
    }
}

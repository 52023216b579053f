use clap::Args;
use maple_lark_api::NewToken;
use serde_json::json;

use crate::{
    client::Client,
    failure::Failure,
    saved::{self, Saved},
};

/// Sign in and remember it
///
/// Asks for the password, or takes it from MAPLE_LARK_PASSWORD. What is remembered is an API
/// token, in a file that only you can read; "sign-out" revokes it.
#[derive(Args)]
#[command(
    after_help = "Example:\n  maple-lark sign-in --address http://127.0.0.1:8480 --name admin"
)]
pub struct SignIn {
    /// The name to sign in with
    #[arg(long, default_value = "admin")]
    name: String,
}

impl SignIn {
    pub async fn run(self, address: Option<String>) -> Result<(), Failure> {
        let password = match std::env::var("MAPLE_LARK_PASSWORD") {
            Ok(password) if !password.is_empty() => password,
            _ => rpassword::prompt_password(format!("Password of {}: ", self.name))
                .map_err(|error| Failure::Local(format!("no password was given: {error}")))?,
        };
        let client = Client::new(address);
        let host = std::fs::read_to_string("/etc/hostname").unwrap_or_default();
        let label = format!("command line at {}", host.trim());
        let made: NewToken = client
            .post(
                "/tokens",
                &json!({ "name": self.name, "password": password, "label": label }),
            )
            .await?;
        let path = saved::save(&Saved {
            address: client.address().to_owned(),
            token: made.token,
            token_id: made.id,
        })?;
        println!(
            "Signed in at {} as {} ({}); remembered in {}.",
            client.address(),
            made.user.name,
            made.user.role,
            path.display()
        );
        Ok(())
    }
}

/// Revoke the remembered sign-in and forget it
#[derive(Args)]
pub struct SignOut {}

impl SignOut {
    pub async fn run(self, address: Option<String>) -> Result<(), Failure> {
        let Some(saved) = saved::load() else {
            println!("You were not signed in.");
            return Ok(());
        };
        Client::signed_in(address.or(Some(saved.address)))?
            .delete(&format!("/tokens/{}", saved.token_id))
            .await?;
        saved::forget()?;
        println!("Signed out; the token is revoked.");
        Ok(())
    }
}

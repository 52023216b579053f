use clap::Args;
use maple_lark_api::{InvitationView, NewToken, UserView};
use serde_json::json;

use crate::{
    client::Client,
    failure::Failure,
    saved::{self, Saved},
    typed::{self, password},
};

const CODE: &str = "Code of your second factor, or a recovery code: ";

/// Sign in and remember it
///
/// Asks for the password, or takes it from MAPLE_LARK_PASSWORD; and for a code, or takes it from
/// MAPLE_LARK_CODE, if you have a second factor. What is remembered is an API
/// token, in a file that only you can read; "sign-out" revokes it.
///
/// Whoever signs in by the organisation's identity provider has no password here: make a token in the
/// console, on the page of your sign-in, and give it with --with-token.
#[derive(Args)]
#[command(
    after_help = "Examples:\n  maple-lark sign-in --address http://127.0.0.1:8480 --name admin\n  maple-lark sign-in --with-token"
)]
pub struct SignIn {
    /// The name to sign in with
    #[arg(long, default_value = "admin")]
    name: String,
    /// Ask for a token instead, or take it from MAPLE_LARK_TOKEN, and remember it
    #[arg(long, conflicts_with = "name")]
    with_token: bool,
}

impl SignIn {
    pub async fn run(self, address: Option<String>) -> Result<(), Failure> {
        if self.with_token {
            return remember_token(Client::new(address)).await;
        }
        let password = password(&format!("Password of {}: ", self.name))?;
        remember(&Client::new(address), &self.name, &password, None).await
    }
}

/// Keeps a token that was made elsewhere, if it is good.
async fn remember_token(client: Client) -> Result<(), Failure> {
    let token = typed::token()?;
    let client = client.with_token(token.clone());
    let user: UserView = client.get("/session").await?;
    keep(&client, (token, None), &user)
}

fn keep(
    client: &Client,
    (token, token_id): (String, Option<uuid::Uuid>),
    user: &UserView,
) -> Result<(), Failure> {
    let path = saved::save(&Saved {
        address: client.address().to_owned(),
        token,
        token_id,
    })?;
    println!(
        "Signed in at {} as {} ({}); remembered in {}.",
        client.address(),
        user.name,
        user.role,
        path.display()
    );
    Ok(())
}

/// Gets a token for this machine and keeps it.
async fn remember(
    client: &Client,
    name: &str,
    password: &str,
    code: Option<&str>,
) -> Result<(), Failure> {
    let host = std::fs::read_to_string("/etc/hostname").unwrap_or_default();
    let label = format!("command line at {}", host.trim());
    let mut order = json!({ "name": name, "password": password, "label": label });
    if let Some(code) = code {
        order["code"] = code.into();
    }
    let made: NewToken = match client.post("/tokens", &order).await {
        Err(failure) if failure.needs_code() && code.is_none() => {
            order["code"] = typed::code(CODE)?.into();
            client.post("/tokens", &order).await?
        }
        made => made?,
    };
    keep(client, (made.token, Some(made.id)), &made.user)
}

/// Choose a password by the link of an invitation, and sign in
///
/// The link is good once. Asks for the password, or takes it from MAPLE_LARK_PASSWORD: 10 characters or
/// more, and none of those that are guessed first.
#[derive(Args)]
#[command(after_help = "Example:\n  maple-lark accept 'http://127.0.0.1:8480/invitation#1f0c…'")]
pub struct Accept {
    /// The link, in quotes
    link: String,
}

impl Accept {
    pub async fn run(self) -> Result<(), Failure> {
        let (address, token) = self.link.split_once("/invitation#").ok_or_else(|| {
            Failure::Local(
                "that is no link of an invitation; put it in quotes, with all that follows #"
                    .to_owned(),
            )
        })?;
        let client = Client::new(Some(address.to_owned()));
        let invited: InvitationView = client
            .post("/invitations", &json!({ "token": token }))
            .await?;
        let given = std::env::var("MAPLE_LARK_PASSWORD").is_ok_and(|one| !one.is_empty());
        let chosen = password(&format!("New password for {}: ", invited.name))?;
        if !given && password("The same again: ")? != chosen {
            return Err(Failure::Local(
                "the two are not alike; nothing was changed, and the link is still good".to_owned(),
            ));
        }
        let mut accepted = json!({ "token": token, "password": chosen });
        let answer = client.post::<UserView>("/invitations/accept", &accepted);
        match answer.await {
            Err(failure) if failure.needs_code() => {
                accepted["code"] = typed::code(CODE)?.into();
                let _: UserView = client.post("/invitations/accept", &accepted).await?;
            }
            answer => drop(answer?),
        }
        // None is good twice, so that another is asked for.
        remember(&client, &invited.name, &chosen, None).await
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
        let Some(id) = saved.token_id else {
            saved::forget()?;
            println!(
                "Signed out here. The token was made elsewhere and stays good; \"maple-lark tokens revoke\" or the console ends it."
            );
            return Ok(());
        };
        Client::signed_in(address.or(Some(saved.address)))?
            .delete(&format!("/tokens/{id}"))
            .await?;
        saved::forget()?;
        println!("Signed out; the token is revoked.");
        Ok(())
    }
}

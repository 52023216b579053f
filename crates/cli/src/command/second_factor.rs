use std::io::IsTerminal;

use clap::{Args, Subcommand};
use maple_lark_api::{Code, NewSecondFactor, PasswordAgain, RecoveryCodes, SecondFactor as View};
use qrcode::{QrCode, render::unicode};

use crate::{
    client::Client,
    failure::Failure,
    output::{self, Output, instant},
    typed::{code, password},
};

/// A second factor for your sign-in: a code that your device shows, new every 30 seconds
///
/// Works with any program that shows codes by RFC 6238. Signing in, in the console and here, asks for a
/// code then; API tokens that are there stay good. Without the device a recovery code does, once each.
#[derive(Args)]
#[command(
    after_help = "Examples:\n  maple-lark second-factor\n  maple-lark second-factor on\n  maple-lark second-factor off"
)]
pub struct SecondFactor {
    #[command(subcommand)]
    action: Option<Action>,
}

#[derive(Subcommand)]
enum Action {
    /// Whether you are asked for one (the default)
    Show,
    /// Put a key into your device, confirm it by a code, get recovery codes
    On,
    /// Be asked for none any more
    Off,
}

impl SecondFactor {
    pub async fn run(self, client: &Client, output: Output) -> Result<(), Failure> {
        let path = "/session/second-factor";
        match self.action.unwrap_or(Action::Show) {
            Action::Show => {
                let view: View = client.get(path).await?;
                output::print(output, &view, |view| match view.since {
                    None => println!(
                        "You are asked for no second factor; \"maple-lark second-factor on\" begins one."
                    ),
                    Some(since) => println!(
                        "You are asked for a second factor since {}; {} recovery codes are left.",
                        instant(Some(since)),
                        view.recovery_codes
                    ),
                });
            }
            Action::On => {
                let again = PasswordAgain {
                    password: password("Your password: ")?,
                };
                let new: NewSecondFactor = client.post(path, &again).await?;
                println!("Put this key into your device, by camera or by hand:\n");
                if std::io::stdout().is_terminal()
                    && let Ok(code) = QrCode::new(&new.uri)
                {
                    println!("{}\n", code.render::<unicode::Dense1x2>().build());
                }
                println!("  {}\n  {}\n", new.key, new.uri);
                let code = Code {
                    code: code("The code that it shows: ")?,
                };
                let codes: RecoveryCodes = client.put_for(path, &code).await?;
                println!(
                    "\nYou are asked for a code from now on. Should you lose the device, each of these lets you in once. They are shown only now:\n"
                );
                for code in codes.codes {
                    println!("  {code}");
                }
            }
            Action::Off => {
                let again = PasswordAgain {
                    password: password("Your password: ")?,
                };
                client.post_only(&format!("{path}/removal"), &again).await?;
                println!("You are asked for no second factor any more.");
            }
        }
        Ok(())
    }
}

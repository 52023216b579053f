//! The first configuration of the service.

use std::{io::IsTerminal, net::SocketAddr, path::PathBuf};

use clap::{Args, ValueEnum};
use console::{Term, style};
use maple_lark_service::init::{Database, Mail, Wanted, init};
use serde::Serialize;

use crate::{
    failure::Failure,
    output::{self, Output},
};

/// Write a first configuration, and make the database if you like
///
/// Writes maple-lark.toml and beside it the files that it refers to: the database's address, the key
/// that seals secrets, and the first administrator's password. Each is read by its owner alone. With
/// --administer a role and a database are made on that server. Asks for what is missing where somebody
/// sits at a terminal. Nothing that is there already is changed, but
/// for a configuration in which everything is a comment; if a step fails, nothing is left of it.
///
/// Addresses with passwords are better not typed: give them as "env:NAME" or "file:/path".
#[derive(Args)]
#[command(after_help = "\
Examples:
  maple-lark init --folder /etc/maple-lark --administer env:POSTGRES_URL
  maple-lark init --folder /etc/maple-lark --administer 'postgresql:///postgres?host=/var/run/postgresql'
  maple-lark init --folder . --database file:/run/secrets/database-url --public-url https://reports.host.example
  maple-lark init --folder . --administer env:POSTGRES_URL --mail-host mail.host.example --mail-from reports@host.example")]
pub struct Init {
    /// Where the files are written; made if it is not there
    #[arg(long, value_name = "FOLDER")]
    folder: Option<PathBuf>,
    /// The address of an administrator of a PostgreSQL server, to make a role and a database there
    #[arg(long, value_name = "URL", conflicts_with = "database")]
    administer: Option<String>,
    /// What the role and the database are called
    #[arg(long, value_name = "NAME", default_value = "maple_lark", value_parser = name)]
    name: String,
    /// The address of a database that is there
    #[arg(long, value_name = "URL")]
    database: Option<String>,
    /// Where the service listens
    #[arg(long, value_name = "ADDRESS", default_value = "127.0.0.1:8480")]
    listen: SocketAddr,
    /// What people open, if that is another address
    #[arg(long, value_name = "URL")]
    public_url: Option<String>,
    /// The mail server; without one nothing is mailed yet
    #[arg(long, value_name = "HOST", requires = "mail_from")]
    mail_host: Option<String>,
    /// Its port
    #[arg(long, value_name = "PORT", default_value_t = 587)]
    mail_port: u16,
    /// How the way to it is protected
    #[arg(long, value_name = "HOW", default_value = "starttls")]
    mail_tls: MailTls,
    /// Whom mails are from
    #[arg(long, value_name = "MAILBOX", requires = "mail_host")]
    mail_from: Option<String>,
}

#[derive(Clone, Copy, ValueEnum)]
enum MailTls {
    Off,
    Starttls,
    Tls,
}

impl MailTls {
    fn word(self) -> &'static str {
        match self {
            Self::Off => "off",
            Self::Starttls => "starttls",
            Self::Tls => "tls",
        }
    }
}

/// A name that needs no quotation marks anywhere.
fn name(text: &str) -> Result<String, &'static str> {
    let plain = |sign: char| sign.is_ascii_lowercase() || sign.is_ascii_digit() || sign == '_';
    let begins = text.starts_with(|sign: char| sign.is_ascii_lowercase());
    if begins && text.len() <= 63 && text.chars().all(plain) {
        Ok(text.to_owned())
    } else {
        Err("it has 1 to 63 of a to z, 0 to 9 and _, and begins with a letter")
    }
}

#[derive(Serialize)]
struct Told {
    configuration: PathBuf,
    files: Vec<PathBuf>,
    user: &'static str,
    password: String,
}

impl Init {
    pub async fn run(self, output: Output) -> Result<(), Failure> {
        let wanted = self.wanted()?;
        let made = init(&wanted).await;
        let made = made.map_err(|error| Failure::Local(error.to_string()))?;
        let told = Told {
            configuration: made.configuration,
            files: made.files,
            user: "admin",
            password: made.password,
        };
        output::print(output, &told, |told| {
            for file in &told.files {
                println!("Written: {}", file.display());
            }
            let (file, listen) = (told.configuration.display(), wanted.listen);
            println!(
                "\nSign in as {} with {}",
                told.user,
                style(&told.password).bold()
            );
            println!(
                "\nNext:\n  maple-lark check --config {file}\n  maple-lark serve --config {file}\n  maple-lark sign-in --address http://{listen} --user {}",
                told.user
            );
            println!(
                "\nThe files belong to whoever ran this; the service must be able to read them. The one with the password can go after the first start, with its line in the configuration."
            );
        });
        Ok(())
    }

    fn wanted(self) -> Result<Wanted, Failure> {
        let folder = given_or_asked(self.folder, "--folder", "Folder of the configuration")?;
        let database = match (self.administer, self.database) {
            (_, Some(url)) => Database::Existing(read(&url)?),
            (Some(url), None) => new(&url, self.name)?,
            (None, None) => {
                let question = "Address of an administrator of the PostgreSQL server";
                let url: String = given_or_asked(None, "--administer or --database", question)?;
                new(&url, self.name)?
            }
        };
        let mail = match (self.mail_host, self.mail_from) {
            (Some(host), Some(from)) => Some(Mail {
                host,
                port: self.mail_port,
                tls: self.mail_tls.word().to_owned(),
                from: from
                    .parse()
                    .map_err(|error| Failure::Local(format!("--mail-from: {error}")))?,
            }),
            _ => None,
        };
        Ok(Wanted {
            folder,
            listen: self.listen,
            public_url: self.public_url,
            database,
            mail,
        })
    }
}

fn new(administrator: &str, name: String) -> Result<Database, Failure> {
    Ok(Database::New {
        administrator: read(administrator)?,
        name,
    })
}

/// An address, or what is behind a reference to one.
fn read(written: &str) -> Result<String, Failure> {
    maple_lark_service::config::look_up(written)
        .map_err(|error| Failure::Local(format!("the database's address: {error}")))
}

/// What was given, or else what somebody at a terminal answers.
fn given_or_asked<T: std::str::FromStr>(
    given: Option<T>,
    option: &str,
    question: &str,
) -> Result<T, Failure> {
    if let Some(given) = given {
        return Ok(given);
    }
    let missing = || Failure::Local(format!("nothing was written: give {option}"));
    let term = Term::stderr();
    if !std::io::stdin().is_terminal() || !term.is_term() {
        return Err(missing());
    }
    let broken = |error: std::io::Error| Failure::Local(error.to_string());
    term.write_str(&format!("{}: ", style(question).bold()))
        .map_err(broken)?;
    let mut answer = String::new();
    std::io::stdin().read_line(&mut answer).map_err(broken)?;
    match answer.trim() {
        "" => Err(missing()),
        answer => answer.parse().map_err(|_| missing()),
    }
}

#[cfg(test)]
mod tests {
    use super::name;

    #[test]
    fn a_name_needs_no_quotation_marks() {
        assert_eq!(name("maple_lark2").as_deref(), Ok("maple_lark2"));
        for other in ["", "2lark", "Lark", "a-b", "a\"b", &"a".repeat(64)] {
            assert!(name(other).is_err(), "{other}");
        }
    }
}

use clap::{Args, Subcommand, ValueEnum};
use maple_lark_api::{NewToken, RIGHTS, Right, Role, Token, TokenOrder, TokenScope};
use uuid::Uuid;

use crate::{
    client::Client,
    failure::Failure,
    output::{self, Output, instant, table},
};

/// Your API tokens: list, make and revoke them
///
/// A token signs a program in as you. Give it no more than it needs: "read" looks, "run" also runs
/// reports that are there, "all" may do all that you may. "maple-lark roles" says which is needed for what.
#[derive(Args)]
#[command(
    after_help = "Examples:\n  maple-lark tokens\n  maple-lark tokens new nightly-job --scope run --days 90\n  maple-lark tokens revoke 019a7c5e-6c1d-7d0e-8c41-0d6f2f4f9a10"
)]
pub struct Tokens {
    #[command(subcommand)]
    action: Option<Action>,
}

#[derive(Subcommand)]
enum Action {
    /// List them; this is the default
    List,
    /// Make one and print it; it is shown only now
    New {
        /// What it is for, to tell it from others
        label: String,
        /// What it is good for
        #[arg(long, value_enum, default_value = "read")]
        scope: ScopeName,
        /// For how many days; until it is revoked if left out
        #[arg(long)]
        days: Option<u32>,
    },
    /// Revoke one; whatever signs in with it is refused from then on
    Revoke {
        /// Its identifier, from the list
        id: Uuid,
    },
}

#[derive(Clone, Copy, ValueEnum)]
enum ScopeName {
    /// Looks, and changes nothing
    Read,
    /// Also runs, cancels, releases and resends, pauses and resumes
    Run,
    /// All that you may do
    All,
}

impl From<ScopeName> for TokenScope {
    fn from(name: ScopeName) -> Self {
        match name {
            ScopeName::Read => Self::Read,
            ScopeName::Run => Self::Run,
            ScopeName::All => Self::All,
        }
    }
}

impl Tokens {
    pub async fn run(self, client: &Client, output: Output) -> Result<(), Failure> {
        match self.action.unwrap_or(Action::List) {
            Action::List => {
                let all: Vec<Token> = client.get("/tokens").await?;
                output::print(output, &all, |all| print(all));
            }
            Action::New { label, scope, days } => {
                let order = TokenOrder {
                    label,
                    scope: Some(scope.into()),
                    days,
                };
                let made: NewToken = client.post("/session/tokens", &order).await?;
                output::print(output, &made, |made| {
                    println!("{}", made.token);
                    let until = made.expires_at.map_or_else(
                        || "until it is revoked".to_owned(),
                        |until| format!("until {}", instant(Some(until))),
                    );
                    eprintln!(
                        "Good for \"{}\", {until}. It is shown only now.",
                        TokenScope::from(scope)
                    );
                });
            }
            Action::Revoke { id } => {
                client.delete(&format!("/tokens/{id}")).await?;
                println!("Revoked.");
            }
        }
        Ok(())
    }
}

fn print(all: &[Token]) {
    let rows = all.iter().map(|token| {
        vec![
            token.id.to_string(),
            token.label.clone(),
            token.scope.to_string(),
            token
                .expires_at
                .map_or_else(|| "it is revoked".to_owned(), |until| instant(Some(until))),
            token
                .last_used_at
                .map_or_else(|| "never".to_owned(), |used| instant(Some(used))),
        ]
    });
    table(
        &["ID", "FOR", "SCOPE", "UNTIL", "USED LAST"],
        rows.collect(),
        "None.",
    );
}

/// Show who may do what
///
/// The table that the service itself goes by: what each role may, and which scope a token needs for it.
#[derive(Args)]
#[command(after_help = "Examples:\n  maple-lark roles\n  maple-lark roles --markdown")]
pub struct Roles {
    /// As a table in Markdown, for documents
    #[arg(long)]
    markdown: bool,
}

#[derive(serde::Serialize)]
struct RightRow {
    what: &'static str,
    least_role: Option<Role>,
    least_scope: TokenScope,
    operations: &'static [&'static str],
}

impl From<&'static Right> for RightRow {
    fn from(right: &'static Right) -> Self {
        Self {
            what: right.what,
            least_role: right.least,
            least_scope: right.scope,
            operations: right.operations,
        }
    }
}

impl Roles {
    pub fn run(self, output: Output) {
        if self.markdown {
            print!("{}", maple_lark_api::rights_in_markdown());
            return;
        }
        let rows: Vec<RightRow> = RIGHTS.iter().map(RightRow::from).collect();
        output::print(output, &rows, |rows| {
            let mark = |row: &RightRow, role: Role| {
                let may = row.least_role.is_none_or(|least| least <= role);
                if may { "●" } else { "–" }.to_owned()
            };
            let cells = rows.iter().map(|row| {
                vec![
                    mark(row, Role::Viewer),
                    mark(row, Role::Author),
                    mark(row, Role::Administrator),
                    match row.least_role {
                        None => "none".to_owned(),
                        Some(_) => row.least_scope.to_string(),
                    },
                    row.what.to_owned(),
                ]
            });
            table(
                &["VIEWER", "AUTHOR", "ADMINISTRATOR", "TOKEN", "MAY"],
                cells.collect(),
                "",
            );
        });
    }
}

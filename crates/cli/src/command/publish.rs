use std::collections::BTreeMap;

use clap::{Args, Subcommand};
use maple_lark_api::{NewView, RunView, ViewPage, ViewView};
use uuid::Uuid;

use super::{
    ask::{name_and_value, typed},
    explain::one_line,
};
use crate::{
    client::Client,
    failure::Failure,
    output::{self, Output, confirmed, instant, table},
};

/// Publish a dashboard or the view of a run: an address with the finished page and nothing around it
///
/// A dashboard is looked at anew, at most once a minute; the view of a run stays as it is. Whoever has the
/// address opens it until it ends, or with --signed-in only who signs in and sees what it shows.
#[derive(Args)]
#[command(
    after_help = "Examples:\n  maple-lark publish dashboard ferry-operations --choose port=havnes,skarvoy --days 90\n  maple-lark publish run 01a21fb9-8341-7649-b7f3-5749fb00368c --password\n  maple-lark publish list\n  maple-lark publish end 01a2211f-012d-728b-8a71-53911aaac83c"
)]
pub struct Publish {
    #[command(subcommand)]
    action: Action,
}

#[derive(Subcommand)]
enum Action {
    /// A dashboard, with its values fixed or to be chosen from a list
    Dashboard(Box<Dashboard>),
    /// The view of a run
    Run(RunOf),
    /// What is published, by whom, until when and how often it was opened
    List,
    /// End a published view before its time
    End {
        id: Uuid,
        /// Do not ask first
        #[arg(long)]
        yes: bool,
    },
}

#[derive(Args)]
struct Whom {
    /// What it is called to those who open it
    #[arg(long)]
    title: Option<String>,
    /// Only for those who sign in and see what it shows
    #[arg(long)]
    signed_in: bool,
    /// For how many days it can be opened; 30, unless it is for those who sign in
    #[arg(long)]
    days: Option<u32>,
    /// Ask for a password, too; it is asked for here, or taken from MAPLE_LARK_VIEW_PASSWORD
    #[arg(long)]
    password: bool,
}

#[derive(Args)]
struct Dashboard {
    /// The name of a dashboard
    name: String,
    /// The value of a parameter; for a list, separate with commas
    #[arg(long = "value", value_name = "NAME=VALUE", value_parser = name_and_value)]
    values: Vec<(String, String)>,
    /// Values of a parameter to choose from, the first of which is shown first
    #[arg(long = "choose", value_name = "NAME=VALUE,VALUE…")]
    choices: Vec<String>,
    /// The window, as it stands under [window] in a report; the previous day if left out
    #[arg(long)]
    window: Option<String>,
    /// The time zone; UTC if left out
    #[arg(long, value_name = "ZONE")]
    time_zone: Option<String>,
    #[command(flatten)]
    whom: Whom,
}

#[derive(Args)]
struct RunOf {
    /// The run's id
    run: Uuid,
    /// The audience whose view it is, if it has several
    #[arg(long)]
    audience: Option<String>,
    #[command(flatten)]
    whom: Whom,
}

impl Whom {
    fn put_into(self, new: &mut NewView) -> Result<(), Failure> {
        new.title = self.title;
        new.signed_in = self.signed_in;
        new.days = self.days;
        if self.password {
            let given = std::env::var("MAPLE_LARK_VIEW_PASSWORD");
            let given = match given.ok().filter(|one| !one.is_empty()) {
                Some(given) => given,
                None => rpassword::prompt_password("Password of the view: ")
                    .map_err(|error| Failure::Local(format!("no password was given: {error}")))?,
            };
            new.password = Some(given);
        }
        Ok(())
    }
}

/// Lists of values by the names of their parameters.
fn choices(given: &[String]) -> Result<BTreeMap<String, Vec<String>>, Failure> {
    let read = given.iter().map(|text| {
        let (name, all) = text.split_once('=').ok_or_else(|| {
            Failure::Local(format!(
                "--choose \"{text}\": write it as NAME=VALUE,VALUE, such as port=havnes,skarvoy"
            ))
        })?;
        let values = all.split(',').map(|value| value.trim().to_owned());
        Ok((name.trim().to_owned(), values.collect()))
    });
    read.collect()
}

impl Publish {
    pub async fn run(self, client: &Client, output: Output) -> Result<(), Failure> {
        match self.action {
            Action::Dashboard(order) => {
                let mut new = NewView {
                    dashboard: Some(order.name),
                    values: typed(&order.values),
                    choices: choices(&order.choices)?,
                    window: order
                        .window
                        .as_deref()
                        .map(|text| one_line("--window", text))
                        .transpose()?,
                    time_zone: order.time_zone,
                    ..NewView::default()
                };
                order.whom.put_into(&mut new)?;
                published(client, output, &new).await
            }
            Action::Run(order) => {
                let mut new = NewView {
                    snapshot: Some(view_of(client, order.run, order.audience).await?),
                    ..NewView::default()
                };
                order.whom.put_into(&mut new)?;
                published(client, output, &new).await
            }
            Action::List => list(client, output).await,
            Action::End { id, yes } => {
                if !yes && !confirmed("Nobody can open it any more. End it?") {
                    return Err(Failure::Declined("nothing was ended"));
                }
                client.delete(&format!("/views/{id}")).await?;
                println!("Ended.");
                Ok(())
            }
        }
    }
}

async fn view_of(client: &Client, run: Uuid, audience: Option<String>) -> Result<Uuid, Failure> {
    let run: RunView = client.get(&format!("/runs/{run}")).await?;
    let found = match &audience {
        None => run.snapshots.first(),
        Some(name) => run
            .snapshots
            .iter()
            .find(|view| view.audiences.contains(name)),
    };
    found.map(|view| view.id).ok_or_else(|| {
        Failure::Local(match audience {
            None => "the run has made nothing that can be published".to_owned(),
            Some(name) => format!("the run has no view for \"{name}\""),
        })
    })
}

async fn published(client: &Client, output: Output, new: &NewView) -> Result<(), Failure> {
    let view: ViewView = client.post("/views", new).await?;
    output::print(output, &view, |view| {
        println!("{}", view.address);
        let whom = if view.signed_in {
            "Whoever signs in and sees what it shows opens it"
        } else {
            "Whoever has the address opens it"
        };
        let until = match view.expires_at {
            Some(at) => format!(", until {}", instant(Some(at))),
            None => String::new(),
        };
        println!("{whom}{until}. End it: maple-lark publish end {}", view.id);
    });
    Ok(())
}

async fn list(client: &Client, output: Output) -> Result<(), Failure> {
    let (mut all, mut page) = (Vec::new(), 1);
    loop {
        let query = [("page", page.to_string()), ("size", "200".to_owned())];
        let found: ViewPage = client.get_with("/views", &query).await?;
        let more = page * found.size < found.total;
        all.extend(found.items);
        if !more {
            break;
        }
        page += 1;
    }
    output::print(output, &all, |all| {
        let rows = all.iter().map(|view| {
            let until = match (view.revoked_at, view.expires_at) {
                (Some(at), _) => format!("ended {}", instant(Some(at))),
                (None, Some(at)) => instant(Some(at)),
                (None, None) => "it is ended".to_owned(),
            };
            let whom = match (view.signed_in, view.has_password) {
                (true, _) => "who signs in",
                (false, true) => "address and password",
                (false, false) => "address",
            };
            vec![
                view.title.clone(),
                whom.to_owned(),
                until,
                view.opened.to_string(),
                view.made_by.clone(),
                format!("{}\n{}", view.id, view.address),
            ]
        });
        table(
            &["TITLE", "FOR", "UNTIL", "OPENED", "BY", "VIEW"],
            rows.collect(),
            "Nothing is published.",
        );
    });
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_can_be_chosen_is_a_list_for_each_name() {
        let read = choices(&["port=havnes, skarvoy".to_owned(), "year=2026".to_owned()]);
        let read = read.ok().unwrap();
        assert_eq!(read["port"], ["havnes", "skarvoy"]);
        assert_eq!(read["year"], ["2026"]);
        assert!(choices(&["port".to_owned()]).is_err());
    }
}

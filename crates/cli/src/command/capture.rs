//! A live page captured once, or kept as a report from then on: `capture`.

use std::{path::PathBuf, process::ExitCode};

use base64::{Engine, engine::general_purpose::STANDARD};
use clap::Args;
use console::style;
use maple_lark_api::{
    Applied, DefinitionFile, Draft, DraftOrder, Format, Kind, NewDefinition, PageLook, PageOrder,
    PreviewOrder, RunOrder, Words, readable_size,
};
use serde_json::{Map, Value, json};

use super::{
    ask::name_and_value,
    download::save,
    explain::{iana_zone, one_line},
    run::follow,
};
use crate::{
    client::Client,
    failure::Failure,
    output::{self, Output},
    words::words,
};

/// Capture a live page as it looks: once into files or a mail, or as a report from now on
///
/// The page's address may have places for the window, such as {{ from }} and {{ to }}. Without
/// --source the address is one that the service does not know yet; where only administrators
/// change sources, an author names one of theirs and gives what stands behind its address.
#[derive(Args)]
#[command(after_help = "\
A step of --sign-in and --do is one of:
  open=/path               go to an address behind the source's
  fill=FIELD:VALUE         fill a field, named by its label or a selector; in --sign-in the value
                           may be secret:NAME, env:NAME or file:/path
  press=CONTROL            press a button or link, named by its words or a selector
  wait-for=SELECTOR        wait until something is there

Examples:
  maple-lark capture https://status.example.org/board --printed
  maple-lark capture '/board?from={{ from }}&to={{ to }}' --source port-office --window 'previous = \"week\"' --part '#turnaround' --to ops@example.org
  maple-lark capture https://board.example.org/day --sign-in open=/sign-in --sign-in fill=Name:reporter --sign-in fill=Password:secret:board --sign-in 'press=Sign in' --save board")]
pub struct Capture {
    /// The page's address; with --source what stands behind the source's, such as /board
    #[arg(value_name = "ADDRESS")]
    page: String,
    /// A source of kind web-page that the page belongs to
    #[arg(long, short, value_name = "NAME")]
    source: Option<String>,
    /// A step of signing in by form; may be repeated, in order
    #[arg(long = "sign-in", value_name = "STEP", conflicts_with = "source", value_parser = name_and_value)]
    sign_in: Vec<(String, String)>,
    /// Sign in with this user by HTTP, with the password of --password
    #[arg(long, value_name = "NAME", requires = "password", conflicts_with_all = ["source", "sign_in"])]
    user: Option<String>,
    /// Where the password is: secret:NAME, env:NAME or file:/path
    #[arg(long, value_name = "REFERENCE", requires = "user")]
    password: Option<String>,
    /// Sign in with a token: secret:NAME, env:NAME or file:/path
    #[arg(long, value_name = "REFERENCE", conflicts_with_all = ["source", "sign_in", "user"])]
    bearer: Option<String>,
    /// A step to do on the page before it is kept; may be repeated, in order
    #[arg(long = "do", value_name = "STEP", value_parser = name_and_value)]
    steps: Vec<(String, String)>,
    /// A part to keep, by its selector, instead of the whole page; may be repeated
    #[arg(long = "part", value_name = "SELECTOR")]
    parts: Vec<String>,
    /// What to leave out, such as navigation; may be repeated
    #[arg(long, value_name = "SELECTOR")]
    hide: Vec<String>,
    /// What must be there before it is kept; may be repeated
    #[arg(long, value_name = "SELECTOR")]
    there: Vec<String>,
    /// What must be gone before it is kept, such as a spinner; may be repeated
    #[arg(long, value_name = "SELECTOR")]
    gone: Vec<String>,
    /// How wide the page is shown, in pixels
    #[arg(long, value_name = "PIXELS", value_parser = clap::value_parser!(u32).range(200..=4000))]
    width: Option<u32>,
    /// Ask the page for dark colours
    #[arg(long)]
    dark: bool,
    /// Have the browser print the page too, so that it is sharp in a PDF
    #[arg(long)]
    printed: bool,
    /// The window, as it stands under [window] in a report; the previous day if left out
    #[arg(long, value_name = "WINDOW")]
    window: Option<String>,
    /// The time zone of the window and of the page; this machine's if left out
    #[arg(long, value_name = "ZONE")]
    time_zone: Option<String>,
    /// The title of what is made; the page's own if left out
    #[arg(long)]
    title: Option<String>,
    /// The formats to write
    #[arg(long, value_delimiter = ',', value_parser = words::<Format>(), default_value = "pdf")]
    formats: Vec<Format>,
    /// The folder to write to; it is made if it is not there
    #[arg(long, value_name = "FOLDER", default_value = ".")]
    into: PathBuf,
    /// Mail it instead: an address, a person or a group; may be repeated
    #[arg(long, value_name = "RECIPIENT", conflicts_with = "into")]
    to: Vec<String>,
    /// Keep it as a dashboard and a report of this name
    #[arg(long, value_name = "NAME")]
    save: Option<String>,
    /// The team that these belong to, where the source is shared with teams; yours, if you are in one alone
    #[arg(long)]
    team: Option<String>,
}

/// What was made for one capture, in the order in which it goes again.
#[derive(Default)]
struct Made(Vec<(Kind, String)>);

impl Capture {
    pub async fn run(self, client: &Client, output: Output) -> Result<ExitCode, Failure> {
        let name = match &self.save {
            Some(name) => name.clone(),
            None => {
                let own = uuid::Uuid::now_v7().simple().to_string();
                format!("capture-{}", &own[20..])
            }
        };
        let mut made = Made::default();
        let done = self.carried_out(client, output, &name, &mut made).await;
        // What was saved stays when all went well; nothing is left of the rest.
        if self.save.is_none() || done.is_err() {
            for (kind, name) in made.0.into_iter().rev() {
                let path = format!("/definitions/{}/{name}", kind.word());
                let _: Applied = client.delete_for(&path).await?;
            }
        }
        done
    }

    async fn carried_out(
        &self,
        client: &Client,
        output: Output,
        name: &str,
        made: &mut Made,
    ) -> Result<ExitCode, Failure> {
        let (source, page) = match &self.source {
            Some(source) => (source.clone(), self.page.clone()),
            None => {
                let (keys, page) = self.new_source(name)?;
                make(client, Kind::Source, name, keys, made).await?;
                (name.to_owned(), page)
            }
        };
        let query = self.query(&source, &page)?;
        let seen = self.look(client, &query).await?;
        let title = self.title(&seen.title);
        let dashboard = self.dashboard(name, &title, query);
        let window = self.window()?;
        if self.to.is_empty() && self.save.is_none() {
            return self.write(client, output, dashboard, window).await;
        }
        make(client, Kind::Dashboard, name, dashboard, made).await?;
        let report = self.report(name, &title, window);
        make(client, Kind::Report, name, report, made).await?;
        if self.to.is_empty() {
            println!(
                "The report {} is there. Make and send it: maple-lark run {name}",
                style(name).bold()
            );
            return Ok(ExitCode::SUCCESS);
        }
        let order = RunOrder {
            scheduled_for: None,
            deliver: true,
            to: Vec::new(),
            audience: None,
            note: None,
        };
        follow(client, output, name, &order, false).await
    }

    /// Looks at the page first, so that what is wrong with it is said here and not in a document.
    async fn look(&self, client: &Client, query: &Value) -> Result<PageLook, Failure> {
        let order = PageOrder {
            keys: query.clone(),
            window: self.window()?.into(),
            time_zone: Some(self.zone()),
            ..PageOrder::default()
        };
        let looked: PageLook = client.post("/pages/look", &order).await?;
        for step in &looked.steps {
            let took = style(format!("{:.1} s", step.seconds)).for_stderr().dim();
            eprintln!("  {}  {took}", step.what);
        }
        if let Some(note) = &looked.note {
            eprintln!("  {} {note}", style("note").for_stderr().yellow());
        }
        let Some(problem) = &looked.problem else {
            return Ok(looked);
        };
        let seen = match looked
            .picture
            .as_ref()
            .map(|picture| STANDARD.decode(picture))
        {
            Some(Ok(png)) => {
                let path = save(&self.into, "not-captured.png", &png)?;
                format!(". What was there instead is in {}", path.display())
            }
            _ => String::new(),
        };
        Err(Failure::Local(format!(
            "the page was not captured: {problem}{seen}"
        )))
    }

    /// The window with the keys that it has in a report.
    fn window(&self) -> Result<Value, Failure> {
        match &self.window {
            Some(window) => one_line("--window", window),
            None => Ok(json!({ "previous": "day" })),
        }
    }

    /// Writes the documents, and keeps nothing.
    async fn write(
        &self,
        client: &Client,
        output: Output,
        dashboard: Map<String, Value>,
        window: Value,
    ) -> Result<ExitCode, Failure> {
        let draft = DraftOrder {
            text: String::new(),
            keys: Some(dashboard),
        };
        let draft: Draft = client.post("/definitions/draft", &draft).await?;
        let mut saved: Vec<(String, u64)> = Vec::new();
        for format in &self.formats {
            let order = PreviewOrder {
                definition: Some(draft.text.clone()),
                window: Some(window.clone()),
                time_zone: Some(self.zone()),
                format: Some(format.word().to_owned()),
                ..PreviewOrder::default()
            };
            let (name, bytes) = client.file_from("/preview", &order).await?;
            let path = save(&self.into, &name, &bytes)?;
            saved.push((path.display().to_string(), bytes.len() as u64));
        }
        output::print(output, &saved, |saved| {
            for (path, bytes) in saved {
                println!("{path}  {}", readable_size(*bytes));
            }
        });
        Ok(ExitCode::SUCCESS)
    }

    /// A source for the address, and what stands behind it.
    fn new_source(&self, name: &str) -> Result<(Map<String, Value>, String), Failure> {
        let (scheme, rest) = self.page.split_once("://").ok_or_else(|| {
            Failure::Local(format!(
                "\"{}\" is not an address such as https://status.example.org/board; for a path behind a source, name it with --source",
                self.page
            ))
        })?;
        let at = rest.find(['/', '?']).unwrap_or(rest.len());
        let (host, path) = rest.split_at(at);
        let page = if path.starts_with('/') {
            path.to_owned()
        } else {
            format!("/{path}")
        };
        let mut source = json!({
            "name": name,
            "title": self.title.clone().unwrap_or_else(|| host.to_owned()),
            "kind": "web-page",
            "url": format!("{scheme}://{host}"),
        });
        let sign_in = if !self.sign_in.is_empty() {
            Some(json!({ "kind": "form", "do": steps(&self.sign_in)? }))
        } else if let Some(token) = &self.bearer {
            Some(json!({ "kind": "bearer", "token": token }))
        } else {
            let both = self.user.as_ref().zip(self.password.as_ref());
            both.map(
                |(user, password)| json!({ "kind": "basic", "user": user, "password": password }),
            )
        };
        if let Some(sign_in) = sign_in {
            source["sign-in"] = sign_in;
        }
        Ok((table("source", source), page))
    }

    /// What is asked of the page.
    fn query(&self, source: &str, page: &str) -> Result<Value, Failure> {
        let mut query = json!({ "name": "page", "source": source, "page": page });
        let mut set = |key: &str, value: Value| query[key] = value;
        if !self.steps.is_empty() {
            set("do", steps(&self.steps)?);
        }
        if !self.parts.is_empty() {
            let parts = self.parts.iter().map(|part| json!({ "selector": part }));
            set("part", parts.collect());
        }
        if !self.hide.is_empty() {
            set("hide", json!(self.hide));
        }
        if self.printed {
            set("printed", true.into());
        }
        let mut finished = Map::new();
        for (key, selectors) in [("there", &self.there), ("gone", &self.gone)] {
            if !selectors.is_empty() {
                finished.insert(key.to_owned(), json!(selectors));
            }
        }
        if !finished.is_empty() {
            set("finished", finished.into());
        }
        let mut view = Map::new();
        if let Some(width) = self.width {
            view.insert("width".to_owned(), width.into());
        }
        if self.dark {
            view.insert("colours".to_owned(), "dark".into());
        }
        if !view.is_empty() {
            set("view", view.into());
        }
        Ok(query)
    }

    fn dashboard(&self, name: &str, title: &str, query: Value) -> Map<String, Value> {
        let mut dashboard = json!({ "name": name, "title": title });
        if let Some(team) = &self.team {
            dashboard["team"] = team.as_str().into();
        }
        [
            ("dashboard", dashboard),
            ("query", json!([query])),
            (
                "section",
                json!([{ "title": "The page", "block": [{ "show": "page", "title": title, "query": "page" }] }]),
            ),
        ]
        .into_iter()
        .map(|(key, value)| (key.to_owned(), value))
        .collect()
    }

    fn report(&self, name: &str, title: &str, window: Value) -> Map<String, Value> {
        let formats: Vec<&str> = self.formats.iter().map(|format| format.word()).collect();
        let mut report =
            json!({ "name": name, "title": title, "dashboards": [name], "formats": formats });
        report["time-zone"] = self.zone().into();
        if let Some(team) = &self.team {
            report["team"] = team.as_str().into();
        }
        let mut keys = table("report", report);
        keys.insert("window".to_owned(), window);
        if !self.to.is_empty() {
            let audience = json!([{ "name": "Readers", "to": self.to }]);
            keys.insert("audience".to_owned(), audience);
        }
        keys
    }

    fn zone(&self) -> String {
        let zone = self.time_zone.clone().or_else(iana_zone);
        zone.unwrap_or_else(|| "UTC".to_owned())
    }

    /// What it is called, if nothing is said: as the page calls itself or, where it does not, by its
    /// address without what is asked there.
    fn title(&self, of_page: &str) -> String {
        let words: Vec<&str> = of_page.split_whitespace().collect();
        let of_page = words.join(" ");
        self.title.clone().unwrap_or_else(|| {
            if !of_page.is_empty() {
                return of_page;
            }
            let place = self.page.split('?').next().unwrap_or_default();
            place
                .split_once("://")
                .map_or(place, |(_, place)| place)
                .to_owned()
        })
    }
}

fn table(key: &str, value: Value) -> Map<String, Value> {
    Map::from_iter([(key.to_owned(), value)])
}

async fn make(
    client: &Client,
    kind: Kind,
    name: &str,
    keys: Map<String, Value>,
    made: &mut Made,
) -> Result<(), Failure> {
    let order = NewDefinition {
        keys,
        message: Some("made by maple-lark capture".to_owned()),
    };
    let path = format!("/definitions/{}", kind.word());
    let _: DefinitionFile = client.post(&path, &order).await?;
    made.0.push((kind, name.to_owned()));
    Ok(())
}

/// Steps as a definition has them.
fn steps(given: &[(String, String)]) -> Result<Value, Failure> {
    let step = |(kind, rest): &(String, String)| match kind.as_str() {
        "open" | "press" | "wait-for" => Ok(json!({ kind: rest })),
        "fill" => match rest.split_once(':') {
            Some((field, value)) => Ok(json!({ "fill": field, "with": value })),
            None => Err(Failure::Local(format!(
                "\"fill={rest}\" says not what to fill in; write fill=FIELD:VALUE, such as fill=Name:reporter"
            ))),
        },
        other => Err(Failure::Local(format!(
            "\"{other}\" is no step; it is one of open, fill, press and wait-for, such as press='Sign in'"
        ))),
    };
    given.iter().map(step).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn steps_are_written_as_definitions_have_them() {
        let pairs = |all: &[(&str, &str)]| -> Vec<(String, String)> {
            all.iter()
                .map(|(kind, rest)| ((*kind).to_owned(), (*rest).to_owned()))
                .collect()
        };
        let written = steps(&pairs(&[
            ("open", "/in"),
            ("fill", "Password:secret:board"),
            ("press", "Sign in"),
        ]));
        assert_eq!(
            written.unwrap(),
            json!([{"open": "/in"}, {"fill": "Password", "with": "secret:board"}, {"press": "Sign in"}])
        );
        for (kind, rest, words) in [
            ("fill", "Password", "fill=FIELD:VALUE"),
            ("push", "x", "\"push\" is no step"),
        ] {
            let error = steps(&pairs(&[(kind, rest)])).unwrap_err().to_string();
            assert!(error.contains(words), "{error}");
        }
    }
}

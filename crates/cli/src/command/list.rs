use clap::Args;
use maple_lark_api::{
    CalendarView, DashboardView, ReportPage, ReportView, RunPage, RunState, SourceView,
};

use crate::{
    client::Client,
    failure::Failure,
    output::{self, Output, content, instant, state, table},
    words::words,
};

pub async fn sources(client: &Client, output: Output) -> Result<(), Failure> {
    let found: Vec<SourceView> = client.get("/sources").await?;
    output::print(output, &found, |found| {
        let rows = found
            .iter()
            .map(|source| {
                vec![
                    source.name.clone(),
                    source.title.clone(),
                    source.kind.clone(),
                    source.address.clone(),
                    source.used_by.join(", "),
                ]
            })
            .collect();
        table(
            &["NAME", "TITLE", "KIND", "WHERE", "USED BY"],
            rows,
            "There are no sources yet; define one and apply it.",
        );
    });
    Ok(())
}

pub async fn dashboards(client: &Client, output: Output) -> Result<(), Failure> {
    let found: Vec<DashboardView> = client.get("/dashboards").await?;
    output::print(output, &found, |found| {
        let rows = found
            .iter()
            .map(|one| {
                vec![
                    one.name.clone(),
                    one.title.clone(),
                    one.blocks.to_string(),
                    one.parameters.join(", "),
                    one.used_by.join(", "),
                ]
            })
            .collect();
        table(
            &["NAME", "TITLE", "BLOCKS", "PARAMETERS", "USED BY"],
            rows,
            "There are no dashboards yet; define one and apply it.",
        );
    });
    Ok(())
}

pub async fn calendars(client: &Client, output: Output) -> Result<(), Failure> {
    let found: Vec<CalendarView> = client.get("/calendars").await?;
    output::print(output, &found, |found| {
        let rows = found
            .iter()
            .map(|one| {
                let next = one.next_days.first().map_or_else(
                    || "none".to_owned(),
                    |day| format!("{} {}", day.date.format("%a %-d %b %Y"), day.name),
                );
                vec![
                    one.name.clone(),
                    one.title.clone(),
                    one.events.to_string(),
                    next,
                    one.used_by.join(", "),
                ]
            })
            .collect();
        table(
            &["NAME", "TITLE", "EVENTS", "NEXT DAY", "USED BY"],
            rows,
            "There are no calendars yet; apply a folder with an .ics file.",
        );
    });
    Ok(())
}

/// Every report, page by page.
async fn all_reports(client: &Client) -> Result<Vec<ReportView>, Failure> {
    let mut all = Vec::new();
    for page in 1.. {
        let path = format!("/reports?size=200&page={page}");
        let found: ReportPage = client.get(&path).await?;
        all.extend(found.items);
        if page * found.size >= found.total {
            break;
        }
    }
    Ok(all)
}

pub async fn reports(client: &Client, tags: &[String], output: Output) -> Result<(), Failure> {
    let mut found: Vec<ReportView> = all_reports(client).await?;
    found.retain(|report| tags.iter().all(|tag| report.tags.contains(tag)));
    output::print(output, &found, |found| {
        let rows = found
            .iter()
            .map(|report| {
                let last = report.last_run.as_ref().map_or_else(
                    || "never".to_owned(),
                    |run| {
                        let content = content(run.status.as_deref());
                        let at = instant(Some(run.created_at));
                        format!("{}{content}, {at}", state(&run.state))
                    },
                );
                let next = if report.paused {
                    "paused".to_owned()
                } else {
                    instant(report.next)
                };
                vec![
                    report.name.clone(),
                    report.tags.join(", "),
                    report
                        .schedule
                        .clone()
                        .unwrap_or_else(|| "on request".to_owned()),
                    last,
                    next,
                ]
            })
            .collect();
        table(
            &["NAME", "TAGS", "SCHEDULE", "LAST RUN", "NEXT RUN"],
            rows,
            if tags.is_empty() {
                "There are no reports yet; define one and apply it."
            } else {
                "No report has these tags."
            },
        );
    });
    Ok(())
}

pub async fn pause(
    client: &Client,
    report: &str,
    paused: bool,
    output: Output,
) -> Result<(), Failure> {
    let word = if paused { "pause" } else { "resume" };
    let view: ReportView = client
        .post(&format!("/reports/{report}/{word}"), &serde_json::json!({}))
        .await?;
    output::print(output, &view, |view| {
        if view.paused {
            println!("{} is paused.", view.name);
        } else {
            println!("{} is resumed; next run {}.", view.name, instant(view.next));
        }
    });
    Ok(())
}

/// List runs, newest first
#[derive(Args)]
#[command(
    after_help = "Example:\n  maple-lark runs --report ferry-operations-daily --state failed"
)]
pub struct Runs {
    /// Only runs of this report
    #[arg(long)]
    report: Option<String>,
    /// Only runs in this state, such as delivered, held or failed
    #[arg(long, value_parser = words::<RunState>())]
    state: Option<RunState>,
    /// Which page, counted from 1
    #[arg(long, default_value_t = 1)]
    page: u64,
    /// How many on a page
    #[arg(long, default_value_t = 25)]
    size: u64,
}

impl Runs {
    pub async fn run(self, client: &Client, output: Output) -> Result<(), Failure> {
        let mut query = vec![
            ("page", self.page.to_string()),
            ("size", self.size.to_string()),
        ];
        query.extend(self.report.map(|report| ("report", report)));
        query.extend(self.state.map(|state| ("state", state.to_string())));
        let page: RunPage = client.get_with("/runs", &query).await?;
        output::print(output, &page, |page| {
            let rows = page
                .items
                .iter()
                .map(|run| {
                    vec![
                        run.id.to_string(),
                        run.report.clone(),
                        run.window.label.clone(),
                        format!("{}{}", state(&run.state), content(run.status.as_deref())),
                        instant(Some(run.created_at)),
                    ]
                })
                .collect();
            table(
                &["RUN", "REPORT", "WINDOW", "STATE", "BEGUN"],
                rows,
                "There are no such runs.",
            );
            let last = page.total.div_ceil(page.size).max(1);
            if last > 1 {
                println!("Page {} of {last}; {} runs in all.", page.page, page.total);
            }
        });
        Ok(())
    }
}

use chrono::{Days, NaiveDate};
use clap::Args;
use console::style;
use maple_lark_api::{Agenda as Answer, AgendaEntry, AgendaState};
use maple_lark_time::Zone;

use crate::{
    client::Client,
    failure::Failure,
    output::{self, Output, content, state, table},
};

/// Show what is due and what ran, day by day
///
/// Lists past runs with how they ended, instants to come, and those that a calendar skips
/// or moves. Without dates it is the next seven days and the last.
#[derive(Args)]
#[command(
    after_help = "Examples:\n  maple-lark agenda\n  maple-lark agenda --from 2026-12-01 --to 2027-01-01 --report ferry-operations-daily"
)]
pub struct Agenda {
    /// The first day; yesterday if left out
    #[arg(long, value_name = "DATE")]
    from: Option<NaiveDate>,
    /// The day after the last; eight days after the first if left out
    #[arg(long, value_name = "DATE")]
    to: Option<NaiveDate>,
    /// Only this report
    #[arg(long)]
    report: Option<String>,
    /// The time zone whose days they are; yours if left out
    #[arg(long, value_name = "ZONE")]
    time_zone: Option<String>,
}

impl Agenda {
    pub async fn run(self, client: &Client, output: Output) -> Result<(), Failure> {
        let zone = self
            .time_zone
            .or_else(super::explain::iana_zone)
            .unwrap_or_else(|| "UTC".to_owned());
        let from = self
            .from
            .unwrap_or_else(|| chrono::Local::now().date_naive() - Days::new(1));
        let to = self.to.unwrap_or(from + Days::new(9));
        let mut query = vec![
            ("from", from.to_string()),
            ("to", to.to_string()),
            ("time_zone", zone),
        ];
        query.extend(self.report.map(|report| ("report", report)));
        let agenda: Answer = client.get_with("/agenda", &query).await?;
        output::print(output, &agenda, show);
        Ok(())
    }
}

fn show(agenda: &Answer) {
    let zone: Zone = agenda.time_zone.parse().unwrap_or(Zone::UTC);
    let time = |at| zone.local(at).format("%H:%M").to_string();
    let when = |entry: &AgendaEntry| match entry.count {
        1 => time(entry.first),
        count => format!(
            "{} to {}, {count} times",
            time(entry.first),
            time(entry.last)
        ),
    };
    let mut rows = Vec::new();
    for day in &agenda.days {
        for (index, entry) in day.entries.iter().enumerate() {
            let date = if index == 0 {
                style(day.date.format("%a %-d %b %Y").to_string())
                    .bold()
                    .to_string()
            } else {
                String::new()
            };
            let note = entry.note.clone().unwrap_or_default();
            rows.push(vec![
                date,
                when(entry),
                entry.report.clone(),
                match &entry.state {
                    AgendaState::Run(ran) => {
                        format!("{}{}", state(ran), content(entry.status.as_deref()))
                    }
                    AgendaState::Plan(planned) => state(planned),
                },
                note,
            ]);
        }
    }
    table(
        &["DAY", "AT", "REPORT", "STATE", ""],
        rows,
        "Nothing ran and nothing is due in that time.",
    );
    println!("\nDays and times of {}.", agenda.time_zone);
}

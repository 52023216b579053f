//! Reports whose owner has gone get another, all of them at once.

use maple_lark_api::{HandOver, OwnedReports};

use crate::{
    client::Client,
    failure::Failure,
    output::{self, Output, confirmed},
};

/// Hands the reports of whoever is found at a path over to another.
pub async fn hand_over(
    client: &Client,
    output: Output,
    (path, to): (&str, &str),
    (check, yes): (bool, bool),
) -> Result<(), Failure> {
    let owned: OwnedReports = client.get(&format!("{path}/reports")).await?;
    let from = &owned.owner;
    if owned.reports.is_empty() {
        println!("{from} owns no report.");
        return Ok(());
    }
    if check {
        output::print(output, &owned, |owned| {
            println!("{from} owns:");
            for report in &owned.reports {
                println!("  {report}");
            }
        });
        return Ok(());
    }
    let names = owned.reports.join(", ");
    if !yes && !confirmed(&format!("Hand {names} over from {from} to {to}?")) {
        return Err(Failure::Declined("nothing was changed"));
    }
    let order = HandOver { to: to.to_owned() };
    let handed: OwnedReports = client.post(&format!("{path}/hand-over"), &order).await?;
    output::print(output, &handed, |handed| {
        println!(
            "Handed over from {from} to {}: {}.",
            handed.owner,
            handed.reports.join(", ")
        );
    });
    Ok(())
}

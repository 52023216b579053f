//! Reports whose owner has gone get another, all of them at once.

use maple_lark_api::{
    Applied, DefinitionFile, DefinitionKeys, Draft, DraftOrder, Files, ReportPage, ReportView,
    UserEntry,
};
use serde_json::json;

use crate::{
    client::Client,
    failure::Failure,
    output::{self, Output, confirmed},
};

/// The address of somebody: as it is given, or that of a user.
fn address_of(who: &str, users: &[UserEntry]) -> Result<String, Failure> {
    if who.contains('@') {
        return Ok(who.to_owned());
    }
    let user = users.iter().find(|user| user.name == who);
    let user = user.ok_or_else(|| {
        Failure::Local(format!(
            "there is no user \"{who}\"; of somebody who was removed give the mail address"
        ))
    })?;
    user.email.clone().ok_or_else(|| {
        Failure::Local(format!(
            "the user \"{who}\" has no mail address; give one, such as {who}@orrin-sound.example"
        ))
    })
}

/// The address in an owner, as `Name <address>` or alone.
fn address_in(owner: &str) -> String {
    let inner = owner.rsplit_once('<').map_or(owner, |(_, rest)| rest);
    inner.trim_end_matches('>').trim().to_lowercase()
}

async fn owned(client: &Client, address: &str) -> Result<Vec<ReportView>, Failure> {
    let (mut owned, mut page) = (Vec::new(), 1);
    loop {
        let path = format!("/reports?page={page}&size=200");
        let found: ReportPage = client.get(&path).await?;
        let more = page * found.size < found.total;
        owned.extend(found.items.into_iter().filter(|report| {
            let owner = report.owner.as_deref().map(address_in);
            owner.is_some_and(|owner| owner == address_in(address))
        }));
        if !more {
            return Ok(owned);
        }
        page += 1;
    }
}

/// The definition of a report with another owner.
async fn with_owner(client: &Client, name: &str, owner: &str) -> Result<DefinitionFile, Failure> {
    let file: DefinitionFile = client.get(&format!("/definitions/report/{name}")).await?;
    let found: DefinitionKeys = client
        .get(&format!("/definitions/report/{name}/keys"))
        .await?;
    let mut keys = found.keys;
    keys["report"]["owner"] = json!(owner);
    let order = DraftOrder {
        text: file.text,
        keys: keys.as_object().cloned(),
    };
    let draft: Draft = client.post("/definitions/draft", &order).await?;
    Ok(DefinitionFile {
        text: draft.text,
        ..file
    })
}

/// Hands the reports of one owner over to another.
pub async fn hand_over(
    client: &Client,
    output: Output,
    (from, to): (&str, &str),
    users: &[UserEntry],
    (check, yes): (bool, bool),
) -> Result<(), Failure> {
    let (from, to) = (address_of(from, users)?, address_of(to, users)?);
    let reports = owned(client, &from).await?;
    if reports.is_empty() {
        println!("{from} owns no report.");
        return Ok(());
    }
    if check {
        output::print(output, &reports, |reports| {
            println!("{from} owns:");
            for report in reports {
                println!("  {}  {}", report.name, report.title);
            }
        });
        return Ok(());
    }
    let names: Vec<&str> = reports.iter().map(|report| report.name.as_str()).collect();
    let names = names.join(", ");
    if !yes && !confirmed(&format!("Hand {names} over from {from} to {to}?")) {
        return Err(Failure::Declined("nothing was changed"));
    }
    let mut files = Vec::new();
    for report in &reports {
        files.push(with_owner(client, &report.name, &to).await?);
    }
    let order = Files {
        files,
        message: Some(format!("handed over from {from} to {to}")),
        remove_others: false,
    };
    let applied: Applied = client.post("/definitions/apply", &order).await?;
    output::print(output, &applied, |_| {
        println!("Handed over from {from} to {to}: {names}.");
    });
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn an_owner_is_known_by_the_address_alone() {
        for owner in [
            "Runa Holm <Runa@orrin-sound.example>",
            "runa@orrin-sound.example",
            " <runa@orrin-sound.example> ",
        ] {
            assert_eq!(address_in(owner.trim()), "runa@orrin-sound.example");
        }
        assert_eq!(address_of("a@b.example", &[]).unwrap(), "a@b.example");
        let gone = address_of("runa.holm", &[]).unwrap_err().to_string();
        assert!(gone.contains("give the mail address"), "{gone}");
    }
}

//! Reports of somebody who has gone get another owner, all of them at once.

use maple_lark_api::{DefinitionFile, Files, HandOver, OwnedReports, ProblemDetails};
use maple_lark_definition::{Definition, Kind, Mailbox, edit};
use maple_lark_store::{Store, definitions::StoredDefinition};
use rocket::{Route, State, get, post, routes, serde::json::Json};

use super::{
    Answer,
    body::Body,
    changes::{Order, carry_out},
    problem::Problem,
    users::mailbox,
    writer::Writer,
};
use crate::{access::Administrator, engine::EngineHandle};

pub fn routes() -> Vec<Route> {
    routes![owned, hand_over]
}

/// The address of somebody: of a user by name, or as it is given.
async fn address_of(store: &Store, who: &str) -> Result<Mailbox, Problem> {
    if who.contains('@') && store.user_by_name(who).await?.is_none() {
        return mailbox(who);
    }
    let user = store.user_by_name(who).await?.ok_or_else(|| {
        let words = format!(
            "there is no user \"{who}\"; of somebody who was removed give the mail address"
        );
        Problem::new(404, "Not found", words)
    })?;
    let email = user.email.ok_or_else(|| {
        let words = format!("the user \"{who}\" has no mail address; give an address instead");
        Problem::new(422, "No mail address", words)
    })?;
    mailbox(&email)
}

/// The reports among definitions that somebody owns, by their files.
fn reports_of<'a>(
    stored: &'a [StoredDefinition],
    owner: &'a Mailbox,
) -> impl Iterator<Item = &'a StoredDefinition> {
    let owner = owner.address.to_lowercase();
    stored.iter().filter(move |one| {
        one.kind == Kind::Report.name()
            && matches!(
                Definition::parse(&one.file, &one.text),
                Ok(Definition::Report(report))
                    if report.owner.as_ref().is_some_and(|has| has.address.to_lowercase() == owner)
            )
    })
}

/// The reports that somebody owns: a user, or whoever has a mail address.
#[utoipa::path(get, operation_id = "owned_reports", path = "/users/{name}/reports", tag = "access", params(("name" = String, Path, description = "a user, or the mail address of somebody who has gone")), responses((status = 200, body = OwnedReports), (status = 404, body = ProblemDetails), (status = 422, body = ProblemDetails)))]
#[get("/users/<name>/reports")]
async fn owned(_user: Administrator, name: &str, store: &State<Store>) -> Answer<OwnedReports> {
    let owner = address_of(store, name).await?;
    let stored = store.definitions().await?;
    Ok(Json(OwnedReports {
        owner: owner.address.clone(),
        reports: reports_of(&stored, &owner)
            .map(|one| one.name.clone())
            .collect(),
    }))
}

/// Give all reports that somebody owns to somebody else. Notices about them go there from then on.
#[utoipa::path(post, operation_id = "hand_over_reports", path = "/users/{name}/hand-over", tag = "access", params(("name" = String, Path, description = "a user, or the mail address of somebody who has gone")), request_body = HandOver, responses((status = 200, body = OwnedReports), (status = 404, body = ProblemDetails), (status = 409, body = ProblemDetails), (status = 422, body = ProblemDetails)))]
#[post("/users/<name>/hand-over", data = "<order>")]
async fn hand_over(
    _user: Administrator,
    by: Writer,
    name: &str,
    order: Body<HandOver>,
    store: &State<Store>,
    engine: &State<EngineHandle>,
) -> Answer<OwnedReports> {
    let from = address_of(store, name).await?;
    let to = address_of(store, &order.to).await?;
    let keys = serde_json::json!({ "report": { "owner": to.to_string() } });
    let keys = keys.as_object().cloned().unwrap_or_default();
    let handed = Order::new(by.from, |stored| {
        let files = reports_of(stored, &from).map(|one| {
            let text = edit::patched(&one.text, &keys);
            let text =
                text.map_err(|error| Problem::new(422, "Not understood", error.to_string()))?;
            Ok(DefinitionFile::new(one.file.clone(), text))
        });
        Ok(Files {
            files: files.collect::<Result<_, Problem>>()?,
            message: Some(format!(
                "handed over from {} to {}",
                from.address, to.address
            )),
            remove_others: false,
        })
    });
    let applied = carry_out(store, engine, &by, &handed).await?;
    Ok(Json(OwnedReports {
        owner: to.address.clone(),
        reports: applied
            .changes
            .into_iter()
            .map(|change| change.name)
            .collect(),
    }))
}

//! Teams: made and removed by administrators; members are added and removed by their owners, too.

use glob::Pattern;
use maple_lark_api::{
    Change, ChangeAction, Membership, NewTeam, ProblemDetails, TeamChange, TeamMember, TeamView,
};
use maple_lark_definition::{DefinitionSet, Kind, is_name};
use maple_lark_store::{
    Store,
    teams::{Member, Sight, Team, TeamChange as StoredChange},
};
use rocket::{
    Route, State, delete, get, patch, post, put, response::status::NoContent, routes,
    serde::json::Json,
};

use super::{Answer, Made, body::Body, made, problem::Problem};
use crate::{
    access::{Administrator, Trail, Viewer, addresses},
    engine::EngineHandle,
};

pub fn routes() -> Vec<Route> {
    routes![list, add, change, remove, put_member, remove_member]
}

fn unknown(name: &str) -> Problem {
    Problem::not_found(format!("team \"{name}\""))
}

/// Teams: yours, or all of them if you are an administrator.
#[utoipa::path(get, operation_id = "list_teams", path = "/teams", tag = "access", responses((status = 200, body = Vec<TeamView>)))]
#[get("/teams")]
async fn list(
    user: Viewer,
    store: &State<Store>,
    engine: &State<EngineHandle>,
) -> Answer<Vec<TeamView>> {
    let definitions = engine.definitions(store, &user.1).await?;
    let (teams, members) = (store.teams().await?, store.members().await?);
    let seen = teams.into_iter().filter(|team| user.1.sees(&team.name));
    let view = |team: Team| {
        let of_it = members.iter().filter(|member| member.team == team.name);
        let own = |member: &Member| member.name == user.0.name && member.owner;
        TeamView {
            own: user.1 == Sight::All || of_it.clone().any(own),
            members: of_it
                .map(|member| TeamMember {
                    name: member.name.clone(),
                    owner: member.owner,
                })
                .collect(),
            definitions: belonging(&definitions.set, &team.name).len(),
            name: team.name,
            title: team.title,
            addresses: team.addresses,
        }
    };
    Ok(Json(seen.map(view).collect()))
}

/// The definitions that belong to a team, or are shared with it.
fn belonging(set: &DefinitionSet, team: &str) -> Vec<String> {
    let all: [(Kind, Vec<&String>); 10] = [
        (Kind::Report, set.reports.keys().collect()),
        (Kind::Dashboard, set.dashboards.keys().collect()),
        (Kind::Sampler, set.samplers.keys().collect()),
        (Kind::Person, set.people.keys().collect()),
        (Kind::Group, set.groups.keys().collect()),
        (Kind::Theme, set.themes.keys().collect()),
        (
            Kind::MessageTemplate,
            set.message_templates.keys().collect(),
        ),
        (Kind::Template, set.templates.keys().collect()),
        (Kind::Source, set.sources.keys().collect()),
        (Kind::Channel, set.channels.keys().collect()),
    ];
    let of_kind = |(kind, names): (Kind, Vec<&String>)| {
        let own = names.into_iter().filter(move |name| {
            let teams = set.teams_of(kind, name).unwrap_or_default();
            teams.iter().any(|one| one.value == team)
        });
        own.map(move |name| format!("{} \"{name}\"", kind.name()))
            .collect::<Vec<_>>()
    };
    all.into_iter().flat_map(of_kind).collect()
}

/// Patterns as people read them.
fn shown(addresses: &[String]) -> String {
    if addresses.is_empty() {
        "any address".to_owned()
    } else {
        addresses.join(", ")
    }
}

/// The patterns, if each is one that fits some address.
fn checked(addresses: Vec<String>) -> Result<Vec<String>, Problem> {
    let trimmed = addresses.into_iter().map(|one| one.trim().to_lowercase());
    let mut found: Vec<String> = trimmed.filter(|one| !one.is_empty()).collect();
    found.dedup();
    for one in &found {
        if Pattern::new(one).is_err() || !one.contains('@') {
            let words = format!(
                "\"{one}\" is no pattern of mail addresses; write for instance \"*@orrin-sound.example\""
            );
            return Err(Problem::new(422, "Not a pattern", words));
        }
    }
    Ok(found)
}

/// Make a team.
#[utoipa::path(post, operation_id = "add_team", path = "/teams", tag = "access", request_body = NewTeam, responses((status = 201, body = TeamView), (status = 409, body = ProblemDetails), (status = 422, body = ProblemDetails)))]
#[post("/teams", data = "<new>")]
async fn add(
    by: Administrator,
    new: Body<NewTeam>,
    store: &State<Store>,
    engine: &State<EngineHandle>,
    trail: Trail,
) -> Made<TeamView> {
    let NewTeam {
        name,
        title,
        addresses,
    } = new.into_inner();
    if !is_name(&name) {
        let words = format!(
            "\"{name}\" is not a name: use up to 60 small letters, digits and hyphens, such as \"port-operations\""
        );
        return Err(Problem::new(422, "Not a name", words));
    }
    let title = title.filter(|title| !title.trim().is_empty());
    let title = title.unwrap_or_else(|| name.clone());
    let addresses = checked(addresses)?;
    if !store
        .add_team(&name, &title, &addresses, engine.now())
        .await?
    {
        let words = format!("there is a team \"{name}\" already");
        return Err(Problem::new(409, "Name taken", words));
    }
    trail.note(format!("{name}, writes to {}", shown(&addresses)));
    tracing::info!(by = by.0.name, team = name, "a team was made");
    Ok(made(TeamView {
        name,
        title,
        addresses,
        members: Vec::new(),
        definitions: 0,
        own: true,
    }))
}

/// Change the title of a team, or the addresses that its reports may go to.
#[utoipa::path(patch, operation_id = "change_team", path = "/teams/{name}", tag = "access", params(("name" = String, Path)), request_body = TeamChange, responses((status = 204), (status = 404, body = ProblemDetails), (status = 422, body = ProblemDetails)))]
#[patch("/teams/<name>", data = "<change>")]
async fn change(
    by: Administrator,
    name: &str,
    change: Body<TeamChange>,
    store: &State<Store>,
    trail: Trail,
) -> Result<NoContent, Problem> {
    let TeamChange { title, addresses } = change.into_inner();
    let change = StoredChange {
        title,
        addresses: addresses.map(checked).transpose()?,
    };
    if !store.change_team(name, &change).await? {
        return Err(unknown(name));
    }
    if let Some(title) = &change.title {
        trail.note(format!("is called {title}"));
    }
    if let Some(addresses) = &change.addresses {
        trail.note(format!("writes to {}", shown(addresses)));
    }
    tracing::info!(by = by.0.name, team = name, "a team was changed");
    Ok(NoContent)
}

/// Remove a team that no definition belongs to. Its runs are seen by administrators alone then.
#[utoipa::path(delete, operation_id = "remove_team", path = "/teams/{name}", tag = "access", params(("name" = String, Path)), responses((status = 204), (status = 404, body = ProblemDetails), (status = 409, body = ProblemDetails)))]
#[delete("/teams/<name>")]
async fn remove(
    by: Administrator,
    name: &str,
    store: &State<Store>,
    engine: &State<EngineHandle>,
) -> Result<NoContent, Problem> {
    let definitions = engine.definitions(store, &by.1).await?;
    let belonging = belonging(&definitions.set, name);
    if !belonging.is_empty() {
        let first = &belonging[..belonging.len().min(5)];
        let words = format!(
            "{} definitions belong to \"{name}\" or are shared with it: {}{}; give them to another team first",
            belonging.len(),
            first.join(", "),
            if belonging.len() > first.len() {
                " …"
            } else {
                ""
            }
        );
        return Err(Problem::new(409, "Still needed", words));
    }
    if !store.remove_team(name).await? {
        return Err(unknown(name));
    }
    tracing::info!(by = by.0.name, team = name, "a team was removed");
    Ok(NoContent)
}

/// Whether somebody may say who is in a team.
async fn owns(user: &Viewer, team: &str, store: &Store) -> Result<(), Problem> {
    if user.1 == Sight::All {
        return Ok(());
    }
    let own = store.teams_of(user.0.id).await?;
    match own.into_iter().find(|(name, _)| name == team) {
        None => Err(unknown(team)),
        Some((_, true)) => Ok(()),
        Some((_, false)) => Err(Problem::new(
            403,
            "Not permitted",
            format!("only owners of the team \"{team}\" and administrators say who is in it"),
        )),
    }
}

/// Put a user into a team, or change whether they own it.
#[utoipa::path(put, operation_id = "put_team_member", path = "/teams/{name}/members/{user}", tag = "access", params(("name" = String, Path), ("user" = String, Path)), request_body = Membership, responses((status = 204), (status = 404, body = ProblemDetails)))]
#[put("/teams/<name>/members/<user>", data = "<membership>")]
async fn put_member(
    by: Viewer,
    name: &str,
    user: &str,
    membership: Body<Membership>,
    store: &State<Store>,
    trail: Trail,
) -> Result<NoContent, Problem> {
    owns(&by, name, store).await?;
    if membership.owner {
        trail.note("as an owner");
    }
    if !store.put_member(name, user, membership.owner).await? {
        return Err(Problem::not_found(format!(
            "team \"{name}\" or user \"{user}\""
        )));
    }
    tracing::info!(
        by = by.0.name,
        team = name,
        user,
        owner = membership.owner,
        "somebody is in a team"
    );
    Ok(NoContent)
}

/// Take a user out of a team.
#[utoipa::path(delete, operation_id = "remove_team_member", path = "/teams/{name}/members/{user}", tag = "access", params(("name" = String, Path), ("user" = String, Path)), responses((status = 204), (status = 404, body = ProblemDetails)))]
#[delete("/teams/<name>/members/<user>")]
async fn remove_member(
    by: Viewer,
    name: &str,
    user: &str,
    store: &State<Store>,
) -> Result<NoContent, Problem> {
    owns(&by, name, store).await?;
    if !store.remove_member(name, user).await? {
        return Err(Problem::not_found(format!(
            "\"{user}\" in the team \"{name}\""
        )));
    }
    tracing::info!(
        by = by.0.name,
        team = name,
        user,
        "somebody is no longer in a team"
    );
    Ok(NoContent)
}

/// Refuses addresses that a team's reports do not go to. Administrators may write to anybody.
pub(super) async fn may_write_to(
    store: &Store,
    sight: &Sight,
    team: &str,
    mailboxes: &[String],
) -> Result<(), Problem> {
    if *sight == Sight::All || team.is_empty() {
        return Ok(());
    }
    let Some(team) = store.team(team).await? else {
        return Ok(());
    };
    addresses::refused(&team, mailboxes.iter().map(String::as_str))
        .map_err(|error| Problem::new(403, "Not permitted", error.to_string()))
}

/// Refuses changes that give a definition to a team that there is not, or that write to addresses
/// that its team does not write to.
pub(super) async fn check(
    store: &Store,
    sight: &Sight,
    changes: &[Change],
    set: &DefinitionSet,
) -> Result<(), Problem> {
    let is_owned = |change: &Change| {
        let teams = set.teams_of(change.kind, &change.name);
        change.action != ChangeAction::Remove && teams.is_some_and(|teams| !teams.is_empty())
    };
    if !changes.iter().any(is_owned) {
        return Ok(());
    }
    let known = store.teams().await?;
    for change in changes.iter().filter(|change| is_owned(change)) {
        for team in set.teams_of(change.kind, &change.name).unwrap_or_default() {
            let Some(found) = known.iter().find(|known| known.name == team.value) else {
                let words = format!("there is no team \"{}\"", team.value);
                return Err(Problem::definitions(vec![team.place.problem(words)]));
            };
            if *sight != Sight::All {
                let all = written_to(set, change.kind, &change.name);
                addresses::refused(found, all.iter().map(String::as_str))
                    .map_err(|error| Problem::definitions(vec![team.place.problem(error)]))?;
            }
        }
    }
    Ok(())
}

/// The addresses that a definition writes to.
fn written_to(set: &DefinitionSet, kind: Kind, name: &str) -> Vec<String> {
    let recipients = match kind {
        Kind::Report => set.reports.get(name).map(|report| {
            let audiences = set.audiences(report);
            let all = audiences.iter().flat_map(|one| one.everybody());
            all.map(|one| one.mailbox.address.clone()).collect()
        }),
        Kind::Group => set.groups.get(name).map(|group| {
            let all = set.recipients(&group.members).into_iter();
            all.map(|one| one.mailbox.address).collect()
        }),
        Kind::Person => set.people.get(name).map(|one| vec![one.address.clone()]),
        _ => None,
    };
    recipients.unwrap_or_default()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_pattern_has_an_address_in_it() {
        assert_eq!(
            checked(vec![" *@Port.example ".to_owned(), String::new()]).unwrap(),
            ["*@port.example"]
        );
        for bad in ["port", "[@"] {
            let problem = checked(vec![bad.to_owned()]).unwrap_err();
            assert!(problem.detail().contains("*@orrin-sound.example"), "{bad}");
        }
    }
}

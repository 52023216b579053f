//! Publishing: an address for a dashboard or for the view of a run, with nothing of an editor around it.

use std::{collections::BTreeMap, sync::Arc};

use chrono::{DateTime, TimeDelta, Utc};
use maple_lark_api::{NewView, PreviewOrder, ProblemDetails, Role, ViewPage, ViewView};
use maple_lark_definition::{Dashboard, ParameterValue};
use maple_lark_store::{Store, StoreError, bounds::Bounds, teams::Sight, views::PublishedView};
use rocket::{
    Route, State, delete, get, post, response::status::NoContent, routes, serde::json::Json,
};
use serde::{Deserialize, Serialize};
use serde_json::json;
use uuid::Uuid;

use super::{
    Answer, Made,
    body::{Body, whole},
    made, preview,
    problem::Problem,
    seen,
};
use crate::{
    Config,
    access::{self, Author, SignedIn, Trail},
    engine::{Definitions, EngineHandle, chosen},
};

pub fn routes() -> Vec<Route> {
    routes![list, publish, revoke]
}

/// For so many days an address that anybody can open is good, and at most.
const USUAL_DAYS: u32 = 30;
const MOST_DAYS: u32 = 366;
/// So many values can be chosen from.
const MOST_CHOICES: usize = 100;
/// So many views are looked through for somebody who is held to values.
const MOST_LOOKED_AT: u64 = 500;
const LONGEST_TITLE: usize = 200;
const SHORTEST_PASSWORD: usize = 8;

/// How a dashboard is looked at.
#[derive(Debug, Clone, Default, Serialize, Deserialize)]
pub struct Look {
    pub time_zone: Option<String>,
    pub window: Option<serde_json::Value>,
    pub values: BTreeMap<String, ParameterValue>,
    pub choices: BTreeMap<String, Vec<String>>,
    /// What the parameters to choose from are called.
    #[serde(default)]
    pub titles: BTreeMap<String, String>,
}

impl Look {
    fn is_empty(&self) -> bool {
        let Self {
            time_zone,
            window,
            values,
            choices,
            ..
        } = self;
        time_zone.is_none() && window.is_none() && values.is_empty() && choices.is_empty()
    }

    /// What somebody sees of it who is held to values: what is fixed must be within them, and of what can
    /// be chosen is left what is. Nothing if a parameter that they are held to is neither, or the
    /// dashboard shows something that does not go by it.
    fn within(mut self, bounds: &Bounds, dashboard: &Dashboard) -> Option<Self> {
        let mut chosen = chosen(&self.values);
        chosen.retain(|name, _| dashboard.goes_by(name));
        for (name, all) in &mut self.choices {
            *all = bounds.among(name, all);
            // The first is shown where nothing is chosen; each of the others is as good.
            if dashboard.goes_by(name) {
                chosen.insert(name.clone(), all.first().cloned().into_iter().collect());
            }
        }
        bounds.allow(&chosen).then_some(self)
    }

    /// What is to be shown with some values chosen; nothing if one of them is none to choose from.
    pub fn order(
        &self,
        dashboard: &str,
        chosen: &BTreeMap<String, String>,
    ) -> Option<PreviewOrder> {
        let mut values = self.values.clone();
        for (name, all) in &self.choices {
            let value = match chosen.get(name) {
                Some(value) => all.iter().find(|one| *one == value)?,
                None => all.first()?,
            };
            values.insert(name.clone(), ParameterValue::Text(value.clone()));
        }
        Some(PreviewOrder {
            dashboard: Some(dashboard.to_owned()),
            time_zone: self.time_zone.clone(),
            window: self.window.clone(),
            values,
            ..PreviewOrder::default()
        })
    }
}

/// The secret part of the address that anybody can open.
pub fn token_of(engine: &EngineHandle, id: Uuid) -> Option<String> {
    engine.signer().sign("view", &id.to_string())
}

fn address_of(engine: &EngineHandle, config: &Config, view: &PublishedView) -> String {
    let base = &config.public_url;
    if view.signed_in {
        return format!("{base}/view/{}", view.id);
    }
    match token_of(engine, view.id) {
        Some(token) => format!("{base}/view/{token}"),
        None => String::new(),
    }
}

fn shown(engine: &EngineHandle, config: &Config, view: PublishedView) -> ViewView {
    ViewView {
        address: address_of(engine, config, &view),
        id: view.id,
        title: view.title,
        dashboard: view.dashboard,
        snapshot: view.snapshot_id,
        signed_in: view.signed_in,
        has_password: view.password_hash.is_some(),
        expires_at: view.expires_at,
        revoked_at: view.revoked_at,
        opened: view.opened,
        last_opened_at: view.last_opened_at,
        made_by: view.made_by,
        made_at: view.made_at,
    }
}

/// What is published: to those who look, what they can open; to authors all of it, with addresses.
#[utoipa::path(get, operation_id = "list_views", path = "/views", tag = "dashboards", params(("page" = Option<u64>, Query, description = "counted from 1"), ("size" = Option<u64>, Query, description = "at most 200")), responses((status = 200, body = ViewPage)))]
#[get("/views?<page>&<size>")]
async fn list(
    user: SignedIn,
    page: Option<&str>,
    size: Option<&str>,
    store: &State<Store>,
    engine: &State<EngineHandle>,
    config: &State<Arc<Config>>,
) -> Answer<ViewPage> {
    let page = whole("page", page)?.unwrap_or(1).clamp(1, 1 << 40);
    let size = whole("size", size)?.unwrap_or(50).clamp(1, 200);
    let looks = *user.0.role == Role::Viewer;
    let good_at = looks.then(|| engine.now());
    if matches!(user.1, Sight::Within { .. }) {
        let all = within(store, engine, &user.1).await?;
        let total = all.len() as u64;
        let skipped = usize::try_from((page - 1).saturating_mul(size)).unwrap_or(usize::MAX);
        let some = all.into_iter().skip(skipped).take(size as usize);
        return Ok(Json(ViewPage {
            items: some.map(|view| shown(engine, config, view)).collect(),
            total,
            page,
            size,
        }));
    }
    let found = store.views(&user.1, good_at, page, size).await?;
    let items = found.items.into_iter();
    Ok(Json(ViewPage {
        items: items.map(|view| shown(engine, config, view)).collect(),
        total: found.total,
        page,
        size,
    }))
}

/// What somebody sees of a view who is held to values; nothing if they see none of it.
pub async fn held(
    (store, engine): (&Store, &EngineHandle),
    sight: &Sight,
    mut view: PublishedView,
) -> Result<Option<PublishedView>, StoreError> {
    let Sight::Within { bounds, .. } = sight else {
        return Ok(Some(view));
    };
    if let Some(snapshot) = view.snapshot_id {
        let seen = store.is_within(snapshot, sight).await?;
        return Ok(seen.then_some(view));
    }
    let definitions = engine
        .definitions(store, &sight_of_team(&view.team))
        .await?;
    let name = view.dashboard.as_deref().unwrap_or_default();
    let Some(dashboard) = definitions.set.dashboard(name) else {
        return Ok(None);
    };
    let look: Look = serde_json::from_value(view.look.clone()).unwrap_or_default();
    Ok(look.within(bounds, &dashboard).map(|look| {
        view.look = json!(look);
        view
    }))
}

/// The published views that somebody sees who is held to values, of the latest.
async fn within(
    store: &Store,
    engine: &EngineHandle,
    sight: &Sight,
) -> Result<Vec<PublishedView>, StoreError> {
    let mut seen = Vec::new();
    let views = store.views(sight, Some(engine.now()), 1, MOST_LOOKED_AT);
    for view in views.await?.items {
        seen.extend(held((store, engine), sight, view).await?);
    }
    Ok(seen)
}

fn refused(words: impl Into<String>) -> Problem {
    Problem::new(422, "Cannot be published", words.into())
}

/// What is published, with its title and whose it is.
async fn subject(
    new: &NewView,
    sight: &Sight,
    store: &Store,
    engine: &EngineHandle,
) -> Result<(String, String), Problem> {
    match (&new.dashboard, new.snapshot) {
        (Some(name), None) => {
            let definitions = engine.definitions(store, sight).await?;
            let dashboard = definitions.set.dashboards.get(name);
            let dashboard =
                dashboard.ok_or_else(|| Problem::not_found(format!("dashboard \"{name}\"")))?;
            let team = dashboard.teams.first().map(|team| team.value.clone());
            Ok((dashboard.title.clone(), team.unwrap_or_default()))
        }
        (None, Some(id)) => {
            let (_, run) = seen::snapshot(store, sight, id).await?;
            Ok((run.title, run.team))
        }
        _ => Err(refused("give one of dashboard and snapshot")),
    }
}

/// Whoever sees a team's dashboard sees what the team sees.
pub fn sight_of_team(team: &str) -> Sight {
    Sight::Teams(if team.is_empty() {
        Vec::new()
    } else {
        vec![team.to_owned()]
    })
}

/// Refuses values and choices that the dashboard cannot be shown with.
async fn check_look(
    look: &mut Look,
    dashboard: &str,
    team: &str,
    store: &Store,
    engine: &EngineHandle,
) -> Result<(), Problem> {
    if look.choices.values().map(Vec::len).sum::<usize>() > MOST_CHOICES {
        return Err(refused(format!(
            "at most {MOST_CHOICES} values can be chosen from"
        )));
    }
    if let Some((name, _)) = look.choices.iter().find(|(_, all)| all.is_empty()) {
        return Err(refused(format!(
            "there is nothing to choose from for \"{name}\""
        )));
    }
    let definitions = engine.definitions(store, &sight_of_team(team)).await?;
    // The usual values, and each that can be chosen.
    let mut all = vec![BTreeMap::new()];
    for (name, values) in &look.choices {
        let one = |value: &String| BTreeMap::from([(name.clone(), value.clone())]);
        all.extend(values.iter().map(one));
    }
    for chosen in all {
        let order = look.order(dashboard, &chosen);
        let order = order.ok_or_else(|| refused("a value cannot be chosen"))?;
        let mut definitions = Definitions::clone(&definitions);
        preview::prepared(&order, &sight_of_team(team), engine.now(), &mut definitions)?;
    }
    let parameters = definitions.set.dashboards.get(dashboard);
    for parameter in parameters.iter().flat_map(|one| &one.parameters) {
        if look.choices.contains_key(&parameter.name) {
            look.titles
                .insert(parameter.name.clone(), parameter.title.clone());
        }
    }
    Ok(())
}

fn until(new: &NewView, engine: &EngineHandle) -> Result<Option<DateTime<Utc>>, Problem> {
    let days = match (new.days, new.signed_in) {
        (Some(days), _) if days == 0 || days > MOST_DAYS => {
            return Err(refused(format!("days: 1 to {MOST_DAYS}")));
        }
        (None, true) => return Ok(None),
        (days, _) => days.unwrap_or(USUAL_DAYS),
    };
    Ok(Some(engine.now() + TimeDelta::days(days.into())))
}

/// What a view is called to those who open it.
fn title_of(new: &NewView, usual: String) -> Result<String, Problem> {
    match new.title.as_deref().map(str::trim) {
        None | Some("") => Ok(usual),
        Some(own) if own.chars().count() <= LONGEST_TITLE => Ok(own.to_owned()),
        Some(_) => Err(refused(format!(
            "title: at most {LONGEST_TITLE} characters"
        ))),
    }
}

/// The digest of a view's password, if it is to have one.
async fn password_of(new: &NewView) -> Result<Option<String>, Problem> {
    let Some(given) = new.password.as_deref().filter(|one| !one.is_empty()) else {
        return Ok(None);
    };
    if given.chars().count() < SHORTEST_PASSWORD {
        return Err(refused(format!(
            "password: at least {SHORTEST_PASSWORD} characters; whoever has the address can try some"
        )));
    }
    Ok(Some(access::hashed(given.to_owned()).await))
}

/// Publish a dashboard or the view of a run. Nobody who opens it sees anything else of this place.
#[utoipa::path(post, operation_id = "publish_view", path = "/views", tag = "dashboards", request_body = NewView, responses((status = 201, body = ViewView), (status = 404, body = ProblemDetails), (status = 409, body = ProblemDetails), (status = 422, body = ProblemDetails)))]
#[post("/views", data = "<new>")]
async fn publish(
    user: Author,
    new: Body<NewView>,
    store: &State<Store>,
    engine: &State<EngineHandle>,
    config: &State<Arc<Config>>,
    trail: Trail,
) -> Made<ViewView> {
    let new = new.into_inner();
    let (title, team) = subject(&new, &user.1, store, engine).await?;
    let mut look = Look {
        time_zone: new.time_zone.clone(),
        window: new.window.clone(),
        values: new.values.clone(),
        choices: new.choices.clone(),
        titles: BTreeMap::new(),
    };
    match &new.dashboard {
        Some(name) => check_look(&mut look, name, &team, store, engine).await?,
        None if !look.is_empty() => {
            return Err(refused(
                "the view of a run stays as it is: time_zone, window, values and choices go with a dashboard",
            ));
        }
        None => {}
    }
    if !new.signed_in && token_of(engine, Uuid::nil()).is_none() {
        return Err(Problem::new(
            409,
            "No key",
            "addresses cannot be signed, because the configuration names no secret-key; publish it for those who sign in, or name one",
        ));
    }
    let title = title_of(&new, title)?;
    let password_hash = password_of(&new).await?;
    let view = PublishedView {
        id: Uuid::now_v7(),
        expires_at: until(&new, engine)?,
        dashboard: new.dashboard,
        snapshot_id: new.snapshot,
        title,
        team,
        look: serde_json::to_value(look).map_err(|error| refused(error.to_string()))?,
        signed_in: new.signed_in,
        password_hash,
        revoked_at: None,
        opened: 0,
        last_opened_at: None,
        made_by: user.0.name.clone(),
        made_at: engine.now(),
    };
    let whom = if view.signed_in {
        "for those who sign in"
    } else {
        "for whoever has the address"
    };
    trail.note(format!("{}, {whom}, {}", view.title, view.id));
    store.add_view(&view).await?;
    Ok(made(shown(engine, config, view)))
}

/// End a published view before its time.
#[utoipa::path(delete, operation_id = "revoke_view", path = "/views/{id}", tag = "dashboards", params(("id" = Uuid, Path)), responses((status = 204), (status = 404, body = ProblemDetails)))]
#[delete("/views/<id>")]
async fn revoke(
    user: Author,
    id: Uuid,
    store: &State<Store>,
    engine: &State<EngineHandle>,
) -> Result<NoContent, Problem> {
    let nothing = || Problem::not_found(format!("published view {id}"));
    let view = store.view(id).await?.filter(|view| user.1.sees(&view.team));
    view.ok_or_else(nothing)?;
    if store.revoke_view(id, engine.now()).await? {
        Ok(NoContent)
    } else {
        Err(nothing())
    }
}

//! Published views as they are opened: the finished page, and nothing of this place around it.

use std::{
    collections::{BTreeMap, HashMap},
    sync::Arc,
    time::{Duration, Instant},
};

use chrono::{DateTime, TimeDelta};
use maple_lark_definition::Format;
use maple_lark_render::script_policy;
use maple_lark_store::{Store, views::PublishedView};
use rocket::{
    FromForm, Request, Route, State,
    form::Form,
    get,
    http::{ContentType, Cookie, CookieJar, Header, SameSite, Status},
    post,
    response::{Redirect, Responder, Response},
    routes,
};
use serde_json::json;
use std::net::IpAddr;
use tokio::sync::Mutex;
use uuid::Uuid;

use super::{
    archive::written,
    preview,
    problem::Problem,
    publishing::{Look, held, sight_of_team},
    shared::{Page, broken, keep_private, over},
};
use crate::{
    Config,
    access::{self, SignedIn, Trail},
    engine::{Definitions, EngineHandle, snapshots},
};

pub fn routes() -> Vec<Route> {
    routes![view, content, unlock]
}

/// A dashboard is asked for anew after so long at the earliest, however many look at it.
const FRESH: Duration = Duration::from_secs(60);
/// So many pages are kept for that.
const MOST_KEPT: usize = 64;
/// Nobody looks at a page that comes later than this.
const PATIENCE: Duration = Duration::from_secs(60);
/// For so long a password that was given is good.
const UNLOCKED_HOURS: i64 = 12;

const TEMPLATE: &str = include_str!("../../templates/view.html");

/// Pages of dashboards that were looked at a moment ago. Who asks for one that is being made waits for it.
#[derive(Default)]
pub struct Looked(Mutex<HashMap<(Uuid, String), Place>>);

/// The place of a page; whoever makes it holds it.
type Place = Arc<Mutex<Option<Made>>>;

#[derive(Clone)]
struct Made {
    html: Arc<str>,
    at: Instant,
}

/// What comes of opening a view.
#[derive(Responder)]
enum Opened {
    Shown(Shown),
    SignIn(Box<Redirect>),
    Page(Box<Page>),
}

impl From<Page> for Opened {
    fn from(page: Page) -> Self {
        Self::Page(Box::new(page))
    }
}

/// A page, with what may frame it.
struct Shown {
    html: String,
    policy: String,
}

impl<'r> Responder<'r, 'static> for Shown {
    fn respond_to(self, request: &'r Request<'_>) -> rocket::response::Result<'static> {
        let mut response =
            Response::build_from((ContentType::HTML, self.html).respond_to(request)?).finalize();
        response.set_header(Header::new("Content-Security-Policy", self.policy));
        keep_private(&mut response);
        Ok(response)
    }
}

/// What was chosen, as it stands in the address.
type Chosen = BTreeMap<String, String>;

fn locked_by(id: Uuid) -> String {
    format!("maple_lark_view_{}", id.simple())
}

/// A view that whoever asks may open: by the address that anybody can open, or signed in.
async fn opened(
    address: &str,
    viewer: Option<&SignedIn>,
    (store, engine): (&Store, &EngineHandle),
    jar: &CookieJar<'_>,
) -> Result<PublishedView, Opened> {
    let by_id = address.parse::<Uuid>().ok();
    let signed = || engine.signer().signed("view", address)?.parse().ok();
    let id = by_id.or_else(signed).ok_or_else(over)?;
    if by_id.is_some() && viewer.is_none() {
        let base = engine.config().base();
        let to = format!("{base}/sign-in?to=/view/{id}");
        return Err(Opened::SignIn(Box::new(Redirect::to(to))));
    }
    let found = store.view(id).await.map_err(|error| broken(&error))?;
    let found = found
        .filter(|view| view.is_good(engine.now()) && view.signed_in == by_id.is_some())
        .filter(|view| match viewer {
            Some(viewer) if view.signed_in => viewer.1.sees(&view.team),
            _ => !view.signed_in,
        });
    let view = found.ok_or_else(over)?;
    // An address that anybody can open shows the same to all.
    let view = match viewer.filter(|_| view.signed_in) {
        Some(viewer) => {
            let seen = held((store, engine), &viewer.1, view).await;
            seen.map_err(|error| broken(&error))?.ok_or_else(over)?
        }
        None => view,
    };
    if view.password_hash.is_some() {
        let given = jar.get(&locked_by(id)).and_then(|cookie| {
            let signed = engine.signer().signed("unlocked", cookie.value())?;
            let (of, until) = signed.split_once(' ')?;
            let until: DateTime<chrono::Utc> = until.parse().ok()?;
            (of == id.to_string() && until > engine.now()).then_some(())
        });
        if given.is_none() {
            return Err(asks(&view.title, None).into());
        }
    }
    Ok(view)
}

fn asks(title: &str, problem: Option<&str>) -> Page {
    Page::new(json!({ "page": "password", "title": title, "problem": problem }))
}

fn framed_by(config: &Config, own: bool) -> String {
    let mut origins = config.embed_in.clone();
    if own {
        origins.insert(0, "'self'".to_owned());
    }
    if origins.is_empty() {
        "'none'".to_owned()
    } else {
        origins.join(" ")
    }
}

/// The page around a view: its title, what can be chosen, and the view itself.
#[get("/view/<address>?<chosen..>")]
#[expect(
    clippy::too_many_arguments,
    reason = "what the request holds, and the states of the service"
)]
async fn view(
    address: &str,
    chosen: Chosen,
    viewer: Option<SignedIn>,
    jar: &CookieJar<'_>,
    store: &State<Store>,
    engine: &State<EngineHandle>,
    config: &State<Arc<Config>>,
) -> Result<Opened, Opened> {
    let view = opened(address, viewer.as_ref(), (store, engine), jar).await?;
    let look: Look = serde_json::from_value(view.look.clone()).unwrap_or_default();
    if let Some(dashboard) = &view.dashboard
        && look.order(dashboard, &chosen).is_none()
    {
        return Err(over().into());
    }
    let fields: Vec<_> = look
        .choices
        .iter()
        .map(|(name, values)| {
            let value = chosen.get(name).or(values.first());
            json!({ "name": name, "title": look.titles.get(name).unwrap_or(name), "values": values, "value": value })
        })
        .collect();
    let kept: Vec<(&String, &String)> = chosen
        .iter()
        .filter(|(name, _)| look.choices.contains_key(*name))
        .collect();
    let query = query_of(&kept);
    let values = json!({
        "title": view.title,
        "fields": fields,
        "content": format!("/view/{address}/content{query}"),
        "live": view.dashboard.is_some(),
    });
    let mut templates = minijinja::Environment::new();
    templates.set_auto_escape_callback(|_| minijinja::AutoEscape::Html);
    let html = templates.render_str(TEMPLATE, minijinja::value::Serde(&values));
    let html = html.map_err(|error| {
        tracing::error!(%error, "the page of a published view could not be rendered");
        over()
    })?;
    Ok(Opened::Shown(Shown {
        html,
        policy: format!(
            "default-src 'none'; style-src 'unsafe-inline'; frame-src 'self'; form-action 'self'; frame-ancestors {}",
            framed_by(config, false)
        ),
    }))
}

/// Pairs as what follows the path of an address.
fn query_of(pairs: &[(&String, &String)]) -> String {
    if pairs.is_empty() {
        return String::new();
    }
    let encoded = |text: &str| {
        rocket::http::RawStr::new(text)
            .percent_encode()
            .to_string()
            .replace('&', "%26")
            .replace('+', "%2B")
            .replace('=', "%3D")
    };
    let pairs = pairs
        .iter()
        .map(|(name, value)| format!("{}={}", encoded(name), encoded(value)));
    format!("?{}", pairs.collect::<Vec<_>>().join("&"))
}

/// The view itself, which its page frames.
#[get("/view/<address>/content?<chosen..>")]
#[expect(
    clippy::too_many_arguments,
    reason = "what the request holds, and the states of the service"
)]
async fn content(
    address: &str,
    chosen: Chosen,
    viewer: Option<SignedIn>,
    jar: &CookieJar<'_>,
    store: &State<Store>,
    engine: &State<EngineHandle>,
    config: &State<Arc<Config>>,
    looked: &State<Looked>,
    trail: Trail,
) -> Result<Opened, Opened> {
    let view = opened(address, viewer.as_ref(), (store, engine), jar).await?;
    trail.is("opened_view", view.id.to_string());
    trail.note(view.title.clone());
    let html = match (&view.dashboard, view.snapshot_id) {
        (Some(dashboard), _) => {
            let look: Look = serde_json::from_value(view.look.clone()).unwrap_or_default();
            let order = look.order(dashboard, &chosen).ok_or_else(over)?;
            let made = looked
                .at(view.id, &order.values, || {
                    of_dashboard(&view, order.clone(), store, engine)
                })
                .await;
            made.map_err(|problem| cannot(&problem))?.to_string()
        }
        (None, Some(snapshot)) => {
            let kept = store.whole_snapshot(snapshot).await;
            let kept = kept.map_err(|error| broken(&error))?.ok_or_else(over)?;
            let files = written(engine, move || snapshots::open(&kept), Format::Html).await;
            text_of(files.map_err(|problem| cannot(&problem))?)
        }
        (None, None) => return Err(over().into()),
    };
    let counted = store.count_view(view.id, engine.now()).await;
    counted.map_err(|error| broken(&error))?;
    Ok(Opened::Shown(Shown {
        html,
        policy: format!(
            "default-src 'none'; style-src 'unsafe-inline'; img-src data:; font-src data:; {}; sandbox allow-scripts allow-popups; frame-ancestors {}",
            script_policy(),
            framed_by(config, true)
        ),
    }))
}

/// What went wrong inside is for those who run the place.
fn cannot(problem: &Problem) -> Page {
    tracing::warn!(
        problem = problem.detail(),
        "a published view could not be shown"
    );
    Page::unavailable()
}

fn text_of(files: Vec<maple_lark_render::Rendered>) -> String {
    let bytes = files.into_iter().next().map(|file| file.bytes);
    String::from_utf8_lossy(&bytes.unwrap_or_default()).into_owned()
}

async fn of_dashboard(
    view: &PublishedView,
    order: maple_lark_api::PreviewOrder,
    store: &Store,
    engine: &EngineHandle,
) -> Result<String, Problem> {
    let sight = sight_of_team(&view.team);
    let mut definitions = Definitions::clone(&*engine.definitions(store, &sight).await?);
    let asked = preview::prepared(&order, &sight, engine.now(), &mut definitions)?;
    let looking = engine.preview(&asked.needed, &asked.report, asked.window, asked.values);
    let snapshot = tokio::time::timeout(PATIENCE, looking)
        .await
        .map_err(|_| Problem::new(504, "Took too long", "the sources did not answer in time"))?;
    Ok(text_of(
        written(engine, move || Ok(snapshot), Format::Html).await?,
    ))
}

impl Looked {
    /// The page that was made a moment ago, or one that is made now.
    async fn at<F>(
        &self,
        view: Uuid,
        values: &BTreeMap<String, maple_lark_definition::ParameterValue>,
        make: impl FnOnce() -> F,
    ) -> Result<Arc<str>, Problem>
    where
        F: Future<Output = Result<String, Problem>>,
    {
        let key = (view, serde_json::to_string(values).unwrap_or_default());
        let place = {
            let mut all = self.0.lock().await;
            if all.len() >= MOST_KEPT && !all.contains_key(&key) {
                // Those that nobody waits for; the rest is bounded by what can be chosen.
                all.retain(|_, place| Arc::strong_count(place) > 1);
            }
            all.entry(key).or_default().clone()
        };
        let mut made = place.lock().await;
        if let Some(fresh) = made.as_ref().filter(|made| made.at.elapsed() < FRESH) {
            return Ok(fresh.html.clone());
        }
        let html: Arc<str> = make().await?.into();
        *made = Some(Made {
            html: html.clone(),
            at: Instant::now(),
        });
        Ok(html)
    }
}

#[derive(FromForm)]
struct Given<'r> {
    password: &'r str,
}

/// Open a view that has a password.
#[post("/view/<address>", data = "<given>")]
#[expect(
    clippy::too_many_arguments,
    reason = "what the request holds, and the states of the service"
)]
async fn unlock(
    address: &str,
    given: Form<Given<'_>>,
    jar: &CookieJar<'_>,
    peer: IpAddr,
    store: &State<Store>,
    engine: &State<EngineHandle>,
    config: &State<Arc<Config>>,
) -> Result<Redirect, Page> {
    let signed = || engine.signer().signed("view", address)?.parse().ok();
    let id = address.parse::<Uuid>().ok().or_else(signed);
    let found = match id {
        Some(id) => store.view(id).await.map_err(|error| broken(&error))?,
        None => None,
    };
    let view = found
        .filter(|view| view.is_good(engine.now()))
        .ok_or_else(over)?;
    let hash = view.password_hash.clone().ok_or_else(over)?;
    let fits = access::opens_view(store, (view.id, &hash), given.password, &peer.to_string()).await;
    if let Err(error) = fits {
        return Err(asks(&view.title, Some(&error.to_string())).with(Status::Forbidden));
    }
    let until = engine.now() + TimeDelta::hours(UNLOCKED_HOURS);
    let signed = engine
        .signer()
        .sign("unlocked", &format!("{} {}", view.id, until.to_rfc3339()));
    jar.add(
        Cookie::build((locked_by(view.id), signed.unwrap_or_default()))
            .http_only(true)
            .same_site(SameSite::Strict)
            .secure(config.public_url.starts_with("https://"))
            .path(format!("{}/view/{address}", config.base())),
    );
    Ok(Redirect::to(format!("{}/view/{address}", config.base())))
}

//! The HTTP API, version 1, and the pages of the console.

mod about;
pub mod address;
mod agenda;
mod archive;
mod archive_proof;
mod audit;
mod base;
mod body;
mod changes;
mod client;
mod condition;
mod connections;
mod definitions;
mod delivery;
mod difference;
mod documents;
mod drafts;
mod follow;
mod forgotten;
mod hand_over;
mod health;
mod keeping;
mod keys;
mod layout;
mod mailbox;
mod metrics;
mod once;
mod openapi;
mod overview;
mod pages;
mod passkeys;
mod preview;
pub(crate) mod problem;
mod provider;
mod proxies;
mod publishing;
mod queries;
mod recorder;
mod report_list;
mod reports;
mod runs;
mod schedules;
mod search;
mod second_factor;
mod secrets;
mod seen;
mod sessions;
mod shared;
mod sources;
mod teams;
mod templates;
mod themes;
mod users;
mod version;
mod view;
mod views;
mod writer;

use std::{
    collections::BTreeSet,
    net::{Ipv4Addr, SocketAddr},
    path::PathBuf,
    sync::Arc,
};

use maple_lark_api::Work;
use maple_lark_store::Store;
use rocket::{
    Build, Request, Rocket, Route, State, catch, catchers,
    data::Limits,
    fairing::AdHoc,
    figment::Figment,
    get,
    request::{FromRequest, Outcome},
    routes,
};
use sd_notify::NotifyState;

use crate::{Config, console::ConsoleFile, engine::EngineHandle, tls::Callers, told_to_the_system};
pub use openapi::openapi;
use problem::{Problem, Refusal};

type Answer<T> = Result<rocket::serde::json::Json<T>, Problem>;
/// The answer of a call that makes something: 201, with what was made.
type Made<T> = Result<rocket::response::status::Custom<rocket::serde::json::Json<T>>, Problem>;

fn made<T>(new: T) -> rocket::response::status::Custom<rocket::serde::json::Json<T>> {
    rocket::response::status::Custom(
        rocket::http::Status::Created,
        rocket::serde::json::Json(new),
    )
}

pub fn rocket(
    store: Store,
    config: Arc<Config>,
    engine: EngineHandle,
    callers: Callers,
) -> Rocket<Build> {
    let listen = config.listen;
    // Behind its own TLS it is asked by itself alone.
    let own = match config.tls {
        Some(_) => (Ipv4Addr::LOCALHOST, 0).into(),
        None => listen,
    };
    let figment = Figment::from(rocket::Config {
        address: own.ip(),
        port: own.port(),
        log_level: rocket::config::LogLevel::Off,
        ident: rocket::config::Ident::none(),
        // Whoever says that they ask for somebody else is not believed, but for proxies that are named.
        ip_header: Some(proxies::BELIEVED.into()),
        // The engine stops meanwhile; both are done within three seconds.
        shutdown: rocket::config::Shutdown {
            grace: 1,
            mercy: 1,
            ..rocket::config::Shutdown::default()
        },
        limits: Limits::new().limit("json", rocket::data::ToByteUnit::mebibytes(8)),
        ..rocket::Config::release_default()
    });
    let answers = config.takes(Work::Api);
    let within = config.head_timeout;
    let scheme = if config.tls.is_some() {
        "https"
    } else {
        "http"
    };
    let proxies = proxies::Proxies {
        trusted: config.trusted_proxies.clone(),
        callers,
    };
    let server = rocket::custom(figment)
        .manage(address::Names(openapi::query_names()))
        .manage(store)
        .manage(config)
        .manage(engine)
        .manage(views::Looked::default())
        .manage(follow::Followed::default())
        .attach(told_when_ready(listen, scheme))
        .attach(proxies)
        .attach(base::Base)
        .attach(connections::Connections::new(within))
        .attach(recorder::Recorder::new())
        .register("/", catchers![by_status])
        .mount(
            "/",
            routes![health::health, health::ready, metrics::metrics],
        );
    if !answers {
        return server;
    }
    server
        .mount("/", routes![page])
        .mount("/api/v1", of_the_api())
        .mount(
            "/",
            [shared::routes(), views::routes(), provider::routes()].concat(),
        )
        .mount("/api/v1", routes![openapi::description])
}

/// Tells log and system once the server listens.
fn told_when_ready(listen: SocketAddr, scheme: &'static str) -> AdHoc {
    AdHoc::on_liftoff("ready", move |rocket| {
        let port = match listen.port() {
            0 => rocket.config().port,
            port => port,
        };
        let address = SocketAddr::new(listen.ip(), port).to_string();
        Box::pin(async move {
            tracing::info!(address, scheme, "the service is ready");
            told_to_the_system(NotifyState::Ready);
        })
    })
}

/// Every operation of the API but its own description.
fn of_the_api() -> Vec<Route> {
    let all = [
        about::routes(),
        condition::routes(),
        sessions::routes(),
        users::routes(),
        teams::routes(),
        keeping::routes(),
        second_factor::routes(),
        hand_over::routes(),
        passkeys::routes(),
        forgotten::routes(),
        audit::routes(),
        archive_proof::routes(),
        definitions::routes(),
        sources::routes(),
        layout::routes(),
        report_list::routes(),
        reports::routes(),
        runs::routes(),
        documents::routes(),
        archive::routes(),
        search::routes(),
        drafts::routes(),
        keys::routes(),
        templates::routes(),
        themes::routes(),
        overview::routes(),
        mailbox::routes(),
        schedules::routes(),
        agenda::routes(),
        queries::routes(),
        pages::routes(),
        preview::routes(),
        secrets::routes(),
        delivery::routes(),
        publishing::routes(),
    ];
    all.concat()
}

/// Whatever is no part of the API is a page of the console.
#[get("/<path..>", rank = 100)]
fn page(
    path: PathBuf,
    other: OtherMethods,
    config: &State<Arc<Config>>,
) -> Result<ConsoleFile, Problem> {
    let path = path.to_string_lossy();
    if path.starts_with("api/") {
        if let Some(problem) = other.0 {
            return Err(problem);
        }
        return Err(Problem::not_found(format!(
            "address /{path} in this API; /api/v1/openapi.json describes it"
        )));
    }
    ConsoleFile::at(&path, config.base()).ok_or_else(|| {
        Problem::not_found(
            "console in this build; build it with \"npm run build\" in console/ first",
        )
    })
}

/// That an address has only other methods than the one that it is asked with.
struct OtherMethods(Option<Problem>);

#[rocket::async_trait]
impl<'r> FromRequest<'r> for OtherMethods {
    type Error = std::convert::Infallible;

    async fn from_request(request: &'r Request<'_>) -> Outcome<Self, Self::Error> {
        let methods = methods_of(request);
        let method = request.method().as_str();
        Outcome::Success(Self(
            (!methods.is_empty()).then(|| Problem::other_methods(method, &methods)),
        ))
    }
}

/// The other methods that the address of a request has.
fn methods_of(request: &Request<'_>) -> Vec<&'static str> {
    let path = request.uri().path();
    let asked: Vec<&str> = path
        .raw_segments()
        .map(|segment| segment.as_str())
        .collect();
    let fits = |route: &&Route| {
        let own: Vec<&str> = route
            .uri
            .path()
            .split('/')
            .filter(|one| !one.is_empty())
            .collect();
        own.len() == asked.len()
            && own
                .iter()
                .zip(&asked)
                .all(|(own, asked)| own.starts_with('<') || own == asked)
            // The page of the console takes whatever is left.
            && !own.iter().any(|one| one.ends_with("..>"))
    };
    let routes = request.rocket().routes().filter(fits);
    let found: BTreeSet<&str> = routes.map(|route| route.method.as_str()).collect();
    found
        .into_iter()
        .filter(|method| *method != request.method().as_str())
        .collect()
}

#[catch(default)]
fn by_status(status: rocket::http::Status, request: &Request<'_>) -> Problem {
    if let Some(refusal) = request.local_cache(|| None::<Refusal>) {
        return refusal.problem();
    }
    match status.code {
        400 | 422 => Problem::new(
            status.code,
            "Not understood",
            "the body or a value in the address does not have the form that /api/v1/openapi.json describes",
        ),
        404 if !methods_of(request).is_empty() => {
            Problem::other_methods(request.method().as_str(), &methods_of(request))
        }
        404 => Problem::not_found(format!(
            "address {} for {}",
            request.uri().path(),
            request.method()
        )),
        413 => Problem::new(413, "Too large", "the body is larger than 8 MiB"),
        code => Problem::new(
            code,
            status.reason().unwrap_or("Error"),
            "the service's log says more",
        ),
    }
}

//! Passkeys: added and removed by their user, and signed in with.

use std::{net::IpAddr, sync::Arc};

use chrono::Utc;
use maple_lark_api::{
    NewPasskey, Passkey, PasskeyAnswer, PasskeyChallenge, PasswordAgain, ProblemDetails, UserView,
};
use maple_lark_store::{Store, passkeys::StoredPasskey};
use rocket::{
    Route, State, delete, get, http::CookieJar, post, response::status::NoContent, routes,
    serde::json::Json,
};
use serde::de::DeserializeOwned;
use serde_json::Value;
use uuid::Uuid;

use super::{
    Answer, Made,
    body::Body,
    made,
    problem::Problem,
    second_factor::knows_password,
    sessions::{Agent, enter, view},
};
use crate::{
    Config,
    access::{
        SignedIn, Trail, WAIT,
        passkeys::{self, Asked, PasskeyError},
    },
};

pub fn routes() -> Vec<Route> {
    routes![list, begin, add, remove, ask, sign_in]
}

impl From<PasskeyError> for Problem {
    fn from(error: PasskeyError) -> Self {
        use PasskeyError as E;
        let words = error.to_string();
        match error {
            E::Store(error) => error.into(),
            E::Unavailable(_) => Problem::new(409, "No passkeys here", words),
            E::Elsewhere => Problem::new(409, "The organisation's", words),
            E::TooMany | E::Stale | E::Known => Problem::new(409, "Not now", words),
            E::Title => Problem::new(422, "No name", words),
            E::Answer(_) => Problem::new(422, "Another answer", words),
            E::Unknown => Problem::new(401, "Not signed in", words),
            E::Blocked => Problem::new(429, "Too many attempts", words).after(WAIT.num_seconds()),
            E::State(error) => {
                tracing::error!(%error, "a passkey cannot be read");
                Problem::new(500, "Not as it was kept", words)
            }
        }
    }
}

fn shown(one: StoredPasskey) -> Passkey {
    Passkey {
        id: one.id,
        title: one.title,
        created_at: one.created_at,
        last_used_at: one.last_used_at,
    }
}

fn challenge(asked: Asked) -> PasskeyChallenge {
    PasskeyChallenge {
        challenge: asked.challenge,
        options: asked.options,
    }
}

/// Reads what a device has answered.
fn read<T: DeserializeOwned>(answer: Value) -> Result<T, Problem> {
    serde_json::from_value(answer).map_err(|error| {
        Problem::new(
            422,
            "Another answer",
            format!("answer: this is nothing that a device answers: {error}"),
        )
    })
}

/// Your own passkeys.
#[utoipa::path(get, operation_id = "list_passkeys", path = "/session/passkeys", tag = "access", responses((status = 200, body = Vec<Passkey>)))]
#[get("/session/passkeys")]
async fn list(user: SignedIn, store: &State<Store>) -> Answer<Vec<Passkey>> {
    let all = store.passkeys(user.0.id).await?;
    Ok(Json(all.into_iter().map(shown).collect()))
}

/// Ask a device of yours for a passkey.
#[utoipa::path(post, operation_id = "begin_passkey", path = "/session/passkeys/challenge", tag = "access", request_body = PasswordAgain, responses((status = 200, body = PasskeyChallenge), (status = 409, body = ProblemDetails), (status = 422, body = ProblemDetails), (status = 429, body = ProblemDetails), (status = 503, body = ProblemDetails)))]
#[post("/session/passkeys/challenge", data = "<again>")]
async fn begin(
    user: SignedIn,
    again: Body<PasswordAgain>,
    store: &State<Store>,
    config: &State<Arc<Config>>,
) -> Answer<PasskeyChallenge> {
    knows_password(&user, store, config, again.into_inner().password).await?;
    let asked = passkeys::propose(store, &config.public_url, &user.0, Utc::now()).await?;
    Ok(Json(challenge(asked)))
}

/// Keep the passkey that your device answered with.
#[utoipa::path(post, operation_id = "add_passkey", path = "/session/passkeys", tag = "access", request_body = NewPasskey, responses((status = 201, body = Passkey), (status = 409, body = ProblemDetails), (status = 422, body = ProblemDetails)))]
#[post("/session/passkeys", data = "<new>")]
async fn add(
    user: SignedIn,
    new: Body<NewPasskey>,
    store: &State<Store>,
    config: &State<Arc<Config>>,
    trail: Trail,
) -> Made<Passkey> {
    let NewPasskey {
        challenge,
        title,
        answer,
    } = new.into_inner();
    trail.note(format!("\"{title}\""));
    let answered = (challenge, title.as_str(), read(answer)?);
    let kept = passkeys::add(store, &config.public_url, &user.0, answered, Utc::now()).await?;
    tracing::info!(user = user.0.name, "a passkey was added");
    Ok(made(shown(kept)))
}

/// Remove one of your passkeys. Nobody signs in with it any more.
#[utoipa::path(delete, operation_id = "remove_passkey", path = "/session/passkeys/{id}", tag = "access", params(("id" = Uuid, Path)), responses((status = 204), (status = 404, body = ProblemDetails)))]
#[delete("/session/passkeys/<id>")]
async fn remove(user: SignedIn, id: Uuid, store: &State<Store>) -> Result<NoContent, Problem> {
    if store.remove_passkey(user.0.id, id).await? {
        Ok(NoContent)
    } else {
        Err(Problem::not_found("such passkey of yours"))
    }
}

/// Ask a device who signs in.
#[utoipa::path(post, operation_id = "begin_passkey_sign_in", path = "/sign-in/passkey/challenge", tag = "access", responses((status = 200, body = PasskeyChallenge), (status = 409, body = ProblemDetails), (status = 429, body = ProblemDetails)))]
#[post("/sign-in/passkey/challenge")]
async fn ask(
    store: &State<Store>,
    config: &State<Arc<Config>>,
    peer: IpAddr,
) -> Answer<PasskeyChallenge> {
    let address = peer.to_string();
    let asked = passkeys::ask(store, &config.public_url, &address, Utc::now()).await?;
    Ok(Json(challenge(asked)))
}

/// Sign in with a passkey and get a session cookie.
#[utoipa::path(post, operation_id = "sign_in_with_passkey", path = "/sign-in/passkey", tag = "access", request_body = PasskeyAnswer, responses((status = 200, body = UserView), (status = 401, body = ProblemDetails), (status = 409, body = ProblemDetails), (status = 422, body = ProblemDetails)))]
#[post("/sign-in/passkey", data = "<given>")]
#[expect(
    clippy::too_many_arguments,
    reason = "what the request holds, and the states of the service"
)]
async fn sign_in(
    given: Body<PasskeyAnswer>,
    store: &State<Store>,
    config: &State<Arc<Config>>,
    jar: &CookieJar<'_>,
    peer: IpAddr,
    agent: Agent,
    trail: Trail,
) -> Answer<UserView> {
    trail.note("with a passkey");
    let PasskeyAnswer { challenge, answer } = given.into_inner();
    let (address, answered) = (peer.to_string(), (challenge, read(answer)?));
    let signed_in = passkeys::sign_in(store, &config.public_url, &address, answered, Utc::now());
    let user = signed_in.await?;
    trail.actor(&user.name);
    enter(store, &user, config, jar, (peer, &agent)).await?;
    Ok(Json(view(store, &user, config).await?))
}

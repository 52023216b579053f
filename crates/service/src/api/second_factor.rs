//! The second factor: begun, confirmed, turned off; reset by administrators.

use std::sync::Arc;

use chrono::Utc;
use maple_lark_api::{
    Code, NewSecondFactor, PasswordAgain, ProblemDetails, RecoveryCodes, SecondFactor,
};
use maple_lark_store::Store;
use rocket::{
    Route, State, delete, get, post, put, response::status::NoContent, routes, serde::json::Json,
};

use super::{Answer, body::Body, problem::Problem};
use crate::{
    Config,
    access::{
        self, Administrator, SignInError, SignedIn,
        second_factor::{self, FactorError},
    },
};

pub fn routes() -> Vec<Route> {
    routes![show, begin, confirm, turn_off, reset]
}

impl From<FactorError> for Problem {
    fn from(error: FactorError) -> Self {
        match error {
            FactorError::Store(error) => error.into(),
            FactorError::On | FactorError::NotBegun => {
                Problem::new(409, "Not now", error.to_string())
            }
            FactorError::Wrong => Problem::new(422, "Another code", error.to_string()),
            FactorError::Vault(_) | FactorError::Key(_) => {
                Problem::new(409, "No key can be kept", error.to_string())
            }
        }
    }
}

/// Whether you are asked for a second factor.
#[utoipa::path(get, operation_id = "get_second_factor", path = "/session/second-factor", tag = "access", responses((status = 200, body = SecondFactor)))]
#[get("/session/second-factor")]
async fn show(user: SignedIn, store: &State<Store>) -> Answer<SecondFactor> {
    Ok(Json(SecondFactor {
        since: user.0.second_factor_at,
        recovery_codes: store.recovery_codes_left(user.0.id).await?,
    }))
}

/// Whoever sits at a browser that was left signed in does not change how its user signs in.
pub(super) async fn knows_password(
    user: &SignedIn,
    store: &Store,
    config: &Config,
    given: String,
) -> Result<(), Problem> {
    match access::knows_password(store, config, &user.0, given).await {
        Ok(()) => Ok(()),
        // No 401: who asks is signed in.
        Err(SignInError::Wrong) => Err(Problem::new(
            422,
            "Another password",
            "the password is not the one that was given; nothing was changed",
        )),
        Err(other) => Err(other.into()),
    }
}

/// Get a key for a device that shows codes. It is asked for once a code of it has confirmed it.
#[utoipa::path(post, operation_id = "begin_second_factor", path = "/session/second-factor", tag = "access", request_body = PasswordAgain, responses((status = 200, body = NewSecondFactor), (status = 409, body = ProblemDetails), (status = 422, body = ProblemDetails), (status = 429, body = ProblemDetails), (status = 503, body = ProblemDetails)))]
#[post("/session/second-factor", data = "<again>")]
async fn begin(
    user: SignedIn,
    again: Body<PasswordAgain>,
    store: &State<Store>,
    config: &State<Arc<Config>>,
) -> Answer<NewSecondFactor> {
    knows_password(&user, store, config, again.into_inner().password).await?;
    let proposed = second_factor::propose(store, &config.vault, &user.0).await?;
    Ok(Json(NewSecondFactor {
        key: proposed.key,
        uri: proposed.uri,
        svg: proposed.svg,
    }))
}

/// Confirm it by a code. It is asked for from now on; recovery codes come with the answer.
#[utoipa::path(put, operation_id = "confirm_second_factor", path = "/session/second-factor", tag = "access", request_body = Code, responses((status = 200, body = RecoveryCodes), (status = 409, body = ProblemDetails), (status = 422, body = ProblemDetails)))]
#[put("/session/second-factor", data = "<given>")]
async fn confirm(
    user: SignedIn,
    given: Body<Code>,
    store: &State<Store>,
    config: &State<Arc<Config>>,
) -> Answer<RecoveryCodes> {
    let code = given.into_inner().code;
    let codes = second_factor::confirm(store, &config.vault, &user.0, &code, Utc::now()).await?;
    tracing::info!(user = user.0.name, "a second factor is asked for");
    Ok(Json(RecoveryCodes { codes }))
}

/// Be asked for no second factor any more.
#[utoipa::path(post, operation_id = "turn_off_second_factor", path = "/session/second-factor/removal", tag = "access", request_body = PasswordAgain, responses((status = 204), (status = 409, body = ProblemDetails), (status = 422, body = ProblemDetails), (status = 429, body = ProblemDetails), (status = 503, body = ProblemDetails)))]
#[post("/session/second-factor/removal", data = "<again>")]
async fn turn_off(
    user: SignedIn,
    again: Body<PasswordAgain>,
    store: &State<Store>,
    config: &State<Arc<Config>>,
) -> Result<NoContent, Problem> {
    knows_password(&user, store, config, again.into_inner().password).await?;
    if store.remove_second_factor(user.0.id).await? {
        Ok(NoContent)
    } else {
        let words = "you are asked for no second factor";
        Err(Problem::new(409, "Not on", words))
    }
}

/// Ask somebody for no second factor any more who has lost their device and their recovery codes. Their
/// passkeys go, too.
#[utoipa::path(delete, operation_id = "reset_second_factor", path = "/users/{name}/second-factor", tag = "access", params(("name" = String, Path)), responses((status = 204), (status = 404, body = ProblemDetails), (status = 409, body = ProblemDetails)))]
#[delete("/users/<name>/second-factor")]
async fn reset(by: Administrator, name: &str, store: &State<Store>) -> Result<NoContent, Problem> {
    let user = store.user_by_name(name).await?;
    let user = user.ok_or_else(|| Problem::not_found(format!("user \"{name}\"")))?;
    let was_on = store.remove_second_factor(user.id).await?;
    if store.remove_passkeys(user.id).await? == 0 && !was_on {
        let words = format!("\"{name}\" is asked for no second factor and has no passkey");
        return Err(Problem::new(409, "Not on", words));
    }
    tracing::info!(by = by.0.name, user = name, "a second factor was reset");
    Ok(NoContent)
}

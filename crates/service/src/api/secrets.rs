//! Stored secrets: set, named and removed, never shown.

use std::sync::Arc;

use chrono::Utc;
use maple_lark_api::{NewSecret, ProblemDetails, SecretView};
use maple_lark_store::Store;
use rocket::{Route, State, delete, get, http::Status, put, routes, serde::json::Json};

use super::{Answer, body::Body, problem::Problem};
use crate::{Config, access::Administrator, secrets::VaultError};

pub fn routes() -> Vec<Route> {
    routes![list, set, remove]
}

impl From<VaultError> for Problem {
    fn from(error: VaultError) -> Self {
        Problem::new(422, "Not kept", error.to_string())
    }
}

/// The names of stored secrets.
#[utoipa::path(get, operation_id = "list_secrets", path = "/secrets", tag = "secrets", responses((status = 200, body = Vec<SecretView>)))]
#[get("/secrets")]
async fn list(_user: Administrator, store: &State<Store>) -> Answer<Vec<SecretView>> {
    let names = store.secret_names().await?.into_iter();
    Ok(Json(
        names
            .map(|secret| SecretView {
                name: secret.name,
                updated_at: secret.updated_at,
                updated_by: secret.updated_by,
            })
            .collect(),
    ))
}

/// Store a secret, encrypted; definitions refer to it as "secret:name". It is shown nowhere.
#[utoipa::path(put, operation_id = "set_secret", path = "/secrets/{name}", tag = "secrets", params(("name" = String, Path)), request_body = NewSecret, responses((status = 204), (status = 422, body = ProblemDetails)))]
#[put("/secrets/<name>", data = "<secret>")]
async fn set(
    user: Administrator,
    name: &str,
    secret: Body<NewSecret>,
    store: &State<Store>,
    config: &State<Arc<Config>>,
) -> Result<Status, Problem> {
    let valid = !name.is_empty()
        && name.len() <= 60
        && name
            .chars()
            .all(|c| c.is_ascii_lowercase() || c.is_ascii_digit() || c == '-');
    if !valid {
        return Err(Problem::new(
            422,
            "Not a name",
            "a secret's name has up to 60 small letters, digits and hyphens, such as \"reader-password\"",
        ));
    }
    if secret.value.is_empty() || secret.value.len() > 10_000 {
        return Err(Problem::new(
            422,
            "Not a secret",
            "a secret has between 1 and 10,000 bytes",
        ));
    }
    let sealed = config.vault.seal(name, &secret.value)?;
    store
        .put_secret(name, sealed, &user.0.name, Utc::now())
        .await?;
    tracing::info!(name, by = %user.0.name, "a secret was stored");
    Ok(Status::NoContent)
}

/// Remove a stored secret; sources that refer to it can no longer sign in.
#[utoipa::path(delete, operation_id = "remove_secret", path = "/secrets/{name}", tag = "secrets", params(("name" = String, Path)), responses((status = 204), (status = 404, body = ProblemDetails)))]
#[delete("/secrets/<name>")]
async fn remove(user: Administrator, name: &str, store: &State<Store>) -> Result<Status, Problem> {
    if !store.remove_secret(name).await? {
        return Err(Problem::not_found(format!("secret \"{name}\"")));
    }
    tracing::info!(name, by = %user.0.name, "a secret was removed");
    Ok(Status::NoContent)
}

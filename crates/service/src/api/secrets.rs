//! Stored secrets: set, named and removed, never shown.

use std::sync::Arc;

use chrono::{DateTime, SecondsFormat, Utc};
use maple_lark_api::{NewSecret, ProblemDetails, SecretView};
use maple_lark_store::{Store, secrets::SecretName};
use rocket::{Route, State, delete, get, http::Status, put, routes, serde::json::Json};

use super::{Answer, body::Body, problem::Problem, version::IfMatch};
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
                version: version(&secret),
                name: secret.name,
                updated_at: secret.updated_at,
                updated_by: secret.updated_by,
            })
            .collect(),
    ))
}

/// What a secret's version is called; it says nothing of the secret.
fn version(secret: &SecretName) -> String {
    secret.updated_at.timestamp_micros().to_string()
}

/// When the secret was set that a change was made from; nothing if the client has not said so.
async fn known(
    store: &Store,
    name: &str,
    if_match: &IfMatch,
) -> Result<Option<DateTime<Utc>>, Problem> {
    let all = store.secret_names().await?;
    let found = all.iter().find(|secret| secret.name == name);
    if !if_match.allows(found.map(version).as_deref()) {
        return Err(meanwhile(name, found));
    }
    Ok(found
        .map(|secret| secret.updated_at)
        .filter(|_| if_match.is_given()))
}

fn meanwhile(name: &str, now: Option<&SecretName>) -> Problem {
    let words = match now {
        Some(now) => format!(
            "{} set the secret \"{name}\" at {}; read its version again, and repeat your change if it still holds",
            now.updated_by,
            now.updated_at.to_rfc3339_opts(SecondsFormat::Secs, true)
        ),
        None => format!("there is no secret \"{name}\" any more; store it without If-Match"),
    };
    Problem::new(412, "Changed meanwhile", words)
}

/// Store a secret, encrypted; definitions refer to it as "secret:name". It is shown nowhere.
#[utoipa::path(put, operation_id = "set_secret", path = "/secrets/{name}", tag = "secrets", params(("name" = String, Path), ("If-Match" = Option<String>, Header, description = "the version that was read, in quotes; another one is not replaced")), request_body = NewSecret, responses((status = 204), (status = 412, body = ProblemDetails), (status = 422, body = ProblemDetails)))]
#[put("/secrets/<name>", data = "<secret>")]
async fn set(
    user: Administrator,
    name: &str,
    secret: Body<NewSecret>,
    if_match: IfMatch,
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
    let known = known(store, name, &if_match).await?;
    let (by, now) = (&user.0.name, Utc::now());
    if !store.put_secret(name, sealed, by, now, known).await? {
        // Somebody was faster by a moment.
        let all = store.secret_names().await?;
        return Err(meanwhile(name, all.iter().find(|one| one.name == name)));
    }
    tracing::info!(name, by = %user.0.name, "a secret was stored");
    Ok(Status::NoContent)
}

/// Remove a stored secret; sources that refer to it can no longer sign in.
#[utoipa::path(delete, operation_id = "remove_secret", path = "/secrets/{name}", tag = "secrets", params(("name" = String, Path), ("If-Match" = Option<String>, Header, description = "the version that was read, in quotes; another one is not removed")), responses((status = 204), (status = 404, body = ProblemDetails), (status = 412, body = ProblemDetails)))]
#[delete("/secrets/<name>")]
async fn remove(
    user: Administrator,
    name: &str,
    if_match: IfMatch,
    store: &State<Store>,
) -> Result<Status, Problem> {
    let known = known(store, name, &if_match).await?;
    if !store.remove_secret(name, known).await? {
        return Err(Problem::not_found(format!("secret \"{name}\"")));
    }
    tracing::info!(name, by = %user.0.name, "a secret was removed");
    Ok(Status::NoContent)
}

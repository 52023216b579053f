//! Signing in: sessions for the console, tokens for programs.

use std::{net::IpAddr, sync::Arc};

use maple_lark_api::{
    Credentials, NewToken, ProblemDetails, Role, Token, TokenRequest, TokenScope, UserView,
};
use maple_lark_store::{Store, people::User};
use rocket::{
    Request, Route, State, delete, get,
    http::{Cookie, CookieJar, SameSite},
    post,
    request::{FromRequest, Outcome},
    routes,
    serde::json::Json,
};
use uuid::Uuid;

use super::{Answer, body::Body, problem::Problem};
use crate::{
    Config,
    access::{self, SESSION_COOKIE, SignInError, Viewer, token_hash},
};

pub fn routes() -> Vec<Route> {
    routes![
        sign_in,
        who,
        sign_out,
        make_token,
        list_tokens,
        revoke_token
    ]
}

impl From<SignInError> for Problem {
    fn from(error: SignInError) -> Self {
        match error {
            SignInError::Wrong => Problem::new(401, "Not signed in", error.to_string()),
            SignInError::Blocked => Problem::new(429, "Too many attempts", error.to_string())
                .after(access::WAIT.num_seconds()),
            SignInError::Store(error) => error.into(),
        }
    }
}

pub(super) fn view(name: &str, role: Role, config: &Config) -> UserView {
    UserView {
        name: name.to_owned(),
        role,
        demo: config.demo_mailbox.is_some(),
    }
}

/// What the program that asks calls itself.
pub(super) struct Agent(Option<String>);

#[rocket::async_trait]
impl<'r> FromRequest<'r> for Agent {
    type Error = std::convert::Infallible;

    async fn from_request(request: &'r Request<'_>) -> Outcome<Self, Self::Error> {
        let agent = request.headers().get_one("User-Agent");
        Outcome::Success(Self(agent.map(str::to_owned)))
    }
}

/// Begins a session and leaves its cookie.
pub(super) async fn enter(
    store: &Store,
    user: &User,
    config: &Config,
    jar: &CookieJar<'_>,
    (peer, agent): (IpAddr, &Agent),
) -> Result<(), Problem> {
    let token = access::begin_session(store, user, &peer.to_string(), agent.0.as_deref()).await?;
    let secure = config.public_url.starts_with("https://");
    jar.add(
        Cookie::build((SESSION_COOKIE, token))
            .http_only(true)
            .same_site(SameSite::Strict)
            .secure(secure)
            .path("/"),
    );
    Ok(())
}

/// Sign in and get a session cookie.
#[utoipa::path(post, operation_id = "sign_in", path = "/session", tag = "access", request_body = Credentials, responses((status = 200, body = UserView), (status = 401, body = ProblemDetails), (status = 429, body = ProblemDetails)))]
#[post("/session", data = "<credentials>")]
async fn sign_in(
    credentials: Body<Credentials>,
    store: &State<Store>,
    config: &State<Arc<Config>>,
    jar: &CookieJar<'_>,
    peer: IpAddr,
    agent: Agent,
) -> Answer<UserView> {
    let user = access::sign_in(
        store,
        &credentials.name,
        &credentials.password,
        &peer.to_string(),
    )
    .await?;
    enter(store, &user, config, jar, (peer, &agent)).await?;
    Ok(Json(view(&user.name, *user.role, config)))
}

/// Who is signed in.
#[utoipa::path(get, operation_id = "get_session", path = "/session", tag = "access", responses((status = 200, body = UserView), (status = 401, body = ProblemDetails)))]
#[get("/session")]
fn who(user: Viewer, config: &State<Arc<Config>>) -> Json<UserView> {
    Json(view(&user.0.name, *user.0.role, config))
}

/// End the session.
#[utoipa::path(delete, operation_id = "sign_out", path = "/session", tag = "access", responses((status = 204)))]
#[delete("/session")]
async fn sign_out(
    _user: Viewer,
    store: &State<Store>,
    jar: &CookieJar<'_>,
) -> Result<rocket::response::status::NoContent, Problem> {
    if let Some(cookie) = jar.get(SESSION_COOKIE) {
        store.remove_session(&token_hash(cookie.value())).await?;
    }
    jar.remove(Cookie::build(SESSION_COOKIE).path("/"));
    Ok(rocket::response::status::NoContent)
}

/// Get an API token for a name and a password.
#[utoipa::path(post, operation_id = "make_token", path = "/tokens", tag = "access", request_body = TokenRequest, responses((status = 200, body = NewToken), (status = 401, body = ProblemDetails), (status = 429, body = ProblemDetails)))]
#[post("/tokens", data = "<request>")]
async fn make_token(
    request: Body<TokenRequest>,
    store: &State<Store>,
    config: &State<Arc<Config>>,
    peer: IpAddr,
) -> Answer<NewToken> {
    let user = access::sign_in(store, &request.name, &request.password, &peer.to_string()).await?;
    let label: String = request
        .label
        .chars()
        .filter(|c| !c.is_control())
        .take(80)
        .collect();
    let (id, token) = access::issue_token(store, &user, &label, TokenScope::All).await?;
    Ok(Json(NewToken {
        id,
        token,
        user: view(&user.name, *user.role, config),
    }))
}

/// Your own tokens.
#[utoipa::path(get, operation_id = "list_tokens", path = "/tokens", tag = "access", responses((status = 200, body = Vec<Token>)))]
#[get("/tokens")]
async fn list_tokens(user: Viewer, store: &State<Store>) -> Answer<Vec<Token>> {
    let tokens = store.tokens(user.0.id).await?;
    Ok(Json(
        tokens
            .into_iter()
            .map(|token| Token {
                id: token.id,
                label: token.name,
                created_at: token.created_at,
                last_used_at: token.last_used_at,
                scope: token.scope,
            })
            .collect(),
    ))
}

/// Revoke one of your tokens.
#[utoipa::path(delete, operation_id = "revoke_token", path = "/tokens/{id}", tag = "access", params(("id" = Uuid, Path)), responses((status = 204), (status = 404, body = ProblemDetails)))]
#[delete("/tokens/<id>")]
async fn revoke_token(
    user: Viewer,
    id: Uuid,
    store: &State<Store>,
) -> Result<rocket::response::status::NoContent, Problem> {
    if store.remove_token(user.0.id, id).await? {
        Ok(rocket::response::status::NoContent)
    } else {
        Err(Problem::not_found("such token of yours"))
    }
}

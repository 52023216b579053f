//! Signing in: sessions for the console, tokens for programs.

use std::{net::IpAddr, sync::Arc};

use chrono::TimeDelta;
use maple_lark_api::{
    Credentials, NewToken, ProblemDetails, Role, SignInWays, SignedOut, SignsInBy, Token,
    TokenOrder, TokenRequest, TokenScope, UserView,
};
use maple_lark_store::{Store, StoreError, people::User};
use rocket::{
    Request, Route, State, delete, get,
    http::{Cookie, CookieJar, SameSite},
    post,
    request::{FromRequest, Outcome},
    routes,
    serde::json::Json,
};
use uuid::Uuid;

use super::{Answer, Made, body::Body, made, problem::Problem};
use crate::{
    Config,
    access::{self, Attempt, Issue, SESSION_COOKIE, SignInError, SignedIn, Trail, token_hash},
};

/// A token that is good for longer is one that nobody remembers.
const MOST_DAYS: u32 = 3_660;

pub fn routes() -> Vec<Route> {
    routes![
        sign_in,
        ways,
        who,
        sign_out,
        make_token,
        new_token,
        list_tokens,
        revoke_token
    ]
}

impl From<SignInError> for Problem {
    fn from(error: SignInError) -> Self {
        match error {
            SignInError::Wrong | SignInError::WrongPassword => {
                Problem::new(401, "Not signed in", error.to_string())
            }
            SignInError::Blocked => Problem::new(429, "Too many attempts", error.to_string())
                .after(access::WAIT.num_seconds()),
            SignInError::CodeNeeded | SignInError::WrongCode => {
                Problem::new(401, "A code is needed", error.to_string()).with_a_code()
            }
            SignInError::NotLetIn => Problem::new(403, "Not let in", error.to_string()),
            SignInError::Directory => {
                Problem::new(503, "The directory does not answer", error.to_string())
            }
            SignInError::Elsewhere => Problem::new(409, "The organisation's", error.to_string()),
            SignInError::Factor(words) => Problem::new(409, "The code cannot be checked", words),
            SignInError::Store(error) => error.into(),
        }
    }
}

pub(super) async fn view(
    store: &Store,
    user: &User,
    config: &Config,
) -> Result<UserView, StoreError> {
    let own = store.teams_of(user.id).await?;
    let teams = match *user.role {
        Role::Administrator => {
            let all = store.teams().await?.into_iter();
            all.map(|team| team.name).collect()
        }
        Role::Viewer | Role::Author => own.into_iter().map(|(team, _)| team).collect(),
    };
    Ok(UserView {
        name: user.name.clone(),
        role: *user.role,
        teams,
        may_change: access::kinds_to_change(*user.role, config)
            .map(|kind| kind.name().to_owned())
            .collect(),
        signs_in_by: user.signs_in_by(),
        held_to: user.held_to().map(|held| held.values()).unwrap_or_default(),
        second_factor: user.second_factor_at.is_some(),
        demo: config.demo_mailbox.is_some() && *user.role == Role::Administrator,
    })
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

impl Agent {
    /// Whether it is the program's own command line, which keeps no cookies.
    pub(super) fn is_command_line(&self) -> bool {
        let named = self.0.as_deref().and_then(|agent| agent.split('/').next());
        named == Some("maple-lark")
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
            .path(format!("{}/", config.base())),
    );
    Ok(())
}

/// Sign in and get a session cookie.
#[utoipa::path(post, operation_id = "sign_in", path = "/session", tag = "access", request_body = Credentials, responses((status = 200, body = UserView), (status = 401, body = ProblemDetails), (status = 403, body = ProblemDetails), (status = 429, body = ProblemDetails), (status = 503, body = ProblemDetails)))]
#[post("/session", data = "<credentials>")]
#[expect(
    clippy::too_many_arguments,
    reason = "what the request holds, and the states of the service"
)]
async fn sign_in(
    credentials: Body<Credentials>,
    store: &State<Store>,
    config: &State<Arc<Config>>,
    jar: &CookieJar<'_>,
    peer: IpAddr,
    agent: Agent,
    trail: Trail,
) -> Answer<UserView> {
    trail.note(format!("as {}", credentials.name));
    let attempt = Attempt {
        name: &credentials.name,
        password: &credentials.password,
        code: credentials.code.as_deref(),
        address: &peer.to_string(),
    };
    let user = access::sign_in(store, config, &attempt).await?;
    trail.actor(&user.name);
    enter(store, &user, config, jar, (peer, &agent)).await?;
    Ok(Json(view(store, &user, config).await?))
}

/// Who is signed in.
#[utoipa::path(get, operation_id = "get_session", path = "/session", tag = "access", responses((status = 200, body = UserView), (status = 401, body = ProblemDetails)))]
#[get("/session")]
async fn who(
    user: SignedIn,
    store: &State<Store>,
    config: &State<Arc<Config>>,
) -> Answer<UserView> {
    Ok(Json(view(store, &user.0, config).await?))
}

/// How people sign in besides by a name and a password.
#[utoipa::path(get, operation_id = "sign_in_ways", path = "/sign-in", tag = "access", responses((status = 200, body = SignInWays)))]
#[get("/sign-in")]
fn ways(config: &State<Arc<Config>>) -> Json<SignInWays> {
    let provider = config.identity_provider.as_ref();
    Json(SignInWays {
        provider: provider.map(|provider| provider.title.clone()),
        passkeys: access::passkeys::available(&config.public_url).is_ok(),
    })
}

/// End the session. Whoever signed in by the identity provider is told where to sign out there.
#[utoipa::path(delete, operation_id = "sign_out", path = "/session", tag = "access", responses((status = 200, body = SignedOut)))]
#[delete("/session")]
async fn sign_out(
    user: SignedIn,
    store: &State<Store>,
    config: &State<Arc<Config>>,
    jar: &CookieJar<'_>,
) -> Answer<SignedOut> {
    if let Some(cookie) = jar.get(SESSION_COOKIE) {
        store.remove_session(&token_hash(cookie.value())).await?;
    }
    jar.remove(Cookie::build(SESSION_COOKIE).path(format!("{}/", config.base())));
    let provider = config.identity_provider.as_ref();
    let own = provider.filter(|_| user.0.signs_in_by() == SignsInBy::Provider);
    let then = match own {
        Some(own) => {
            let back = format!("{}/sign-in", config.public_url);
            own.provider.sign_out(&back).await
        }
        None => None,
    };
    Ok(Json(SignedOut {
        then: then.map(String::from),
    }))
}

/// Get an API token for a name and a password.
#[utoipa::path(post, operation_id = "make_token", path = "/tokens", tag = "access", request_body = TokenRequest, responses((status = 201, body = NewToken), (status = 401, body = ProblemDetails), (status = 403, body = ProblemDetails), (status = 429, body = ProblemDetails), (status = 503, body = ProblemDetails)))]
#[post("/tokens", data = "<request>")]
async fn make_token(
    request: Body<TokenRequest>,
    store: &State<Store>,
    config: &State<Arc<Config>>,
    peer: IpAddr,
    trail: Trail,
) -> Made<NewToken> {
    trail.note(format!("as {}", request.name));
    let attempt = Attempt {
        name: &request.name,
        password: &request.password,
        code: request.code.as_deref(),
        address: &peer.to_string(),
    };
    let user = access::sign_in(store, config, &attempt).await?;
    trail.actor(&user.name);
    let order = TokenOrder {
        label: request.label.clone(),
        scope: request.scope,
        days: request.days,
    };
    issued(store, &user, &order, (config, &trail)).await
}

async fn issued(
    store: &Store,
    user: &User,
    order: &TokenOrder,
    (config, trail): (&Config, &Trail),
) -> Made<NewToken> {
    if order.days.is_some_and(|days| days == 0 || days > MOST_DAYS) {
        return Err(Problem::new(
            422,
            "Not a time",
            format!("a token is good for 1 to {MOST_DAYS} days, or until it is revoked"),
        ));
    }
    let scope = order.scope.unwrap_or(TokenScope::All);
    if scope == TokenScope::Agenda {
        return Err(Problem::new(
            422,
            "Another scope",
            "a token for the agenda is an address; subscribe on the page of the agenda",
        ));
    }
    trail.note(format!("\"{}\" for {scope}", order.label));
    let issue = Issue {
        label: &order.label,
        scope,
        lasts: order.days.map(|days| TimeDelta::days(days.into())),
    };
    let (id, token, expires_at) = access::issue_token(store, user, issue).await?;
    Ok(made(NewToken {
        id,
        expires_at,
        token,
        user: view(store, user, config).await?,
    }))
}

/// Make a token for a program. It is shown only now.
#[utoipa::path(post, operation_id = "issue_token", path = "/session/tokens", tag = "access", request_body = TokenOrder, responses((status = 201, body = NewToken), (status = 422, body = ProblemDetails)))]
#[post("/session/tokens", data = "<order>")]
async fn new_token(
    user: SignedIn,
    order: Body<TokenOrder>,
    store: &State<Store>,
    config: &State<Arc<Config>>,
    trail: Trail,
) -> Made<NewToken> {
    issued(store, &user.0, &order, (config, &trail)).await
}

/// Your own tokens.
#[utoipa::path(get, operation_id = "list_tokens", path = "/tokens", tag = "access", responses((status = 200, body = Vec<Token>)))]
#[get("/tokens")]
async fn list_tokens(user: SignedIn, store: &State<Store>) -> Answer<Vec<Token>> {
    let tokens = store.tokens(user.0.id).await?;
    Ok(Json(
        tokens
            .into_iter()
            .map(|token| Token {
                id: token.id,
                label: token.name,
                created_at: token.created_at,
                last_used_at: token.last_used_at,
                scope: *token.scope,
                expires_at: token.expires_at,
            })
            .collect(),
    ))
}

/// Revoke one of your tokens.
#[utoipa::path(delete, operation_id = "revoke_token", path = "/tokens/{id}", tag = "access", params(("id" = Uuid, Path)), responses((status = 204), (status = 404, body = ProblemDetails)))]
#[delete("/tokens/<id>")]
async fn revoke_token(
    user: SignedIn,
    id: Uuid,
    store: &State<Store>,
) -> Result<rocket::response::status::NoContent, Problem> {
    if store.remove_token(user.0.id, id).await? {
        Ok(rocket::response::status::NoContent)
    } else {
        Err(Problem::not_found("such token of yours"))
    }
}

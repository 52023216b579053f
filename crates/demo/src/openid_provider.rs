//! A stand-in for the organisation's OpenID provider (OpenID Connect Core 1.0): a page with a name and
//! a password, codes that are good once with a proof key (RFC 7636), tokens that are signed with a key of
//! its own, refresh tokens that are good once, a place to sign out. Its keys and signatures are
//! openssl's, so that what is checked by one library is not made by the same one.

use std::{
    collections::HashMap,
    io::Write,
    path::PathBuf,
    process::{Command, Stdio},
    sync::{Arc, Mutex, MutexGuard, PoisonError},
};

use anyhow::{Context, Result, ensure};
use base64::{Engine, engine::general_purpose::URL_SAFE_NO_PAD as URL64};
use chrono::Utc;
use rocket::{
    FromForm, State,
    form::Form,
    get,
    http::Status,
    post,
    response::{Redirect, content::RawHtml},
    routes,
    serde::json::Json,
};
use serde_json::{Value, json};
use sha2::{Digest, Sha256};
use tempfile::TempDir;

use crate::{
    pages::page,
    stand_in::{StandIn, token},
};

/// The one client that it knows.
pub const CLIENT: &str = "maple-lark";
pub const SECRET: &str = "orrin-sound-client-secret";

/// Somebody who can sign in there.
#[derive(Debug, Clone)]
struct Member {
    password: String,
    groups: Vec<String>,
    has_left: bool,
}

/// A sign-in that waits for its code to be changed.
struct Waiting {
    name: String,
    nonce: Option<String>,
    challenge: String,
    back: String,
    offline: bool,
}

#[derive(Default)]
struct Book {
    members: HashMap<String, Member>,
    codes: HashMap<String, Waiting>,
    access: HashMap<String, String>,
    refresh: HashMap<String, String>,
    signed_out: usize,
    broken: Broken,
}

/// What it does wrong, for tests.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub enum Broken {
    #[default]
    Nothing,
    /// Its tokens are of another sign-in.
    Nonce,
    /// Its tokens are for another client.
    Audience,
    /// Its tokens have ended.
    Expired,
    /// Its tokens are signed with a key that is not among its own.
    Signature,
    /// It gives no refresh tokens.
    NoRefresh,
    /// It gives tokens and says nothing of anybody.
    Silent,
    /// It answers nothing but errors.
    Down,
}

struct Shop {
    issuer: String,
    folder: TempDir,
    /// The modulus of its key.
    modulus: Vec<u8>,
    book: Mutex<Book>,
}

/// A provider that runs; it ends with this.
pub struct OpenIdProvider {
    stand_in: StandIn,
    shop: Arc<Shop>,
}

impl OpenIdProvider {
    /// Listens on any free port of loopback.
    ///
    /// # Errors
    /// If no port is free, or openssl makes no key.
    pub async fn start() -> Result<Self> {
        let address = StandIn::free()?;
        let folder = tempfile::tempdir()?;
        for key in ["own.pem", "other.pem"] {
            let path = folder.path().join(key);
            openssl(
                &["genrsa", "-out", &path.display().to_string(), "2048"],
                &[],
            )?;
        }
        let own = folder.path().join("own.pem").display().to_string();
        let said = openssl(&["rsa", "-in", &own, "-noout", "-modulus"], &[])?;
        let said = String::from_utf8(said)?;
        let modulus = said.trim().strip_prefix("Modulus=").context("no modulus")?;
        let shop = Arc::new(Shop {
            issuer: format!("http://{address}"),
            folder,
            modulus: hex::decode(modulus)?,
            book: Mutex::default(),
        });
        let built = StandIn::built(address).manage(shop.clone()).mount(
            "/",
            routes![about, keys, ask, enter, tokens, user, sign_out],
        );
        let stand_in = StandIn::start(address, built).await?;
        Ok(Self { stand_in, shop })
    }

    /// Its address, as it calls itself.
    #[must_use]
    pub fn issuer(&self) -> String {
        format!("http://{}", self.stand_in.address)
    }

    /// Somebody who signs in with this name and password, or is changed.
    pub fn member(&self, name: &str, password: &str, groups: &[&str]) {
        let member = Member {
            password: password.to_owned(),
            groups: groups.iter().map(|&group| group.to_owned()).collect(),
            has_left: false,
        };
        self.shop.book().members.insert(name.to_owned(), member);
    }

    /// Somebody leaves the organisation.
    pub fn leave(&self, name: &str) {
        if let Some(member) = self.shop.book().members.get_mut(name) {
            member.has_left = true;
        }
    }

    pub fn breaks(&self, how: Broken) {
        self.shop.book().broken = how;
    }

    /// How often somebody came to sign out.
    #[must_use]
    pub fn signed_out(&self) -> usize {
        self.shop.book().signed_out
    }
}

fn openssl(arguments: &[&str], input: &[u8]) -> Result<Vec<u8>> {
    let mut child = Command::new("openssl")
        .args(arguments)
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .stderr(Stdio::null())
        .spawn()
        .context("openssl is missing")?;
    if let Some(mut stdin) = child.stdin.take() {
        stdin.write_all(input)?;
    }
    let done = child.wait_with_output()?;
    ensure!(done.status.success(), "openssl {} failed", arguments[0]);
    Ok(done.stdout)
}

impl Shop {
    fn book(&self) -> MutexGuard<'_, Book> {
        self.book.lock().unwrap_or_else(PoisonError::into_inner)
    }

    fn key(&self, broken: Broken) -> PathBuf {
        let other = broken == Broken::Signature;
        let file = if other { "other.pem" } else { "own.pem" };
        self.folder.path().join(file)
    }

    /// A signed token that says who somebody is (RFC 7519, RS256).
    fn id_token(&self, name: &str, nonce: Option<&str>, broken: Broken) -> Result<String> {
        let now = Utc::now().timestamp();
        let nonce = match broken {
            Broken::Nonce => Some("another"),
            _ => nonce,
        };
        let audience = match broken {
            Broken::Audience => "somebody-else",
            _ => CLIENT,
        };
        let ends = match broken {
            Broken::Expired => now - 3_600,
            _ => now + 300,
        };
        let header = json!({ "alg": "RS256", "kid": "own", "typ": "JWT" });
        let mut claims = json!({
            "iss": self.issuer, "sub": subject(name), "aud": audience, "iat": now - 5, "exp": ends,
            "preferred_username": name, "email": format!("{name}@orrin-sound.example"), "email_verified": true,
        });
        if let Some(nonce) = nonce {
            claims["nonce"] = json!(nonce);
        }
        let signed = format!(
            "{}.{}",
            URL64.encode(header.to_string()),
            URL64.encode(claims.to_string())
        );
        let key = self.key(broken).display().to_string();
        let signature = openssl(&["dgst", "-sha256", "-sign", &key], signed.as_bytes())?;
        Ok(format!("{signed}.{}", URL64.encode(signature)))
    }
}

/// What somebody is called for good, whatever name they go by.
fn subject(name: &str) -> String {
    hex::encode(&Sha256::digest(name.as_bytes())[..8])
}

type Answer = std::result::Result<Json<Value>, (Status, Json<Value>)>;

fn refused(status: Status, error: &str) -> (Status, Json<Value>) {
    (status, Json(json!({ "error": error })))
}

#[get("/.well-known/openid-configuration")]
fn about(shop: &State<Arc<Shop>>) -> Answer {
    if shop.book().broken == Broken::Down {
        return Err(refused(Status::InternalServerError, "server_error"));
    }
    let at = |path: &str| format!("{}{path}", shop.issuer);
    Ok(Json(json!({
        "issuer": shop.issuer,
        "authorization_endpoint": at("/enter"),
        "token_endpoint": at("/tokens"),
        "userinfo_endpoint": at("/user"),
        "jwks_uri": at("/keys"),
        "end_session_endpoint": at("/sign-out"),
        "response_types_supported": ["code"],
        "subject_types_supported": ["public"],
        "id_token_signing_alg_values_supported": ["RS256"],
        "scopes_supported": ["openid", "profile", "email", "offline_access"],
        "code_challenge_methods_supported": ["S256"],
    })))
}

#[get("/keys")]
fn keys(shop: &State<Arc<Shop>>) -> Json<Value> {
    Json(json!({ "keys": [{
        "kty": "RSA", "use": "sig", "alg": "RS256", "kid": "own",
        "n": URL64.encode(&shop.modulus), "e": "AQAB",
    }] }))
}

/// What a client asks of the browser.
#[derive(FromForm)]
struct Request {
    client_id: String,
    redirect_uri: String,
    response_type: String,
    scope: String,
    state: String,
    nonce: Option<String>,
    code_challenge: String,
    code_challenge_method: String,
}

#[get("/enter?<request..>")]
fn ask(request: Request) -> std::result::Result<RawHtml<String>, Status> {
    let understood = request.client_id == CLIENT
        && request.response_type == "code"
        && request.code_challenge_method == "S256"
        && request.scope.split(' ').any(|scope| scope == "openid");
    if !understood {
        return Err(Status::BadRequest);
    }
    let carried = [
        ("back", request.redirect_uri),
        ("state", request.state),
        ("challenge", request.code_challenge),
        ("scope", request.scope),
        ("nonce", request.nonce.unwrap_or_default()),
    ];
    let values = json!({ "carried": carried });
    Ok(page(include_str!("../live/account.html"), &values))
}

#[derive(FromForm)]
struct Entry {
    name: String,
    password: String,
    back: String,
    state: String,
    challenge: String,
    scope: String,
    nonce: String,
}

#[post("/enter", data = "<entry>")]
fn enter(entry: Form<Entry>, shop: &State<Arc<Shop>>) -> std::result::Result<Redirect, Status> {
    let entry = entry.into_inner();
    let mut book = shop.book();
    let known = book.members.get(&entry.name);
    let leads = |more: String| {
        let sign = if entry.back.contains('?') { '&' } else { '?' };
        let state = &entry.state;
        Redirect::to(format!("{}{sign}state={state}&{more}", entry.back))
    };
    match known {
        Some(member) if member.password == entry.password && !member.has_left => {}
        Some(member) if member.has_left => return Ok(leads("error=access_denied".to_owned())),
        _ => return Err(Status::Unauthorized),
    }
    let code = token();
    let waiting = Waiting {
        name: entry.name,
        nonce: Some(entry.nonce).filter(|nonce| !nonce.is_empty()),
        challenge: entry.challenge,
        back: entry.back.clone(),
        offline: entry
            .scope
            .split(' ')
            .any(|scope| scope == "offline_access"),
    };
    book.codes.insert(code.clone(), waiting);
    let more = format!("code={code}&session_state=of-this-browser");
    Ok(leads(more))
}

/// A client that shows its secret.
struct Client;

#[rocket::async_trait]
impl<'r> rocket::request::FromRequest<'r> for Client {
    type Error = ();

    async fn from_request(
        request: &'r rocket::Request<'_>,
    ) -> rocket::request::Outcome<Self, Self::Error> {
        let shown = base64::engine::general_purpose::STANDARD.encode(format!("{CLIENT}:{SECRET}"));
        let given = request.headers().get_one("Authorization");
        if given == Some(&format!("Basic {shown}")) {
            rocket::request::Outcome::Success(Self)
        } else {
            rocket::request::Outcome::Error((Status::Unauthorized, ()))
        }
    }
}

#[derive(FromForm)]
struct Grant {
    grant_type: String,
    code: Option<String>,
    redirect_uri: Option<String>,
    code_verifier: Option<String>,
    refresh_token: Option<String>,
}

#[post("/tokens", data = "<grant>")]
fn tokens(_client: Client, grant: Form<Grant>, shop: &State<Arc<Shop>>) -> Answer {
    let grant = grant.into_inner();
    let invalid = || refused(Status::BadRequest, "invalid_grant");
    let mut book = shop.book();
    let broken = book.broken;
    if broken == Broken::Down {
        return Err(refused(
            Status::ServiceUnavailable,
            "temporarily_unavailable",
        ));
    }
    // Whatever comes of it, a code or a token is good once.
    let (name, nonce, offline) = match grant.grant_type.as_str() {
        "authorization_code" => {
            let waiting = grant.code.and_then(|code| book.codes.remove(&code));
            let waiting = waiting.ok_or_else(invalid)?;
            let shown = URL64.encode(Sha256::digest(grant.code_verifier.unwrap_or_default()));
            if shown != waiting.challenge || grant.redirect_uri != Some(waiting.back) {
                return Err(invalid());
            }
            (waiting.name, waiting.nonce, waiting.offline)
        }
        "refresh_token" => {
            let known = grant
                .refresh_token
                .and_then(|one| book.refresh.remove(&one));
            (known.ok_or_else(invalid)?, None, true)
        }
        _ => return Err(refused(Status::BadRequest, "unsupported_grant_type")),
    };
    let gone = book.members.get(&name).is_none_or(|member| member.has_left);
    if gone {
        return Err(invalid());
    }
    let signed = shop.id_token(&name, nonce.as_deref(), broken);
    let signed = signed.map_err(|_| refused(Status::InternalServerError, "server_error"))?;
    let access = token();
    book.access.insert(access.clone(), name.clone());
    let mut answer = json!({
        "access_token": access, "token_type": "Bearer", "expires_in": 300, "id_token": signed,
    });
    if offline && broken != Broken::NoRefresh {
        let refresh = token();
        answer["refresh_token"] = json!(refresh);
        book.refresh.insert(refresh, name);
    }
    Ok(Json(answer))
}

struct Bearer(String);

#[rocket::async_trait]
impl<'r> rocket::request::FromRequest<'r> for Bearer {
    type Error = ();

    async fn from_request(
        request: &'r rocket::Request<'_>,
    ) -> rocket::request::Outcome<Self, Self::Error> {
        let given = request.headers().get_one("Authorization");
        match given.and_then(|given| given.strip_prefix("Bearer ")) {
            Some(token) => rocket::request::Outcome::Success(Self(token.to_owned())),
            None => rocket::request::Outcome::Error((Status::Unauthorized, ())),
        }
    }
}

/// Groups stand here alone, not in the tokens.
#[get("/user")]
fn user(bearer: Bearer, shop: &State<Arc<Shop>>) -> Answer {
    let book = shop.book();
    if book.broken == Broken::Silent {
        return Err(refused(
            Status::ServiceUnavailable,
            "temporarily_unavailable",
        ));
    }
    let name = book.access.get(&bearer.0);
    let name = name.ok_or_else(|| refused(Status::Unauthorized, "invalid_token"))?;
    let groups = book.members.get(name).map(|member| &member.groups);
    Ok(Json(json!({ "sub": subject(name), "groups": groups })))
}

#[get("/sign-out?<client_id>&<post_logout_redirect_uri>")]
fn sign_out(
    client_id: &str,
    post_logout_redirect_uri: &str,
    shop: &State<Arc<Shop>>,
) -> std::result::Result<Redirect, Status> {
    if client_id != CLIENT {
        return Err(Status::BadRequest);
    }
    shop.book().signed_out += 1;
    Ok(Redirect::to(post_logout_redirect_uri.to_owned()))
}

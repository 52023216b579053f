//! Users: invited, changed and removed by administrators; passwords and sessions by themselves.

use std::{collections::BTreeMap, net::IpAddr, sync::Arc};

use chrono::{DateTime, Utc};
use maple_lark_api::{
    Acceptance, Invitation, InvitationToken, InvitationView, NewUser, PasswordChange,
    ProblemDetails, Role, SessionView, SignsInBy, UserChange, UserEntry, UserPage, UserView,
};
use maple_lark_definition::{BadMailbox, Mailbox};
use maple_lark_store::{
    Store,
    people::User,
    users::{Changed, UserChange as Change, UserRow},
};
use rocket::{
    Route, State, delete, get, http::CookieJar, patch, post, put, response::status::NoContent,
    routes, serde::json::Json,
};
use uuid::Uuid;

use super::{
    Answer, Made,
    body::{Body, whole},
    made,
    problem::Problem,
    sessions::{Agent, enter, view},
};
use crate::{
    Config,
    access::{
        self, Administrator, BadPassword, SESSION_COOKIE, SignInError, SignedIn, Trail, token_hash,
    },
    engine::EngineHandle,
};

/// So many values of one parameter somebody can be held to.
const MOST_VALUES: usize = 200;

pub fn routes() -> Vec<Route> {
    routes![
        list,
        add,
        change,
        remove,
        renew,
        invitation,
        accept,
        set_password,
        sessions,
        end_session
    ]
}

impl From<BadPassword> for Problem {
    fn from(bad: BadPassword) -> Self {
        Problem::new(422, "Not a good password", bad.to_string())
    }
}

fn entry(row: UserRow) -> UserEntry {
    let user = row.user;
    UserEntry {
        has_password: !user.password_hash.is_empty(),
        second_factor: user.second_factor_at.is_some(),
        passkeys: row.passkeys,
        signs_in_by: user.signs_in_by(),
        held_to: user.held_to().map(|held| held.values()).unwrap_or_default(),
        name: user.name,
        role: *user.role,
        email: user.email,
        created_at: user.created_at,
        last_seen_at: row.last_seen,
        disabled_at: user.disabled_at,
        left_at: user.directory_left_at,
        invited_until: row.invited_until,
    }
}

/// Those who may sign in, by name.
#[utoipa::path(get, operation_id = "list_users", path = "/users", tag = "access", params(("page" = Option<u64>, Query, description = "counted from 1"), ("size" = Option<u64>, Query, description = "at most 200")), responses((status = 200, body = UserPage)))]
#[get("/users?<page>&<size>")]
async fn list(
    _user: Administrator,
    page: Option<&str>,
    size: Option<&str>,
    store: &State<Store>,
) -> Answer<UserPage> {
    let page = whole("page", page)?.unwrap_or(1).clamp(1, 1 << 40);
    let size = whole("size", size)?.unwrap_or(50).clamp(1, 200);
    let found = store.users(Utc::now(), page, size).await?;
    Ok(Json(UserPage {
        items: found.items.into_iter().map(entry).collect(),
        total: found.total,
        page,
        size,
    }))
}

/// What a user may be called.
fn checked_name(name: &str) -> Result<(), Problem> {
    let short = name.chars().count() <= access::LONGEST_NAME;
    if name.is_empty() || !short || !name.chars().all(access::is_of_a_name) {
        return Err(Problem::new(
            422,
            "Not a name",
            "a user's name has up to 60 letters, digits and \". - _ @\", such as \"runa.holm\"",
        ));
    }
    Ok(())
}

pub(super) fn mailbox(email: &str) -> Result<Mailbox, Problem> {
    email
        .parse()
        .map_err(|error: BadMailbox| Problem::new(422, "No mail address", error.to_string()))
}

fn unknown(name: &str) -> Problem {
    Problem::not_found(format!("user \"{name}\""))
}

/// What the organisation says of its people is not changed here.
fn of_the_organisation(user: &User, what: &str) -> Result<(), Problem> {
    let place = match user.signs_in_by() {
        SignsInBy::Password => return Ok(()),
        SignsInBy::Directory => "directory",
        SignsInBy::Provider => "identity provider",
    };
    Err(Problem::new(
        409,
        "The organisation's",
        format!(
            "\"{}\" signs in by the organisation's {place}; {what} is changed there",
            user.name
        ),
    ))
}

fn done(changed: Changed, name: &str) -> Result<(), Problem> {
    match changed {
        Changed::Done => Ok(()),
        Changed::Unknown => Err(unknown(name)),
        Changed::LastAdministrator => Err(Problem::new(
            409,
            "The last administrator",
            format!(
                "\"{name}\" is the last administrator who can sign in; make somebody else one first"
            ),
        )),
    }
}

/// Invite somebody who is to sign in. They choose their password by a link that is good once, for
/// seven days. It is mailed to them; if it cannot be, it is in the answer, for you to hand over.
#[utoipa::path(post, operation_id = "invite_user", path = "/users", tag = "access", request_body = NewUser, responses((status = 201, body = Invitation), (status = 409, body = ProblemDetails), (status = 422, body = ProblemDetails)))]
#[post("/users", data = "<new>")]
async fn add(
    by: Administrator,
    new: Body<NewUser>,
    store: &State<Store>,
    engine: &State<EngineHandle>,
    config: &State<Arc<Config>>,
    trail: Trail,
) -> Made<Invitation> {
    let NewUser { name, role, email } = new.into_inner();
    trail.note(format!("{name} as {role}"));
    checked_name(&name)?;
    let email = email.filter(|email| !email.trim().is_empty());
    if let Some(email) = &email {
        mailbox(email)?;
    }
    let user = User {
        email,
        ..User::new(name, role, Utc::now())
    };
    if !store.add_user(user.clone()).await? {
        return Err(Problem::new(
            409,
            "The name is taken",
            format!("there is a user \"{}\" already", user.name),
        ));
    }
    tracing::info!(by = by.0.name, user = user.name, role = %role, "a user was invited");
    invited(&by.0, &user, store, engine, config).await
}

/// Make another invitation for a user, or a link for a new password. Those before are good for
/// nothing any more; the password stays until another is chosen.
#[utoipa::path(post, operation_id = "renew_invitation", path = "/users/{name}/invitation", tag = "access", params(("name" = String, Path)), responses((status = 201, body = Invitation), (status = 404, body = ProblemDetails), (status = 409, body = ProblemDetails)))]
#[post("/users/<name>/invitation")]
async fn renew(
    by: Administrator,
    name: &str,
    store: &State<Store>,
    engine: &State<EngineHandle>,
    config: &State<Arc<Config>>,
) -> Made<Invitation> {
    let user = store.user_by_name(name).await?;
    let user = user.ok_or_else(|| unknown(name))?;
    of_the_organisation(&user, "the password")?;
    if user.disabled_at.is_some() {
        return Err(Problem::new(
            409,
            "Disabled",
            format!("\"{name}\" is disabled and cannot sign in; enable the user first"),
        ));
    }
    tracing::info!(
        by = by.0.name,
        user = user.name,
        "a link for a password was made"
    );
    invited(&by.0, &user, store, engine, config).await
}

async fn invited(
    by: &User,
    user: &User,
    store: &Store,
    engine: &EngineHandle,
    config: &Config,
) -> Made<Invitation> {
    let (token, expires_at) = access::invite(store, user).await?;
    // What follows "#" is sent to no server, and stands in no log.
    let address = config.public_url.trim_end_matches('/');
    let link = format!("{address}/invitation#{token}");
    let sent = match &user.email {
        None => Err("the user has no mail address".to_owned()),
        Some(email) => {
            let text = message_text(by, user, &link, expires_at, address);
            let subject = "Your sign-in to Maple Lark".to_owned();
            let to = mailbox(email)?;
            let sent = engine.write_to(&to, subject, text).await;
            sent.map(|()| email.clone())
                .map_err(|error| error.to_string())
        }
    };
    let name = user.name.clone();
    Ok(made(match sent {
        Ok(email) => Invitation {
            name,
            expires_at,
            mailed_to: Some(email),
            link: None,
            reason: None,
        },
        Err(reason) => Invitation {
            name,
            expires_at,
            mailed_to: None,
            link: Some(link),
            reason: Some(reason),
        },
    }))
}

fn message_text(by: &User, user: &User, link: &str, until: DateTime<Utc>, address: &str) -> String {
    let (what, why) = if user.password_hash.is_empty() {
        (
            format!("{} has invited you to Maple Lark at {address}.", by.name),
            "Choose your password here",
        )
    } else {
        (
            format!("{} has made a link for a new password for you.", by.name),
            "Choose it here",
        )
    };
    format!(
        "{what} You sign in as \"{}\".\n\n{why}:\n{link}\n\nThe link is good once, until {} UTC. If you did not expect this, do nothing: without the link nothing changes.\n",
        user.name,
        until.format("%-d %B %Y, %H:%M")
    )
}

/// Give a user another role or address, disable or enable them.
#[utoipa::path(patch, operation_id = "change_user", path = "/users/{name}", tag = "access", params(("name" = String, Path)), request_body = UserChange, responses((status = 204), (status = 404, body = ProblemDetails), (status = 409, body = ProblemDetails), (status = 422, body = ProblemDetails)))]
#[patch("/users/<name>", data = "<change>")]
async fn change(
    by: Administrator,
    name: &str,
    change: Body<UserChange>,
    store: &State<Store>,
    trail: Trail,
) -> Result<NoContent, Problem> {
    let UserChange {
        role,
        email,
        disabled,
        held_to,
    } = change.into_inner();
    if role.is_some() || email.is_some() {
        let user = store.user_by_name(name).await?;
        let user = user.ok_or_else(|| unknown(name))?;
        of_the_organisation(&user, "the role, as the groups, or the address")?;
    }
    if let Some(email) = &email {
        mailbox(email)?;
    }
    if let Some(role) = role {
        trail.note(format!("is {role} now"));
    }
    if let Some(email) = &email {
        trail.note(format!("mail goes to {email}"));
    }
    match disabled {
        Some(true) => trail.note("disabled"),
        Some(false) => trail.note("enabled"),
        None => {}
    }
    let change = Change {
        role,
        email,
        disabled,
        held_to,
    };
    if let Some(values) = &change.held_to {
        let user = store.user_by_name(name).await?;
        let user = user.ok_or_else(|| unknown(name))?;
        checked_values(&user, change.role, values)?;
        trail.note(in_words(values));
    } else if change.role.is_some_and(|role| role > Role::Viewer) {
        let user = store.user_by_name(name).await?;
        let user = user.ok_or_else(|| unknown(name))?;
        checked_role(&user)?;
    }
    done(store.change_user(name, &change, Utc::now()).await?, name)?;
    tracing::info!(by = by.0.name, user = name, ?change, "a user was changed");
    Ok(NoContent)
}

/// Values are for viewers: whoever writes queries could ask for anything.
fn checked_values(
    user: &User,
    role: Option<Role>,
    values: &BTreeMap<String, Vec<String>>,
) -> Result<(), Problem> {
    let refused = |words: String| Err(Problem::new(422, "Cannot be held to these", words));
    if !values.is_empty() && role.unwrap_or(*user.role) != Role::Viewer {
        return refused(format!(
            "\"{}\" is a {}; only viewers can be held to values",
            user.name, *user.role
        ));
    }
    for (name, all) in values {
        if name.trim().is_empty() || all.is_empty() || all.len() > MOST_VALUES {
            return refused(format!(
                "held_to: a parameter has a name and 1 to {MOST_VALUES} values; \"{name}\" has {}",
                all.len()
            ));
        }
    }
    Ok(())
}

fn checked_role(user: &User) -> Result<(), Problem> {
    if user.held_to().is_none() {
        return Ok(());
    }
    Err(Problem::new(
        409,
        "Held to values",
        format!(
            "\"{}\" is held to values, which are for viewers; hold them to none first",
            user.name
        ),
    ))
}

fn in_words(values: &BTreeMap<String, Vec<String>>) -> String {
    if values.is_empty() {
        return "held to no values any more".to_owned();
    }
    let each = values.iter();
    let each = each.map(|(name, all)| format!("{name} = {}", all.join(", ")));
    format!("held to {}", each.collect::<Vec<_>>().join("; "))
}

/// Remove a user with their sessions and tokens. What they have made stays, under their name.
#[utoipa::path(delete, operation_id = "remove_user", path = "/users/{name}", tag = "access", params(("name" = String, Path)), responses((status = 204), (status = 404, body = ProblemDetails), (status = 409, body = ProblemDetails)))]
#[delete("/users/<name>")]
async fn remove(by: Administrator, name: &str, store: &State<Store>) -> Result<NoContent, Problem> {
    done(store.remove_user(name).await?, name)?;
    tracing::info!(by = by.0.name, user = name, "a user was removed");
    Ok(NoContent)
}

fn no_invitation() -> Problem {
    Problem::new(
        404,
        "Not good any more",
        "this link is not good any more: it is good once, and for seven days; ask your administrator for another",
    )
}

/// Whom an invitation is for.
#[utoipa::path(post, operation_id = "get_invitation", path = "/invitations", tag = "access", request_body = InvitationToken, responses((status = 200, body = InvitationView), (status = 404, body = ProblemDetails)))]
#[post("/invitations", data = "<asked>")]
async fn invitation(asked: Body<InvitationToken>, store: &State<Store>) -> Answer<InvitationView> {
    let found = store.invited(&token_hash(&asked.token), Utc::now()).await?;
    let (user, expires_at) = found.ok_or_else(no_invitation)?;
    Ok(Json(InvitationView {
        name: user.name,
        role: *user.role,
        expires_at,
    }))
}

/// Choose a password by an invitation, and sign in.
#[utoipa::path(post, operation_id = "accept_invitation", path = "/invitations/accept", tag = "access", request_body = Acceptance, responses((status = 200, body = UserView), (status = 404, body = ProblemDetails), (status = 422, body = ProblemDetails)))]
#[post("/invitations/accept", data = "<acceptance>")]
#[expect(
    clippy::too_many_arguments,
    reason = "what the request holds, and the states of the service"
)]
async fn accept(
    acceptance: Body<Acceptance>,
    store: &State<Store>,
    config: &State<Arc<Config>>,
    jar: &CookieJar<'_>,
    peer: IpAddr,
    agent: Agent,
    trail: Trail,
) -> Answer<UserView> {
    let Acceptance {
        token,
        password,
        code,
    } = acceptance.into_inner();
    // A link that came by mail stands for the password alone.
    if let Some((user, _)) = store.invited(&token_hash(&token), Utc::now()).await? {
        access::needs_code(store, &config.vault, &user, code.as_deref()).await?;
    }
    let accepted = access::accept(store, &token, password).await?;
    let user = accepted.ok_or_else(no_invitation)??;
    trail.actor(&user.name);
    tracing::info!(user = user.name, "an invitation was accepted");
    // The command line keeps no cookies; it gets a token of its own.
    if !agent.is_command_line() {
        enter(store, &user, config, jar, (peer, &agent)).await?;
    }
    Ok(Json(view(store, &user, config).await?))
}

/// Change your password. Your other sessions end; tokens stay.
#[utoipa::path(put, operation_id = "change_password", path = "/session/password", tag = "access", request_body = PasswordChange, responses((status = 204), (status = 409, body = ProblemDetails), (status = 422, body = ProblemDetails), (status = 429, body = ProblemDetails), (status = 503, body = ProblemDetails)))]
#[put("/session/password", data = "<change>")]
async fn set_password(
    user: SignedIn,
    change: Body<PasswordChange>,
    store: &State<Store>,
    config: &State<Arc<Config>>,
    jar: &CookieJar<'_>,
) -> Result<NoContent, Problem> {
    let PasswordChange { current, new } = change.into_inner();
    of_the_organisation(&user.0, "the password")?;
    let stays = jar
        .get(SESSION_COOKIE)
        .map(|cookie| token_hash(cookie.value()));
    let changed = access::change_password(store, config, &user.0, (current, new), stays.as_deref());
    match changed.await {
        Ok(changed) => changed?,
        // No 401: who asks is signed in.
        Err(SignInError::Wrong) => {
            return Err(Problem::new(
                422,
                "Another password",
                "the current password is not the one that was given; nothing was changed",
            ));
        }
        Err(other) => return Err(other.into()),
    }
    tracing::info!(user = user.0.name, "a password was changed");
    Ok(NoContent)
}

/// Your own sessions.
#[utoipa::path(get, operation_id = "list_sessions", path = "/sessions", tag = "access", responses((status = 200, body = Vec<SessionView>)))]
#[get("/sessions")]
async fn sessions(
    user: SignedIn,
    store: &State<Store>,
    jar: &CookieJar<'_>,
) -> Answer<Vec<SessionView>> {
    let own = jar
        .get(SESSION_COOKIE)
        .map(|cookie| token_hash(cookie.value()));
    let found = store.sessions(user.0.id, Utc::now()).await?.into_iter();
    let view = |session: maple_lark_store::people::Session| SessionView {
        current: own.as_ref() == Some(&session.token_hash),
        id: session.id,
        created_at: session.created_at,
        expires_at: session.expires_at,
        address: session.address,
        used_with: session.used_with,
    };
    Ok(Json(found.map(view).collect()))
}

/// End one of your sessions.
#[utoipa::path(delete, operation_id = "end_session", path = "/sessions/{id}", tag = "access", params(("id" = Uuid, Path)), responses((status = 204), (status = 404, body = ProblemDetails)))]
#[delete("/sessions/<id>")]
async fn end_session(user: SignedIn, id: Uuid, store: &State<Store>) -> Result<NoContent, Problem> {
    if store.end_session(user.0.id, id).await? {
        Ok(NoContent)
    } else {
        Err(Problem::not_found("such session of yours"))
    }
}

//! Who gets what, by which way: channels, people, copies, links, and messages as they will be.

use maple_lark_api::{
    AddressBook, BouncedView, ChannelTest, ChannelType, ChannelView, GroupView, MessageDraft,
    MessagePreview, NoticeKind, NoticeView, PersonView, ProblemDetails, ResendOrder, RunView,
    TestOrder, TestStep, UnsubscribeView,
};
use maple_lark_definition::{
    ChannelKind, DefinitionSet, MailContent, Mailbox, Recipient, ResolvedAudience, Template, check,
    render,
};
use maple_lark_document::compose::{compose, run_values::message_values};
use maple_lark_render::{Context, mail_body};
use maple_lark_store::{
    Store,
    bounds::held_words,
    deliveries::{Copy, Delivery},
    notices::Notice,
    people::User,
    runs::RunFilter,
    teams::Sight,
};
use rocket::{Route, State, delete, get, post, routes, serde::json::Json};
use uuid::Uuid;

use super::{
    Answer,
    body::Body,
    once::{OrderKey, once},
    problem::Problem,
    reports::everybody_meant,
    runs::one_run,
    seen,
};
use crate::{
    access::{Administrator, Author, Runner, Trail, Viewer},
    engine::{EngineHandle, snapshots, templates_of, values_key},
};

pub fn routes() -> Vec<Route> {
    routes![
        channels,
        test_channel,
        test_mail,
        people,
        forget_bounces,
        remove_unsubscribe,
        resend,
        release,
        revoke_links,
        notices,
        preview
    ]
}

/// All channels, and the service's own mail server first, whose name is empty.
#[utoipa::path(get, operation_id = "list_channels", path = "/channels", tag = "delivery", responses((status = 200, body = Vec<ChannelView>)))]
#[get("/channels")]
async fn channels(
    user: Viewer,
    store: &State<Store>,
    engine: &State<EngineHandle>,
) -> Answer<Vec<ChannelView>> {
    let definitions = engine.definitions(store, &user.1).await?;
    let set = &definitions.set;
    let queues = store.queues().await?;
    let waits = |via: &str| {
        let of = || queues.iter().filter(|queue| queue.via == via);
        (
            of().map(|queue| queue.waiting).sum(),
            of().filter_map(|queue| queue.oldest).min(),
        )
    };
    let mut found = Vec::new();
    if let Some(place) = engine.own_mail_server() {
        let (waiting, oldest) = waits("");
        let used_by = set
            .reports
            .values()
            .filter(|report| report.deliver.mail_server.is_none())
            .map(|report| report.name.clone())
            .collect();
        let title = "The service's own mail server".to_owned();
        found.push(ChannelView {
            name: String::new(),
            title,
            file: String::new(),
            kind: "mail-server".to_owned(),
            place,
            used_by,
            waiting,
            oldest,
        });
    }
    found.extend(set.channels.values().map(|channel| {
        let (waiting, oldest) = waits(&channel.name);
        ChannelView {
            name: channel.name.clone(),
            title: channel.title.clone(),
            file: channel.place.file.clone(),
            kind: channel.kind.name().to_owned(),
            // What is shared is used by its name.
            place: if channel.teams.is_empty() || user.1 == Sight::All {
                channel.kind.place()
            } else {
                String::new()
            },
            used_by: set
                .reports
                .values()
                .filter(|report| uses(report, &channel.name))
                .map(|report| report.name.clone())
                .collect(),
            waiting,
            oldest,
        }
    }));
    Ok(Json(found))
}

fn uses(report: &maple_lark_definition::Report, channel: &str) -> bool {
    let manners = report
        .audiences
        .iter()
        .map(|audience| &audience.options)
        .chain(report.audience_queries.iter().map(|query| &query.options));
    let server = report
        .deliver
        .mail_server
        .as_ref()
        .is_some_and(|name| name.value == channel);
    server
        || manners
            .flat_map(|options| &options.channels)
            .any(|name| name.value == channel)
}

/// Try a channel: a mail server with a mail that really goes out, others with something that
/// says it is a test.
#[utoipa::path(post, operation_id = "test_channel", path = "/channels/{name}/test", tag = "delivery", params(("name" = String, Path)), request_body = TestOrder, responses((status = 200, body = ChannelTest), (status = 404, body = ProblemDetails), (status = 422, body = ProblemDetails)))]
#[post("/channels/<name>/test", data = "<order>")]
async fn test_channel(
    user: Author,
    name: &str,
    order: Body<TestOrder>,
    store: &State<Store>,
    engine: &State<EngineHandle>,
) -> Answer<ChannelTest> {
    let definitions = engine.definitions(store, &user.1).await?;
    let set = &definitions.set;
    let channel = set
        .channels
        .get(name)
        .ok_or_else(|| Problem::not_found(format!("channel \"{name}\"")))?;
    if let ChannelKind::MailServer(_) = channel.kind {
        return probed(engine, Some(channel), order.to.as_deref()).await;
    }
    let (works, words) = match engine.test_channel(channel).await {
        Ok(words) => (true, words),
        Err(error) => (false, error.to_string()),
    };
    Ok(Json(ChannelTest {
        works,
        steps: vec![TestStep {
            name: channel.kind.name().to_owned(),
            works,
            words,
            remedy: None,
        }],
    }))
}

/// Try the service's own mail server with a mail that really goes out.
#[utoipa::path(post, operation_id = "test_mail", path = "/mail-server/test", tag = "delivery", request_body = TestOrder, responses((status = 200, body = ChannelTest), (status = 422, body = ProblemDetails)))]
#[post("/mail-server/test", data = "<order>")]
async fn test_mail(
    _user: Author,
    order: Body<TestOrder>,
    engine: &State<EngineHandle>,
) -> Answer<ChannelTest> {
    probed(engine, None, order.to.as_deref()).await
}

async fn probed(
    engine: &EngineHandle,
    channel: Option<&maple_lark_definition::Channel>,
    to: Option<&str>,
) -> Answer<ChannelTest> {
    let to = to.ok_or_else(|| {
        Problem::new(
            422,
            "No recipient",
            "say to whom the test mail goes: {\"to\": \"name@host.example\"}",
        )
    })?;
    let to: Mailbox = to
        .parse()
        .map_err(|error: maple_lark_definition::BadMailbox| {
            Problem::new(422, "No mail address", error.to_string())
        })?;
    let probe = match engine.probe(channel, &to).await {
        Ok(probe) => probe,
        Err(error) => {
            let step = TestStep {
                name: "settings".to_owned(),
                works: false,
                words: error.to_string(),
                remedy: Some("mend the definition or the configuration".to_owned()),
            };
            return Ok(Json(ChannelTest {
                works: false,
                steps: vec![step],
            }));
        }
    };
    let steps = probe.steps.into_iter();
    let steps = steps.map(|step| TestStep {
        name: step.name.to_owned(),
        works: step.works,
        words: step.words,
        remedy: step.remedy.map(str::to_owned),
    });
    Ok(Json(ChannelTest {
        works: probe.works,
        steps: steps.collect(),
    }))
}

/// The address book.
#[utoipa::path(get, operation_id = "address_book", path = "/people", tag = "delivery", responses((status = 200, body = AddressBook)))]
#[get("/people")]
#[expect(
    clippy::too_many_lines,
    reason = "the parts of the address book, one after the other"
)]
async fn people(
    user: Author,
    store: &State<Store>,
    engine: &State<EngineHandle>,
) -> Answer<AddressBook> {
    let definitions = engine.definitions(store, &user.1).await?;
    let set = &definitions.set;
    let sees_all = user.1 == Sight::All;
    let bounced = store.bounced_addresses().await?.into_iter();
    let bounced = bounced.filter(|one| sees_all || is_known(set, &one.address));
    let unsubscribes = store.unsubscribes(None).await?.into_iter();
    let unsubscribes = unsubscribes.filter(|one| sees_all || set.reports.contains_key(&one.report));
    let reached: Vec<(String, Vec<String>)> = set
        .reports
        .values()
        .map(|report| (report.name.clone(), addresses(set, report)))
        .collect();
    Ok(Json(AddressBook {
        people: set
            .people
            .values()
            .map(|person| PersonView {
                name: person.name.clone(),
                title: person.title.clone(),
                address: person.address.clone(),
                file: person.place.file.clone(),
                time_zone: person.zone.map(|zone| zone.to_string()),
                number_format: person
                    .number_format
                    .map(|number_format| number_format.to_string()),
                active: person.active,
                user: person.user.clone(),
                reports: reached
                    .iter()
                    .filter(|(_, all)| all.contains(&person.address.to_lowercase()))
                    .map(|(report, _)| report.clone())
                    .collect(),
            })
            .collect(),
        groups: set
            .groups
            .values()
            .map(|group| GroupView {
                name: group.name.clone(),
                title: group.title.clone(),
                file: group.place.file.clone(),
                members: group
                    .members
                    .iter()
                    .map(|member| member.value.to_string())
                    .collect(),
                recipients: set
                    .recipients(&group.members)
                    .into_iter()
                    .map(|Recipient { mailbox, .. }| mailbox.to_string())
                    .collect(),
            })
            .collect(),
        bounced: bounced
            .map(|one| BouncedView {
                address: one.address,
                hard_bounces: one.hard_bounces,
                words: one.words,
                last_at: one.last_at,
                suppressed_at: one.suppressed_at,
            })
            .collect(),
        unsubscribes: unsubscribes
            .map(|one| UnsubscribeView {
                report: one.report,
                address: one.address,
                unsubscribed_at: one.unsubscribed_at,
            })
            .collect(),
    }))
}

/// Whether an address is one of those that definitions name.
fn is_known(set: &DefinitionSet, address: &str) -> bool {
    let address = address.to_lowercase();
    let mut people = set.people.values();
    people.any(|person| person.address.to_lowercase() == address)
        || (set.reports.values()).any(|report| addresses(set, report).contains(&address))
}

fn addresses(set: &DefinitionSet, report: &maple_lark_definition::Report) -> Vec<String> {
    let audiences = set.audiences(report);
    audiences
        .iter()
        .flat_map(|audience| audience.everybody())
        .map(|recipient| recipient.mailbox.address.to_lowercase())
        .collect()
}

/// Forget the bounces of an address, so that mail goes there again.
#[utoipa::path(delete, operation_id = "forget_bounces", path = "/bounced-addresses/{name}", tag = "delivery", params(("name" = String, Path, description = "the address")), responses((status = 204), (status = 404, body = ProblemDetails)))]
#[delete("/bounced-addresses/<name>")]
async fn forget_bounces(
    user: Author,
    name: &str,
    store: &State<Store>,
    engine: &State<EngineHandle>,
) -> Result<rocket::response::status::NoContent, Problem> {
    let definitions = engine.definitions(store, &user.1).await?;
    let sees = user.1 == Sight::All || is_known(&definitions.set, name);
    if sees && store.forget_bounces(name).await? {
        Ok(rocket::response::status::NoContent)
    } else {
        Err(Problem::not_found(format!("bounce of {name}")))
    }
}

/// Remove an unsubscribe, so that its address gets the report again. Do so only when the
/// recipient asks for it.
#[utoipa::path(delete, operation_id = "remove_unsubscribe", path = "/reports/{name}/unsubscribes/{address}", tag = "delivery", params(("name" = String, Path), ("address" = String, Path)), responses((status = 204), (status = 404, body = ProblemDetails)))]
#[delete("/reports/<name>/unsubscribes/<address>")]
async fn remove_unsubscribe(
    _user: Administrator,
    name: &str,
    address: &str,
    store: &State<Store>,
) -> Result<rocket::response::status::NoContent, Problem> {
    let back = store.remove_unsubscribe(name, address).await?;
    if back {
        Ok(rocket::response::status::NoContent)
    } else {
        Err(Problem::not_found(format!(
            "unsubscribe of {address} from \"{name}\""
        )))
    }
}

/// Send a run's documents again, unchanged and marked as a copy.
#[utoipa::path(post, operation_id = "resend_run", path = "/runs/{id}/resends", tag = "runs", params(("id" = Uuid, Path)), request_body = ResendOrder, responses((status = 202, body = RunView), (status = 404, body = ProblemDetails), (status = 409, body = ProblemDetails), (status = 422, body = ProblemDetails)))]
#[post("/runs/<id>/resends", data = "<order>")]
#[expect(
    clippy::too_many_arguments,
    reason = "what the request holds, and the states of the service"
)]
async fn resend(
    user: Runner,
    id: Uuid,
    key: OrderKey,
    order: Body<ResendOrder>,
    store: &State<Store>,
    engine: &State<EngineHandle>,
    trail: Trail,
) -> Result<rocket::response::status::Custom<Json<RunView>>, Problem> {
    let order = order.into_inner();
    if !order.to.is_empty() {
        trail.note(format!("to {}", order.to.join(", ")));
    }
    let what = ("resend", id, order.clone());
    let sent = send_again(store, engine, (&user.0, &user.1), id, order);
    let view = once((store, engine), &user.0, key, what, sent).await?;
    Ok(rocket::response::status::Custom(
        rocket::http::Status::Accepted,
        Json(view),
    ))
}

#[expect(
    clippy::too_many_lines,
    reason = "refuses what cannot be sent again, one reason after the other, then sends"
)]
async fn send_again(
    store: &Store,
    engine: &EngineHandle,
    (user, sight): (&User, &Sight),
    id: Uuid,
    order: ResendOrder,
) -> Result<RunView, Problem> {
    let run = seen::run(store, sight, id).await?;
    let sent: Vec<Delivery> = store
        .deliveries(id)
        .await?
        .into_iter()
        .filter(|delivery| delivery.copy == 0)
        .collect();
    let unknown = order
        .deliveries
        .iter()
        .find(|wanted| !sent.iter().any(|delivery| delivery.id == **wanted));
    if let Some(unknown) = unknown {
        return Err(Problem::not_found(format!(
            "delivery {unknown} of this run"
        )));
    }
    let all = order.deliveries.is_empty() && order.to.is_empty();
    let mut copies: Vec<Copy> = sent
        .iter()
        .filter(|delivery| all || order.deliveries.contains(&delivery.id))
        .map(|delivery| Copy {
            audience: delivery.audience.clone(),
            channel: *delivery.channel,
            via: delivery.via.clone(),
            recipient: delivery.recipient.clone(),
            snapshot_id: delivery.snapshot_id,
            variant: delivery.variant.clone(),
        })
        .collect();
    let mail = sent
        .iter()
        .filter(|delivery| delivery.channel == ChannelType::Mail);
    let mut views: Vec<&Delivery> = Vec::new();
    for delivery in mail.chain(sent.iter()) {
        if !views.iter().any(|view| view.audience == delivery.audience) {
            views.push(delivery);
        }
    }
    if !order.to.is_empty() {
        let names = || {
            views
                .iter()
                .map(|view| format!("\"{}\"", view.audience))
                .collect::<Vec<_>>()
                .join(", ")
        };
        let view = match &order.audience {
            Some(name) => views.iter().find(|view| &view.audience == name),
            None => views.first().filter(|_| views.len() == 1),
        };
        let view = view.ok_or_else(|| {
            let words = if views.is_empty() {
                "nothing of this run was sent, so there is nothing to repeat".to_owned()
            } else {
                format!("say whose view to send: {}", names())
            };
            Problem::new(422, "Whose view", words)
        })?;
        for to in everybody_meant(engine, store, (user, sight), &run.team, &order.to).await? {
            let via = if view.channel == ChannelType::Mail {
                view.via.clone()
            } else {
                String::new()
            };
            let (audience, snapshot_id) = (view.audience.clone(), view.snapshot_id);
            copies.push(Copy {
                audience,
                channel: ChannelType::Mail,
                via,
                recipient: to,
                snapshot_id,
                variant: String::new(),
            });
        }
    }
    if copies.is_empty() {
        return Err(Problem::new(
            409,
            "Nothing to repeat",
            format!("the run is {}, and nothing of it was sent", run.state),
        ));
    }
    let address_of = |copy: &Copy| {
        let is_mail = copy.channel == ChannelType::Mail;
        let mailbox = copy.recipient.parse::<Mailbox>().ok().filter(|_| is_mail);
        mailbox.map(|mailbox| mailbox.address.to_lowercase())
    };
    let addresses: Vec<String> = copies.iter().filter_map(address_of).collect();
    let passed_over = store.passed_over(&run.report, &addresses).await?;
    let shown = |copy: &Copy| Some((address_of(copy)?, copy.snapshot_id));
    let mails: Vec<(String, Uuid)> = copies.iter().filter_map(shown).collect();
    let held = store.held_to_others(&mails).await?;
    let ordered = copies.len();
    copies.retain(|copy| {
        let passed = address_of(copy).is_some_and(|one| passed_over.contains_key(&one));
        !passed && shown(copy).is_none_or(|mail| !held.contains(&mail))
    });
    // Whoever is named is asked for; of a whole run, the others get theirs.
    if copies.is_empty() || (!all && copies.len() < ordered) {
        let held = held.iter().map(|(address, _)| held_words(address));
        let words: Vec<String> = passed_over.into_values().chain(held).collect();
        let words = format!("{}; nothing was sent", words.join("; "));
        return Err(Problem::new(409, "Recipients excluded", words));
    }
    let host = sent
        .first()
        .and_then(|delivery| delivery.message_id.split_once('@'))
        .map_or("localhost", |(_, host)| host)
        .to_owned();
    let note: Option<&str> = order
        .note
        .as_deref()
        .map(str::trim)
        .filter(|note| !note.is_empty());
    store
        .add_copies(id, &copies, &host, note, &user.name, engine.now())
        .await?;
    engine.wake();
    one_run(store, sight, id).await
}

/// Approve a run that awaits approval, release one that is held, or send one that was only made:
/// it is sent to the audiences of its report.
#[utoipa::path(post, operation_id = "release_run", path = "/runs/{id}/release", tag = "runs", params(("id" = Uuid, Path)), responses((status = 200, body = RunView), (status = 404, body = ProblemDetails), (status = 409, body = ProblemDetails)))]
#[post("/runs/<id>/release")]
async fn release(
    user: Runner,
    id: Uuid,
    store: &State<Store>,
    engine: &State<EngineHandle>,
) -> Answer<RunView> {
    seen::run(store, &user.1, id).await?;
    let documents = store.document_heads(id).await?;
    if let Some(at) = documents.iter().find_map(|head| head.removed_at) {
        return Err(Problem::gone("the documents of this run", at));
    }
    let released = store.release_run(id, &user.0.name).await?;
    let view = one_run(store, &user.1, id).await?;
    engine.wake();
    if released {
        Ok(Json(view))
    } else {
        Err(Problem::new(
            409,
            "Nothing to release",
            format!(
                "the run is {}, and there is nothing to send",
                view.run.state
            ),
        ))
    }
}

/// End the links to a run's documents before their time.
#[utoipa::path(delete, operation_id = "revoke_links", path = "/runs/{id}/links", tag = "runs", params(("id" = Uuid, Path)), responses((status = 200, body = RunView), (status = 404, body = ProblemDetails)))]
#[delete("/runs/<id>/links")]
async fn revoke_links(
    user: Author,
    id: Uuid,
    store: &State<Store>,
    engine: &State<EngineHandle>,
) -> Answer<RunView> {
    seen::run(store, &user.1, id).await?;
    let revoked = store.revoke_links(id, engine.now()).await?;
    tracing::info!(run = %id, revoked, by = %user.0.name, "links were revoked");
    Ok(Json(one_run(store, &user.1, id).await?))
}

/// The latest 100 notices, newest first.
#[utoipa::path(get, operation_id = "list_notices", path = "/notices", tag = "delivery", responses((status = 200, body = Vec<NoticeView>)))]
#[get("/notices")]
async fn notices(
    user: Viewer,
    store: &State<Store>,
    engine: &State<EngineHandle>,
) -> Answer<Vec<NoticeView>> {
    let definitions = engine.definitions(store, &user.1).await?;
    // What is of no run is of a report, a source or an address.
    let sees = |one: &Notice| match *one.kind {
        _ if one.run_id.is_some() || user.1 == Sight::All => true,
        NoticeKind::SourceDown | NoticeKind::SourceUp => {
            definitions.set.sources.contains_key(&one.subject)
        }
        NoticeKind::Suppressed => is_known(&definitions.set, &one.subject),
        _ => definitions.set.reports.contains_key(&one.subject),
    };
    let found = store.notices(100, &user.1).await?.into_iter();
    let found = found.filter(sees);
    let view = found.map(|one| NoticeView {
        kind: *one.kind,
        subject: one.subject,
        run: one.run_id,
        recipient: one.recipient,
        text: one.text,
        created_at: one.created_at,
        told_at: one.told_at,
    });
    Ok(Json(view.collect()))
}

/// A message as it would be, with real values. Nothing is sent or kept.
#[utoipa::path(post, operation_id = "preview_message", path = "/reports/{name}/message-preview", tag = "reports", params(("name" = String, Path)), request_body = MessageDraft, responses((status = 200, body = MessagePreview), (status = 404, body = ProblemDetails), (status = 409, body = ProblemDetails), (status = 422, body = ProblemDetails)))]
#[post("/reports/<name>/message-preview", data = "<draft>")]
#[expect(
    clippy::too_many_lines,
    reason = "one preview: subject, text, people and files, in the order of a mail"
)]
async fn preview(
    user: Author,
    name: &str,
    draft: Body<MessageDraft>,
    store: &State<Store>,
    engine: &State<EngineHandle>,
) -> Answer<MessagePreview> {
    let draft = draft.into_inner();
    let own = [draft.subject, draft.text].map(|words| words.map(Template::new));
    let definitions = engine.definitions(store, &user.1).await?;
    let shared = draft.template.as_ref();
    let shared = shared.and_then(|name| definitions.set.message_templates.get(name));
    let (subject, text) = templates_of((own[0].as_ref(), own[1].as_ref()), shared);
    let written = [("subject", Some(&subject)), ("text", text.as_ref())];
    for (key, template) in written
        .into_iter()
        .filter_map(|(key, one)| Some((key, one?)))
    {
        check(template).map_err(|words| {
            Problem::new(422, "The message is not valid", format!("{key}: {words}"))
        })?;
    }
    let mut found = None;
    for run in store
        .runs(
            &RunFilter {
                report: Some(name.to_owned()),
                state: None,
                sight: user.1,
            },
            1,
            20,
        )
        .await?
        .items
    {
        if let Some(head) = store.snapshot_heads(run.id).await?.into_iter().next() {
            // Some audience that has this view; a report without any has a sample of a name.
            let audiences: Vec<ResolvedAudience> = run
                .audiences
                .and_then(|kept| serde_json::from_value(kept).ok())
                .unwrap_or_default();
            let name = audiences
                .iter()
                .find(|audience| values_key(&audience.values) == head.values_key)
                .map_or("the audience", |audience| &audience.name);
            let name = name.to_owned();
            found = store
                .whole_snapshot(head.id)
                .await?
                .map(|kept| (run.id, name, kept));
            break;
        }
    }
    let (run, audience, kept) = found.ok_or_else(|| {
        Problem::new(
            409,
            "No values yet",
            "the report has not run, so there are no values to show; run it once",
        )
    })?;
    let content = match draft.body.as_deref() {
        Some("full") => MailContent::Full,
        Some("text") => MailContent::Text,
        _ => MailContent::Summary,
    };
    let work = move || {
        let snapshot = snapshots::open(&kept).map_err(|error| error.to_string())?;
        let document = compose(&snapshot).map_err(|error| error.to_string())?;
        let values = message_values(&snapshot, &document, Some(&audience));
        let merged =
            |template: &Template| render(template, &values).map_err(|error| error.to_string());
        let subject = merged(&subject)?;
        let text = text.as_ref().map(merged).transpose()?;
        let mail = mail_body(
            &document,
            content,
            &Context {
                message: text.as_deref(),
                ..Context::default()
            },
        )
        .map_err(|error| error.to_string())?;
        // A picture that is a part of a mail is a part of the page here.
        let html = mail.html.map(|html| {
            mail.images.iter().fold(html, |html, image| {
                let data =
                    base64::Engine::encode(&base64::engine::general_purpose::STANDARD, &image.png);
                html.replace(
                    &format!("cid:{}", image.content_id),
                    &format!("data:image/png;base64,{data}"),
                )
            })
        });
        Ok(MessagePreview {
            subject,
            text: mail.text,
            html,
            run,
            window: document.front.window_label.clone(),
            figures: values.figures,
        })
    };
    let refused = |words: String| Problem::new(422, "The message cannot be shown", words);
    Ok(Json(engine.compute(work).await?.map_err(refused)?))
}

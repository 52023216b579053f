//! A message posted to an address of the web.

use maple_lark_api::Words;
use maple_lark_definition::{Channel, Filler, WebhookSettings, render};
use maple_lark_delivery::{DeliveryError, post_message};
use maple_lark_document::compose::run_values::message_values;
use maple_lark_store::{deliveries::Delivery, notices::Notice};
use serde_json::{Value, json};
use uuid::Uuid;

use super::{ChannelDriver, ChannelError, facts, refused, web::http_target};
use crate::engine::{
    deliver::{
        Deliverer,
        failure::Failure,
        opened::{Opened, opened},
    },
    shared::{Shared, WorkError},
};

/// A channel of this kind with its settings.
pub struct Webhook<'a> {
    pub channel: &'a Channel,
    pub settings: &'a WebhookSettings,
}

#[rocket::async_trait]
impl ChannelDriver for Webhook<'_> {
    async fn send(&self, deliverer: &Deliverer, delivery: &Delivery) -> Result<String, Failure> {
        let (shared, channel, settings) = (&*deliverer.shared, self.channel, self.settings);
        let target = http_target(&shared.reader, channel, &settings.web).await?;
        let key = match &settings.key {
            Some(key) => Some(
                shared
                    .reader
                    .setting(key)
                    .await
                    .map_err(|error| refused(channel, error))?,
            ),
            None => None,
        };
        let run = opened(shared, delivery).await?;
        let body = webhook_body(shared, settings, delivery, &run).await?;
        Ok(post_message(
            &target,
            &delivery.id.to_string(),
            shared.now(),
            key.as_deref(),
            body.to_string(),
        )
        .await?)
    }

    async fn notify(
        &self,
        shared: &Shared,
        notice: &Notice,
        _words: &str,
    ) -> Result<(), DeliveryError> {
        let (channel, settings) = (self.channel, self.settings);
        let target = http_target(&shared.reader, channel, &settings.web).await?;
        let key = match &settings.key {
            Some(key) => Some(
                shared
                    .reader
                    .setting(key)
                    .await
                    .map_err(|error| refused(channel, error))?,
            ),
            None => None,
        };
        let url = match notice.run_id {
            Some(run) => format!("{}/runs/{run}", shared.config.public_url),
            None => shared.config.public_url.clone(),
        };
        let body = shaped(
            settings,
            &Said {
                text: &notice.text,
                title: &notice.subject,
                url: &url,
                ..Said::default()
            },
            || json!({ "notice": *notice.kind, "subject": notice.subject, "run": notice.run_id, "text": notice.text, "at": notice.created_at }),
        );
        post_message(
            &target,
            &format!("notice.{}", notice.id),
            shared.now(),
            key.as_deref(),
            body.to_string(),
        )
        .await
        .map(drop)
    }

    async fn test(&self, shared: &Shared) -> Result<String, ChannelError> {
        let (channel, settings) = (self.channel, self.settings);
        let target = http_target(&shared.reader, channel, &settings.web).await?;
        let key = match &settings.key {
            Some(key) => Some(shared.reader.setting(key).await?),
            None => None,
        };
        let body = shaped(
            settings,
            &Said {
                text: "A test message from Maple Lark.",
                title: "A test message from Maple Lark",
                url: &shared.config.public_url,
                ..Said::default()
            },
            || json!({ "test": true, "title": "A test message from Maple Lark" }),
        );
        let sent = post_message(
            &target,
            &Uuid::now_v7().to_string(),
            shared.now(),
            key.as_deref(),
            body.to_string(),
        )
        .await;
        Ok(sent?)
    }
}

/// What a message has that is put into a shape.
#[derive(Default)]
struct Said<'a> {
    text: &'a str,
    title: &'a str,
    status: &'a str,
    report: &'a str,
    url: &'a str,
}

/// A message in the shape that the channel's definition gives it, if it gives one.
fn shaped(settings: &WebhookSettings, said: &Said<'_>, usual: impl FnOnce() -> Value) -> Value {
    let Some(body) = &settings.body else {
        return match settings.text {
            Some(_) => json!({ "text": said.text }),
            None => usual(),
        };
    };
    let value = |name: &str| {
        let text = match name {
            "text" => said.text,
            "title" => said.title,
            "status" => said.status,
            "report" => said.report,
            "url" => said.url,
            _ => return None,
        };
        Some(Filler::Text(text.to_owned()))
    };
    // The definition has checked the names.
    body.fill_texts(&value)
        .unwrap_or_else(|_| json!({ "text": said.text }))
}

async fn webhook_body(
    shared: &Shared,
    settings: &WebhookSettings,
    delivery: &Delivery,
    opened: &Opened,
) -> Result<Value, WorkError> {
    let Opened {
        run,
        snapshot,
        document,
        ..
    } = opened;
    if settings.text.is_some() || settings.body.is_some() {
        let text = match &settings.text {
            Some(template) => {
                let values = message_values(snapshot, document, Some(&delivery.audience));
                render(template, &values).map_err(|error| WorkError::Run(error.to_string()))?
            }
            None => String::new(),
        };
        let said = Said {
            text: &text,
            title: &document.title,
            status: &document.summary.status.word().to_lowercase(),
            report: &run.report,
            url: &format!("{}/runs/{}", shared.config.public_url, run.id),
        };
        return Ok(shaped(settings, &said, || Value::Null));
    }
    let documents = shared.store.document_heads(run.id).await?;
    let documents: Vec<Value> = documents
        .iter()
        .filter(|head| head.snapshot_id == delivery.snapshot_id && head.variant.is_empty())
        .map(|head| {
            let address = format!("{}/api/v1/documents/{}", shared.config.public_url, head.id);
            json!({ "file_name": head.file_name, "format": head.format.word(), "size": head.size, "sha256": head.sha256, "url": address })
        })
        .collect();
    let mut facts = facts::of(shared, delivery, opened);
    facts["documents"] = json!(documents);
    Ok(facts)
}

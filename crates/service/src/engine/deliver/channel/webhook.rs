//! A message posted to an address of the web.

use maple_lark_api::Words;
use maple_lark_definition::{Channel, WebhookSettings, render};
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
        let body = match settings.text {
            Some(_) => json!({ "text": notice.text }),
            None => {
                json!({ "notice": *notice.kind, "subject": notice.subject, "run": notice.run_id, "text": notice.text, "at": notice.created_at })
            }
        };
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
        let body = match settings.text {
            Some(_) => json!({ "text": "A test message from Maple Lark." }),
            None => json!({ "test": true, "title": "A test message from Maple Lark" }),
        };
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
    } = opened;
    if let Some(template) = &settings.text {
        let values = message_values(snapshot, document, Some(&delivery.audience));
        let text = render(template, &values).map_err(|error| WorkError::Run(error.to_string()))?;
        return Ok(json!({ "text": text }));
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

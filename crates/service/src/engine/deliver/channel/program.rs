//! A program of the administrator's that carries documents further.

use std::time::Duration;

use maple_lark_api::Words;
use maple_lark_definition::{Channel, ProgramSettings};
use maple_lark_delivery::{DeliveryError, HandedOver, Program as Started, run_program};
use maple_lark_store::deliveries::Delivery;
use serde_json::{Value, json};

use super::{ChannelDriver, ChannelError, facts, refused};
use crate::engine::{
    deliver::{Deliverer, failure::Failure, opened::opened},
    shared::Shared,
};

/// A channel of this kind with its settings.
pub struct Program<'a> {
    pub channel: &'a Channel,
    pub settings: &'a ProgramSettings,
}

impl Program<'_> {
    /// # Errors
    /// If the configuration names no such program.
    fn started<'a>(&'a self, shared: &'a Shared) -> Result<Started<'a>, ChannelError> {
        let name = &self.settings.program;
        let command = shared.config.programs.get(name);
        Ok(Started {
            name,
            command: command.ok_or_else(|| ChannelError::NoProgram(name.clone()))?,
            timeout: Duration::from_secs(self.channel.timeout_seconds),
        })
    }
}

#[rocket::async_trait]
impl ChannelDriver for Program<'_> {
    async fn send(&self, deliverer: &Deliverer, delivery: &Delivery) -> Result<String, Failure> {
        let shared = &*deliverer.shared;
        let program = self
            .started(shared)
            .map_err(|error| refused(self.channel, error))?;
        let run = opened(shared, delivery).await?;
        let mut facts = facts::of(shared, delivery, &run);
        let documents = shared
            .store
            .documents_of_snapshot(delivery.snapshot_id, "")
            .await?;
        let written = tokio::task::spawn_blocking(move || {
            let handed = HandedOver::new()?;
            let files: Vec<Value> = documents
                .iter()
                .map(|one| {
                    let path = handed.file(&one.file_name, &one.body)?;
                    Ok(json!({ "path": path, "file_name": one.file_name, "format": one.format.word(), "size": one.body.len(), "sha256": one.sha256 }))
                })
                .collect::<std::io::Result<_>>()?;
            Ok((handed, files))
        });
        let written = written
            .await
            .unwrap_or_else(|error| Err(std::io::Error::other(error)));
        // A full disk is made room on.
        let (handed, files) = written.map_err(|error| DeliveryError::Postponed {
            server: "the folder for temporary files".to_owned(),
            words: error.to_string(),
        })?;
        facts["delivery"] = json!(delivery.id);
        facts["documents"] = json!(files);
        let said = run_program(&program, facts.to_string()).await;
        // The files are there for as long as the program runs.
        drop(handed);
        Ok(said?)
    }

    async fn test(&self, shared: &Shared) -> Result<String, ChannelError> {
        let program = self.started(shared)?;
        let facts = json!({ "test": true, "title": "A test from Maple Lark", "documents": [] });
        Ok(run_program(&program, facts.to_string()).await?)
    }
}

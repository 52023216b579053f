//! Files in a folder of another machine, by SFTP.

use std::time::Duration;

use maple_lark_definition::{Channel, SftpSettings};
use maple_lark_delivery::DeliveryError;
use maple_lark_sftp::{Connection, SftpError};
use maple_lark_store::deliveries::Delivery;
use uuid::Uuid;

use super::{ChannelDriver, ChannelError, Place, refused};
use crate::engine::{
    deliver::{Deliverer, failure::Failure},
    shared::Shared,
};

/// A channel of this kind with its settings.
pub struct Sftp<'a> {
    pub channel: &'a Channel,
    pub settings: &'a SftpSettings,
}

impl Sftp<'_> {
    async fn connect(&self, shared: &Shared) -> Result<Connection, ChannelError> {
        let (reader, server) = (&shared.reader, &self.settings.server);
        let place = Place::of(reader, &server.address).await?;
        let timeout = Duration::from_secs(self.channel.timeout_seconds);
        let at = (place.address, place.host.as_str(), place.addresses);
        let server = reader.sftp_server(server, at, timeout).await?;
        let opened = Connection::open(&server).await;
        Ok(opened.map_err(|error| self.said(&error))?)
    }

    fn path(&self, name: &str) -> String {
        format!("{}/{name}", self.settings.folder.trim_end_matches('/'))
    }

    fn said(&self, error: &SftpError) -> DeliveryError {
        let (server, words) = (
            format!("the channel \"{}\"", self.channel.name),
            error.to_string(),
        );
        match error {
            SftpError::Unreachable { .. } => DeliveryError::Unreachable { server, words },
            passing if passing.is_passing() => DeliveryError::Postponed { server, words },
            _ => DeliveryError::Refused { server, words },
        }
    }
}

#[rocket::async_trait]
impl ChannelDriver for Sftp<'_> {
    async fn send(&self, deliverer: &Deliverer, delivery: &Delivery) -> Result<String, Failure> {
        let shared = &*deliverer.shared;
        let run = shared.store.run(delivery.run_id).await?;
        let folder = self.path(&run.map(|run| run.report).unwrap_or_default());
        let documents = shared
            .store
            .documents_of_snapshot(delivery.snapshot_id, "")
            .await?;
        let connection = match self.connect(shared).await {
            Ok(connection) => connection,
            Err(ChannelError::Delivery(error)) => return Err(error.into()),
            Err(error) => return Err(refused(self.channel, error).into()),
        };
        let said = |error| self.said(&error);
        connection.make_folder(&folder).await.map_err(said)?;
        for one in &documents {
            let path = format!("{folder}/{}", one.file_name);
            connection.put(&path, &one.body).await.map_err(said)?;
        }
        connection.close().await;
        Ok(format!("{} files in {folder}", documents.len()))
    }

    async fn test(&self, shared: &Shared) -> Result<String, ChannelError> {
        let connection = self.connect(shared).await?;
        let said = |error| self.said(&error);
        let folder = self.settings.folder.trim_end_matches('/');
        connection.make_folder(folder).await.map_err(said)?;
        let path = self.path(&format!("maple-lark-test-{}.txt", Uuid::now_v7()));
        connection.put(&path, b"test\n").await.map_err(said)?;
        connection.remove(&path).await.map_err(said)?;
        connection.close().await;
        Ok(format!("files can be written to {}", self.settings.folder))
    }
}

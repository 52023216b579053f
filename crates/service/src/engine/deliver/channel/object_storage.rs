//! Files put into a bucket of object storage.

use std::time::Duration;

use maple_lark_definition::{Channel, ObjectStorageSettings, Setting};
use maple_lark_delivery::{self as delivery, Bucket, DeliveryError, HttpTarget};
use maple_lark_store::deliveries::Delivery;
use uuid::Uuid;

use super::{
    ChannelDriver, ChannelError, refused,
    web::{certificates, client_for},
};
use crate::engine::{
    deliver::{Deliverer, failure::Failure},
    shared::Shared,
};

/// A channel of this kind with its settings.
pub struct ObjectStorage<'a> {
    pub channel: &'a Channel,
    pub settings: &'a ObjectStorageSettings,
}

impl ObjectStorage<'_> {
    async fn bucket(&self, shared: &Shared) -> Result<Bucket, DeliveryError> {
        let (channel, settings, reader) = (self.channel, self.settings, &shared.reader);
        let written = reader.setting(&settings.url).await;
        let endpoint = HttpTarget::address(&written.map_err(|error| refused(channel, error))?)
            .ok_or_else(|| refused(channel, "its url is not one"))?;
        let host = endpoint.host_str().map(str::to_owned);
        let setting = async |setting: &Setting| {
            let found = reader.setting_for(setting, host.as_deref()).await;
            found.map_err(|error| refused(channel, error))
        };
        let storage = delivery::ObjectStorage {
            region: settings.region.clone(),
            bucket: settings.bucket.clone(),
            prefix: settings.prefix.clone(),
            by_host: settings.name_in_host,
            access_key: setting(&settings.access_key).await?,
            secret_key: setting(&settings.secret_key).await?,
            ca: certificates(channel, settings.ca_file.as_deref()).await?,
            timeout: Duration::from_secs(channel.timeout_seconds),
            endpoint,
        };
        let address = HttpTarget::address(&storage.address())
            .ok_or_else(|| refused(channel, "its bucket cannot be part of the server's name"))?;
        let client = client_for(reader, channel, &address, storage.ca.as_deref()).await?;
        let name = format!("the channel \"{}\"", channel.name);
        let opened = Bucket::open(storage, client, name);
        opened.map_err(|error| refused(channel, error))
    }
}

#[rocket::async_trait]
impl ChannelDriver for ObjectStorage<'_> {
    async fn send(&self, deliverer: &Deliverer, delivery: &Delivery) -> Result<String, Failure> {
        let shared = &*deliverer.shared;
        let bucket = self.bucket(shared).await?;
        let run = shared.store.run(delivery.run_id).await?;
        let report = run.map(|run| run.report).unwrap_or_default();
        let documents = shared
            .store
            .documents_of_snapshot(delivery.snapshot_id, "")
            .await?;
        for one in &documents {
            let name = format!("{report}/{}", one.file_name);
            bucket.put(&name, &one.media_type, &one.body).await?;
        }
        Ok(format!(
            "{} files in the bucket {}",
            documents.len(),
            self.settings.bucket
        ))
    }

    async fn test(&self, shared: &Shared) -> Result<String, ChannelError> {
        let bucket = self.bucket(shared).await?;
        let name = format!("maple-lark-test-{}.txt", Uuid::now_v7());
        bucket.put(&name, "text/plain", b"test\n").await?;
        bucket.remove(&name).await?;
        Ok(format!(
            "files can be put into the bucket {}",
            self.settings.bucket
        ))
    }
}

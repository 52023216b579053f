//! Files put to an address of the web.

use maple_lark_definition::{Channel, UploadSettings};
use maple_lark_delivery::put_files;
use maple_lark_store::deliveries::Delivery;

use super::{ChannelDriver, ChannelError, web::http_target};
use crate::engine::{
    deliver::{Deliverer, failure::Failure},
    shared::Shared,
};

/// A channel of this kind with its settings.
pub struct Upload<'a> {
    pub channel: &'a Channel,
    pub settings: &'a UploadSettings,
}

#[rocket::async_trait]
impl ChannelDriver for Upload<'_> {
    async fn send(&self, deliverer: &Deliverer, delivery: &Delivery) -> Result<String, Failure> {
        let (shared, channel, settings) = (&*deliverer.shared, self.channel, self.settings);
        let target = http_target(&shared.reader, channel, &settings.web).await?;
        let run = shared.store.run(delivery.run_id).await?;
        let documents = shared
            .store
            .documents_of_snapshot(delivery.snapshot_id, "")
            .await?;
        let files: Vec<(&str, &str, &[u8])> = documents
            .iter()
            .map(|one| {
                (
                    one.file_name.as_str(),
                    one.media_type.as_str(),
                    &one.body[..],
                )
            })
            .collect();
        Ok(put_files(
            &target,
            &run.map(|run| vec![run.report]).unwrap_or_default(),
            &files,
        )
        .await?)
    }

    async fn test(&self, shared: &Shared) -> Result<String, ChannelError> {
        let (channel, settings) = (self.channel, self.settings);
        let target = http_target(&shared.reader, channel, &settings.web).await?;
        let file = ("maple-lark-test.txt", "text/plain", &b"test\n"[..]);
        Ok(put_files(&target, &[], &[file]).await?)
    }
}

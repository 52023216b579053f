//! The place outside of the database where snapshots and documents are kept.

use std::{path::PathBuf, time::Duration};

use chrono::TimeDelta;
use maple_lark_delivery::ObjectStorage;
use maple_lark_store::outside::{Keeps, Outside};
use maple_lark_time::span::Span;
use serde::Deserialize;
use url::Url;

use super::{BadKey, directory::is_own, file_at, groups::elapsed, look_up};

const USUAL_TIMEOUT: Duration = Duration::from_secs(30);
/// A copy of the database that is not older finds all of its bodies in the place.
const USUAL_GRACE: TimeDelta = TimeDelta::days(1);

/// The place with what is known of it.
#[derive(Debug, Clone)]
pub struct Storage {
    pub outside: Outside,
    /// How long a body stays there that nothing shows any more.
    pub grace: TimeDelta,
    /// The folder, if it is one.
    pub folder: Option<PathBuf>,
    /// What people call it.
    pub title: String,
    /// Whether what goes there can be read on the way.
    pub in_the_clear: bool,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub(super) struct StorageFile {
    #[serde(default)]
    keep: Keep,
    folder: Option<PathBuf>,
    bucket: Option<BucketFile>,
    remove_after: Option<Span>,
}

#[derive(Deserialize, Default)]
#[serde(rename_all = "kebab-case")]
enum Keep {
    #[default]
    Outside,
    Database,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
struct BucketFile {
    endpoint: Url,
    region: Option<String>,
    name: String,
    prefix: Option<String>,
    #[serde(default)]
    name_in_host: bool,
    access_key: String,
    secret_key: String,
    ca_file: Option<PathBuf>,
    timeout: Option<Span>,
}

impl StorageFile {
    /// # Errors
    /// Which key is wrong.
    pub(super) fn checked(self) -> Result<Storage, BadKey> {
        let grace = match self.remove_after.map(|span| span.elapsed()) {
            None => USUAL_GRACE,
            Some(Some(length)) => length,
            Some(None) => {
                return Err(BadKey::new(
                    "storage.remove-after",
                    "it must be made of hours, minutes and seconds, such as \"PT48H\"",
                ));
            }
        };
        let in_the_clear = match &self.bucket {
            Some(bucket) => {
                let host = bucket.endpoint.host_str().unwrap_or_default();
                bucket.endpoint.scheme() != "https" && !is_own(host)
            }
            None => false,
        };
        let keeps = match self.keep {
            Keep::Outside => Keeps::Outside,
            Keep::Database => Keeps::Inside,
        };
        let (outside, title) = match (&self.folder, self.bucket) {
            (Some(folder), None) => {
                if !folder.is_absolute() {
                    let folder = folder.display();
                    let why = format!("{folder} is not an absolute path");
                    return Err(BadKey::new("storage.folder", why));
                }
                let opened = Outside::folder(folder, keeps).map_err(|error| {
                    let folder = folder.display();
                    let why = format!("{error}; make {folder} as a folder that the service alone may read and write");
                    BadKey::new("storage.folder", why)
                })?;
                (opened, folder.display().to_string())
            }
            (None, Some(bucket)) => bucket.opened(keeps)?,
            _ => {
                return Err(BadKey::new(
                    "storage",
                    "say either folder = \"/path\" or [storage.bucket]",
                ));
            }
        };
        Ok(Storage {
            outside,
            grace,
            folder: self.folder,
            title,
            in_the_clear,
        })
    }
}

impl BucketFile {
    fn opened(self, keeps: Keeps) -> Result<(Outside, String), BadKey> {
        if !matches!(self.endpoint.scheme(), "http" | "https") || !self.endpoint.has_host() {
            return Err(BadKey::new(
                "storage.bucket.endpoint",
                "it must begin with https://",
            ));
        }
        let secret = |key: &str, written: &str| {
            look_up(written).map_err(|error| BadKey::new(format!("storage.bucket.{key}"), error))
        };
        let ca = self.ca_file.as_deref();
        let ca = ca.map(|path| file_at("storage.bucket.ca-file", path));
        let timeout = elapsed("storage.bucket.timeout", self.timeout, USUAL_TIMEOUT)?;
        let title = format!("bucket {} at {}", self.name, self.endpoint.authority());
        let storage = ObjectStorage {
            endpoint: self.endpoint,
            region: self.region.unwrap_or_else(|| "us-east-1".to_owned()),
            bucket: self.name,
            prefix: self.prefix.unwrap_or_default(),
            by_host: self.name_in_host,
            access_key: secret("access-key", &self.access_key)?,
            secret_key: secret("secret-key", &self.secret_key)?,
            ca: ca.transpose()?,
            timeout,
        };
        let place = storage
            .open()
            .map_err(|error| BadKey::new("storage.bucket.endpoint", error))?;
        Ok((Outside::new(place, keeps), title))
    }
}

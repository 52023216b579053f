//! How a database on a server is reached: its settings looked up, its addresses looked at first.

use std::net::SocketAddr;

use maple_lark_definition::{DatabaseServer, Setting, Source, Tls, split_address};
use sqlx::ConnectOptions;

use crate::{Reader, SettingProblem, SourceError};

/// Where a source's server is.
pub struct Place {
    /// As it is told.
    pub address: String,
    pub host: String,
    pub port: u16,
    /// What it leads to; all of it may be reached.
    pub addresses: Vec<SocketAddr>,
}

impl Place {
    /// # Errors
    /// If the setting cannot be had or is no address, or the server may not be reached.
    pub async fn of(
        reader: &Reader,
        source: &Source,
        setting: &Setting,
    ) -> Result<Self, SourceError> {
        let address = reader.resolve(source, "address", setting).await?;
        let (host, port) = split_address(&address).ok_or_else(|| SourceError::Setting {
            source_name: source.name.clone(),
            setting: "address",
            reference: setting.written(),
            problem: SettingProblem::NotAnAddress,
        })?;
        let addresses = reader.within_bounds(source, host, port).await?;
        let host = host.to_owned();
        Ok(Self {
            host,
            port,
            addresses,
            address,
        })
    }
}

/// A server with what its source signs in with.
pub struct Server {
    pub place: Place,
    pub database: String,
    pub user: String,
    pub password: Option<String>,
    tls: Tls,
}

impl Server {
    /// # Errors
    /// If a setting cannot be had, or the server may not be reached.
    pub async fn of(
        reader: &Reader,
        source: &Source,
        settings: &DatabaseServer,
    ) -> Result<Self, SourceError> {
        let place = Place::of(reader, source, &settings.address).await?;
        let looked_up =
            |name, setting| reader.resolve_for(source, name, setting, Some(&place.host));
        let password = match &settings.password {
            Some(password) => Some(looked_up("password", password).await?),
            None => None,
        };
        Ok(Self {
            database: looked_up("database", &settings.database).await?,
            user: looked_up("user", &settings.user).await?,
            password,
            tls: settings.tls,
            place,
        })
    }

    /// Connects, and answers with the options that led there, for another connection. `at` sets
    /// the host.
    ///
    /// # Errors
    /// In the server's words.
    pub async fn connect<O: ConnectOptions>(
        &self,
        source: &Source,
        options: O,
        at: fn(O, &str) -> O,
    ) -> Result<(O::Connection, O), SourceError>
    where
        O::Connection: Sized,
    {
        if self.tls == Tls::VerifyFull {
            // The certificate has to be that of the name, so a name that leads elsewhere is found out.
            let connection = options.connect().await;
            return Ok((
                connection.map_err(|error| self.refused(source, error))?,
                options,
            ));
        }
        // Only what was looked at is connected to, in the name's own order.
        let mut last = sqlx::Error::Protocol("the name has no address".to_owned());
        for found in &self.place.addresses {
            let options = at(options.clone(), &found.ip().to_string());
            match options.connect().await {
                Err(error @ sqlx::Error::Io(_)) => last = error,
                Err(error) => return Err(self.refused(source, error)),
                Ok(connection) => return Ok((connection, options)),
            }
        }
        Err(self.refused(source, last))
    }

    fn refused(&self, source: &Source, error: sqlx::Error) -> SourceError {
        let (source_name, address) = (source.name.clone(), self.place.address.clone());
        match error {
            sqlx::Error::Database(answer) => SourceError::SignIn {
                source_name,
                address,
                words: answer.message().to_owned(),
            },
            other => SourceError::Unreachable {
                source_name,
                address,
                words: other.to_string(),
            },
        }
    }
}

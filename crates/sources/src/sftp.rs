//! Files on other machines, by SFTP.

use std::{io::Cursor, net::SocketAddr, time::Duration};

use maple_lark_definition::{FileRows, Setting, SftpFolder, SftpServer, SftpSignIn, Source};
use maple_lark_sftp::{Connection, Server, SftpError, SignIn};

use crate::{
    Answer, Greeting, Question, Reader, SourceError,
    catalogue::{Entry, file_entries},
    error::KeyError,
    rows::Gathered,
    server::Place,
    threads::computed,
};

impl Reader {
    /// A server of files with what signs in there, which goes to `host` alone.
    ///
    /// # Errors
    /// If what a key refers to cannot be had, or may not go there.
    pub async fn sftp_server(
        &self,
        settings: &SftpServer,
        (address, host, addresses): (String, &str, Vec<SocketAddr>),
        timeout: Duration,
    ) -> Result<Server, KeyError> {
        let looked_up = async |key: &'static str, setting: &Setting| {
            let found = self.setting_for(setting, Some(host)).await;
            found.map_err(|error| KeyError { key, error })
        };
        let sign_in = match &settings.sign_in {
            SftpSignIn::Password(password) => {
                SignIn::Password(looked_up("password", password).await?)
            }
            SftpSignIn::Key { key, passphrase } => {
                let text = self.text_for(key, Some(host)).await;
                let key = text.map_err(|error| KeyError {
                    key: "private-key",
                    error,
                })?;
                let passphrase = match passphrase {
                    Some(passphrase) => Some(looked_up("passphrase", passphrase).await?),
                    None => None,
                };
                SignIn::Key { key, passphrase }
            }
        };
        Ok(Server {
            host_keys: settings.host_keys.clone(),
            user: looked_up("user", &settings.user).await?,
            address,
            addresses,
            sign_in,
            timeout,
        })
    }
}

async fn open(
    reader: &Reader,
    source: &Source,
    settings: &SftpFolder,
) -> Result<Connection, SourceError> {
    let Place {
        address,
        host,
        addresses,
        ..
    } = Place::of(reader, source, &settings.server.address).await?;
    let timeout = Duration::from_secs(source.timeout_seconds);
    let place = (address, host.as_str(), addresses);
    let server = reader.sftp_server(&settings.server, place, timeout).await;
    let server = server.map_err(|error| error.of(source))?;
    let opened = Connection::open(&server).await;
    opened.map_err(|error| said(source, error))
}

/// What goes wrong, as other sources tell it.
fn said(source: &Source, error: SftpError) -> SourceError {
    let source_name = source.name.clone();
    match error {
        SftpError::Unreachable { address, words } => SourceError::Unreachable {
            source_name,
            address,
            words,
        },
        SftpError::TooLarge { .. } => SourceError::TooLarge {
            source_name,
            megabytes: source.max_bytes.div_ceil(1_000_000),
        },
        other => SourceError::Files {
            source_name,
            words: other.to_string(),
        },
    }
}

/// The rows of the files that a pattern finds: each is read while the one before is gathered, and no more once
/// there are as many rows as the source allows. What is read of them all together is within its size.
pub async fn read(
    reader: &Reader,
    source: &Source,
    settings: &SftpFolder,
    rows: &FileRows,
    question: Question<'_>,
) -> Result<Answer, SourceError> {
    let connection = open(reader, source, settings).await?;
    let failed = |error| said(source, error);
    let names = connection.find(&settings.folder, &rows.file).await;
    let names = names.map_err(failed)?;
    if names.is_empty() {
        return Err(SourceError::Files {
            source_name: source.name.clone(),
            words: format!("\"{}\" finds no file in {}", rows.file, settings.folder),
        });
    }
    let (of, rows, window) = (source.clone(), rows.clone(), question.times.window.clone());
    let found = names.len();
    let (send, mut files) = tokio::sync::mpsc::channel::<(String, Vec<u8>)>(1);
    let reading = async move {
        let mut left = source.max_bytes;
        for name in names {
            let path = format!("{}/{name}", settings.folder.trim_end_matches('/'));
            let bytes = connection.read(&path, left).await.map_err(failed)?;
            left -= bytes.len() as u64;
            // Nobody takes more once there are rows enough.
            if send.send((name, bytes)).await.is_err() {
                break;
            }
        }
        connection.close().await;
        Ok(())
    };
    let gathering = computed(source, move || {
        let mut gathered = Gathered::new(&of, &rows, &window);
        while let Some((name, bytes)) = files.blocking_recv() {
            gathered.add(&name, Cursor::new(bytes))?;
            if gathered.full() {
                break;
            }
        }
        drop(files);
        gathered.answer(match found {
            1 => format!("{} of 1 file", rows.file),
            found => format!("{} of {found} files", rows.file),
        })
    });
    let (read, gathered) = tokio::join!(reading, gathering);
    match gathered {
        // Whatever went wrong with the file after the last that counts.
        Ok(answer) if answer.table.truncated => Ok(answer),
        gathered => read.and(gathered),
    }
}

/// How many files there are, without those in folders of it.
pub async fn greet(
    reader: &Reader,
    source: &Source,
    settings: &SftpFolder,
) -> Result<Greeting, SourceError> {
    let connection = open(reader, source, settings).await?;
    let files = connection.find(&settings.folder, "*").await;
    let files = files.map_err(|error| said(source, error))?;
    connection.close().await;
    let count = match files.len() {
        1 => "1 file".to_owned(),
        count => format!("{count} files"),
    };
    Ok(Greeting {
        found: format!("{count} in {}", settings.folder),
        warning: None,
    })
}

/// The files of the folder and of those in it.
pub async fn catalogue(
    reader: &Reader,
    source: &Source,
    settings: &SftpFolder,
    search: &str,
) -> Result<Vec<Entry>, SourceError> {
    let connection = open(reader, source, settings).await?;
    let files = connection.find(&settings.folder, "**").await;
    let files = files.map_err(|error| said(source, error))?;
    connection.close().await;
    Ok(file_entries(files.into_iter(), search))
}

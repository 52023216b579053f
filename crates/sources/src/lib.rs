//! Reads data from sources into core tables. Every read is read-only, bounded in rows and
//! in time, and binds its parameters.
//!
//! This crate knows how to sign in at a source and how to ask; it does not know reports,
//! schedules or where an answer goes.

mod boundary;
mod catalogue;
mod cells;
mod checks;
mod columns;
mod error;
mod files;
mod filled;
mod http_json;
mod json;
mod ldap;
mod ldap_schema;
mod machine;
mod mysql;
mod open_metrics;
mod open_metrics_text;
mod packed_files;
mod permissions;
mod pool;
mod postgresql;
mod program;
mod rows;
mod secrecy;
mod server;
mod setting;
mod sftp;
mod snmp;
mod snmp_credentials;
mod sqlite;
mod threads;
mod web;
mod web_page;

use std::{collections::BTreeMap, sync::Arc, time::Duration};

use futures::future::BoxFuture;
use maple_lark_capture::Browser;
use maple_lark_data::PackedTable;
use maple_lark_definition::{Ask, QueryText, Source, SourceKind, Times};
use maple_lark_time::window::Step;
use tracing::{Dispatch, instrument::WithSubscriber};

pub use boundary::{AddressRange, BadRange, Boundary};
pub use catalogue::{Entry, Item};
pub use cells::BadCell;
pub use error::{KeyError, SecretError, SettingError, SettingProblem, SourceError};
pub use machine::MachinePart;
pub use maple_lark_capture::{Captured, Failed, Kept, Settings as BrowserSettings, StepTime};
pub use permissions::Permissions;
pub use snmp_credentials::SnmpCredentials;
pub use web::NoClient;

/// Parameter values by name, as a definition set works them out.
pub type Values = BTreeMap<String, maple_lark_definition::ParameterValue>;

/// One question to one source.
#[derive(Debug, Clone, Copy)]
pub struct Question<'a> {
    pub ask: &'a Ask,
    pub times: &'a Times,
    pub values: &'a Values,
}

/// What came back.
#[derive(Debug, Clone)]
pub struct Answer {
    pub table: PackedTable,
    /// The question as the source got it: names where values were bound, never a secret.
    pub sent: String,
    /// What a reader should know of it, such as rows that were left out.
    pub note: Option<String>,
    /// How a live page looked, where that was asked for. The rows then list its parts.
    pub capture: Option<Box<Captured>>,
}

impl Answer {
    fn of(table: impl Into<PackedTable>, sent: String) -> Self {
        Self {
            table: table.into(),
            sent,
            note: None,
            capture: None,
        }
    }
}

/// What a source answered to a test.
#[derive(Debug, Clone)]
pub struct Greeting {
    /// What is there, in its own words.
    pub found: String,
    /// What an administrator should think about, such as an account that may write.
    pub warning: Option<String>,
}

/// The secrets that the service keeps encrypted, by name.
pub type Secrets =
    Arc<dyn Fn(String) -> BoxFuture<'static, Result<String, SecretError>> + Send + Sync>;

/// Programs with their arguments, by the names that settings know them by.
pub type Commands = BTreeMap<String, Vec<String>>;

/// Reads sources, within what the service allows them.
#[derive(Clone)]
pub struct Reader {
    boundary: Arc<Boundary>,
    permissions: Arc<Permissions>,
    secrets: Secrets,
    commands: Arc<Commands>,
    programs: Arc<Commands>,
    clients: Arc<web::Clients>,
    pool: Arc<pool::Pool>,
    browser: Arc<Browser>,
}

impl Reader {
    pub fn new(boundary: Boundary, secrets: Secrets) -> Self {
        Self {
            clients: Arc::new(web::Clients::new()),
            pool: Arc::default(),
            boundary: Arc::new(boundary),
            permissions: Arc::default(),
            secrets,
            commands: Arc::default(),
            programs: Arc::default(),
            browser: Browser::new(BrowserSettings::default()),
        }
    }

    /// The same with what definitions may use of this machine; nothing is theirs otherwise.
    pub fn with_permissions(self, permissions: Permissions) -> Self {
        Self {
            permissions: Arc::new(permissions),
            ..self
        }
    }

    /// The same with commands that settings may name.
    pub fn with_commands(self, commands: Commands) -> Self {
        Self {
            commands: Arc::new(commands),
            ..self
        }
    }

    /// The same with programs that sources may be.
    pub fn with_programs(self, programs: Commands) -> Self {
        Self {
            programs: Arc::new(programs),
            ..self
        }
    }

    /// The same with a browser that is started in another way.
    pub fn with_browser(self, settings: BrowserSettings) -> Self {
        Self {
            browser: Browser::new(settings),
            ..self
        }
    }

    /// A reader that keeps no secrets, guards no addresses of its own and may read all files.
    pub fn unguarded() -> Self {
        Self::new(
            Boundary::default(),
            Arc::new(|_| Box::pin(async { Err("is not kept here".into()) })),
        )
        .with_permissions(Permissions::all())
    }

    /// Asks a source one question.
    ///
    /// The answer has at most the source's row limit of rows and says if there were more. The
    /// question is given up after the source's timeout.
    ///
    /// # Errors
    /// Each in the source's own words, with the remedy, and without a secret.
    pub async fn read(
        &self,
        source: &Source,
        question: Question<'_>,
    ) -> Result<Answer, SourceError> {
        // A page waits for its turn in the browser, and has its time from then on.
        if let (SourceKind::WebPage(web), Ask::Page(page)) = (&source.kind, question.ask) {
            return match web_page::read(self, source, web, page, question).await {
                Ok(mut answer) => {
                    answer.sent = self.without_secrets(source, answer.sent).await;
                    Ok(answer)
                }
                Err(error) => Err(self.told(source, error).await),
            };
        }
        let answered = bounded(source, self.answer(source, question))
            .await
            .and_then(|answer| {
                within_size(source, answer.table.size())?;
                Ok(answer)
            });
        match answered {
            // An address may have a key in it; SQL and the names of files are as their author
            // wrote them.
            Ok(mut answer) if source.kind.web().is_some() => {
                answer.sent = self.without_secrets(source, answer.sent).await;
                Ok(answer)
            }
            Ok(answer) => Ok(answer),
            Err(error) => Err(self.told(source, error).await),
        }
    }

    /// Asks in the way of the source's kind.
    async fn answer(&self, source: &Source, question: Question<'_>) -> Result<Answer, SourceError> {
        match (&source.kind, question.ask) {
            (SourceKind::Postgresql(settings), Ask::Sql(sql)) => {
                postgresql::read(self, source, settings, sql, question).await
            }
            (SourceKind::Mysql(settings), Ask::Sql(sql)) => {
                mysql::read(self, source, settings, sql, question).await
            }
            (SourceKind::Sqlite(file), Ask::Sql(sql)) => {
                sqlite::read(self, source, file, sql, question).await
            }
            (SourceKind::HttpJson(web, _), Ask::Request(request)) => {
                http_json::read(self, source, web, request, question).await
            }
            (SourceKind::Folder(folder), Ask::File(rows)) => {
                files::read_folder(self, source, folder, rows, question).await
            }
            (SourceKind::FilesByHttp(web, _), Ask::File(rows)) => {
                files::read_web(self, source, web, rows, question).await
            }
            (SourceKind::OpenMetrics(web), Ask::Metrics(metrics)) => {
                open_metrics::read(self, source, web, metrics).await
            }
            (SourceKind::Program(name), Ask::Output(output)) => {
                program::read(self, source, name, output, question).await
            }
            (SourceKind::LocalChecks, Ask::Check(check)) if check.kind.is_of_this_machine() => {
                machine::read(self, source, check, &question.times.window).await
            }
            (SourceKind::LocalChecks, Ask::Check(check)) => checks::read(self, source, check).await,
            (SourceKind::Ldap(server), Ask::Search(search)) => {
                ldap::read(self, source, server, search, question).await
            }
            (SourceKind::Snmp(agent), Ask::Objects(objects)) => {
                snmp::read(self, source, agent, objects).await
            }
            (SourceKind::Sftp(folder), Ask::File(rows)) => {
                sftp::read(self, source, folder, rows, question).await
            }
            _ => Err(mismatch(source, question.ask)),
        }
    }

    /// How a live page looks, with the parts that somebody may want.
    ///
    /// # Errors
    /// As [`Reader::read`].
    pub async fn outline(
        &self,
        source: &Source,
        question: Question<'_>,
    ) -> Result<Captured, SourceError> {
        let (SourceKind::WebPage(web), Ask::Page(page)) = (&source.kind, question.ask) else {
            return Err(mismatch(source, question.ask));
        };
        match web_page::outline(self, source, web, page, question).await {
            Ok(captured) => Ok(captured),
            Err(error) => Err(self.told(source, error).await),
        }
    }

    /// Signs in and says what is there.
    pub async fn test(&self, source: &Source) -> Result<Greeting, SourceError> {
        let found = bounded(source, async {
            match &source.kind {
                SourceKind::Postgresql(settings) => postgresql::greet(self, source, settings).await,
                SourceKind::Mysql(settings) => mysql::greet(self, source, settings).await,
                SourceKind::Sqlite(file) => sqlite::greet(self, source, file).await,
                SourceKind::HttpJson(web, _) | SourceKind::FilesByHttp(web, _) => {
                    web::greet(self, source, web).await
                }
                SourceKind::Folder(folder) => files::greet(self, source, folder).await,
                SourceKind::OpenMetrics(web) => open_metrics::greet(self, source, web).await,
                SourceKind::WebPage(web) => web_page::greet(self, source, web).await,
                SourceKind::Program(name) => program::greet(self, source, name),
                SourceKind::Ldap(server) => ldap::greet(self, source, server).await,
                SourceKind::Snmp(agent) => snmp::greet(self, source, agent).await,
                SourceKind::Sftp(folder) => sftp::greet(self, source, folder).await,
                SourceKind::LocalChecks => Ok(Greeting {
                    found: "Checks are made from this machine".to_owned(),
                    warning: None,
                }),
            }
        })
        .await;
        match found {
            Ok(found) => Ok(found),
            Err(error) => Err(self.told(source, error).await),
        }
    }

    /// What can be asked of a source: its tables, metrics or files, those whose name or
    /// description has `search` in it, at most 500.
    pub async fn catalogue(
        &self,
        source: &Source,
        search: &str,
    ) -> Result<Vec<Entry>, SourceError> {
        let found = bounded(source, async {
            match &source.kind {
                SourceKind::Postgresql(settings) => {
                    catalogue::postgresql(self, source, settings, search).await
                }
                SourceKind::Mysql(settings) => {
                    mysql::catalogue(self, source, settings, search).await
                }
                SourceKind::Sqlite(file) => sqlite::catalogue(self, source, file, search).await,
                SourceKind::OpenMetrics(web) => {
                    catalogue::open_metrics(self, source, web, search).await
                }
                SourceKind::Folder(folder) => catalogue::folder(self, source, folder, search).await,
                SourceKind::LocalChecks => Ok(catalogue::checks(search)),
                SourceKind::Ldap(server) => ldap::catalogue(self, source, server, search).await,
                SourceKind::Snmp(_) => Ok(snmp::catalogue(search)),
                SourceKind::Sftp(folder) => sftp::catalogue(self, source, folder, search).await,
                SourceKind::HttpJson(web, Some(listing))
                | SourceKind::FilesByHttp(web, Some(listing)) => {
                    catalogue::listed(self, source, web, listing, search).await
                }
                // It does not say what it has unless its definition knows where.
                SourceKind::HttpJson(_, None)
                | SourceKind::FilesByHttp(_, None)
                | SourceKind::Program(_)
                | SourceKind::WebPage(_) => Ok(Vec::new()),
            }
        })
        .await;
        match found {
            Ok(found) => Ok(found),
            Err(error) => Err(self.told(source, error).await),
        }
    }
}

fn mismatch(source: &Source, ask: &Ask) -> SourceError {
    SourceError::Query {
        source_name: source.name.clone(),
        words: format!(
            "it is of kind \"{}\" and cannot be asked like one of kind \"{}\"",
            source.kind.name(),
            ask.source_kinds().join("\" or \"")
        ),
    }
}

/// That a question for resampling steps asks for no more of them than anybody reads.
pub(crate) fn check_steps(
    source: &Source,
    text: &QueryText,
    times: &Times,
) -> Result<(), SourceError> {
    let asks = text.names.iter().any(|name| name == "steps");
    if !asks || !times.step.is_too_fine_for(&times.window) {
        return Ok(());
    }
    Err(SourceError::Query {
        source_name: source.name.clone(),
        words: format!(
            "the window has more than {} steps of {}; set a longer step",
            Step::MOST,
            times.step
        ),
    })
}

/// That an answer is no larger than its source allows.
pub(crate) fn within_size(source: &Source, bytes: usize) -> Result<(), SourceError> {
    if bytes as u64 <= source.max_bytes {
        return Ok(());
    }
    Err(SourceError::TooLarge {
        source_name: source.name.clone(),
        megabytes: source.max_bytes.div_ceil(1_000_000),
    })
}

/// Reads rows without the log: the driver, which is told to log nothing of them, would enter and leave the spans of whoever
/// asks at each row, a tenth of the time that a row takes.
pub(crate) fn unlogged<F: Future>(rows: F) -> impl Future<Output = F::Output> {
    rows.with_subscriber(Dispatch::none())
}

/// The source is asked to keep the timeout itself; this holds even if it hangs.
async fn bounded<T>(
    source: &Source,
    work: impl Future<Output = Result<T, SourceError>>,
) -> Result<T, SourceError> {
    let grace = Duration::from_secs(2);
    let limit = Duration::from_secs(source.timeout_seconds) + grace;
    tokio::time::timeout(limit, work)
        .await
        .unwrap_or(Err(SourceError::Timeout {
            source_name: source.name.clone(),
            seconds: source.timeout_seconds,
        }))
}

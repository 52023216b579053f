//! What people write: sources, dashboards, reports and the rest, as TOML files.
//!
//! Three things are kept apart. `model` is what a definition holds; its values are valid.
//! `read` makes it from text. `check` and `set` look at definitions together. Nothing here reads
//! a clock, a file, a network or a database.

#![warn(missing_docs)]

mod check;
pub mod edit;
pub mod fill;
pub mod limits;
mod model;
pub mod problem;
mod read;
mod set;

pub use model::audience::{Audience, AudienceQuery, DeliveryOptions, ResolvedAudience};
pub use model::block::{
    BarForm, Block, BlockKind, Borrowed, Changes, ForecastPart, HeatBy, Limit, LineStyle, PolarBy,
    TrendColumn,
};
pub use model::calendar::CalendarFile;
pub use model::channel::{
    Channel, ChannelKind, ChannelType, Dkim, FolderSettings, MailServerSettings, MailSignIn,
    MailTls, ObjectStorageSettings, ProgramSettings, SftpSettings, SnmpSettings, SyslogSettings,
    UploadSettings, WebhookSettings,
};
pub use model::dashboard::{Dashboard, Section};
pub use model::dashboard_template::{
    DashboardTemplate, Input, InputKind, MadeFrom, Purpose, SketchBlock,
};
pub use model::definition::Definition;
pub use model::deliver::{Approval, Deliver, Link, MailContent};
pub use model::files::{CsvForm, Files, NameValues, Packing, Zip};
pub use model::format::Format;
pub use model::http::{SignIn, Web};
pub use model::keep::{BadKeepTerms, KeepTerms};
pub use model::kind::Kind;
pub use model::listing::Listing;
pub use model::mailbox::{BadMailbox, Mailbox};
pub use model::message_template::MessageTemplate;
pub use model::message_values::{
    MessageValues, ReportValues, RunValues, WindowValues, check, check_text, render,
};
pub use model::name::{in_name_space, is_definition_name, is_name};
pub use model::page::{Finished, Keep, PageAsk, PageStep, PageView, PartAsk, SignInSteps};
pub use model::parameter::{Parameter, ParameterKind, ParameterValue, Values};
pub use model::people::{Addressee, Group, Person, Recipient, RecipientFormat};
pub use model::picture::Picture;
pub use model::query::ask::{
    Ask, Check, CheckKind, Field, FileForm, FileRows, Metrics, Objects, ObjectsOperation, Output,
    Pages, Request, Search, SearchScope, Sql, TimeForm,
};
pub use model::query::builder::{Dialect, Filter, FilterTest, Measure, NoPercentiles, Pick};
pub use model::query::mib;
pub use model::query::mib::{BadObject, Object};
pub use model::query::placeholder::{
    BadPlaceholder, FillError, Filler, JsonTemplate, PlaceholderText,
};
pub use model::query::text::{BadQueryText, QueryText};
pub use model::query::times::{TimeValue, Times};
pub use model::query::{ColumnHint, Origin, Query};
pub use model::readiness::{AtDeadline, Readiness, ReadyWhen};
pub use model::report::{Change, OnFailedBlock, Report};
pub use model::sampler::{Downsample, Sampler};
pub use model::send_when::{BadCondition, Condition, SendWhen, Test};
pub use model::setting::{BadSetting, Setting};
pub use model::sftp::{SftpServer, SftpSignIn};
pub use model::snmp::{SnmpCipher, SnmpHash, SnmpSignIn};
pub use model::source::{
    DatabaseServer, DirectoryServer, DirectoryTls, SftpFolder, SnmpAgent, Source, SourceKind, Tls,
    split_address,
};
pub use model::template::{BadTemplate, Template, figures_named};
pub use model::theme::{Paper, Theme};
pub use model::width::{BadWidth, Width, rows};
pub use problem::{MissingKey, Place, Placed, Problem};
pub use read::{files::size, query_alone, schedule_and_window};
pub use set::DefinitionSet;
pub use set::{
    audiences::{BadAudiences, BadRow},
    content::{CannotTake, Missing, change, whole},
    people::NobodyMeant,
};

#[cfg(test)]
mod tests;

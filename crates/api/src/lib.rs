//! What the service and its clients say to each other: orders, answers, problem details, and the
//! states that runs and deliveries go through. Knows nothing of how either side works.

mod about;
mod agenda;
mod archive;
mod archive_proof;
mod audit;
mod condition;
mod core_enums;
mod dashboards;
mod definitions;
mod delivery;
mod keeping;
mod mailbox;
mod overview;
mod pages;
mod passkeys;
mod preview;
mod problem;
mod queries;
mod reports;
mod rights;
mod runs;
mod schedules;
mod second_factor;
mod secrets;
mod sessions;
mod size;
mod sources;
mod state;
mod teams;
mod templates;
mod themes;
mod users;
mod views;
mod words;

pub use about::{About, ZoneRulesView};
pub use agenda::{
    Agenda, AgendaDay, AgendaEntry, AgendaFeed, AgendaState, CalendarView, NamedDay, PlanState,
};
pub use archive::{ArchiveEntry, ArchivePage, FoundPiece, Match};
pub use archive_proof::{ArchiveDayPage, ArchiveDayProof, ArchiveDayView, ArchiveFault};
pub use audit::{AUDITED, AuditEntry, AuditOutcome, AuditPage, AuditProof, audited_as};
pub use condition::{Condition, Finding, Stands};
pub use dashboards::{DashboardBlock, DashboardLayout, DashboardSection, DashboardView};
pub use definitions::{
    Applied, Change, ChangeAction, DefinitionFile, DefinitionKeys, DefinitionName, DefinitionPatch,
    DefinitionVersion, DefinitionVersions, Draft, DraftOrder, Files, NewDefinition, Plan,
    SavedFrom,
};
pub use delivery::{
    AddressBook, BouncedView, ChannelTest, ChannelView, GroupView, MessageDraft, MessagePreview,
    NoticeView, PersonView, ResendOrder, TestOrder, TestStep, UnsubscribeView,
};
pub use keeping::{
    GoingList, GoingView, KeepOrder, KeepPolicy, KeepStage, KeepWhy, Keeping, KeptPage, KeptRun,
    RemovalPage, RemovalView, RemovedFile, ReportKeeping,
};
pub use mailbox::{ReceivedHead, ReceivedMessage};
pub use maple_lark_definition::{ChannelType, Format, Kind, ParameterValue};
pub use overview::{NextRun, Outcome, Overview};
pub use pages::{FailedPage, PageLook, PageOrder, PagePiece, PageStepTime};
pub use passkeys::{NewPasskey, Passkey, PasskeyAnswer, PasskeyChallenge};
pub use preview::{BlockPlace, PreviewOrder};
pub use problem::{FileProblem, MissingKey, ProblemDetails};
pub use queries::{
    AnswerColumn, CatalogueEntry, CatalogueItem, Choice, ChoicesOrder, ParameterChoices,
    QueryAnswer, QueryOrder, SamplerView,
};
pub use reports::{
    AudienceView, Backfill, BackfillOrder, CopyOrder, NewSchedule, ReportName, ReportPage,
    ReportView,
};
pub use rights::{RIGHTS, Right, WITHIN_VALUES, in_markdown as rights_in_markdown, right_to};
pub use runs::{
    AttemptView, DeliveryView, DocumentView, LinkView, RunDefinition, RunLog, RunLogLine, RunOrder,
    RunPage, RunSummary, RunView, SnapshotView, StepView, WindowView,
};
pub use schedules::{
    Answers, Explained, ExplainedInstant, ExplainedLeftOut, Question, QuestionAnswer, Questions,
};
pub use second_factor::{Code, NewSecondFactor, PasswordAgain, RecoveryCodes, SecondFactor};
pub use secrets::{NewSecret, SecretView};
pub use sessions::{
    Credentials, NewToken, SignInWays, SignedOut, Token, TokenOrder, TokenRequest, TokenScope,
    UserView,
};
pub use size::readable_size;
pub use sources::{SourceTest, SourceView};
pub use state::{
    AttemptOutcome, Cause, DeliveryState, NoticeKind, RecipientRole, ReportFilter, ReportOrder,
    Role, RunState, SignsInBy, StepKind, StepState, Work,
};
pub use teams::{Membership, NewTeam, TeamChange, TeamMember, TeamView};
pub use templates::{
    FilledTemplate, NewTemplate, TemplateBlock, TemplateInput, TemplateOrder, TemplateReport,
    TemplateUpdate, TemplateView,
};
pub use themes::ThemeText;
pub use users::{
    Acceptance, ForgottenPassword, HandOver, Invitation, InvitationToken, InvitationView, NewUser,
    OwnedReports, PasswordChange, SessionView, UserChange, UserEntry, UserPage,
};
pub use views::{NewView, ViewPage, ViewView};
pub use words::{UnknownWord, Words};

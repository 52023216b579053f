//! The rows of each table.

macro_rules! entity {
    ($module:ident, $table:literal, { $($(#[$attribute:meta])* $field:ident: $kind:ty),* $(,)? }) => {
        pub mod $module {
            use sea_orm::entity::prelude::*;

            #[allow(unused_imports)]
            use super::{
                AttemptOutcome, Cause, ChannelType, DeliveryState, Format, NoticeKind, RecipientRole, Role, RunState,
                StepKind, StepState, Stored, Time, TokenScope,
            };

            #[derive(Clone, Debug, PartialEq, DeriveEntityModel)]
            #[sea_orm(table_name = $table)]
            pub struct Model {
                $($(#[$attribute])* pub $field: $kind,)*
            }

            #[derive(Copy, Clone, Debug, EnumIter, DeriveRelation)]
            pub enum Relation {}

            impl ActiveModelBehavior for ActiveModel {}
        }
    };
}

use maple_lark_api::{
    AttemptOutcome, Cause, ChannelType, DeliveryState, Format, NoticeKind, RecipientRole, Role,
    RunState, StepKind, StepState, TokenScope,
};

use crate::stored::Stored;

pub type Time = chrono::DateTime<chrono::Utc>;

entity!(user, "users", {
    #[sea_orm(primary_key, auto_increment = false)] id: Uuid,
    name: String,
    password_hash: String,
    role: Stored<Role>,
    created_at: Time,
    /// Where invitations and links for a new password go.
    email: Option<String>,
    /// Since when they may not sign in.
    disabled_at: Option<Time>,
    /// The key of a second factor, sealed.
    second_factor: Option<Vec<u8>>,
    /// Since when they are asked for it; nothing as long as it is not confirmed.
    second_factor_at: Option<Time>,
    /// Their entry in the organisation's directory, if they sign in by it.
    directory_entry: Option<String>,
    /// Since when the directory or the provider does not let them in any more.
    directory_left_at: Option<Time>,
    /// What the organisation's identity provider calls them for good, if they sign in by it.
    provider_subject: Option<String>,
    /// By which it can be looked whether it still lets them in, sealed.
    provider_grant: Option<Vec<u8>>,
    /// When that was looked last.
    provider_looked_at: Option<Time>,
    /// The parameter values that they are held to.
    bounds: Option<serde_json::Value>,
});

entity!(session, "sessions", {
    #[sea_orm(primary_key, auto_increment = false)] token_hash: String,
    user_id: Uuid,
    created_at: Time,
    expires_at: Time,
    /// What its user calls it by; the token itself is nowhere.
    id: Uuid,
    /// Where it began.
    address: Option<String>,
    /// The program that began it, as it calls itself.
    used_with: Option<String>,
});

entity!(api_token, "api_tokens", {
    #[sea_orm(primary_key, auto_increment = false)] id: Uuid,
    user_id: Uuid,
    name: String,
    token_hash: String,
    created_at: Time,
    last_used_at: Option<Time>,
    /// What it is good for.
    scope: Stored<TokenScope>,
    /// When it ends by itself.
    expires_at: Option<Time>,
});

entity!(definition, "definitions", {
    #[sea_orm(primary_key, auto_increment = false)] kind: String,
    #[sea_orm(primary_key, auto_increment = false)] name: String,
    title: String,
    file: String,
    #[sea_orm(column_type = "Text")] text: String,
    updated_at: Time,
    updated_by: String,
});

entity!(schedule_state, "schedule_states", {
    #[sea_orm(primary_key, auto_increment = false)] report: String,
    rule: String,
    paused: bool,
    next_instant: Option<Time>,
    runs_made: i32,
});

entity!(run, "runs", {
    #[sea_orm(primary_key, auto_increment = false)] id: Uuid,
    report: String,
    title: String,
    scheduled_for: Time,
    cause: Stored<Cause>,
    requested_by: Option<String>,
    deliver: bool,
    state: Stored<RunState>,
    definitions: Json,
    window_from: Time,
    window_to: Time,
    time_zone: String,
    problem: Option<String>,
    skipped: i32,
    /// The token of the claim.
    lease_owner: Option<Uuid>,
    lease_until: Option<Time>,
    /// The process that made the claim last.
    lease_process: Option<Uuid>,
    created_at: Time,
    started_at: Option<Time>,
    finished_at: Option<Time>,
    may_overlap: bool,
    next_check_at: Option<Time>,
    checks: i32,
    #[sea_orm(column_type = "Text", nullable)] incomplete: Option<String>,
    within: Option<Json>,
    audiences: Option<Json>,
    only_to: Option<Json>,
    approval_deadline: Option<Time>,
    released_by: Option<String>,
    claims: i32,
    claimed_at: Option<Time>,
    /// The team that it belongs to; empty if it belongs to all.
    team: String,
    /// How its content was judged, the worst first; nothing before that.
    status: Option<String>,
    /// Why it may have been sent before: it is held then once it is made.
    doubt: Option<String>,
});

entity!(run_step, "run_steps", {
    #[sea_orm(primary_key)] id: i64,
    run_id: Uuid,
    kind: Stored<StepKind>,
    subject: String,
    state: Stored<StepState>,
    detail: Option<String>,
    started_at: Time,
    ended_at: Option<Time>,
});

entity!(snapshot, "snapshots", {
    #[sea_orm(primary_key, auto_increment = false)] id: Uuid,
    run_id: Uuid,
    values_key: String,
    sha256: String,
    body: Vec<u8>,
    created_at: Time,
    status: Option<String>,
    quiet: Option<String>,
    /// Its values, as texts for people.
    shown: Option<serde_json::Value>,
    /// The values that it was asked with, by parameter.
    chosen: Option<serde_json::Value>,
    /// When its bytes went.
    removed_at: Option<Time>,
});

entity!(document, "documents", {
    #[sea_orm(primary_key, auto_increment = false)] id: Uuid,
    run_id: Uuid,
    snapshot_id: Uuid,
    format: Stored<Format>,
    file_name: String,
    media_type: String,
    sha256: String,
    size: i64,
    body: Vec<u8>,
    created_at: Time,
    variant: String,
    /// When its bytes went.
    removed_at: Option<Time>,
});

entity!(delivery, "deliveries", {
    #[sea_orm(primary_key, auto_increment = false)] id: Uuid,
    run_id: Uuid,
    snapshot_id: Uuid,
    audience: String,
    channel: Stored<ChannelType>,
    recipient: String,
    state: Stored<DeliveryState>,
    message_id: String,
    next_attempt_at: Time,
    problem: Option<String>,
    /// The token of the claim.
    lease_owner: Option<Uuid>,
    lease_until: Option<Time>,
    /// The process that made the claim last.
    lease_process: Option<Uuid>,
    created_at: Time,
    settled_at: Option<Time>,
    via: String,
    role: Stored<RecipientRole>,
    variant: String,
    copy: i32,
    note: Option<String>,
    requested_by: Option<String>,
    held_up: bool,
});

entity!(delivery_attempt, "delivery_attempts", {
    #[sea_orm(primary_key)] id: i64,
    delivery_id: Uuid,
    started_at: Time,
    ended_at: Option<Time>,
    outcome: Option<Stored<AttemptOutcome>>,
    answer: Option<String>,
});

entity!(bounced_address, "bounced_addresses", {
    #[sea_orm(primary_key, auto_increment = false)] address: String,
    hard_bounces: i32,
    words: String,
    last_at: Time,
    suppressed_at: Option<Time>,
});

entity!(unsubscribe, "unsubscribes", {
    #[sea_orm(primary_key, auto_increment = false)] report: String,
    #[sea_orm(primary_key, auto_increment = false)] address: String,
    unsubscribed_at: Time,
});

entity!(shared_link, "shared_links", {
    #[sea_orm(primary_key, auto_increment = false)] id: Uuid,
    run_id: Uuid,
    snapshot_id: Uuid,
    variant: String,
    recipient: String,
    expires_at: Time,
    revoked_at: Option<Time>,
    opened: i32,
    last_opened_at: Option<Time>,
});

entity!(notice, "notices", {
    #[sea_orm(primary_key)] id: i64,
    kind: Stored<NoticeKind>,
    subject: String,
    run_id: Option<Uuid>,
    recipient: Option<String>,
    text: String,
    created_at: Time,
    batch: Option<Uuid>,
    told_at: Option<Time>,
    lease_until: Option<Time>,
});

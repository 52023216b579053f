//! Every document that was made, found by what it says, what it is of and who got it.

use maple_lark_api::{DeliveryState, Format, RunState};
use sea_orm::{ConnectionTrait, FromQueryResult, Value};
use uuid::Uuid;

use crate::{Result, Store, Stored, entity::Time, offset, stored::sql_list, teams::Sight};

/// Characters of a document's text that are kept for finding it.
pub const LONGEST_TEXT: usize = 200_000;
/// So many documents are counted; of more it is said that there are more.
pub const MOST_COUNTED: i64 = 10_000;

/// Which documents are wanted; all of them where nothing is said.
#[derive(Debug, Clone, Default)]
pub struct ArchiveFilter {
    /// Words that it says; in quotes: next to each other; with a minus: not.
    pub words: Option<String>,
    /// One of these reports.
    pub reports: Option<Vec<String>>,
    /// Made from this instant on.
    pub from: Option<Time>,
    /// Made before this instant.
    pub to: Option<Time>,
    /// Its window has this instant in it.
    pub about: Option<Time>,
    /// Sent to this address, or to one that has these signs in it, as far as the reader may know.
    pub recipient: Option<String>,
    pub format: Option<Format>,
    /// How it was judged: `ok`, `warning`, `critical`.
    pub status: Option<String>,
    /// In bytes.
    pub at_least: Option<i64>,
}

/// Who looks for documents: what they see, and where their mail goes. What was sent to them is theirs
/// to find, whichever team it belongs to.
#[derive(Debug, Clone, Copy)]
pub struct Reader<'a> {
    pub sight: &'a Sight,
    /// The address alone, without a name.
    pub address: Option<&'a str>,
}

impl<'a> From<&'a Sight> for Reader<'a> {
    fn from(sight: &'a Sight) -> Self {
        Self {
            sight,
            address: None,
        }
    }
}

impl Reader<'_> {
    fn address(&self) -> Value {
        self.address.map(str::to_lowercase).into()
    }
}

/// What documents are sorted by.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum ArchiveOrder {
    #[default]
    Newest,
    Oldest,
    Largest,
    Report,
}

impl ArchiveOrder {
    fn sql(self) -> &'static str {
        match self {
            Self::Newest => "d.created_at desc, d.id desc",
            Self::Oldest => "d.created_at, d.id",
            Self::Largest => "d.size desc, d.id desc",
            Self::Report => "r.title, d.created_at desc, d.id desc",
        }
    }
}

/// A document that was found.
#[derive(Debug, Clone, FromQueryResult)]
pub struct Found {
    pub id: Uuid,
    pub run_id: Uuid,
    pub snapshot_id: Uuid,
    pub format: Stored<Format>,
    pub file_name: String,
    pub variant: String,
    pub media_type: String,
    pub sha256: String,
    pub size: i64,
    pub removed_at: Option<Time>,
    pub created_at: Time,
    pub report: String,
    pub title: String,
    pub team: String,
    pub window_from: Time,
    pub window_to: Time,
    pub time_zone: String,
    pub within: Option<serde_json::Value>,
    pub state: Stored<RunState>,
    pub status: Option<String>,
    /// So many mails with it were accepted, as far as the reader may know of them.
    pub sent: i64,
    /// Where the words stand in it, with `⟦` before and `⟧` behind each.
    pub found: Option<String>,
}

/// A page of documents. Of more than ten thousand it is only known that there are more.
#[derive(Debug, Clone)]
pub struct FoundPage {
    pub items: Vec<Found>,
    pub total: u64,
    pub more: bool,
}

const WANTED: &str = "from documents d join runs r on r.id = d.run_id join snapshots s on s.id = d.snapshot_id \
     left join document_texts t on t.snapshot_id = d.snapshot_id \
     where ($1::text[] is null or r.team = any($1) or (d.snapshot_id, d.variant) in (select v.snapshot_id, v.variant from deliveries v \
         where v.channel = 'mail' and v.state in ({accepted}) and address_of(v.recipient) = $12)) \
     and ($2::text is null or t.words @@ websearch_to_tsquery('simple', $2)) \
     and ($3::text[] is null or r.report = any($3)) \
     and ($4::timestamptz is null or d.created_at >= $4) and ($5::timestamptz is null or d.created_at < $5) \
     and ($6::timestamptz is null or (r.window_from <= $6 and r.window_to > $6)) \
     and ($7::text is null or d.format = $7) and ($8::text is null or s.status = $8) and ($9::bigint is null or d.size >= $9) \
     and ($11::jsonb is null or within_bounds(s.chosen, $11)) \
     and ($10::text is null or exists (select from deliveries v where v.snapshot_id = d.snapshot_id and v.variant = d.variant \
         and {told} and address_of(v.recipient) like $10))";

/// Mails that went out and that the reader may know of: those of runs that they see as a whole, and
/// their own. Who was sent a document does not learn who else was.
const TOLD: &str = "v.channel = 'mail' and v.state in ({accepted}) \
     and (($11::jsonb is null and ($1::text[] is null or r.team = any($1))) or address_of(v.recipient) = $12)";

/// The states of mails that went out, be it that they came back.
fn sent_states() -> String {
    sql_list([DeliveryState::Accepted, DeliveryState::Bounced])
}

fn wanted() -> String {
    WANTED
        .replace("{told}", TOLD)
        .replace("{accepted}", &sent_states())
}

impl ArchiveFilter {
    fn values(&self, reader: Reader<'_>) -> Vec<Value> {
        let address = |text: &String| {
            let text = text.trim().to_lowercase();
            let escaped = text
                .replace('\\', "\\\\")
                .replace('%', "\\%")
                .replace('_', "\\_");
            // A whole address is one; the rest is a part of some.
            if escaped.contains('@') && !escaped.starts_with('@') {
                escaped
            } else {
                format!("%{escaped}%")
            }
        };
        vec![
            reader.sight.value(),
            self.words.clone().into(),
            self.reports.clone().into(),
            self.from.into(),
            self.to.into(),
            self.about.into(),
            self.format.map(|one| one.name().to_owned()).into(),
            self.status.clone().into(),
            self.at_least.into(),
            self.recipient.as_ref().map(address).into(),
            reader.sight.bounds(),
            reader.address(),
        ]
    }
}

/// A snapshot whose documents cannot be found by their words yet.
#[derive(Debug, Clone, Copy, PartialEq, Eq, FromQueryResult)]
pub struct Unread {
    pub id: Uuid,
    /// Whether there are documents of it.
    pub has_documents: bool,
}

impl Store {
    /// A page of the documents that are wanted and that somebody sees, or that were sent to them.
    pub async fn archive<'a>(
        &self,
        filter: &ArchiveFilter,
        reader: impl Into<Reader<'a>>,
        order: ArchiveOrder,
        page: u64,
        size: u64,
    ) -> Result<FoundPage> {
        let reader = reader.into();
        let counted = format!(
            "select count(*) as total from (select 1 {} limit {}) counted",
            wanted(),
            MOST_COUNTED + 1
        );
        let counted = Self::sql(&counted, filter.values(reader));
        let total: i64 = match self.db.query_one_raw(counted).await? {
            Some(row) => row.try_get("", "total")?,
            None => 0,
        };
        let ordered = order.sql();
        let text = format!(
            "select page.*, (select count(*) from runs r join deliveries v on v.run_id = r.id where r.id = page.run_id and v.snapshot_id = page.snapshot_id and v.variant = page.variant and {told}) as sent, \
               case when $2::text is null then null else (select ts_headline('simple', t.text, websearch_to_tsquery('simple', $2), 'StartSel=⟦, StopSel=⟧, MaxWords=24, MinWords=8, MaxFragments=2, FragmentDelimiter= … ') \
                 from document_texts t where t.snapshot_id = page.snapshot_id) end as found \
             from (select row_number() over (order by {ordered}) as place, d.id, d.run_id, d.snapshot_id, d.format, d.file_name, d.variant, d.media_type, d.sha256, d.size, d.removed_at, d.created_at, \
               r.report, r.title, r.team, r.window_from, r.window_to, r.time_zone, r.within, r.state, s.status {wanted} order by {ordered} limit $13 offset $14) page order by page.place",
            told = TOLD.replace("{accepted}", &sent_states()),
            wanted = wanted(),
        );
        let mut values = filter.values(reader);
        values.extend([(size as i64).into(), offset(page, size).into()]);
        let asked = Self::sql(&text, values);
        Ok(FoundPage {
            items: Found::find_by_statement(asked).all(&self.db).await?,
            total: u64::try_from(total.min(MOST_COUNTED)).unwrap_or_default(),
            more: total > MOST_COUNTED,
        })
    }

    /// Whether a mail with a snapshot was accepted for somebody. What they may not see of values is
    /// theirs by no mail.
    pub async fn was_sent_to(&self, snapshot: Uuid, reader: Reader<'_>) -> Result<bool> {
        let asked = Self::sql(
            &format!(
                "select exists (select from deliveries v join snapshots s on s.id = v.snapshot_id \
                 where s.id = $1 and ($2::jsonb is null or within_bounds(s.chosen, $2)) \
                 and v.channel = 'mail' and v.state in ({}) and address_of(v.recipient) = $3) as sent",
                sent_states()
            ),
            [snapshot.into(), reader.sight.bounds(), reader.address()],
        );
        let found = self.db.query_one_raw(asked).await?;
        Ok(found.is_some_and(|row| row.try_get("", "sent").unwrap_or(false)))
    }

    /// Some snapshots whose documents cannot be found by their words yet: of runs that are done with
    /// making them, the oldest first.
    pub async fn unread_snapshots(&self, most: u64) -> Result<Vec<Unread>> {
        let work = sql_list(RunState::which(RunState::is_work));
        let asked = Self::sql(
            &format!(
                "select s.id, exists (select from documents d where d.snapshot_id = s.id) as has_documents \
                 from snapshots s join runs r on r.id = s.run_id where not s.searchable and r.state not in ({work}) order by s.created_at limit $1"
            ),
            [(most as i64).into()],
        );
        Ok(Unread::find_by_statement(asked).all(&self.db).await?)
    }

    /// Keeps what the documents of a snapshot say; nothing if they say nothing that can be read.
    pub async fn keep_text(&self, snapshot: Uuid, text: Option<&str>) -> Result<()> {
        // What cannot be a part of a text in the database is none of a word.
        let text = text.map(|text| {
            let readable = text.chars().filter(|c| *c != '\0');
            readable.take(LONGEST_TEXT).collect::<String>()
        });
        let statement = Self::sql(
            "with kept as (insert into document_texts (snapshot_id, text) select $1, $2 where $2::text is not null \
                on conflict (snapshot_id) do update set text = excluded.text) \
             update snapshots set searchable = true where id = $1",
            [snapshot.into(), text.into()],
        );
        self.db.execute_raw(statement).await?;
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use maple_lark_api::Words;

    use super::*;

    #[test]
    fn every_state_that_is_named_in_the_statements_is_one() {
        assert!(!wanted().contains('{'), "{}", wanted());
        assert!(wanted().contains(&format!("'{}'", DeliveryState::Accepted.word())));
    }
}

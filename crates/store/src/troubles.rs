//! What is wrong, since when, and who was told of it.

use serde::{Deserialize, Serialize};

use crate::database::{Row, values};
use crate::error::StoreError;
use crate::store::Store;
use crate::writer::Writer;

/// What sort of thing is wrong.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum TroubleKind {
    /// An account's server, or a feed's, does not answer, or answers with a failure of its own.
    ServerDown,
    /// A server refuses the user or the password.
    SignInRefused,
    /// A calendar may not be read, or not be written, any more.
    RightsLost,
    /// A calendar is not there, or is none.
    CalendarUnreadable,
    /// The configuration cannot be used; the one before goes on.
    ConfigurationBroken,
    /// A route waits for its first yes.
    NeverRun,
    /// Something waits for a person.
    Held,
    /// An account is nearly full.
    NearlyFull,
    /// A server's certificate ends soon.
    CertificateEnds,
    /// What renews an account's sign-in ends soon, by its server's word.
    TokenEnds,
    /// Nothing has changed in a feed for long.
    FeedQuiet,
    /// Most of a feed is gone.
    FeedShrunk,
    /// No run of a route went well for too long.
    RouteStale,
    /// A run of a route as a whole fails.
    RouteFails,
    /// A far side does not take single entries as they are sent.
    EntriesRefused,
}

impl TroubleKind {
    /// All of them.
    pub const ALL: [Self; 15] = [
        Self::ServerDown,
        Self::SignInRefused,
        Self::RightsLost,
        Self::CalendarUnreadable,
        Self::ConfigurationBroken,
        Self::NeverRun,
        Self::Held,
        Self::NearlyFull,
        Self::CertificateEnds,
        Self::TokenEnds,
        Self::FeedQuiet,
        Self::FeedShrunk,
        Self::RouteStale,
        Self::RouteFails,
        Self::EntriesRefused,
    ];

    /// Returns its name, for programs and for the state.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Self::ServerDown => "server-down",
            Self::SignInRefused => "sign-in-refused",
            Self::RightsLost => "rights-lost",
            Self::CalendarUnreadable => "calendar-unreadable",
            Self::ConfigurationBroken => "configuration-broken",
            Self::NeverRun => "never-run",
            Self::Held => "held",
            Self::NearlyFull => "nearly-full",
            Self::CertificateEnds => "certificate-ends",
            Self::TokenEnds => "token-ends",
            Self::FeedQuiet => "feed-quiet",
            Self::FeedShrunk => "feed-shrunk",
            Self::RouteStale => "route-stale",
            Self::RouteFails => "route-fails",
            Self::EntriesRefused => "entries-refused",
        }
    }
}

/// A trouble, or the suspicion of one. Moments are in seconds since 1970.
#[derive(Debug, Clone, PartialEq)]
pub struct TroubleRow {
    /// Its number; 0 where it is new.
    pub id: i64,
    /// What is wrong.
    pub kind: TroubleKind,
    /// The account, calendar or route that it is about.
    pub about: String,
    /// When it was first seen; where it is about to end, since when it has been right.
    pub since: i64,
    /// When it began; `None`: it is only suspected.
    pub began: Option<i64>,
    /// When it ended.
    pub ended: Option<i64>,
    /// How often it was seen.
    pub bad: u32,
    /// How often it was not seen since.
    pub good: u32,
    /// It had ended, and began again within half an hour.
    pub came_back: bool,
    /// When somebody was last told.
    pub told: Option<i64>,
    /// What is known of it, as whoever saw it serialises it.
    pub facts: serde_json::Value,
}

/// What is told of a trouble.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum NoticeEvent {
    /// It began.
    Begin,
    /// It goes on.
    Reminder,
    /// It is over.
    End,
}

impl NoticeEvent {
    /// Returns its name.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Self::Begin => "begin",
            Self::Reminder => "reminder",
            Self::End => "end",
        }
    }
}

/// Something that is to be told, and was not yet.
#[derive(Debug, Clone, PartialEq)]
pub struct Notice {
    /// Its number.
    pub id: i64,
    /// The trouble's number.
    pub trouble: i64,
    /// What is told.
    pub event: NoticeEvent,
    /// Since when it is to be told, in seconds since 1970.
    pub at: i64,
    /// How often it was tried.
    pub attempt: u32,
    /// When it is to be tried next, in seconds since 1970.
    pub next: i64,
    /// It was tried for so long that it is tried no more.
    pub is_given_up: bool,
    /// What went wrong, in the system's words.
    pub problem: String,
    /// The trouble, as it was then.
    pub facts: serde_json::Value,
}

const TROUBLE: &str = "id, kind, about, since, began, ended, bad, good, came_back, told, facts";

type Result<T> = std::result::Result<T, StoreError>;

impl Store {
    /// Returns the troubles that last, those that are only suspected, and those that ended after a moment, in the order
    /// in which they were seen first.
    ///
    /// # Errors
    /// The state cannot be read.
    pub fn open_troubles(&self, ended_after: i64) -> Result<Vec<TroubleRow>> {
        let sql = format!("SELECT {TROUBLE} FROM trouble WHERE ended IS NULL OR ended > ? ORDER BY id");
        let rows = self.database.rows(&sql, values![ended_after], trouble)?;
        // Of a kind that only another version knows nothing can be said.
        Ok(rows.into_iter().flatten().collect())
    }

    /// Returns what is to be told and was not yet, or could not be, in its order.
    ///
    /// # Errors
    /// The state cannot be read.
    pub fn notices(&self) -> Result<Vec<Notice>> {
        let sql = "SELECT id, trouble, event, at, attempt, next, outcome, problem, facts FROM notice
             WHERE outcome <> 1 ORDER BY id";
        self.database.rows(sql, &[], |row| {
            let facts: String = row.get(8)?;
            Ok(Notice {
                id: row.get(0)?,
                trouble: row.get(1)?,
                event: match row.get::<String>(2)?.as_str() {
                    "begin" => NoticeEvent::Begin,
                    "end" => NoticeEvent::End,
                    _ => NoticeEvent::Reminder,
                },
                at: row.get(3)?,
                attempt: row.get(4)?,
                next: row.get(5)?,
                is_given_up: row.get::<i64>(6)? == 2,
                problem: row.get(7)?,
                facts: serde_json::from_str(&facts).unwrap_or_default(),
            })
        })
    }

    /// Returns the accounts that rest, and until when, in seconds since 1970; `None`: until somebody lets them go on.
    ///
    /// # Errors
    /// The state cannot be read.
    pub fn paused_accounts(&self) -> Result<Vec<(String, Option<i64>)>> {
        self.database.rows("SELECT account, until FROM account_pause ORDER BY account", &[], |row| {
            Ok((row.get(0)?, row.get(1)?))
        })
    }
}

impl Writer<'_> {
    /// Writes a trouble, and returns its number.
    ///
    /// # Errors
    /// The state cannot be written.
    pub fn put_trouble(&self, row: &TroubleRow) -> Result<i64> {
        let facts = row.facts.to_string();
        let kind = row.kind.word();
        let values = values![
            kind,
            row.about,
            row.since,
            row.began,
            row.ended,
            row.bad,
            row.good,
            row.came_back,
            row.told,
            facts,
            row.id,
        ];
        match row.id {
            0 => self.database.insert(
                "INSERT INTO trouble (kind, about, since, began, ended, bad, good, came_back, told, facts)
                 VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
                &values[..values.len() - 1],
            ),
            id => {
                let sql = "UPDATE trouble SET kind = ?, about = ?, since = ?, began = ?, ended = ?, bad = ?,
                     good = ?, came_back = ?, told = ?, facts = ? WHERE id = ?";
                self.run(sql, values)?;
                Ok(id)
            }
        }
    }

    /// Forgets a suspicion.
    ///
    /// # Errors
    /// The state cannot be written.
    pub fn forget_trouble(&self, id: i64) -> Result<()> {
        self.run("DELETE FROM trouble WHERE id = ?", values![id])
    }

    /// Notes that something is to be told.
    ///
    /// # Errors
    /// The state cannot be written.
    pub fn add_notice(
        &self,
        trouble: i64,
        event: NoticeEvent,
        at: i64,
        facts: &serde_json::Value,
    ) -> Result<()> {
        let sql = "INSERT INTO notice (trouble, event, at, facts, next) VALUES (?, ?, ?, ?, ?)";
        self.database.insert(sql, values![trouble, event.word(), at, facts.to_string(), at]).map(drop)
    }

    /// Notes that a notice is about to be told: what is cut off now is told once more. Returns the number of the
    /// attempt; `None` where another process has told it, or is about to, meanwhile.
    ///
    /// # Errors
    /// The state cannot be written.
    pub fn begin_notice(&self, notice: &Notice, next: i64) -> Result<Option<u32>> {
        let sql =
            "UPDATE notice SET attempt = attempt + 1, next = ? WHERE id = ? AND outcome = 0 AND attempt = ?
             RETURNING attempt";
        self.database.one(sql, values![next, notice.id, notice.attempt], |row| row.get(0))
    }

    /// Notes what came of telling: `None` where it was told; else what went wrong, and when to try again, `None`
    /// where it is given up.
    ///
    /// # Errors
    /// The state cannot be written.
    pub fn end_notice(&self, id: i64, failed: Option<(&str, Option<i64>)>) -> Result<()> {
        let (outcome, problem, next) = match failed {
            None => (1, "", None),
            Some((problem, next @ Some(_))) => (0, problem, next),
            Some((problem, None)) => (2, problem, None),
        };
        let sql = "UPDATE notice SET outcome = ?, problem = ?, next = coalesce(?, next) WHERE id = ?";
        self.run(sql, values![outcome, problem, next, id])
    }

    /// Forgets troubles that ended before a moment, and what was told of them.
    ///
    /// # Errors
    /// The state cannot be written.
    pub fn prune_troubles(&self, ended_before: i64) -> Result<()> {
        self.run("DELETE FROM trouble WHERE ended < ?", values![ended_before])
    }

    /// Lets an account rest until a moment, in seconds since 1970, or until it is let go on (`Some(None)`); `None` lets
    /// it go on.
    ///
    /// # Errors
    /// The state cannot be written.
    pub fn pause_account(&self, account: &str, until: Option<Option<i64>>) -> Result<()> {
        match until {
            Some(until) => self.run(
                "INSERT INTO account_pause VALUES (?, ?) ON CONFLICT (account) DO UPDATE SET until = excluded.until",
                values![account, until],
            ),
            None => self.run("DELETE FROM account_pause WHERE account = ?", values![account]),
        }
    }
}

fn trouble(row: &dyn Row) -> Result<Option<TroubleRow>> {
    let word: String = row.get(1)?;
    let Some(kind) = TroubleKind::ALL.into_iter().find(|kind| kind.word() == word) else { return Ok(None) };
    let facts: String = row.get(10)?;
    Ok(Some(TroubleRow {
        id: row.get(0)?,
        kind,
        about: row.get(2)?,
        since: row.get(3)?,
        began: row.get(4)?,
        ended: row.get(5)?,
        bad: row.get(6)?,
        good: row.get(7)?,
        came_back: row.get(8)?,
        told: row.get(9)?,
        facts: serde_json::from_str(&facts).unwrap_or_default(),
    }))
}

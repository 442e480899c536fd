//! PostgreSQL: one state for several machines. Who writes takes turns with all others that write, as in a file: nothing
//! has to be repeated because two met.

mod many;
mod session;
mod statement;
mod translate;

use std::cell::RefCell;
use std::collections::HashMap;
use std::rc::Rc;
use std::sync::mpsc::sync_channel;
use std::sync::{Arc, PoisonError};
use std::time::Duration;

use tokio::sync::mpsc::{UnboundedSender, unbounded_channel};
use tokio_postgres::Config;
use tokio_postgres::config::{Host, SslMode};
use tokio_postgres::types::{FromSql, Type};

use self::many::{Ahead, Waiting};
use self::session::{Ask, Kept, LONG, NOW, PATIENCE, Reply, Session, serve};
use self::statement::{Answer, Owned, Statement};
use self::translate::{numbered, translated};
use super::Often;
use super::value::{Cell, Row, Value};
use crate::error::StoreError;
use crate::presence::{HOLDERS, present_holder};

type Result<T> = std::result::Result<T, StoreError>;

/// One step per format; a step is never changed once it has shipped.
const STEPS: &[&str] =
    &[include_str!("schema.sql"), include_str!("schema_2.sql"), include_str!("schema_3.sql")];
/// What the state says of its own format.
const FORMAT: &str = "format";
/// Rows of these tables are added by the hundreds: their numbers are fetched so many at once.
const MANY: [&str; 4] = ["body", "object", "link", "change"];
const AT_ONCE: usize = 256;
/// So much waits for a statement that has an answer: rows, and bytes.
const WAITING: [usize; 2] = [4000, 2 << 20];

/// Where a state in PostgreSQL is, and how it is reached.
#[derive(Debug, Clone)]
pub struct PostgresPlace {
    /// `postgres://user@host/database`.
    pub url: String,
    /// The password, where one is needed.
    pub password: Option<String>,
    /// The only authorities that may vouch for the server, in PEM; `None`: those of the system.
    pub authorities: Option<Vec<u8>>,
    /// After how many seconds without a word of its holder a lease may be taken by another.
    pub lease: u32,
}

pub(crate) struct Postgres {
    asks: UnboundedSender<Ask>,
    transaction: RefCell<Transaction>,
    /// What was asked ahead: of whoever asks within another's work, only that one's own counts.
    ahead: RefCell<Vec<Ahead>>,
    numbers: RefCell<HashMap<String, Numbers>>,
    translated: RefCell<HashMap<String, String>>,
    kept: Kept,
    lasts: i64,
}

fn newer(url: &str, found: usize) -> StoreError {
    StoreError::Newer { place: url.to_owned(), found: found as i64, known: STEPS.len() as i64 }
}

/// Numbers that were fetched and not given yet.
#[derive(Default)]
struct Numbers {
    free: Vec<i64>,
    fetched: usize,
}

#[derive(Default)]
struct Transaction {
    is_open: bool,
    has_begun: bool,
    waiting: Waiting,
}

impl std::fmt::Debug for Postgres {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("Postgres").finish_non_exhaustive()
    }
}

impl Postgres {
    /// Connects, makes the tables where there are none, and brings them to the present format.
    pub(crate) fn open(place: &PostgresPlace) -> Result<Self> {
        let open_error = |problem: String| StoreError::Open { place: place.url.clone(), problem };
        let config = config(place).map_err(|e| open_error(e.to_string()))?;
        let tls = tls(place, &config).map_err(|e| open_error(e.to_string()))?;
        let kept = Kept::default();
        let lasts = i64::from(place.lease);
        let session = Session { config, tls, kept: Arc::clone(&kept), lasts };
        let (asks, asked) = unbounded_channel();
        std::thread::Builder::new()
            .name("state".to_owned())
            .spawn(move || serve(session, asked))
            .map_err(|e| open_error(e.to_string()))?;
        let postgres = Self {
            asks,
            transaction: RefCell::default(),
            ahead: RefCell::default(),
            numbers: RefCell::default(),
            translated: RefCell::default(),
            kept,
            lasts,
        };
        postgres.migrate(&place.url).map_err(|error| match error {
            StoreError::Away(problem) | StoreError::Database(problem) => open_error(problem),
            other => other,
        })?;
        Ok(postgres)
    }

    fn migrate(&self, url: &str) -> Result<()> {
        if self.format()? == Some(STEPS.len()) {
            return Ok(());
        }
        // Another process may be about to do the same: whoever comes second finds it done.
        self.transaction(|| {
            let has_schema = "SELECT 1 WHERE to_regnamespace('chestnut') IS NOT NULL";
            if self.ask_one(has_schema, &[])?.rows.is_empty() {
                self.batch("CREATE SCHEMA chestnut")?;
            }
            let before = self.format()?.unwrap_or(0);
            if before > STEPS.len() {
                return Err(newer(url, before));
            }
            if (1..STEPS.len()).contains(&before) {
                self.check_nobody_works(url)?;
                self.keep_format(before)?;
            }
            for step in &STEPS[before..] {
                self.batch(step)?;
            }
            self.run(
                "INSERT INTO meta VALUES (?, ?) ON CONFLICT (name) DO UPDATE SET value = excluded.value",
                &[Value::Text(FORMAT), Value::Text(&STEPS.len().to_string())],
            )
        })
    }

    fn check_nobody_works(&self, url: &str) -> Result<()> {
        let now = self.now()?;
        for row in &self.ask_one(HOLDERS, &[])?.rows {
            let row: &dyn Row = row;
            if let Some(holder) = present_holder((row.get(0)?, row.get(1)?, row.get(2)?), now, true) {
                return Err(StoreError::AtWork { place: url.to_owned(), holder });
            }
        }
        Ok(())
    }

    pub(crate) fn check_format(&self, url: &str) -> Result<()> {
        match self.written_format()? {
            Some(found) if found > STEPS.len() => Err(newer(url, found)),
            _ => Ok(()),
        }
    }

    /// What a step does cannot be undone: the tables stay, as they were, in a schema of their own.
    fn keep_format(&self, format: usize) -> Result<()> {
        let kept = format!("chestnut_format_{format}");
        self.batch(&format!("CREATE SCHEMA IF NOT EXISTS {kept}"))?;
        let names = "SELECT CAST(tablename AS TEXT)::bytea FROM pg_tables WHERE schemaname = 'chestnut'";
        for row in &self.ask_one(names, &[])?.rows {
            let name: String = (row as &dyn Row).get(0)?;
            self.batch(&format!("CREATE TABLE IF NOT EXISTS {kept}.{name} AS TABLE chestnut.{name}"))?;
        }
        Ok(())
    }

    /// The format of what is there; `None` where there is nothing.
    fn format(&self) -> Result<Option<usize>> {
        let has_table = "SELECT 1 WHERE to_regclass('chestnut.meta') IS NOT NULL";
        if self.ask_one(has_table, &[])?.rows.is_empty() {
            return Ok(None);
        }
        self.written_format()
    }

    fn written_format(&self) -> Result<Option<usize>> {
        let answer = self.ask_one("SELECT value FROM meta WHERE name = ?", &[Value::Text(FORMAT)])?;
        let Some(row) = answer.rows.first() else { return Ok(None) };
        let text: String = (row as &dyn Row).get(0)?;
        Ok(text.parse().ok())
    }

    fn ask(&self, ask: impl FnOnce(Reply) -> Ask) -> Result<Vec<Answer>> {
        let ended = || StoreError::Away("the connection's thread has ended".to_owned());
        let (reply, answer) = sync_channel(1);
        self.asks.send(ask(reply)).map_err(|_| ended())?;
        answer.recv().map_err(|_| ended())?
    }

    fn statement(&self, sql: &str, values: &[Value<'_>]) -> Statement {
        let known = self.translated.borrow().get(sql).cloned();
        let translated = known.unwrap_or_else(|| {
            let translated = translated(sql);
            self.translated.borrow_mut().insert(sql.to_owned(), translated.clone());
            translated
        });
        Statement { sql: translated, rows: vec![values.iter().map(owned).collect()], is_asked: false }
    }

    /// Runs what waits, and then statements that have answers, which come in their order.
    fn ask_for(&self, last: Vec<Statement>) -> Result<Vec<Answer>> {
        let mut transaction = self.transaction.borrow_mut();
        if !transaction.is_open {
            drop(transaction);
            return self.ask(|reply| Ask::Run { statements: last, reply });
        }
        let mut statements = transaction.waiting.take();
        let waited = statements.len();
        statements.extend(last);
        let begins = !std::mem::replace(&mut transaction.has_begun, true);
        drop(transaction);
        let answers = self.ask(|reply| match begins {
            true => Ask::Begin { statements, reply },
            false => Ask::Run { statements, reply },
        })?;
        Ok(answers.into_iter().skip(waited).collect())
    }

    fn ask_one(&self, sql: &str, values: &[Value<'_>]) -> Result<Answer> {
        let answers = self.ask_for(vec![self.statement(sql, values)])?;
        Ok(answers.into_iter().next_back().unwrap_or_default())
    }

    /// Several statements without values, within a transaction that has begun.
    fn batch(&self, sql: &str) -> Result<()> {
        self.ask(|reply| Ask::Batch { sql: sql.to_owned(), reply }).map(drop)
    }

    pub(crate) fn each(
        &self,
        sql: &str,
        values: &[Value<'_>],
        each: &mut dyn FnMut(&dyn Row) -> Result<bool>,
    ) -> Result<()> {
        let rows = match self.known_ahead(sql, values) {
            Some(rows) => rows,
            None => self.ask_one(sql, values)?.rows.into(),
        };
        for row in rows.iter() {
            if !each(row)? {
                break;
            }
        }
        Ok(())
    }

    /// The answer that was asked for ahead; none, where questions are only collected.
    fn known_ahead(&self, sql: &str, values: &[Value<'_>]) -> Option<Rc<[tokio_postgres::Row]>> {
        let mut aheads = self.ahead.borrow_mut();
        let ahead = aheads.last_mut()?;
        let statement = self.statement(sql, values);
        let known = ahead.answer(&statement.sql, &statement.rows[0]);
        if known.is_none() && ahead.collects {
            ahead.note(statement);
            return Some(Rc::new([]));
        }
        known
    }

    pub(crate) fn begin_ahead(&self) {
        self.ahead.borrow_mut().push(Ahead::default());
    }

    /// Asks at once what `questions` asks one by one.
    pub(crate) fn ask_ahead(&self, questions: impl FnOnce() -> Result<()>) -> Result<()> {
        let collect = |collects| self.ahead.borrow_mut().last_mut().map(|ahead| ahead.collects = collects);
        collect(true);
        let collected = questions();
        collect(false);
        collected?;
        let noted = self.ahead.borrow_mut().last_mut().map(Ahead::take_noted).unwrap_or_default();
        if noted.is_empty() {
            return Ok(());
        }
        let answers = self.ask_for(noted.clone())?;
        if let Some(ahead) = self.ahead.borrow_mut().last_mut() {
            noted.into_iter().zip(answers).for_each(|(asked, answer)| ahead.keep(asked, answer));
        }
        Ok(())
    }

    /// What was asked for ahead last is not known any more.
    pub(crate) fn end_ahead(&self) {
        self.ahead.borrow_mut().pop();
    }

    pub(crate) fn changed(&self, sql: &str, values: &[Value<'_>]) -> Result<usize> {
        Ok(usize::try_from(self.ask_one(sql, values)?.changed).unwrap_or(usize::MAX))
    }

    pub(crate) fn run(&self, sql: &str, values: &[Value<'_>]) -> Result<()> {
        self.later(self.statement(sql, values), None)
    }

    /// Runs a statement, together with others of its kind, about something that has a number; for a part of it.
    pub(crate) fn run_often(
        &self,
        often: Often,
        (about, part): (i64, usize),
        sql: &str,
        values: &[Value<'_>],
    ) -> Result<()> {
        self.later(self.statement(sql, values), Some((often, about, part)))
    }

    fn later(&self, statement: Statement, often: Option<(Often, i64, usize)>) -> Result<()> {
        let mut transaction = self.transaction.borrow_mut();
        if !transaction.is_open {
            drop(transaction);
            return self.ask_for(vec![statement]).map(drop);
        }
        match often {
            Some((often, about, part)) => transaction.waiting.push_often(often, about, part, statement),
            None => transaction.waiting.push(statement),
        }
        let is_much = transaction.waiting.size().iter().zip(WAITING).any(|(size, most)| *size >= most);
        drop(transaction);
        if is_much { self.ask_for(Vec::new()).map(drop) } else { Ok(()) }
    }

    pub(crate) fn insert(&self, often: Option<Often>, sql: &str, values: &[Value<'_>]) -> Result<i64> {
        let (table, sql) = numbered(sql);
        let id = self.number(table)?;
        let mut statement = self.statement(&sql, values);
        statement.rows[0].push(Owned::Number(id));
        self.later(statement, often.map(|often| (often, id, 0)))?;
        Ok(id)
    }

    /// The next number of a table.
    fn number(&self, table: &str) -> Result<i64> {
        let mut all = self.numbers.borrow_mut();
        let numbers = all.entry(table.to_owned()).or_default();
        if let Some(number) = numbers.free.pop() {
            return Ok(number);
        }
        // Few at first: most runs add next to nothing.
        numbers.fetched = if MANY.contains(&table) { (numbers.fetched * 4).clamp(4, AT_ONCE) } else { 1 };
        let sql = format!("SELECT nextval('{table}_id') FROM generate_series(1, {})", numbers.fetched);
        let answer = self.ask_one(&sql, &[])?;
        for row in answer.rows.iter().rev() {
            numbers.free.push(row.get(0));
        }
        numbers.free.pop().ok_or(StoreError::Damaged)
    }

    pub(crate) fn transaction<T>(&self, work: impl FnOnce() -> Result<T>) -> Result<T> {
        *self.transaction.borrow_mut() = Transaction { is_open: true, ..Transaction::default() };
        let open = OpenTransaction(self);
        let result = work()?;
        let Transaction { has_begun, mut waiting, .. } = self.transaction.take();
        if !has_begun && waiting.is_empty() {
            return Ok(result);
        }
        // Until it is known to be kept, it is rolled back.
        self.transaction.borrow_mut().has_begun = true;
        let mut statements = waiting.take();
        if !has_begun {
            let statements = std::mem::take(&mut statements);
            self.ask(|reply| Ask::Begin { statements, reply })?;
        }
        self.ask(|reply| Ask::Commit { statements, reply })?;
        self.transaction.take();
        drop(open);
        Ok(result)
    }

    /// The transaction moves or forgets very much.
    pub(crate) fn takes_long(&self) {
        // Where the thread has ended, the next statement says so.
        drop(self.asks.send(Ask::BePatient));
        let sql = format!("SET LOCAL statement_timeout = {}", LONG.as_millis());
        self.transaction.borrow_mut().waiting.push(Statement::plain(&sql));
    }

    pub(crate) fn now(&self) -> Result<i64> {
        let answer = self.ask_one(&format!("SELECT {NOW}"), &[])?;
        answer.rows.first().map(|row| row.get(0)).ok_or(StoreError::Damaged)
    }

    pub(crate) fn lease_lasts(&self) -> i64 {
        self.lasts
    }

    pub(crate) fn keep(&self, name: &str, number: i64) {
        self.kept.lock().unwrap_or_else(PoisonError::into_inner).insert(name.to_owned(), number);
    }

    pub(crate) fn let_go(&self, name: &str) {
        self.kept.lock().unwrap_or_else(PoisonError::into_inner).remove(name);
    }
}

/// Rolls back what was begun and not committed.
struct OpenTransaction<'p>(&'p Postgres);

impl Drop for OpenTransaction<'_> {
    fn drop(&mut self) {
        if self.0.transaction.take().has_begun {
            drop(self.0.ask(|reply| Ask::Rollback { reply }));
        }
    }
}

fn owned(value: &Value<'_>) -> Owned {
    match *value {
        Value::Null => Owned::Null,
        Value::Number(number) => Owned::Number(number),
        Value::Text(text) => Owned::Bytes(text.as_bytes().to_vec()),
        Value::Bytes(bytes) => Owned::Bytes(bytes.to_vec()),
    }
}

impl<'r> FromSql<'r> for Cell<'r> {
    fn from_sql(
        ty: &Type,
        raw: &'r [u8],
    ) -> std::result::Result<Self, Box<dyn std::error::Error + Sync + Send>> {
        Ok(match *ty {
            Type::INT8 => Self::Number(i64::from_sql(ty, raw)?),
            Type::INT4 => Self::Number(i32::from_sql(ty, raw)?.into()),
            _ => Self::Bytes(raw),
        })
    }

    fn from_sql_null(_: &Type) -> std::result::Result<Self, Box<dyn std::error::Error + Sync + Send>> {
        Ok(Self::Null)
    }

    fn accepts(ty: &Type) -> bool {
        [Type::INT8, Type::INT4, Type::BYTEA].contains(ty)
    }
}

impl Row for tokio_postgres::Row {
    fn cell(&self, column: usize) -> Result<Cell<'_>> {
        self.try_get(column).map_err(|_| StoreError::Damaged)
    }
}

fn config(place: &PostgresPlace) -> std::result::Result<Config, tokio_postgres::Error> {
    let mut config: Config = place.url.parse()?;
    if let Some(password) = &place.password {
        config.password(password);
    }
    let patience = PATIENCE.as_millis();
    // All questions are answered by an index: a plan that was made while a table was empty must not read all of it later,
    // nor hold it.
    let options = format!(
        "-c search_path=chestnut -c statement_timeout={patience} -c lock_timeout={patience} \
         -c idle_in_transaction_session_timeout={patience} -c default_transaction_isolation=read\\ committed \
         -c enable_seqscan=off -c enable_hashjoin=off -c enable_mergejoin=off -c enable_material=off -c plan_cache_mode=force_generic_plan -c jit=off \
         -c client_min_messages=warning"
    );
    config
        .options(&options)
        .application_name("chestnut")
        .connect_timeout(PATIENCE)
        .tcp_user_timeout(PATIENCE)
        .keepalives_idle(PATIENCE)
        .keepalives_interval(Duration::from_secs(2))
        .keepalives_retries(3);
    config.ssl_mode(if needs_tls(&config, place) { SslMode::Require } else { SslMode::Disable });
    Ok(config)
}

/// What leaves this machine is encrypted, and the server shows who it is.
fn needs_tls(config: &Config, place: &PostgresPlace) -> bool {
    let is_here = |host: &Host| match host {
        Host::Tcp(name) => {
            name == "localhost" || name.parse::<std::net::IpAddr>().is_ok_and(|address| address.is_loopback())
        }
        #[cfg(unix)]
        Host::Unix(_) => true,
    };
    place.authorities.is_some() || !config.get_hosts().iter().all(is_here)
}

fn tls(
    place: &PostgresPlace,
    config: &Config,
) -> std::result::Result<Option<Arc<rustls::ClientConfig>>, Box<dyn std::error::Error>> {
    use rustls::pki_types::CertificateDer;
    use rustls::pki_types::pem::PemObject as _;
    use rustls_platform_verifier::BuilderVerifierExt as _;

    if !needs_tls(config, place) {
        return Ok(None);
    }
    let provider = Arc::new(rustls::crypto::ring::default_provider());
    let builder =
        rustls::ClientConfig::builder_with_provider(provider).with_safe_default_protocol_versions()?;
    let config = match &place.authorities {
        Some(pem) => {
            let mut roots = rustls::RootCertStore::empty();
            for certificate in CertificateDer::pem_slice_iter(pem) {
                roots.add(certificate?)?;
            }
            builder.with_root_certificates(roots).with_no_client_auth()
        }
        None => builder.with_platform_verifier()?.with_no_client_auth(),
    };
    Ok(Some(Arc::new(config)))
}

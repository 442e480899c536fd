//! The connection, on a thread of its own: whoever asks may be within another runtime.

use std::collections::{BTreeMap, HashMap};
use std::sync::mpsc::SyncSender;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};

use futures_util::future::join_all;
use futures_util::{TryStreamExt as _, pin_mut};
use tokio::sync::mpsc::UnboundedReceiver;
use tokio_postgres::types::ToSql;
use tokio_postgres::{Client, Config, NoTls, SimpleQueryMessage};
use tokio_postgres_rustls::MakeRustlsConnect;

use super::many::listed;
use super::statement::{Answer, Owned, Statement};
use crate::error::StoreError;

type Result<T> = std::result::Result<T, StoreError>;

/// How long anything may take, but for what is known to take long.
pub(super) const PATIENCE: Duration = Duration::from_secs(10);
/// How long a transaction may take that moves or forgets very much.
pub(super) const LONG: Duration = Duration::from_secs(600);
/// A database that starts again is tried so often.
const LOOKS: Duration = Duration::from_millis(250);
/// So many statements are on their way at once.
const AT_ONCE: usize = 24;
/// So many bytes are held of what is asked ahead with one statement.
const AHEAD: usize = 4 << 20;
/// Under this number one at a time writes, in one database ("ChS2").
const WRITERS: i64 = 0x4368_5332;

/// The leases that this session holds, with their numbers.
pub(super) type Kept = Arc<Mutex<BTreeMap<String, i64>>>;

pub(super) type Reply = SyncSender<Result<Vec<Answer>>>;

/// What is asked for. There is an answer for each statement.
pub(super) enum Ask {
    /// Outside of a transaction, or within the one that was begun.
    Run { statements: Vec<Statement>, reply: Reply },
    /// The first of a transaction.
    Begin { statements: Vec<Statement>, reply: Reply },
    /// The transaction may take long.
    BePatient,
    /// Several statements without values.
    Batch { sql: String, reply: Reply },
    /// The last of a transaction.
    Commit { statements: Vec<Statement>, reply: Reply },
    /// Nothing of the transaction is kept.
    Rollback { reply: Reply },
}

struct Connection {
    client: Client,
    prepared: HashMap<String, tokio_postgres::Statement>,
    /// Those that are run for lists, by the statement for one.
    listed: HashMap<String, tokio_postgres::Statement>,
}

/// Where a transaction stands.
#[derive(Clone, Copy)]
enum Transaction {
    None,
    /// Its number, by which it is found again.
    Open(u64),
    Lost,
}

pub(super) struct Session {
    pub(super) config: Config,
    pub(super) tls: Option<Arc<rustls::ClientConfig>>,
    pub(super) kept: Kept,
    /// How long a lease lasts, in seconds.
    pub(super) lasts: i64,
}

struct State {
    session: Session,
    connection: Option<Connection>,
    was_connected: bool,
    transaction: Transaction,
    patience: Duration,
}

/// Answers until nobody can ask any more.
pub(super) fn serve(session: Session, mut asks: UnboundedReceiver<Ask>) {
    let Ok(runtime) = tokio::runtime::Builder::new_current_thread().enable_all().build() else { return };
    let renewal = Duration::from_secs(u64::try_from(session.lasts / 3).unwrap_or(1).max(1));
    let mut state = State {
        session,
        connection: None,
        was_connected: false,
        transaction: Transaction::None,
        patience: PATIENCE,
    };
    runtime.block_on(async {
        let mut renewed = Instant::now();
        loop {
            // Also while whoever holds a lease waits for a server.
            let until = (renewed + renewal).saturating_duration_since(Instant::now());
            match tokio::time::timeout(until, asks.recv()).await {
                Ok(Some(ask)) => state.answer(ask).await,
                Ok(None) => break,
                Err(_) => {}
            }
            if renewed.elapsed() >= renewal && matches!(state.transaction, Transaction::None) {
                state.renew().await;
                renewed = Instant::now();
            }
        }
    });
}

impl State {
    async fn answer(&mut self, ask: Ask) {
        let (answer, reply) = match ask {
            Ask::Run { statements, reply } => (self.run(&statements).await, reply),
            Ask::Begin { statements, reply } => (self.begin(statements).await, reply),
            Ask::BePatient => {
                self.patience = LONG;
                return;
            }
            Ask::Batch { sql, reply } => (self.batch(&sql).await, reply),
            Ask::Commit { statements, reply } => (self.commit(statements).await, reply),
            Ask::Rollback { reply } => (self.roll_back().await, reply),
        };
        // Whoever asked may be gone.
        drop(reply.send(answer));
    }

    /// Connects where there is no connection; a database that is being started is waited for.
    async fn connect(&mut self) -> Result<()> {
        if self.connection.as_ref().is_some_and(|connection| !connection.client.is_closed()) {
            return Ok(());
        }
        let begun = Instant::now();
        loop {
            let left = PATIENCE.saturating_sub(begun.elapsed());
            let problem = match tokio::time::timeout(left, self.session.open()).await {
                Ok(Ok(client)) => {
                    self.connection =
                        Some(Connection { client, prepared: HashMap::new(), listed: HashMap::new() });
                    self.was_connected = true;
                    return Ok(());
                }
                Ok(Err(error)) => error,
                Err(_) => StoreError::Away("no answer".to_owned()),
            };
            // One that was never reached is perhaps not there at all.
            let is_hopeless = !self.was_connected || !matches!(problem, StoreError::Away(_));
            if is_hopeless || begun.elapsed() + LOOKS >= PATIENCE {
                return Err(problem);
            }
            tokio::time::sleep(LOOKS).await;
        }
    }

    /// The connection, as long as it lasts. A transaction goes with it: the rest must not be sent on another one.
    fn open_connection(&mut self) -> Option<&mut Connection> {
        self.connection.as_mut().filter(|connection| !connection.client.is_closed())
    }

    /// Sends statements one behind the other without waiting for answers between.
    async fn send(&mut self, statements: &[Statement]) -> Result<Vec<Answer>> {
        if matches!(self.transaction, Transaction::None) {
            self.connect().await?;
        }
        let patience = self.patience + Duration::from_secs(2);
        let Some(connection) = self.open_connection() else { return Err(lost()) };
        let sent = tokio::time::timeout(patience, async {
            let mut answers = Vec::with_capacity(statements.len());
            for some in statements.chunks(AT_ONCE) {
                answers.extend(connection.pipeline(some).await?);
            }
            Ok(answers)
        });
        let result = sent.await.unwrap_or_else(|_| Err(StoreError::Away("no answer".to_owned())));
        if matches!(result, Err(StoreError::Away(_))) {
            self.connection = None;
            if let Transaction::Open(_) = self.transaction {
                self.transaction = Transaction::Lost;
            }
        }
        result
    }

    /// What was sent outside of a transaction, or at its beginning, on a connection that had ended meanwhile, has done
    /// nothing: it is sent again.
    async fn send_anew(&mut self, statements: &[Statement]) -> Result<Vec<Answer>> {
        self.connect().await?;
        match self.send(statements).await {
            Err(StoreError::Away(_)) => self.send(statements).await,
            done => done,
        }
    }

    async fn run(&mut self, statements: &[Statement]) -> Result<Vec<Answer>> {
        match self.transaction {
            Transaction::None => self.send_anew(statements).await,
            Transaction::Open(_) => self.send(statements).await,
            Transaction::Lost => Err(lost()),
        }
    }

    async fn begin(&mut self, statements: Vec<Statement>) -> Result<Vec<Answer>> {
        let mut all = vec![
            Statement::plain("BEGIN"),
            Statement::plain("SELECT CAST(CAST(pg_current_xact_id() AS TEXT) AS BIGINT)"),
            Statement::plain(&format!("SELECT pg_advisory_xact_lock({WRITERS})")),
        ];
        let kept = self.session.kept.lock().unwrap_or_else(PoisonError::into_inner).clone();
        all.extend(kept.into_iter().map(|(name, number)| {
            let values = vec![Owned::Bytes(name.into_bytes()), Owned::Number(number)];
            Statement::of("SELECT must_hold($1, $2)", values)
        }));
        let own = all.len();
        all.extend(statements);
        // Until it is known whether it was begun, it is to be rolled back.
        let answers = self.send_anew(&all).await;
        self.transaction = Transaction::Lost;
        let answers = answers?;
        let number = answers.get(1).and_then(|answer| answer.rows.first()).map(|row| row.get::<_, i64>(0));
        self.transaction = Transaction::Open(number.and_then(|number| number.try_into().ok()).unwrap_or(0));
        Ok(answers.into_iter().skip(own).collect())
    }

    async fn batch(&mut self, sql: &str) -> Result<Vec<Answer>> {
        let Some(connection) = self.open_connection() else { return Err(lost()) };
        connection.client.batch_execute(sql).await.map_err(|e| of_postgres(&e))?;
        Ok(Vec::new())
    }

    async fn commit(&mut self, mut statements: Vec<Statement>) -> Result<Vec<Answer>> {
        let Transaction::Open(number) = self.transaction else { return Err(lost()) };
        statements.push(Statement::plain("COMMIT"));
        let sent = self.send(&statements).await;
        self.patience = PATIENCE;
        match sent {
            Ok(_) => {
                self.transaction = Transaction::None;
                Ok(Vec::new())
            }
            // Perhaps it was kept, and only the answer is lost: that is not guessed.
            Err(StoreError::Away(problem)) => {
                self.transaction = Transaction::None;
                match self.was_kept(number).await {
                    Ok(true) => Ok(Vec::new()),
                    Ok(false) => Err(StoreError::Away(problem)),
                    Err(error) => Err(error),
                }
            }
            // It is rolled back by whoever asked.
            Err(error) => Err(error),
        }
    }

    /// Tells whether a transaction was kept; waits until the database knows.
    async fn was_kept(&mut self, number: u64) -> Result<bool> {
        let begun = Instant::now();
        loop {
            self.connect().await?;
            let Some(connection) = &self.connection else { return Err(lost()) };
            let sql = format!("SELECT pg_xact_status('{number}'::xid8)");
            let answer = connection.client.simple_query(&sql).await.map_err(|e| of_postgres(&e))?;
            let status = answer.iter().find_map(|message| match message {
                SimpleQueryMessage::Row(row) => row.get(0),
                _ => None,
            });
            match status {
                Some("committed") => return Ok(true),
                Some("in progress") if begun.elapsed() < 2 * PATIENCE => tokio::time::sleep(LOOKS).await,
                Some("in progress") => return Err(lost()),
                // One of which nothing is known any more is older than this.
                _ => return Ok(false),
            }
        }
    }

    async fn roll_back(&mut self) -> Result<Vec<Answer>> {
        self.transaction = Transaction::None;
        self.patience = PATIENCE;
        if self.connection.as_ref().is_none_or(|connection| connection.client.is_closed()) {
            // It went with its connection.
            return Ok(Vec::new());
        }
        if self.send(&[Statement::plain("ROLLBACK")]).await.is_err() {
            self.connection = None;
        }
        Ok(Vec::new())
    }

    /// Renews what is held. What another has taken meanwhile shows when something is written.
    async fn renew(&mut self) {
        let kept = self.session.kept.lock().unwrap_or_else(PoisonError::into_inner).clone();
        if kept.is_empty() {
            return;
        }
        let sql = format!("UPDATE lease SET until = {NOW} + $1 WHERE name = $2 AND number = $3");
        let lasts = self.session.lasts;
        let renewals: Vec<_> = kept
            .into_iter()
            .map(|(name, number)| {
                let values = [Owned::Number(lasts), Owned::Bytes(name.into_bytes()), Owned::Number(number)];
                Statement::of(&sql, values.into())
            })
            .collect();
        // What could not be renewed now is renewed next time, or lost.
        drop(self.send(&renewals).await);
    }
}

/// The database's own clock, in seconds since 1970: those of several machines differ.
pub(super) const NOW: &str = "CAST(floor(extract(epoch FROM clock_timestamp())) AS BIGINT)";

fn lost() -> StoreError {
    StoreError::Away("the connection was lost".to_owned())
}

impl Session {
    async fn open(&self) -> Result<Client> {
        let client = match &self.tls {
            Some(tls) => {
                let tls = MakeRustlsConnect::new(tls.as_ref().clone());
                let (client, connection) = self.config.connect(tls).await.map_err(|e| of_postgres(&e))?;
                tokio::spawn(connection);
                client
            }
            None => {
                let (client, connection) = self.config.connect(NoTls).await.map_err(|e| of_postgres(&e))?;
                tokio::spawn(connection);
                client
            }
        };
        Ok(client)
    }
}

impl Connection {
    async fn prepare(&mut self, statement: &Statement) -> std::result::Result<(), tokio_postgres::Error> {
        let sql = &statement.sql;
        if !self.prepared.contains_key(sql) {
            let prepared = self.client.prepare(sql).await?;
            self.prepared.insert(sql.clone(), prepared);
        }
        if statement.is_list() && !self.listed.contains_key(sql) {
            let listed = listed(sql, self.prepared[sql].params());
            self.listed.insert(sql.clone(), self.client.prepare(&listed).await?);
        }
        Ok(())
    }

    async fn pipeline(&mut self, statements: &[Statement]) -> Result<Vec<Answer>> {
        for statement in statements {
            self.prepare(statement).await.map_err(|e| of_postgres(&e))?;
        }
        let client = &self.client;
        let sent = statements.iter().map(|statement| {
            let is_list = statement.is_list();
            let prepared =
                if is_list { &self.listed[&statement.sql] } else { &self.prepared[&statement.sql] };
            let list = |at: usize| statement.rows.iter().map(|row| &row[at]).collect::<Vec<_>>();
            let values: Vec<Box<dyn ToSql + Sync + '_>> = match is_list {
                true => (0..prepared.params().len()).map(|at| Box::new(list(at)) as _).collect(),
                false => statement.rows.iter().flatten().map(|value| Box::new(value) as _).collect(),
            };
            async move {
                let rows = client.query_raw(prepared, values).await?;
                pin_mut!(rows);
                let mut answer = Answer::default();
                let mut bytes = 0;
                while let Some(row) = rows.try_next().await? {
                    bytes += row.raw_size_bytes();
                    // Whoever asks ahead asks again for what is too much at once.
                    if statement.is_asked && bytes > AHEAD {
                        let number: i64 = row.get(row.len() - 1);
                        answer.whole_before = Some(answer.whole_before.map_or(number, |n| n.min(number)));
                    } else {
                        answer.rows.push(row);
                    }
                }
                answer.changed = rows.rows_affected().unwrap_or(0);
                Ok(answer)
            }
        });
        join_all(sent).await.into_iter().collect::<std::result::Result<_, _>>().map_err(|e| of_postgres(&e))
    }
}

/// What PostgreSQL reports, as the state's errors.
pub(super) fn of_postgres(error: &tokio_postgres::Error) -> StoreError {
    let Some(reported) = error.as_db_error() else {
        let mut words = error.to_string();
        let mut cause = std::error::Error::source(error);
        while let Some(next) = cause {
            words = format!("{words}: {next}");
            cause = next.source();
        }
        return StoreError::Away(words);
    };
    let code = reported.code().code();
    match code {
        "CH001" => StoreError::Busy { name: reported.detail().unwrap_or_default().to_owned(), holder: None },
        "53100" => StoreError::Full,
        // Connections that end, or that the database has no room for: it is as good as away. So is one that was held up
        // for longer than others wait.
        "25P03" | "25P04" | "55P03" => StoreError::Away(reported.message().to_owned()),
        _ if ["08", "53", "57P"].iter().any(|class| code.starts_with(class)) => {
            StoreError::Away(reported.message().to_owned())
        }
        _ => StoreError::Database(reported.message().to_owned()),
    }
}

//! What handlers share.

use futures_util::future::BoxFuture;
use std::future::Future;

use outcrop_store::database::live::Committed;
use outcrop_store::database::readers::Readers;
use outcrop_store::{Database, StoreError};
use tokio::runtime::Handle;
use tokio::sync::broadcast;
use tokio_util::sync::CancellationToken;

use crate::Settings;
use crate::intake::Intake;
use crate::supervision::Health;

/// What every handler may use.
#[derive(Clone)]
pub(crate) struct State {
    pub settings: Settings,
    pub database: Database,
    /// Who answers what only reads.
    pub readers: Readers,
    pub intake: Intake,
    pub main: Handle,
    /// What was committed, by any instance.
    pub live: broadcast::Sender<Committed>,
    /// How writers and jobs are.
    pub health: Health,
    /// Cancelled when the service stops.
    pub stop: CancellationToken,
}

impl State {
    /// Reads the grouping rules anew after a change; where that fails, the next round of background work does it.
    pub(crate) async fn read_rules(&self) {
        let (intake, database) = (self.intake.clone(), self.database.whole());
        if let Err(error) = self.on_main(async move { intake.read_rules(&database).await }).await {
            tracing::warn!(%error, "a change of the grouping takes effect here within two seconds");
        }
    }

    /// Writes down who changed what in the set-up.
    pub(crate) async fn note_change(&self, by: &str, did: &'static str, subject: &str) -> Result<(), StoreError> {
        let (database, by, subject) = (self.database.clone(), by.to_owned(), subject.to_owned());
        self.on_main(async move { outcrop_store::people::audit::note(&database, &by, did, &subject).await })
            .await
    }

    /// Runs a query on the main runtime: a connection lives on the runtime that opened it, and HTTP
    /// workers come and go.
    pub(crate) async fn on_main<T, F>(&self, query: F) -> Result<T, StoreError>
    where
        F: Future<Output = Result<T, StoreError>> + Send + 'static,
        T: Send + 'static,
    {
        let (answer, answered) = tokio::sync::oneshot::channel();
        // Boxed: the runtime's machinery around a task is compiled once, not for each query.
        let task: BoxFuture<'static, ()> = Box::pin(async move {
            // Where nobody waits any more, the query is done nevertheless.
            drop(answer.send(query.await));
        });
        drop(self.main.spawn(task));
        answered.await.unwrap_or_else(|_| {
            tracing::error!("a query panicked: it ended without an answer");
            Err(StoreError::Away(sqlx_gone()))
        })
    }
}

fn sqlx_gone() -> outcrop_store::DriverError {
    outcrop_store::DriverError::WorkerCrashed
}

#[cfg(test)]
impl State {
    /// The state of a service on a database of its own, with its writers running and no jobs.
    pub(crate) async fn for_tests(
        change: impl FnOnce(&mut Settings),
    ) -> (Self, crate::supervision::Supervisor, crate::intake::Closing) {
        let url = outcrop_testkit::Postgres::shared().database();
        let mut settings = Settings::new(url);
        change(&mut settings);
        let database = Database::open(&settings.database_url).await.unwrap();
        let readers = Readers::new(&database, settings.read_database_url.as_deref()).unwrap();
        let stop = CancellationToken::new();
        let supervisor = crate::supervision::Supervisor::new(stop.clone());
        let (told, _) = tokio::sync::mpsc::channel(1);
        let (intake, _) = Intake::start(&database, &settings, &told, &supervisor);
        let (live, _) = broadcast::channel(1);
        let health = supervisor.health().clone();
        let closing = crate::intake::Closing(intake.line.clone());
        (
            Self {
                settings,
                database,
                readers,
                intake,
                main: Handle::current(),
                live,
                health,
                stop,
            },
            supervisor,
            closing,
        )
    }

    /// Makes a sender key and returns its secret.
    pub(crate) async fn key(&self, name: &str, bounds: outcrop_store::people::keys::Bounds) -> String {
        let secret = crate::access::Secret::random("outcrop-key");
        outcrop_store::people::keys::add(&self.database, name, &bounds, secret.digest())
            .await
            .unwrap();
        secret.expose().to_owned()
    }
}

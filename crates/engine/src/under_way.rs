//! Batches that are worked on at the same time: while one waits for its last answers, or is recorded, others are sent.

use std::pin::Pin;

use futures_util::future::{Either, select};
use futures_util::stream::{FuturesUnordered, StreamExt as _};

use crate::error::RunError;

/// So many, and no more.
const AT_ONCE: usize = 4;

type Batch<'b> = Pin<Box<dyn Future<Output = Result<(), RunError>> + 'b>>;

/// The batches that are worked on now.
#[derive(Default)]
pub(crate) struct UnderWay<'b> {
    batches: FuturesUnordered<Batch<'b>>,
}

impl<'b> UnderWay<'b> {
    /// Begins a batch once there is room for it.
    ///
    /// # Errors
    /// An earlier one failed: all others were ended, and this one was not begun.
    pub(crate) async fn begin(
        &mut self,
        batch: impl Future<Output = Result<(), RunError>> + 'b,
    ) -> Result<(), RunError> {
        while self.batches.len() >= AT_ONCE {
            self.end_one().await?;
        }
        self.batches.push(Box::pin(batch));
        self.go_on().await
    }

    /// Lets them go on as far as they can, without waiting for anything.
    async fn go_on(&mut self) -> Result<(), RunError> {
        let turn = std::pin::pin!(tokio::task::yield_now());
        match select(self.batches.next(), turn).await {
            Either::Left((ended, _)) => self.all_after(ended.unwrap_or(Ok(()))).await,
            Either::Right(_) => Ok(()),
        }
    }

    /// Waits for all of them.
    ///
    /// # Errors
    /// The first that was met.
    pub(crate) async fn end(&mut self) -> Result<(), RunError> {
        while !self.batches.is_empty() {
            self.end_one().await?;
        }
        Ok(())
    }

    async fn end_one(&mut self) -> Result<(), RunError> {
        let ended = self.batches.next().await.unwrap_or(Ok(()));
        self.all_after(ended).await
    }

    /// What the others did is recorded, too, before it is told that one failed.
    async fn all_after(&mut self, ended: Result<(), RunError>) -> Result<(), RunError> {
        if ended.is_err() {
            while self.batches.next().await.is_some() {}
        }
        ended
    }
}

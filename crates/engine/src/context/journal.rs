//! The journal: what is about to be done, before it is done, and how it ended.

use pindrel_core::judging::findings::Finding;
use pindrel_state::{Attempt, Entry, Moment};

use super::Context;
use crate::failure::EngineError;

impl Context {
    /// Writes an entry of the journal; where a step ends, with the attempt that it was.
    pub(crate) async fn journal_with(
        &self,
        moment: Moment,
        action: &str,
        subject: &str,
        detail: impl Into<String>,
        attempt: Option<&Attempt>,
    ) -> Result<(), EngineError> {
        let detail = detail.into();
        tracing::debug!(?moment, action, subject, detail, "journal");
        let (action, subject) = (action.to_owned(), subject.to_owned());
        let entry = Entry { at: self.clock.now(), moment, action, subject, detail };
        Ok(self.state.journal(&entry, attempt).await?)
    }

    pub(crate) async fn journal(
        &self,
        moment: Moment,
        action: &str,
        subject: &str,
        detail: impl Into<String>,
    ) -> Result<(), EngineError> {
        self.journal_with(moment, action, subject, detail, None).await
    }

    /// Does something between two entries of the journal: that it begins, and how it ended.
    pub(crate) async fn journalled<T>(
        &self,
        action: &str,
        subject: &str,
        detail: &str,
        work: impl Future<Output = Result<T, Finding>>,
    ) -> Result<T, Finding> {
        self.journal(Moment::Begun, action, subject, detail).await?;
        let ended = work.await;
        let written = self.journal_end(action, subject, ended.as_ref().map(|_| detail)).await;
        let done = ended?;
        written?;
        Ok(done)
    }

    /// Writes how something ended that the journal has as begun.
    pub(crate) async fn journal_end(
        &self,
        action: &str,
        subject: &str,
        ended: Result<&str, &Finding>,
    ) -> Result<(), EngineError> {
        match ended {
            Ok(detail) => self.journal(Moment::Done, action, subject, detail).await,
            Err(finding) => self.journal(Moment::Failed, action, subject, finding.says()).await,
        }
    }
}

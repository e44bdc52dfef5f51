//! Spending at authorities: checked against the manifest's limits before an order, kept
//! in the ledger, and never against an authority's own word.

use std::sync::PoisonError;

use jiff::{SignedDuration, Timestamp};
use pindrel_core::acme::problem::Problem;
use pindrel_core::budget::{LONGEST_WITHIN_SECS, Per, Spending};
use pindrel_core::desired::AuthorityId;
use pindrel_core::name::Hostname;
use pindrel_state::{Hold, OrderRow, SpendingRow};

use crate::Engine;
use crate::error::{EngineError, StepFailure};

/// How long an authority that limits without saying until when is left alone.
const USUAL_HOLD_SECS: i64 = 3600;

impl Engine {
    /// Refuses an order that would pass a limit, or that the authority wants to wait.
    /// What may be ordered is counted as spent before it is asked for.
    pub(crate) fn spend_order(&self, id: AuthorityId, row: &OrderRow, renewal: bool) -> Result<(), StepFailure> {
        let now = Timestamp::now();
        let authority = self.desired.authority(id);
        if let Some(hold) = self.state.hold(&row.authority, &row.certificate)?.filter(|hold| hold.until > now) {
            let says = format!("{} wants to hear nothing of it until {:.0}: {}", row.authority, hold.until, hold.says);
            return Err(StepFailure::new(says, format!("run settle again after {:.0}", hold.until)));
        }
        // One check at a time, or two orders could take the last place both.
        let _one = self.spending.lock().unwrap_or_else(PoisonError::into_inner);
        for limit in &authority.limits {
            for subject in limit.per.subjects(&row.names) {
                let within = SignedDuration::from_secs(i64::try_from(limit.within_secs).unwrap_or(i64::MAX));
                let since = now.checked_sub(within).unwrap_or(Timestamp::UNIX_EPOCH);
                let spent = self.state.spent(&row.authority, limit.of, limit.per, &subject, since)?;
                let Some(until) = limit.may_go_on(&spent, renewal, now) else { continue };
                let of = if subject.is_empty() { String::new() } else { format!(" ({subject})") };
                let kept = match (renewal, limit.reserve) {
                    (true, _) | (_, 0) => String::new(),
                    (false, reserve) => format!("; {reserve} of them are kept for renewals"),
                };
                let says = format!(
                    "[authority.{}] allows {limit}{of}, and {} are spent{kept}: Pindrel stops before the limit",
                    authority.name,
                    spent.len()
                );
                return Err(StepFailure::new(says, format!("it may go on at {until:.0}: run settle again then")));
            }
        }
        self.state.spend(&spendings(row, &row.names, Spending::Order, now))?;
        Ok(self.state.spend(&spendings(row, &row.names, Spending::Certificate, now))?)
    }

    /// Notes that an order came to nothing: no certificate was spent.
    pub(crate) fn take_back_certificate(&self, row: &OrderRow) -> Result<(), EngineError> {
        Ok(self.state.unspend(row.id, Spending::Certificate)?)
    }

    /// Notes that the authority validated names in vain.
    pub(crate) fn spend_failures(&self, row: &OrderRow, failed: &[String]) -> Result<(), EngineError> {
        let names: Vec<Hostname> = failed.iter().filter_map(|name| name.parse().ok()).collect();
        Ok(self.state.spend(&spendings(row, &names, Spending::FailedValidation, Timestamp::now()))?)
    }

    /// Notes that the authority wants to be left alone: its word counts more than any
    /// limit of the manifest.
    pub(crate) fn respect(&self, row: &OrderRow, problem: &Problem) -> Result<(), EngineError> {
        if !problem.is_rate_limited() {
            return Ok(());
        }
        let usual = || Timestamp::now().checked_add(SignedDuration::from_secs(USUAL_HOLD_SECS));
        let until = problem.retry_at.or_else(|| usual().ok()).unwrap_or(Timestamp::UNIX_EPOCH);
        let hold = Hold { until, says: problem.detail.clone() };
        Ok(self.state.keep_hold(&row.authority, &row.certificate, &hold)?)
    }

    /// Forgets what is too old for any limit.
    pub(crate) fn forget_old_spendings(&self) -> Result<(), EngineError> {
        let longest = SignedDuration::from_secs(i64::try_from(LONGEST_WITHIN_SECS).unwrap_or(i64::MAX));
        let before = Timestamp::now().checked_sub(longest).unwrap_or(Timestamp::UNIX_EPOCH);
        Ok(self.state.forget_spent(before)?)
    }
}

fn spendings(row: &OrderRow, names: &[Hostname], of: Spending, at: Timestamp) -> Vec<SpendingRow> {
    let authority = &row.authority;
    let each = Per::ALL.into_iter().flat_map(|per| per.subjects(names).into_iter().map(move |subject| (per, subject)));
    each.map(|(per, subject)| SpendingRow { authority: authority.clone(), of, per, subject, at, order: row.id })
        .collect()
}

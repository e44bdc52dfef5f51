//! Spending at authorities: checked against the manifest's limits before an order, kept
//! in the ledger, and never against an authority's own word.

use std::collections::{BTreeSet, HashMap};

use jiff::Timestamp;
use pindrel_core::acme::problem::Problem;
use pindrel_core::budget::{LONGEST_WITHIN_SECS, Per, Spending};
use pindrel_core::desired::{AuthorityId, CertificateId};
use pindrel_core::findings::{Again, Code, Finding};
use pindrel_core::name::Hostname;
use pindrel_state::{Hold, LimitCheck, OrderRow, Refusal, SpendingRow};

use crate::execute::seconds_from;
use crate::failure::{EngineError, state_failed};
use crate::run::Engine;

/// How long an authority that limits without saying until when is left alone.
const USUAL_HOLD_SECS: i64 = 3600;
/// How long spendings are kept: no limit looks back further.
pub(crate) const LEDGER_SECS: i64 = LONGEST_WITHIN_SECS.cast_signed();

impl Engine {
    /// Refuses an order that would pass a limit, or that the authority does not take yet.
    /// What may be ordered is counted as spent before it is asked for.
    pub(crate) async fn spend_order(&self, id: AuthorityId, row: &OrderRow, renewal: bool) -> Result<(), Finding> {
        let now = self.clock.now();
        let authority = self.desired.authority(id);
        if let Some(hold) = self.present_hold(&row.authority, &row.certificate, now).await? {
            return Err(limited(&authority.name, &hold));
        }
        let checks: Vec<LimitCheck> = authority
            .limits
            .iter()
            .flat_map(|limit| {
                let subjects = limit.per.subjects(&row.names);
                subjects.into_iter().map(|subject| LimitCheck { limit: *limit, subject })
            })
            .collect();
        let mut rows = spendings(row, &row.names, Spending::Order, now);
        rows.extend(spendings(row, &row.names, Spending::Certificate, now));
        let spent = self.state.spend(&row.authority, &rows, &checks, renewal, now).await.map_err(state_failed)?;
        spent.map_err(|refusal| limit_reached(&authority.name, refusal, renewal))
    }

    /// The certificates for which an authority takes no order yet, and what it said.
    pub(crate) async fn holds(
        &self,
        ids: &BTreeSet<CertificateId>,
        now: Timestamp,
    ) -> Result<HashMap<CertificateId, (Timestamp, Finding)>, EngineError> {
        let mut holds = HashMap::new();
        for id in ids {
            let wanted = self.desired.certificate(*id);
            let Some(authority) = wanted.authority.map(|authority| self.desired.authority(authority)) else { continue };
            let hold = self.present_hold(authority.directory.as_str(), &wanted.name, now).await?;
            if let Some(hold) = hold {
                holds.insert(*id, (hold.until, limited(&authority.name, &hold)));
            }
        }
        Ok(holds)
    }

    /// What an authority said of orders for a certificate, where it still holds.
    async fn present_hold(
        &self,
        directory: &str,
        certificate: &str,
        now: Timestamp,
    ) -> Result<Option<Hold>, EngineError> {
        Ok(self.state.hold(directory, certificate).await?.filter(|hold| hold.until > now))
    }

    /// Records what is spent whatever the limits say.
    async fn spend_unchecked(&self, row: &OrderRow, names: &[Hostname], of: Spending) -> Result<(), Finding> {
        let now = self.clock.now();
        let rows = spendings(row, names, of, now);
        self.state.spend(&row.authority, &rows, &[], true, now).await.map_err(state_failed).map(drop)
    }

    /// Records that a certificate is spent by an order that goes on where another ended.
    pub(crate) async fn spend_certificate(&self, row: &OrderRow) -> Result<(), Finding> {
        self.spend_unchecked(row, &row.names, Spending::Certificate).await
    }

    /// Records that an order came to nothing: no certificate was spent.
    pub(crate) async fn refund_certificate(&self, row: &OrderRow) -> Result<(), Finding> {
        self.state.unspend(row.id, Spending::Certificate).await.map_err(state_failed)
    }

    /// Records that the authority could not validate names.
    pub(crate) async fn spend_failures(&self, row: &OrderRow, failed: &[String]) -> Result<(), Finding> {
        let names: Vec<Hostname> = failed.iter().filter_map(|name| name.parse().ok()).collect();
        self.spend_unchecked(row, &names, Spending::FailedValidation).await
    }

    /// Records until when the authority accepts no order, where it says that: its word counts
    /// more than any limit of the manifest.
    pub(crate) async fn record_hold(&self, row: &OrderRow, problem: &Problem) -> Result<Option<Finding>, Finding> {
        if !problem.is_rate_limited() {
            return Ok(None);
        }
        let until = problem.retry_at.unwrap_or_else(|| seconds_from(self.clock.now(), USUAL_HOLD_SECS));
        let hold = Hold { until, says: problem.detail.clone() };
        self.state.persist_hold(&row.authority, &row.certificate, &hold).await.map_err(state_failed)?;
        let own = self.desired.authority_at(&row.authority).map(|id| &self.desired.authority(id).name);
        Ok(Some(limited(own.unwrap_or(&row.authority), &hold)))
    }
}

fn limited(authority: &str, hold: &Hold) -> Finding {
    let says = format!("{authority} is rate-limiting this account until {:.0}", hold.until);
    let remedy = format!("Wait until {:.0}, or raise the limit at the authority", hold.until);
    Finding::of(Code::RateLimited, says, remedy)
        .seen([format!("the authority said: \"{}\"", hold.says)])
        .again(Again::At(hold.until))
}

fn limit_reached(authority: &str, refusal: Refusal, renewal: bool) -> Finding {
    let Refusal { check: LimitCheck { limit, subject }, spent, until } = refusal;
    let of = if subject.is_empty() { String::new() } else { format!(" ({subject})") };
    let kept = match (renewal, limit.reserve) {
        (true, _) | (_, 0) => String::new(),
        (false, reserve) => format!("; {reserve} of them are reserved for renewals"),
    };
    let says = format!("[authority.{authority}] allows {limit}{of}, and {spent} are spent{kept}");
    let remedy = format!("Wait until {until:.0}, or raise the limit in the manifest if the authority allows more");
    Finding::of(Code::LimitReached, says, remedy).again(Again::At(until))
}

fn spendings(row: &OrderRow, names: &[Hostname], of: Spending, at: Timestamp) -> Vec<SpendingRow> {
    let authority = &row.authority;
    let each = Per::ALL.into_iter().flat_map(|per| per.subjects(names).into_iter().map(move |subject| (per, subject)));
    each.map(|(per, subject)| SpendingRow { authority: authority.clone(), of, per, subject, at, order: row.id })
        .collect()
}

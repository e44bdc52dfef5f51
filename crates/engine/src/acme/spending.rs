//! Spending at authorities: checked against the manifest's limits before an order, kept
//! in the ledger, and never against an authority's own word.

use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::sync::Arc;

use jiff::Timestamp;
use pindrel_core::certificates::acme::problem::Problem;
use pindrel_core::certificates::budget::{LONGEST_WITHIN_SECS, Per, Spending, registered_domain};
use pindrel_core::desired::{AuthorityId, CertificateId};
use pindrel_core::judging::findings::{AuthorityCause, Finding};
use pindrel_core::names::name::Hostname;
use pindrel_state::{LimitCheck, OrderRow, RateLimit, Refusal, SpendingRow};

use crate::context::Context;
use crate::context::progress::seconds_from;
use crate::failure::{EngineError, state_failed};

/// How long an authority that limits without saying until when is left alone.
const USUAL_HOLD_SECS: i64 = 3600;
/// The most limits, each with what it counts for, that are looked at before a run.
const MOST_FORESEEN: usize = 100;
/// Under which name a limit is kept that is about all orders of an account.
const ACCOUNT: &str = "";
/// How long an authority is left alone at most that limits an account, whatever it says: a certificate
/// may be due before that.
const LONGEST_ACCOUNT_HOLD_SECS: i64 = 86_400;
/// The same where it limits orders for one certificate that has not been issued yet.
const LONGEST_HOLD_SECS: i64 = 7 * 86_400;
/// How long spendings are kept: no limit looks back further.
pub(crate) const LEDGER_SECS: i64 = LONGEST_WITHIN_SECS.cast_signed();

/// What is spent of the rate limits of authorities.
pub struct RateLimits {
    pub(crate) context: Arc<Context>,
}

impl RateLimits {
    /// Refuses an order that would pass a limit, or that the authority does not take yet.
    /// What may be ordered is counted as spent before it is asked for.
    pub(crate) async fn spend_order(&self, id: AuthorityId, row: &OrderRow, renewal: bool) -> Result<(), Finding> {
        let now = self.context.clock.now();
        let authority = self.context.desired.authority(id);
        if let Some(limit) = self.present(&row.authority, &row.certificate, now).await? {
            return Err(limited(&authority.name, &limit));
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
        let spent =
            self.context.state.spend(&row.authority, &rows, &checks, renewal, now).await.map_err(state_failed)?;
        spent.map_err(|refusal| limit_reached(&authority.name, refusal, renewal))
    }

    /// Says where limits of the manifest take fewer new certificates than are to be ordered.
    pub(crate) async fn foresee(&self, planned: &[CertificateId]) -> Result<Vec<Finding>, EngineError> {
        let (desired, now) = (&self.context.desired, self.context.clock.now());
        let mut wanted: BTreeMap<(AuthorityId, usize, String), usize> = BTreeMap::new();
        for id in planned.iter().filter(|id| self.context.held_certificate(**id).is_none()) {
            let certificate = desired.certificate(*id);
            let Some(authority) = certificate.authority else { continue };
            for (index, limit) in desired.authority(authority).limits.iter().enumerate() {
                if limit.of == Spending::FailedValidation {
                    continue;
                }
                for subject in limit.per.subjects(&certificate.names) {
                    *wanted.entry((authority, index, subject)).or_default() += 1;
                }
            }
        }
        // Where the most are wanted a limit is passed first.
        let mut wanted: Vec<_> = wanted.into_iter().collect();
        wanted.sort_by_key(|(_, planned)| std::cmp::Reverse(*planned));
        let mut foreseen = Vec::new();
        for ((id, index, subject), planned) in wanted.into_iter().take(MOST_FORESEEN) {
            let authority = desired.authority(id);
            let limit = authority.limits[index];
            let (directory, since) = (authority.directory.as_str(), limit.since(now));
            let mut spent = self.context.state.spent(directory, limit.of, limit.per, &subject, since).await?;
            let taken = limit.left(&spent, now).min(planned);
            if taken == planned {
                continue;
            }
            let before = spent.len();
            spent.extend(std::iter::repeat_n(now, taken));
            let ahead = AuthorityCause::LimitAhead {
                limit: limit.to_string(),
                of: subject,
                spent: before,
                reserved: limit.reserve,
                planned,
                taken,
                until: limit.may_go_on(&spent, false, now).unwrap_or(now),
            };
            foreseen.push(Finding::authority(&authority.name, ahead));
        }
        Ok(foreseen)
    }

    /// The certificates for which an authority takes no order yet, and what it said.
    pub(crate) async fn holds(
        &self,
        ids: &BTreeSet<CertificateId>,
        now: Timestamp,
    ) -> Result<HashMap<CertificateId, (Timestamp, Finding)>, EngineError> {
        let mut holds = HashMap::new();
        for id in ids {
            let wanted = self.context.desired.certificate(*id);
            let Some(authority) = wanted.authority.map(|authority| self.context.desired.authority(authority)) else {
                continue;
            };
            let limit = self.present(authority.directory.as_str(), &wanted.name, now).await?;
            if let Some(limit) = limit {
                holds.insert(*id, (limit.until, limited(&authority.name, &limit)));
            }
        }
        Ok(holds)
    }

    /// What an authority said of orders for a certificate, or of all orders of the account, where it
    /// still holds.
    async fn present(
        &self,
        directory: &str,
        certificate: &str,
        now: Timestamp,
    ) -> Result<Option<RateLimit>, EngineError> {
        for of in [ACCOUNT, certificate] {
            let limit = self.context.state.rate_limit(directory, of).await?;
            if let Some(limit) = limit.filter(|limit| limit.until > now) {
                return Ok(Some(limit));
            }
        }
        Ok(None)
    }

    /// Returns the finding that no order for a certificate is taken at present, where that is so.
    pub(crate) async fn held_back(&self, id: CertificateId) -> Result<Option<Finding>, EngineError> {
        let holds = self.holds(&BTreeSet::from([id]), self.context.clock.now()).await?;
        Ok(holds.into_values().next().map(|(_, finding)| finding))
    }

    /// Forgets that an authority takes no orders, once it has said so to a person; returns how many
    /// times it had refused them.
    ///
    /// # Errors
    /// A [`Finding`] when the state cannot be written.
    pub async fn resume_orders(&self, id: AuthorityId) -> Result<u64, Finding> {
        let directory = self.context.desired.authority(id).directory.as_str();
        let lift = async { self.context.state.lift_rate_limits(directory).await.map_err(state_failed) };
        self.context.journalled("holds-lift", directory, "orders are sent again", lift).await
    }

    /// Records what is spent whatever the limits say.
    async fn spend_unchecked(&self, row: &OrderRow, names: &[Hostname], of: Spending) -> Result<(), Finding> {
        let now = self.context.clock.now();
        let rows = spendings(row, names, of, now);
        self.context.state.spend(&row.authority, &rows, &[], true, now).await.map_err(state_failed).map(drop)
    }

    /// Records that a certificate is spent by an order that goes on where another ended.
    pub(crate) async fn spend_certificate(&self, row: &OrderRow) -> Result<(), Finding> {
        self.spend_unchecked(row, &row.names, Spending::Certificate).await
    }

    /// Records that an order came to nothing: no certificate was spent.
    pub(crate) async fn refund_certificate(&self, row: &OrderRow) -> Result<(), Finding> {
        self.context.state.unspend(row.id, Spending::Certificate).await.map_err(state_failed)
    }

    /// Records that the authority could not validate names.
    pub(crate) async fn spend_failures(&self, row: &OrderRow, failed: &[String]) -> Result<(), Finding> {
        let names: Vec<Hostname> = failed.iter().filter_map(|name| name.parse().ok()).collect();
        self.spend_unchecked(row, &names, Spending::FailedValidation).await
    }

    /// How long orders for a certificate may be held back: a tenth of what is left of its life, so that
    /// there is time for another try.
    async fn longest(&self, row: &OrderRow, now: Timestamp) -> Result<i64, Finding> {
        let held = self.context.state.certificate(&row.certificate).await.map_err(state_failed)?;
        let left = held.map(|held| held.held.not_after.as_second() - now.as_second()).filter(|left| *left > 0);
        Ok(left.map_or(LONGEST_HOLD_SECS, |left| (left / 10).clamp(USUAL_HOLD_SECS, LONGEST_HOLD_SECS)))
    }

    /// Records until when the authority accepts no order, where it says that: its word counts
    /// more than any limit of the manifest.
    pub(crate) async fn record(&self, row: &OrderRow, problem: &Problem) -> Result<Option<Finding>, Finding> {
        if !problem.is_rate_limited() {
            return Ok(None);
        }
        let now = self.context.clock.now();
        let asked = problem.retry_at.unwrap_or_else(|| seconds_from(now, USUAL_HOLD_SECS));
        let of_account = is_about_account(&row.names, problem);
        let longest = if of_account { LONGEST_ACCOUNT_HOLD_SECS } else { self.longest(row, now).await? };
        let limit = RateLimit { until: asked.min(seconds_from(now, longest)), says: problem.detail.clone() };
        let of = if of_account { ACCOUNT } else { &row.certificate };
        self.context.state.persist_rate_limit(&row.authority, of, &limit).await.map_err(state_failed)?;
        let own = self.context.desired.authority_at(&row.authority).map(|id| &self.context.desired.authority(id).name);
        Ok(Some(limited(own.unwrap_or(&row.authority), &limit)))
    }
}

/// Says whether an authority limits the account as a whole: it names none of the names, nor the
/// domains that they are registered under.
fn is_about_account(names: &[Hostname], problem: &Problem) -> bool {
    let named = |text: &str| {
        let text = text.to_ascii_lowercase();
        names.iter().any(|name| text.contains(name.base()) || text.contains(registered_domain(name)))
    };
    problem.subproblems.is_empty() && !named(&problem.detail)
}

fn limited(authority: &str, limit: &RateLimit) -> Finding {
    Finding::authority(authority, AuthorityCause::RateLimited { until: limit.until, said: limit.says.clone() })
}

fn limit_reached(authority: &str, refusal: Refusal, renewal: bool) -> Finding {
    let Refusal { check: LimitCheck { limit, subject }, spent, until } = refusal;
    let reserved = if renewal { 0 } else { limit.reserve };
    let reached = AuthorityCause::LimitReached { limit: limit.to_string(), of: subject, spent, reserved, until };
    Finding::authority(authority, reached)
}

fn spendings(row: &OrderRow, names: &[Hostname], of: Spending, at: Timestamp) -> Vec<SpendingRow> {
    let authority = &row.authority;
    let each = Per::ALL.into_iter().flat_map(|per| per.subjects(names).into_iter().map(move |subject| (per, subject)));
    each.map(|(per, subject)| SpendingRow { authority: authority.clone(), of, per, subject, at, order: row.id })
        .collect()
}

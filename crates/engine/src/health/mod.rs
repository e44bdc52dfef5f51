//! Health: checks made, verdicts concluded and remembered, and what people are told of them.
//!
//! ```text
//!   jobs ──▶ drivers::Probe::check ──▶ book ──▶ verdicts ──▶ core::policy (observe::choice)
//!                                       └──▶ state: records, slots, incidents
//! ```

mod holds;
mod jobs;
mod records;
mod reports;
mod thin;

pub use holds::EndpointHoldReport;
pub(crate) use holds::drained;
pub(crate) use jobs::{issuer, job};
pub(crate) use records::{flush, store};
pub use reports::{CheckHistory, CheckReport, CheckRun, ForecastReport, HistoryPoint};

use std::collections::{BTreeSet, HashMap};
use std::sync::Arc;
use std::time::Duration;

use futures::{StreamExt as _, stream};
use pindrel_core::desired::{CertificateId, CheckId, EndpointId, HostnameId};
use pindrel_core::health::{Combination, Measured, Need, Track, Verdict};
use pindrel_core::judging::pins::Known;
use pindrel_core::keep::{Book, CHECKS_AT_ONCE, with_members};
use tokio::sync::OnceCell;

use crate::context::Context;
use crate::drivers::{CheckJob, Trusted};
use crate::failure::EngineError;
use crate::home::certificates::Certificates;
use crate::home::hostnames::Hostnames;
use crate::observe::answer::AnswerObserver;
use crate::observe::endpoint::EndpointObserver;

/// How long a round waits for the one before, where a verdict is wanted at once.
const BETWEEN_ROUNDS: Duration = Duration::from_millis(200);
/// The most rounds until a verdict is there.
const MOST_ROUNDS: u32 = 10;

/// What is concluded of how well endpoints work.
pub struct Health {
    pub(crate) context: Arc<Context>,
    pub(crate) answers: Arc<AnswerObserver>,
    pub(crate) certificates: Arc<Certificates>,
    pub(crate) endpoints: Arc<EndpointObserver>,
    pub(crate) hostnames: Arc<Hostnames>,
    /// Set once what the state knows is loaded.
    pub(crate) is_loaded: OnceCell<()>,
}

impl Health {
    /// Loads what was concluded about health, and which endpoints are held out of answers, once in a run.
    pub(crate) async fn load(&self) -> Result<(), EngineError> {
        self.is_loaded.get_or_try_init(|| self.read_health()).await.copied()
    }

    async fn read_health(&self) -> Result<(), EngineError> {
        let ids: HashMap<&str, CheckId> =
            self.context.desired.check_ids().map(|id| (self.context.desired.check(id).name.as_str(), id)).collect();
        let records = if ids.is_empty() { Vec::new() } else { self.context.state.check_records().await? };
        let holds = self.context.state.endpoint_holds().await?;
        let mut known = self.context.known();
        for (name, record) in records {
            if let Some(id) = ids.get(name.as_str()) {
                known.verdicts.entry(*id).or_insert(record);
            }
        }
        known.drained.extend(drained(&self.context.desired, holds));
        Ok(())
    }

    /// Loads what the alias of a hostname follows, and decides, where there is something to choose from.
    pub(crate) async fn load_choice(&self, id: HostnameId) -> Result<(), EngineError> {
        if self.context.desired.hostname(id).follows_checks(&self.context.desired) {
            self.load().await?;
            self.hostnames.choose(id);
        }
        Ok(())
    }

    /// How well the endpoints work that the alias of a hostname gives: one that works is enough.
    pub(crate) fn verdict_of(&self, id: HostnameId) -> Verdict {
        let known = self.context.known();
        let given = Known::about(&self.context.desired, &known, id).given();
        let members = self.context.desired.hostname(id).placement.members.iter();
        let verdicts = members
            .filter(|member| given.contains(&member.endpoint))
            .map(|member| member.check.map_or(Verdict::Unknown, |check| known.verdict(check)));
        Combination { of: Vec::new(), need: Need::Any }.conclude(verdicts)
    }

    /// Makes checks until each has a verdict by results of now, as far as the endpoints are known, and decides
    /// anew for hostnames whose alias follows them.
    pub(crate) async fn choose_afresh(&self, hostnames: &[HostnameId]) -> Result<(), EngineError> {
        let follows = |id: &&HostnameId| self.context.desired.hostname(**id).follows_checks(&self.context.desired);
        let following: Vec<HostnameId> = hostnames.iter().filter(follows).copied().collect();
        if following.is_empty() {
            return Ok(());
        }
        self.load().await?;
        if self.hostnames.is_without_failover() {
            for id in following {
                self.hostnames.choose(id);
            }
            return Ok(());
        }
        // What is not bound yet says nothing of how well it works.
        let mut checks: BTreeSet<CheckId> = BTreeSet::new();
        for id in &following {
            let knowledge = self.context.known();
            let known = Known::about(&self.context.desired, &knowledge, *id);
            let members = self.context.desired.hostname(*id).placement.members.iter();
            let bound = members.filter(|member| known.at(member.endpoint).is_deployed());
            checks.extend(with_members(&self.context.desired, bound.filter_map(|member| member.check)));
        }
        self.conclude_now(checks).await?;
        for id in following {
            self.hostnames.choose(id);
        }
        Ok(())
    }

    /// Makes checks, again and again where results must come in a row, until each has a verdict by results of
    /// now.
    async fn conclude_now(&self, checks: BTreeSet<CheckId>) -> Result<(), EngineError> {
        let mut open: Vec<CheckId> =
            checks.into_iter().filter(|id| self.context.desired.check(*id).combination().is_none()).collect();
        for round in 0..MOST_ROUNDS {
            if open.is_empty() {
                break;
            }
            if round > 0 {
                self.context.clock.sleep(BETWEEN_ROUNDS).await;
            }
            self.check_once(&open).await?;
            let known = self.context.known();
            open.retain(|id| {
                // A result that agrees with the verdict confirms it; others must come in a row.
                let is_open = |track: &Track| match track.verdict {
                    Verdict::Up => track.passed == 0,
                    Verdict::Down => track.failed == 0,
                    Verdict::Unknown => track.impossible.is_none(),
                };
                known.verdicts.get(id).is_some_and(|record| record.tracks.values().any(is_open))
            });
        }
        Ok(())
    }

    /// Makes each of some checks once, and remembers what came of them.
    pub(crate) async fn check_once(
        &self,
        ids: &[CheckId],
    ) -> Result<HashMap<CheckId, Vec<(String, Measured)>>, EngineError> {
        self.load().await?;
        self.look_at_endpoints(ids).await?;
        let made = stream::iter(ids.iter().copied())
            .map(|id| async move {
                let job = self.check_job(id).await?;
                Some((id, self.context.drivers.probe().check(&job).await))
            })
            .buffer_unordered(CHECKS_AT_ONCE.min(self.context.bounds.at_once.max(1) * 4));
        let made: HashMap<CheckId, Vec<(String, Measured)>> =
            made.collect::<Vec<_>>().await.into_iter().flatten().collect();
        let mut book = Book::with(self.context.known().verdicts.clone());
        let now = self.context.clock.now();
        let mut ids: Vec<CheckId> = made.keys().copied().collect();
        ids.sort_unstable();
        for id in ids {
            book.record(&self.context.desired, id, now, &made[&id]);
        }
        flush(&mut book, &self.context.desired, &*self.context.state).await?;
        self.context.known().verdicts = book.into_records();
        Ok(made)
    }

    /// Asks for the endpoints that checks connect to, as far as they are not known.
    pub(crate) async fn look_at_endpoints(&self, ids: &[CheckId]) -> Result<(), EngineError> {
        let endpoints: BTreeSet<EndpointId> =
            ids.iter().filter_map(|id| self.context.desired.check(*id).endpoint()).collect();
        let mut unknown = BTreeSet::new();
        for id in endpoints {
            if self.context.known().endpoints.contains_key(&id) {
                continue;
            }
            match self.context.state.endpoint(&self.context.desired.endpoint(id).key()).await? {
                Some(fact) if fact.value.info().is_some() => {
                    self.context.known().endpoints.insert(id, fact);
                }
                _ => {
                    unknown.insert(id);
                }
            }
        }
        if unknown.is_empty() { Ok(()) } else { self.endpoints.look_at(unknown).await }
    }

    /// What is to be done for a check; `None` for one that looks at nothing itself.
    async fn check_job(&self, id: CheckId) -> Option<CheckJob> {
        let check = self.context.desired.check(id);
        let info = check.endpoint().and_then(|endpoint| self.context.endpoint_info(endpoint));
        let trusted = match issuer(check) {
            Some(certificate) => {
                // Who issued it is known from the certificate that is held.
                let _ = self.certificates.load(certificate).await;
                self.answers.trusted(certificate).await.ok()
            }
            None => None,
        };
        job(&self.context.desired, check, info.as_ref(), trusted)
    }

    /// Takes what is known of health for all that there is to know.
    pub(crate) fn count_as_loaded(&self) {
        // A cell that is set already is as good.
        let _ = self.is_loaded.set(());
    }

    /// Whom checks trust that trust the issuers of some certificates.
    pub(crate) async fn trusted_issuers(
        &self,
        issuers: BTreeSet<CertificateId>,
    ) -> Result<HashMap<CertificateId, Trusted>, EngineError> {
        let mut all = HashMap::new();
        for id in issuers {
            self.certificates.load(id).await?;
            all.extend(self.answers.trusted(id).await.ok().map(|trusted| (id, trusted)));
        }
        Ok(all)
    }
}

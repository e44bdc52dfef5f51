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

use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::sync::Arc;
use std::time::Duration;

use futures::{StreamExt as _, stream};
use pindrel_core::desired::{CertificateId, CheckId, EndpointId, HostnameId};
use pindrel_core::health::{CheckRecord, Combination, Measured, Need, Thresholds, Verdict};
use pindrel_core::judging::pins::Known;
use pindrel_core::keep::{Book, CHECKS_AT_ONCE, judging, with_members};
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
/// For how many rounds at once there is always time.
const MOST_AT_ONCE: u32 = 10;
/// The most rounds in which some check is made.
const MOST_ROUNDS: u32 = 200;

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

    /// How well the endpoints work that the alias of a hostname gives: one that works is enough. What was concluded
    /// too long ago says nothing.
    pub(crate) fn verdict_of(&self, id: HostnameId) -> Verdict {
        let known = self.context.known();
        let now = self.context.clock.now();
        let verdict = |check| match reports::is_stale(&self.context.desired, &known, check, now) {
            true => Verdict::Unknown,
            false => known.verdict(check),
        };
        let given = Known::about(&self.context.desired, &known, id).given();
        let members = self.context.desired.hostname(id).placement.members.iter();
        let verdicts = members
            .filter(|member| given.contains(&member.endpoint))
            .map(|member| member.check.map_or(Verdict::Unknown, verdict));
        Combination { of: Vec::new(), need: Need::Any }.conclude(verdicts)
    }

    /// Makes checks until each has a verdict by results of now, as far as the endpoints are known and what proves it
    /// takes no longer than `patience`, and decides anew for hostnames whose alias follows them.
    pub(crate) async fn choose_afresh(&self, hostnames: &[HostnameId], patience: Duration) -> Result<(), EngineError> {
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
        self.conclude_now(checks, &following, patience).await?;
        for id in following {
            self.hostnames.choose(id);
        }
        Ok(())
    }

    /// Makes checks until each has a verdict that its last result agrees with. The first successes may come at once;
    /// an outage or a recovery is proven at the interval of the check, as where checks are made all the time. What
    /// that takes longer than `patience` is left as it was concluded before.
    async fn conclude_now(
        &self,
        checks: BTreeSet<CheckId>,
        following: &[HostnameId],
        patience: Duration,
    ) -> Result<(), EngineError> {
        let begun = self.context.clock.elapsed();
        let mut due: Vec<CheckId> =
            checks.into_iter().filter(|id| self.context.desired.check(*id).combination().is_none()).collect();
        let mut open: BTreeMap<CheckId, Duration> = due.iter().map(|id| (*id, begun)).collect();
        let mut rounds = 0;
        while !due.is_empty() {
            self.check_once(&due).await?;
            let now = self.context.clock.elapsed();
            for id in &due {
                match self.context.known().verdicts.get(id).and_then(|record| self.until_next(*id, record)) {
                    Some(pause) if now + pause <= begun + patience.max(BETWEEN_ROUNDS * MOST_AT_ONCE) => {
                        open.insert(*id, now + pause)
                    }
                    _ => open.remove(id),
                };
            }
            rounds += 1;
            let Some(next) = open.values().min().copied().filter(|_| rounds < MOST_ROUNDS) else { break };
            let pause = next.saturating_sub(now);
            if pause > BETWEEN_ROUNDS {
                self.tell_proof(&open, following);
            }
            self.context.waits.pause(&*self.context.clock, pause).await;
            let now = self.context.clock.elapsed();
            due = open.iter().filter(|(_, at)| **at <= now).map(|(id, _)| *id).collect();
        }
        Ok(())
    }

    /// How long to wait for the next result of a check; `None` where its last one agrees with what is concluded.
    fn until_next(&self, id: CheckId, record: &CheckRecord) -> Option<Duration> {
        let open = record.tracks.values().filter(|track| track.impossible.is_none());
        let pauses = open.filter_map(|track| match track.verdict {
            Verdict::Up => (track.passed == 0).then_some(false),
            Verdict::Down => (track.failed == 0).then_some(false),
            Verdict::Unknown => Some(track.failed == 0),
        });
        let may_be_soon = pauses.min()?;
        Some(if may_be_soon { BETWEEN_ROUNDS } else { self.context.desired.check(id).terms.every })
    }

    /// Says for which results in a row it waits.
    fn tell_proof(&self, open: &BTreeMap<CheckId, Duration>, following: &[HostnameId]) {
        let desired = &self.context.desired;
        for id in open.keys() {
            let follows = |hostname: &&HostnameId| judging(desired, **hostname).contains(id);
            let Some(hostname) = following.iter().find(follows) else { continue };
            let (check, known) = (desired.check(*id), self.context.known());
            let Some(record) = known.verdicts.get(id) else { continue };
            let (failed, passed) = record
                .tracks
                .values()
                .fold((0, 0), |(failed, passed), track| (failed.max(track.failed), passed.max(track.passed)));
            let Thresholds { down_after, up_after, .. } = check.terms.thresholds;
            let (n, of, what) = if failed > 0 { (failed, down_after, "fail") } else { (passed, up_after, "pass") };
            let seconds = check.terms.every.as_secs_f64();
            let what = format!("check {} to {what} {of} times in a row, {seconds} s apart ({n} so far)", check.name);
            drop(known);
            self.context.emit_waiting(&desired.hostname(*hostname).hostname, "alias", what, None);
        }
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

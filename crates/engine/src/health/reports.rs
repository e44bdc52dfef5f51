//! What people and programs are told of health.

use std::collections::HashMap;
use std::time::Duration;

use jiff::{SignedDuration, Timestamp};
use pindrel_core::desired::{CheckId, Desired, HostnameId};
use pindrel_core::health::{
    CheckRecord, Forecast, HealthCheck, HistoryEntry, Latencies, MOST_INCIDENTS, Measured, Slot, Verdict, forecast,
};
use pindrel_core::judging::facts::Knowledge;

use super::with_members;
use crate::failure::EngineError;
use crate::health::Health;

/// For how long latencies are summed up.
const SUMMED: SignedDuration = SignedDuration::from_hours(1);

/// A check with what it has concluded.
#[derive(Debug, Clone, PartialEq)]
pub struct CheckReport {
    /// The check.
    pub check: HealthCheck,
    /// The endpoint whose addresses it connects to.
    pub endpoint: Option<String>,
    /// What it has concluded; nothing where it was never made.
    pub record: CheckRecord,
    /// Whether that, or what it is made of, is too old to be believed.
    pub is_stale: bool,
    /// The median and the 95th percentile of the last hour.
    pub latency: Option<(Duration, Duration)>,
    /// The results of the last hour.
    pub slots: Vec<Slot>,
    /// The names of the checks that it is made of, with their verdicts.
    pub members: Vec<(String, Verdict)>,
}

impl CheckReport {
    /// Returns what can be believed of it now.
    pub fn verdict(&self) -> Verdict {
        if self.is_stale { Verdict::Unknown } else { self.record.verdict }
    }
}

/// One check as it was made just now.
#[derive(Debug, Clone, PartialEq)]
pub struct CheckRun {
    /// What it has concluded by now.
    pub report: CheckReport,
    /// What came of it at each address.
    pub results: Vec<(String, Measured)>,
}

/// What happened to a check.
#[derive(Debug, Clone, PartialEq)]
pub struct CheckHistory {
    /// The check as it is now.
    pub report: CheckReport,
    /// Verdict changes and failures, the oldest first.
    pub incidents: Vec<HistoryEntry>,
    /// Results over time.
    pub points: Vec<HistoryPoint>,
}

/// The results of some time.
#[derive(Debug, Clone, PartialEq)]
pub struct HistoryPoint {
    /// When it begins.
    pub begin: Timestamp,
    /// How long it is.
    pub length: Duration,
    /// How many results there were.
    pub results: u32,
    /// How many of them failed.
    pub failed: u32,
    /// The median and the 95th percentile of those that passed.
    pub latency: Option<(Duration, Duration)>,
}

/// What a check costs, and how long users suffer.
#[derive(Debug, Clone, PartialEq)]
pub struct ForecastReport {
    /// The check.
    pub check: HealthCheck,
    /// The endpoint whose addresses it connects to, with how many there are.
    pub endpoint: Option<(String, usize)>,
    /// The hostnames whose alias follows it.
    pub hostnames: Vec<String>,
    /// The forecast.
    pub forecast: Forecast,
}

/// Says whether what a check, or one that it is made of, has concluded is too old to be believed.
pub(super) fn is_stale(desired: &Desired, known: &Knowledge, id: CheckId, now: Timestamp) -> bool {
    with_members(desired, [id]).into_iter().any(|id| {
        let record = known.verdicts.get(&id);
        record.is_some_and(|record| record.is_stale(now, &desired.check(id).terms))
    })
}

fn quantiles(latencies: &Latencies) -> Option<(Duration, Duration)> {
    Some((latencies.quantile(0.5)?, latencies.quantile(0.95)?))
}

impl Health {
    /// Makes some checks once, now, with those that they are made of; all where none is named.
    ///
    /// # Errors
    /// [`EngineError`] when the state cannot be read or written.
    pub async fn run(&self, ids: &[CheckId]) -> Result<Vec<CheckRun>, EngineError> {
        let all: Vec<CheckId> = with_members(&self.context.desired, ids.iter().copied()).into_iter().collect();
        let mut results = self.check_once(&all).await?;
        let mut runs = Vec::with_capacity(all.len());
        for id in all {
            let results = results.remove(&id).unwrap_or_default();
            runs.push(CheckRun { report: self.check_report(id).await?, results });
        }
        Ok(runs)
    }

    /// Returns all checks with what they have concluded.
    ///
    /// # Errors
    /// [`EngineError`] when the state cannot be read.
    pub async fn list(&self) -> Result<Vec<CheckReport>, EngineError> {
        self.load().await?;
        let mut reports = Vec::with_capacity(self.context.desired.checks.len());
        for id in self.context.desired.check_ids() {
            reports.push(self.check_report(id).await?);
        }
        Ok(reports)
    }

    async fn check_report(&self, id: CheckId) -> Result<CheckReport, EngineError> {
        let check = self.context.desired.check(id).clone();
        let since = self.context.clock.now().saturating_sub(SUMMED).unwrap_or(Timestamp::MIN);
        let slots = self.context.state.slots(&check.name, since).await?;
        let mut latencies = Latencies::default();
        slots.iter().for_each(|slot| latencies.merge(&slot.latencies));
        let known = self.context.known();
        let members = check.combination().map_or(&[][..], |combination| &combination.of);
        let members =
            members.iter().map(|member| (self.context.desired.check(*member).name.clone(), known.verdict(*member)));
        Ok(CheckReport {
            is_stale: is_stale(&self.context.desired, &known, id, self.context.clock.now()),
            endpoint: check.endpoint().map(|endpoint| self.context.desired.endpoint(endpoint).name.clone()),
            record: known.verdicts.get(&id).cloned().unwrap_or_default(),
            latency: quantiles(&latencies),
            slots,
            members: members.collect(),
            check,
        })
    }

    /// Returns what happened to a check since some time.
    ///
    /// # Errors
    /// [`EngineError`] when the state cannot be read.
    pub async fn history(&self, id: CheckId, since: Timestamp) -> Result<CheckHistory, EngineError> {
        self.load().await?;
        let report = self.check_report(id).await?;
        let incidents = self.context.state.incidents(&report.check.name, since, MOST_INCIDENTS).await?;
        let slots = self.context.state.slots(&report.check.name, since).await?;
        let points = slots.into_iter().map(|slot| HistoryPoint {
            begin: slot.begin,
            length: Duration::from_secs(u64::from(slot.seconds)),
            results: slot.results,
            failed: slot.failed,
            latency: quantiles(&slot.latencies),
        });
        Ok(CheckHistory { report, incidents, points: points.collect() })
    }

    /// Says what each check costs, and how long users suffer where an alias follows it.
    ///
    /// # Errors
    /// [`EngineError`] when the state cannot be read.
    pub async fn forecast(&self) -> Result<Vec<ForecastReport>, EngineError> {
        self.look_at_endpoints(&self.context.desired.check_ids().collect::<Vec<_>>()).await?;
        let mut following: HashMap<CheckId, Vec<HostnameId>> = HashMap::new();
        for id in self.context.desired.hostname_ids() {
            let wanted = self.context.desired.hostname(id);
            let checks = wanted.placement.members.iter().filter_map(|member| member.check);
            for check in
                with_members(&self.context.desired, checks.filter(|_| wanted.follows_checks(&self.context.desired)))
            {
                following.entry(check).or_default().push(id);
            }
        }
        let reports = self.context.desired.check_ids().map(|id| {
            let check = self.context.desired.check(id).clone();
            let endpoint = check.endpoint().map(|endpoint| {
                let addresses = self.context.endpoint_info(endpoint).map_or(0, |info| info.addresses.len());
                (self.context.desired.endpoint(endpoint).name.clone(), addresses)
            });
            let hostnames = following.remove(&id).unwrap_or_default();
            let slowest = hostnames.iter().map(|id| self.context.desired.hostname(*id)).max_by_key(|wanted| wanted.ttl);
            let moves =
                slowest.map(|wanted| (wanted.hostname.as_str(), Duration::from_secs(wanted.ttl.as_secs().into())));
            let forecast = forecast(&check, endpoint.as_ref().map_or(1, |(_, addresses)| *addresses), moves);
            let hostnames =
                hostnames.iter().map(|id| self.context.desired.hostname(*id).hostname.to_string()).collect();
            ForecastReport { check, endpoint, hostnames, forecast }
        });
        Ok(reports.collect())
    }
}

//! Figures for a monitoring system, as OpenMetrics has them. How many series there are is bounded: by the names of the
//! manifest, and of those by [`MOST_NAMED`].

use std::fmt;
use std::sync::Mutex;
use std::sync::atomic::AtomicU64;
use std::time::Duration;

use jiff::Timestamp;
use pindrel_core::health::Verdict;
use pindrel_core::judging::pins::Pin;
use pindrel_engine::{CheckReport, Event, Report};
use prometheus_client::encoding::text::encode;
use prometheus_client::metrics::counter::Counter;
use prometheus_client::metrics::family::Family;
use prometheus_client::metrics::gauge::Gauge;
use prometheus_client::metrics::histogram::Histogram;
use prometheus_client::metrics::info::Info;
use prometheus_client::registry::Registry;

use super::locked;

/// How the figures are called.
pub(super) const CONTENT_TYPE: &str = "application/openmetrics-text; version=1.0.0; charset=utf-8";
/// The most hostnames, certificates and checks that have series of their own each; there are sums of all.
const MOST_NAMED: usize = 10_000;
/// The upper bounds of the latencies' buckets, in seconds.
const LATENCIES: [f64; 12] = [0.001, 0.0025, 0.005, 0.01, 0.025, 0.05, 0.1, 0.25, 0.5, 1.0, 2.5, 10.0];

type Labels = Vec<(&'static str, String)>;
type Gauges = Family<Labels, Gauge<f64, AtomicU64>>;

/// What this process counts.
pub(crate) struct Figures {
    steps: Family<Labels, Counter>,
    switches: Counter,
    passes: Counter,
    last_pass: Mutex<Option<Timestamp>>,
    latencies: Histogram,
    begun: Timestamp,
}

impl Default for Figures {
    fn default() -> Figures {
        Figures {
            steps: Family::default(),
            switches: Counter::default(),
            passes: Counter::default(),
            last_pass: Mutex::default(),
            latencies: Histogram::new(LATENCIES),
            begun: Timestamp::now(),
        }
    }
}

impl Figures {
    /// Counts what happened.
    pub(super) fn happened(&self, event: &Event) {
        let step = |action: &str, ended: &str, code: &str| {
            let labels = vec![("action", action.to_owned()), ("ended", ended.to_owned()), ("code", code.to_owned())];
            self.steps.get_or_create(&labels).inc();
        };
        match event {
            Event::StepEnded { action, .. } => step(action, "done", ""),
            Event::StepFailed { action, finding, .. } => step(action, "failed", finding.code().as_str()),
            Event::Switched { .. } => drop(self.switches.inc()),
            Event::Passed(_) => {
                self.passes.inc();
                *locked(&self.last_pass) = Some(Timestamp::now());
            }
            _ => {}
        }
    }

    /// Counts a check that was made.
    pub(crate) fn checked(&self, took: Option<Duration>) {
        if let Some(took) = took {
            self.latencies.observe(took.as_secs_f64());
        }
    }

    /// Writes all figures, with how everything is where that is known.
    pub(super) fn written(&self, seen: Option<(&Report, &[CheckReport])>) -> Result<String, fmt::Error> {
        let mut registry = Registry::with_prefix("pindrel");
        let version = Info::new(vec![("version", env!("CARGO_PKG_VERSION"))]);
        registry.register("build", "The program", version);
        registry.register("steps", "Steps that this process has taken, by how they ended", self.steps.clone());
        registry.register("switches", "Aliases that this process has led elsewhere by health", self.switches.clone());
        registry.register("passes", "Times that this process has looked at what was due", self.passes.clone());
        registry.register("check_seconds", "How long checks took that passed", self.latencies.clone());
        let gauge = |registry: &mut Registry, name: &str, help: &str, rows: Vec<(Labels, f64)>| {
            if let [(labels, value)] = rows.as_slice()
                && labels.is_empty()
            {
                let one = Gauge::<f64, AtomicU64>::default();
                one.set(*value);
                return registry.register(name, help, one);
            }
            let gauges = Gauges::default();
            for (labels, value) in rows {
                gauges.get_or_create(&labels).set(value);
            }
            registry.register(name, help, gauges);
        };
        let time = |at: Timestamp| at.as_millisecond() as f64 / 1_000.0;
        let last_pass = *locked(&self.last_pass);
        let passed = last_pass.map(|at| (Vec::new(), time(at))).into_iter().collect();
        gauge(&mut registry, "last_pass_timestamp_seconds", "When a pass ended last", passed);
        gauge(
            &mut registry,
            "start_timestamp_seconds",
            "When this process began",
            vec![(Vec::new(), time(self.begun))],
        );
        gauge(
            &mut registry,
            "state_readable",
            "1 where the state could be read now",
            vec![(Vec::new(), f64::from(u8::from(seen.is_some())))],
        );
        if let Some((report, checks)) = seen {
            for (name, help, rows) in of_report(report).into_iter().chain(of_checks(checks)) {
                gauge(&mut registry, name, help, rows);
            }
        }
        let mut text = String::new();
        encode(&mut text, &registry)?;
        Ok(text)
    }
}

/// A name, what it means, and its series.
type Named = (&'static str, &'static str, Vec<(Labels, f64)>);

fn of_report(report: &Report) -> Vec<Named> {
    let (mut pins, mut given, mut expiry) = (Vec::new(), Vec::new(), Vec::new());
    for row in report.hostnames.iter().take(MOST_NAMED) {
        let hostname = || ("hostname", row.hostname.to_string());
        for pin in Pin::ALL {
            let state = row.pins.get(pin).state;
            let labels = vec![hostname(), ("pin", pin.as_str().to_owned()), ("state", state.as_str().to_owned())];
            pins.push((labels, 1.0));
        }
        for endpoint in row.given.iter().flat_map(|given| &given.endpoints) {
            given.push((vec![hostname(), ("endpoint", endpoint.clone())], 1.0));
        }
        if let Some(expires) = row.pins.certificate.expires {
            expiry.push((vec![("certificate", row.hostname.to_string())], expires.as_second() as f64));
        }
    }
    for row in report.certificates.iter().take(MOST_NAMED) {
        if let Some(expires) = row.expires {
            expiry.push((vec![("certificate", row.name.clone())], expires.as_second() as f64));
        }
    }
    let count = |of: usize| vec![(Vec::new(), of as f64)];
    vec![
        ("hostname_pin", "1 for the state that a pin of a hostname is in", pins),
        ("given", "1 for the endpoints that the alias of a hostname leads to", given),
        ("certificate_expiry_timestamp_seconds", "When a certificate expires", expiry),
        ("wanted", "How many hostnames and certificates of no hostname the manifest names", count(report.total())),
        ("held", "How many of them are held", count(report.held())),
        (
            "leftovers",
            "How many hostnames are left over that the manifest no longer names",
            count(report.leftovers.len()),
        ),
    ]
}

fn of_checks(checks: &[CheckReport]) -> Vec<Named> {
    let rows = checks.iter().take(MOST_NAMED).map(|report| {
        let is_up = report.verdict() == Verdict::Up;
        (vec![("check", report.check.name.clone())], f64::from(u8::from(is_up)))
    });
    vec![("check_up", "1 for a check that is up, and 0 for one that is down, unknown or stale", rows.collect())]
}

//! A pass: a run over what is due, which leaves checks and switches to the machine.

use std::collections::{BTreeSet, HashMap};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;

use jiff::Timestamp;
use pindrel_core::desired::{CertificateId, Desired};
use pindrel_core::keep::{Event as KeepEvent, PassOrder, PassReport, PassSeen};
use pindrel_core::names::name::Hostname;

use super::{Ended, RunContext, guarded};
use crate::context::Bounds;
use crate::context::scope::{Aim, LeftoverScope, Scope};
use crate::engine::Engine;
use crate::events::{Event, Listener};
use crate::failure::EngineError;
use crate::health::issuer;

/// How long a single thing is waited for in a pass: others must not wait for it.
const PATIENCE: Duration = Duration::from_secs(120);

/// Passes on what a pass tells, and notes who is stuck.
struct PassListener {
    inner: Arc<dyn Listener>,
    stuck: Mutex<HashMap<Hostname, Option<Timestamp>>>,
}

impl Listener for PassListener {
    fn on(&self, event: Event) {
        if let Event::Stuck { hostname, next, .. } = &event {
            self.stuck.lock().unwrap_or_else(PoisonError::into_inner).insert(hostname.clone(), *next);
        }
        match event {
            // A pass is no run of its own: what it looked at is no news.
            Event::Looking { .. } | Event::Planned { .. } | Event::Pins { .. } => {}
            Event::Summary(summary) => self.inner.on(Event::Passed(summary)),
            event => self.inner.on(event),
        }
    }
}

/// Makes a pass.
pub(super) async fn pass(context: Arc<RunContext>, desired: Arc<Desired>, order: PassOrder) -> Ended {
    let listener = Arc::new(PassListener { inner: context.listener.clone(), stuck: Mutex::default() });
    let patience = context.bounds.patience.min(PATIENCE);
    let bounds = Bounds { max_age_secs: 0, patience, ..context.bounds };
    let issuers: BTreeSet<CertificateId> = desired.checks.iter().filter_map(issuer).collect();
    let settling = async {
        let setup = context.setup(&desired, listener.clone(), bounds).await?;
        let engine = Engine::without_failover(setup, order.verdicts.clone()).await?;
        engine.settle(&scope(&desired, &order), Aim::Hold).await?;
        let trusted = engine.health.trusted_issuers(issuers).await?;
        let known = engine.context.known().clone();
        Ok::<_, EngineError>((known, trusted))
    };
    let settled = guarded("a pass", settling).await.unwrap_or(Err(EngineError::Fault));
    let stuck = std::mem::take(&mut *listener.stuck.lock().unwrap_or_else(PoisonError::into_inner));
    let (outcome, trusted) = match settled {
        Ok((known, trusted)) => {
            let certificates = known.certificates.into_iter().filter_map(|(id, held)| Some((id, held?))).collect();
            (Ok(PassSeen { stuck, endpoints: known.endpoints, certificates }), trusted)
        }
        Err(error) => (Err(error.to_string()), HashMap::new()),
    };
    Ended { event: KeepEvent::PassEnded(Box::new(PassReport { order, outcome })), trusted }
}

fn scope(desired: &Desired, order: &PassOrder) -> Scope {
    if order.is_whole {
        return Scope::all(desired);
    }
    let (hostnames, certificates) = (order.hostnames.clone(), order.certificates.clone());
    Scope { hostnames, certificates, leftovers: LeftoverScope::None }
}

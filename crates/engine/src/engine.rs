//! The front that commands call: a run, and the parts that it is made of.
//!
//! ```text
//!   Context ──▶ stored things ──▶ observers ──▶ Health ──▶ Surveyor ──▶ Issuing ──▶ steps ──▶ Executor ──▶ Settler
//!               (home)            (observe)     (health)   (observe)    (acme)      (execute)              (run)
//! ```
//!
//! Each part holds the parts before it that it needs, and none after it.

use std::collections::HashMap;
use std::sync::atomic::AtomicU64;
use std::sync::{Arc, Mutex};

use pindrel_core::desired::{AuthorityId, CheckId, Desired, HostnameId};
use pindrel_core::health::CheckRecord;
use pindrel_core::judging::facts::{HostnameKnowledge, Knowledge, Ownership};
use pindrel_core::judging::findings::Finding;
use pindrel_core::planning::reviewed::{Difference, ReviewedStep};
use pindrel_state::{Claim, Entry, JournalFilter};
use tokio::sync::{OnceCell, Semaphore};

use crate::acme::Issuing;
use crate::acme::accounts::{Accounts, OpenAccounts};
use crate::acme::advice::Advice;
use crate::acme::challenges::Challenges;
use crate::acme::orders::{Orders, OrdersInProgress};
use crate::acme::preflight::Preflight;
use crate::acme::rehearsals::Rehearsals;
use crate::acme::spending::RateLimits;
use crate::context::scope::{Aim, Scope};
use crate::context::waits::Waits;
use crate::context::{Bounds, Context, Setup};
use crate::events::Summary;
use crate::execute::alias::Switcher;
use crate::execute::asked_records::AskedRecords;
use crate::execute::bind::Binder;
use crate::execute::catch_up::CatchUp;
use crate::execute::deliver::Deliverer;
use crate::execute::executor::Executor;
use crate::execute::issue::Issuer;
use crate::execute::mark::Marker;
use crate::execute::unbind::Remover;
use crate::failure::{EngineError, state_failed};
use crate::health::Health;
use crate::home::Home;
use crate::home::certificates::Certificates;
use crate::home::hostnames::{Failover, Hostnames, RunRecord};
use crate::home::keys::SealedKeys;
use crate::home::leases::alias_claim;
use crate::home::secrets::Vault;
use crate::home::switch_log::SwitchLog;
use crate::observe::alias::AliasObserver;
use crate::observe::answer::AnswerObserver;
use crate::observe::binding::BindingObserver;
use crate::observe::certificate::DeliveryObserver;
use crate::observe::endpoint::EndpointObserver;
use crate::observe::survey::Surveyor;
use crate::observe::zone::ZoneObserver;
use crate::requests::adopt::Adoption;
use crate::requests::certificates::CertificateRequests;
use crate::requests::endpoints::EndpointRequests;
use crate::requests::status::Reports;
use crate::requests::zones::ZoneRequests;
use crate::run::attempts::Attempts;
use crate::run::leftovers::Retirer;
use crate::run::settle::{Plan, Settler};
use crate::run::stores::Copies;

/// How many orders may be asked for before an authority has answered.
const ASKING_AT_ONCE: usize = 2;

/// A run over one manifest and one state, with the parts that commands call.
pub struct Engine {
    pub(crate) context: Arc<Context>,
    pub(crate) surveyor: Arc<Surveyor>,
    pub(crate) executor: Arc<Executor>,
    pub(crate) settler: Arc<Settler>,
    /// Accounts at authorities.
    pub accounts: Arc<Accounts>,
    /// What is there already, and can be taken over.
    pub adoption: Arc<Adoption>,
    /// What a person asks about certificates.
    pub certificates: Arc<CertificateRequests>,
    /// What a person asks about endpoints.
    pub endpoints: Arc<EndpointRequests>,
    /// How well endpoints work, and which are drained.
    pub health: Arc<Health>,
    /// What a person asks about all of a manifest.
    pub reports: Arc<Reports>,
    /// What the manifest no longer names, and taking it away.
    pub retirer: Arc<Retirer>,
    /// What a person asks about zones.
    pub zones: Arc<ZoneRequests>,
}

impl Engine {
    /// Prepares a run.
    ///
    /// # Errors
    /// [`EngineError`] when the state cannot be used with this sealing key.
    pub async fn open(setup: Setup) -> Result<Engine, EngineError> {
        Ok(Engine::assemble(Engine::begin(setup).await?, Failover::Here))
    }

    /// Prepares the switch of one alias while the state does not answer, by what is `known` of its hostname. What is written
    /// is recorded in the log, from which it is replayed into the state.
    pub(crate) async fn without_state(
        setup: Setup,
        log: Arc<SwitchLog>,
        id: HostnameId,
        known: HostnameKnowledge,
    ) -> Result<Engine, Finding> {
        let home = setup.home.in_memory()?;
        let context = Engine::begin(Setup { home, ..setup }).await?;
        let hostname = &context.desired.hostname(id).hostname;
        let seed = |own: &mut Ownership| own.clone_from(&known.ownership);
        let seeding = async |claim: &Claim| {
            context.state.change_ownership(claim, hostname, &seed).await.map(drop).map_err(state_failed)
        };
        context.claimed(&alias_claim(hostname), seeding).await?;
        context.known().hostnames.insert(id, known);
        Ok(Engine::assemble(context, Failover::Logged(log)))
    }

    /// Prepares a run that leaves checks, and switches from one endpoint of a hostname to another, to whoever else makes
    /// them and has concluded this; of other checks the state knows what was concluded.
    pub(crate) async fn without_failover(
        setup: Setup,
        verdicts: HashMap<CheckId, CheckRecord>,
    ) -> Result<Engine, EngineError> {
        let engine = Engine::assemble(Engine::begin(setup).await?, Failover::Elsewhere);
        engine.health.load().await?;
        engine.context.known().verdicts.extend(verdicts);
        Ok(engine)
    }

    async fn begin(setup: Setup) -> Result<Arc<Context>, EngineError> {
        let Setup { desired, folder, home, bounds, listener, drivers, clock, command } = setup;
        let Home { state, sealing, leases } = home;
        Ok(Arc::new(Context {
            desired,
            folder,
            command,
            vault: Vault::open(sealing, &*state).await?,
            state,
            drivers,
            clock,
            listener,
            bounds: Bounds { at_once: bounds.at_once.max(1), ..bounds },
            knowledge: Mutex::new(Knowledge::default()),
            leases,
            waits: Waits::default(),
        }))
    }

    /// Makes the parts, each with those that it needs.
    fn assemble(context: Arc<Context>, failover: Failover) -> Engine {
        let hostnames = Arc::new(Hostnames {
            context: context.clone(),
            digests: context.desired.digests(),
            failover,
            record: RunRecord::default(),
            reported: Mutex::default(),
        });
        let keys = Arc::new(SealedKeys { context: context.clone() });

        let zones = Arc::new(ZoneObserver {
            context: context.clone(),
            dependents: tokio::sync::Mutex::default(),
            all_known: OnceCell::new(),
        });
        let endpoints = Arc::new(EndpointObserver { context: context.clone(), zones: zones.clone() });
        let deliveries = Arc::new(DeliveryObserver { context: context.clone(), keys: keys.clone() });
        let certificates = Arc::new(Certificates {
            context: context.clone(),
            deliveries: deliveries.clone(),
            hostnames: hostnames.clone(),
        });
        let answers = Arc::new(AnswerObserver { context: context.clone(), zones: zones.clone() });
        let bindings =
            Arc::new(BindingObserver { context: context.clone(), answers: answers.clone(), zones: zones.clone() });
        let aliases =
            Arc::new(AliasObserver { context: context.clone(), bindings: bindings.clone(), zones: zones.clone() });
        let health = Arc::new(Health {
            context: context.clone(),
            answers: answers.clone(),
            certificates: certificates.clone(),
            endpoints: endpoints.clone(),
            hostnames: hostnames.clone(),
            is_loaded: OnceCell::new(),
        });
        let surveyor = Arc::new(Surveyor {
            context: context.clone(),
            aliases: aliases.clone(),
            answers: answers.clone(),
            bindings: bindings.clone(),
            certificates: certificates.clone(),
            endpoints: endpoints.clone(),
            health: health.clone(),
            hostnames: hostnames.clone(),
            zones: zones.clone(),
        });

        let accounts = Arc::new(Accounts {
            context: context.clone(),
            authorities: context.desired.authorities.iter().map(|_| OnceCell::new()).collect(),
            open: OpenAccounts::default(),
        });
        let rate_limits = Arc::new(RateLimits { context: context.clone() });
        let advice = Arc::new(Advice {
            context: context.clone(),
            accounts: accounts.clone(),
            certificates: certificates.clone(),
        });
        let challenges = Arc::new(Challenges {
            context: context.clone(),
            aliases: aliases.clone(),
            hostnames: hostnames.clone(),
            surveyor: surveyor.clone(),
            zones: zones.clone(),
        });
        let preflight =
            Arc::new(Preflight { context: context.clone(), challenges: challenges.clone(), zones: zones.clone() });
        let orders = Arc::new(Orders {
            context: context.clone(),
            accounts: accounts.clone(),
            certificates: certificates.clone(),
            challenges: challenges.clone(),
            preflight: preflight.clone(),
            rate_limits: rate_limits.clone(),
            keys: keys.clone(),
            waiting: OrdersInProgress::default(),
            asking: Semaphore::new(ASKING_AT_ONCE),
            lost_orders: AtomicU64::new(0),
            waiting_requests: AtomicU64::new(0),
        });
        let rehearsals = Arc::new(Rehearsals {
            context: context.clone(),
            accounts: accounts.clone(),
            challenges: challenges.clone(),
            orders: orders.clone(),
            preflight: preflight.clone(),
            zones: zones.clone(),
        });
        let issuing = Arc::new(Issuing {
            accounts: accounts.clone(),
            advice,
            challenges,
            orders: orders.clone(),
            preflight,
            rate_limits: rate_limits.clone(),
            rehearsals: rehearsals.clone(),
        });

        let asked_records = Arc::new(AskedRecords {
            context: context.clone(),
            bindings: bindings.clone(),
            hostnames: hostnames.clone(),
            zones: zones.clone(),
        });
        let remover = Arc::new(Remover {
            context: context.clone(),
            aliases: aliases.clone(),
            asked_records: asked_records.clone(),
            hostnames: hostnames.clone(),
            zones: zones.clone(),
        });
        let switcher = Arc::new(Switcher {
            context: context.clone(),
            aliases: aliases.clone(),
            answers,
            hostnames: hostnames.clone(),
            zones: zones.clone(),
            written: Mutex::default(),
        });
        let binder = Arc::new(Binder {
            context: context.clone(),
            asked_records,
            bindings: bindings.clone(),
            hostnames: hostnames.clone(),
            keys: keys.clone(),
        });
        let catch_up = Arc::new(CatchUp { context: context.clone(), certificates: certificates.clone(), rehearsals });
        let deliverer = Arc::new(Deliverer {
            context: context.clone(),
            certificates: certificates.clone(),
            deliveries: deliveries.clone(),
            keys: keys.clone(),
        });
        let issuer = Arc::new(Issuer {
            context: context.clone(),
            certificates: certificates.clone(),
            deliveries: deliveries.clone(),
            orders,
        });
        let marker = Arc::new(Marker { context: context.clone(), zones: zones.clone() });
        let executor = Arc::new(Executor {
            context: context.clone(),
            binder,
            catch_up,
            deliverer,
            issuer,
            issuing: issuing.clone(),
            marker,
            remover,
            switcher,
            order_slots: Semaphore::new(context.bounds.at_once),
        });

        let attempts = Arc::new(Attempts { context: context.clone() });
        let certificate_requests = Arc::new(CertificateRequests {
            context: context.clone(),
            accounts: accounts.clone(),
            attempts: attempts.clone(),
            certificates: certificates.clone(),
            keys,
            rate_limits,
        });
        let endpoint_requests = Arc::new(EndpointRequests {
            context: context.clone(),
            aliases: aliases.clone(),
            bindings: bindings.clone(),
            endpoints: endpoints.clone(),
        });
        let zone_requests = Arc::new(ZoneRequests {
            context: context.clone(),
            bindings,
            endpoint_requests: endpoint_requests.clone(),
            surveyor: surveyor.clone(),
            zones: zones.clone(),
        });
        let adoption = Arc::new(Adoption {
            context: context.clone(),
            endpoints: endpoints.clone(),
            hostnames: hostnames.clone(),
            surveyor: surveyor.clone(),
        });
        let retirer = Arc::new(Retirer {
            context: context.clone(),
            aliases,
            endpoints: endpoints.clone(),
            surveyor: surveyor.clone(),
            zones: zones.clone(),
        });
        let reports = Arc::new(Reports {
            context: context.clone(),
            attempts,
            certificate_requests: certificate_requests.clone(),
            deliveries,
            endpoints: endpoints.clone(),
            health: health.clone(),
            issuing: issuing.clone(),
            retirer: retirer.clone(),
            surveyor: surveyor.clone(),
            zones,
            zone_requests: zone_requests.clone(),
        });

        let copies = Arc::new(Copies { context: context.clone(), endpoints });
        let settler = Arc::new(Settler {
            context: context.clone(),
            certificate_requests: certificate_requests.clone(),
            certificates,
            copies,
            executor: executor.clone(),
            health: health.clone(),
            hostnames,
            issuing,
            retirer: retirer.clone(),
            surveyor: surveyor.clone(),
        });

        Engine {
            context,
            surveyor,
            executor,
            settler,
            accounts,
            adoption,
            certificates: certificate_requests,
            endpoints: endpoint_requests,
            health,
            reports,
            retirer,
            zones: zone_requests,
        }
    }

    /// Returns what should hold.
    pub fn desired(&self) -> &Desired {
        &self.context.desired
    }

    /// Says what a run would do, changing nothing.
    ///
    /// # Errors
    /// [`EngineError`] when the state cannot be read or written.
    pub async fn plan(&self, scope: &Scope, aim: Aim) -> Result<Plan, EngineError> {
        self.settler.plan(scope, aim).await
    }

    /// Brings the world to the manifest for some hostnames, and verifies it. Others may work on
    /// the same state: each on its own things.
    ///
    /// # Errors
    /// [`EngineError`] when the state cannot be read or written; what fails in the
    /// world is reported to the listener and counted in the summary.
    pub async fn settle(&self, scope: &Scope, aim: Aim) -> Result<Summary, EngineError> {
        self.settler.settle(scope, aim).await
    }

    /// Does the same, if the steps are those of a plan that was reviewed; else nothing, and says how they differ.
    ///
    /// # Errors
    /// [`EngineError`] when the state cannot be read or written.
    pub async fn settle_reviewed(
        &self,
        scope: &Scope,
        aim: Aim,
        reviewed: &[ReviewedStep],
    ) -> Result<Result<Summary, Vec<Difference>>, EngineError> {
        self.settler.settle_reviewed(scope, aim, reviewed).await
    }

    /// Forgets that an authority takes no orders, once it has said so to a person; returns how many times it had refused
    /// them.
    ///
    /// # Errors
    /// A [`Finding`] when the state cannot be written.
    pub async fn resume_orders(&self, id: AuthorityId) -> Result<u64, Finding> {
        self.settler.issuing.rate_limits.resume_orders(id).await
    }

    /// Returns entries of the journal, the oldest first.
    ///
    /// # Errors
    /// [`EngineError`] when the state cannot be read.
    pub async fn journal_entries(&self, filter: &JournalFilter) -> Result<Vec<Entry>, EngineError> {
        Ok(self.context.state.journal_entries(filter).await?)
    }
}

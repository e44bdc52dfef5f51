//! A whole world in memory: an authority, zones whose secondary lags, resolvers that cache,
//! endpoints that take time to deploy, and faults to switch on.
//!
//! It stands behind the engine's own traits and keeps the engine's own time: under tokio's
//! paused clock, years of it pass in seconds. Everything that the engine does, it does here
//! through the same code as in a real run.
//!
//! ```text
//!  Setting ──▶ Engine ──▶ World (Drivers, Lookups, Probe, Keys, Authority, ZoneDriver, Platform)
//!     └─ state in memory, sealing key, manifest, recorder          └─ VirtualClock
//! ```

mod authority;
mod clock;
mod drivers;
mod edge;
mod setting;
mod zones;

use std::collections::BTreeSet;
use std::net::{IpAddr, SocketAddr};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::Duration;

pub use authority::{AuthorityFaults, DIRECTORY, Life};
pub use clock::VirtualClock;
pub use setting::{Keeping, Recorder, Setting};

use pindrel_core::names::name::DnsName;
use pindrel_core::values::Ttl;
use pindrel_engine::drivers::Clock as _;

use authority::MemoryAuthority;
use edge::MemoryEdge;
use zones::MemoryZones;

/// The zone that everything lies in.
pub const MEMORY_ZONE: &str = "larkfield.example";
/// The zone's primary, which takes changes, its secondary, and the resolver.
pub const PRIMARY: &str = "192.0.2.1:53";
/// See [`PRIMARY`].
pub const SECONDARY: &str = "192.0.2.2:53";
/// See [`PRIMARY`].
pub const RESOLVER: &str = "192.0.2.3:53";

/// What is broken.
#[derive(Debug, Clone, Default)]
pub struct Faults {
    /// What the authority does wrong.
    pub authority: AuthorityFaults,
    /// Name servers and resolvers that do not answer.
    pub silent: BTreeSet<SocketAddr>,
    /// The secondary takes no changes over.
    pub frozen: bool,
    /// The TTL below which the zone's servers give none.
    pub least_ttl: Option<Ttl>,
    /// The zone's primary refuses changes.
    pub refuses_updates: bool,
    /// Nothing is trusted, as with a wrong `issued_roots`.
    pub no_roots: bool,
    /// The platform does not answer.
    pub platform_down: bool,
    /// Endpoints that never finish deploying.
    pub stuck: BTreeSet<String>,
    /// Addresses where nothing answers.
    pub dead: BTreeSet<IpAddr>,
    /// Addresses that cannot be reached from here.
    pub out_of_reach: BTreeSet<IpAddr>,
    /// Health checks end by a fault of Pindrel's own.
    pub panics: bool,
    /// Of a hundred health checks, how many are lost on their way.
    pub lost_percent: u64,
    /// The name that all challenge names are aliases of.
    pub challenges_meet: Option<DnsName>,
    /// Hostnames whose binding the platform fails to deploy.
    pub refused: BTreeSet<String>,
}

/// How long things take.
#[derive(Debug, Clone, Copy)]
pub struct Pace {
    /// How long the secondary takes to take a change over.
    pub lag: Duration,
    /// How long an endpoint takes to deploy a binding.
    pub deploy: Duration,
    /// How long the authority takes to validate and to issue.
    pub validate: Duration,
    /// How long a resolver caches that a name has no address.
    pub negative: Duration,
}

impl Default for Pace {
    fn default() -> Self {
        Pace {
            lag: Duration::from_millis(800),
            deploy: Duration::from_secs(3),
            validate: Duration::from_millis(500),
            negative: Duration::from_secs(5),
        }
    }
}

pub(crate) struct Inner {
    pub(crate) pace: Pace,
    pub(crate) faults: Faults,
    pub(crate) zones: MemoryZones,
    pub(crate) edge: MemoryEdge,
    /// How many health checks were made.
    pub(crate) checks: u64,
    pub(crate) authority: MemoryAuthority,
}

/// The world in memory.
#[derive(Clone)]
pub struct World {
    clock: Arc<VirtualClock>,
    inner: Arc<Mutex<Inner>>,
}

impl World {
    /// Makes a world whose time is tokio's; use it under a paused clock.
    pub fn new(pace: Pace) -> World {
        let clock = Arc::new(VirtualClock::default());
        let inner = Inner {
            pace,
            faults: Faults::default(),
            zones: MemoryZones::default(),
            edge: MemoryEdge::default(),
            checks: 0,
            authority: MemoryAuthority::new(),
        };
        World { clock, inner: Arc::new(Mutex::new(inner)) }
    }

    /// The time.
    pub fn clock(&self) -> &Arc<VirtualClock> {
        &self.clock
    }

    pub(crate) fn inner(&self) -> MutexGuard<'_, Inner> {
        self.inner.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Breaks or mends something.
    pub fn break_or_mend(&self, change: impl FnOnce(&mut Faults)) {
        let now = self.clock.elapsed();
        let mut inner = self.inner();
        change(&mut inner.faults);
        let since = inner.zones.frozen_at.unwrap_or(now);
        inner.zones.frozen_at = inner.faults.frozen.then_some(since);
    }
}

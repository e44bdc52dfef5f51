//! Clients that ask for a hostname all the time: through a caching resolver, with a new, fully
//! verified connection for each request.

use std::net::{IpAddr, SocketAddr};
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};

use pindrel_core::endpoints::expectation::Expectation;
use pindrel_core::names::name::{DnsName, Hostname};
use pindrel_dns::lookup::{Resolved, resolve};
use pindrel_keys::roots;
use pindrel_probe::{Trust, request};
use tokio::task::JoinHandle;

/// The most failures that are told.
const MOST_TOLD: usize = 20;

/// What clients ask for, and where.
#[derive(Debug, Clone)]
pub struct Asked {
    /// The hostname.
    pub hostname: String,
    /// The path.
    pub path: String,
    /// The port.
    pub port: u16,
    /// The addresses that have another port.
    pub ports: Vec<(IpAddr, u16)>,
    /// The caching resolver.
    pub resolver: SocketAddr,
    /// The roots in PEM that certificates must end at.
    pub roots: String,
}

/// Clients at work.
pub struct Clients {
    stop: Arc<AtomicBool>,
    requests: Arc<AtomicUsize>,
    failures: Arc<Mutex<Vec<String>>>,
    /// When the first and the last request failed, and how many did.
    failed: Arc<Mutex<Option<(Instant, Instant, usize)>>>,
    working: Vec<JoinHandle<()>>,
    /// How many rounds of what they are there for have begun.
    rounds: AtomicUsize,
}

impl Clients {
    /// Starts some clients, each of which asks again as soon as it was answered.
    pub fn start(number: usize, asked: &Asked) -> Clients {
        let trust = roots::from_pem(asked.roots.as_bytes()).ok().and_then(|roots| Trust::new(roots).ok());
        let trust = Arc::new(trust.unwrap_or_else(|| panic!("no roots")));
        let (stop, requests, failures) = (Arc::default(), Arc::default(), Arc::default());
        let failed = Arc::default();
        let mut clients =
            Clients { stop, requests, failures, failed, working: Vec::new(), rounds: AtomicUsize::new(0) };
        for _ in 0..number {
            let (stop, requests, failures) = (clients.stop.clone(), clients.requests.clone(), clients.failures.clone());
            let failed = clients.failed.clone();
            let (asked, trust) = (asked.clone(), trust.clone());
            clients.working.push(tokio::spawn(async move {
                while !stop.load(Ordering::Relaxed) {
                    let answered = ask(&asked, &trust).await;
                    requests.fetch_add(1, Ordering::Relaxed);
                    if let Err(why) = answered {
                        let mut failures = failures.lock().unwrap_or_else(PoisonError::into_inner);
                        failures.push(why);
                        failures.truncate(MOST_TOLD);
                        let (mut failed, now) = (failed.lock().unwrap_or_else(PoisonError::into_inner), Instant::now());
                        let (first, _, count) = failed.unwrap_or((now, now, 0));
                        *failed = Some((first, now, count + 1));
                    }
                    tokio::time::sleep(Duration::from_millis(2)).await;
                }
            }));
        }
        clients
    }

    /// Says, where another round would begin, whether there was one and they have asked often enough:
    /// `PINDREL_REQUESTS=25000` makes a test go on that long.
    pub fn is_enough(&self, begins: bool) -> bool {
        let wanted = std::env::var("PINDREL_REQUESTS").ok().and_then(|text| text.parse().ok()).unwrap_or(0);
        begins && self.rounds.fetch_add(1, Ordering::Relaxed) > 0 && self.requests.load(Ordering::Relaxed) >= wanted
    }

    /// Returns for how long requests failed since this was asked last, and how many did.
    pub fn failed_for(&self) -> Option<(Duration, usize)> {
        let failed = self.failed.lock().unwrap_or_else(PoisonError::into_inner).take();
        failed.map(|(first, last, count)| (last - first, count))
    }

    /// Ends them; returns how many requests they made, and what failed.
    pub async fn stop(self) -> (usize, Vec<String>) {
        self.stop.store(true, Ordering::Relaxed);
        for client in self.working {
            let _ = client.await;
        }
        let failures = self.failures.lock().unwrap_or_else(PoisonError::into_inner).clone();
        (self.requests.load(Ordering::Relaxed), failures)
    }
}

async fn ask(asked: &Asked, trust: &Trust) -> Result<(), String> {
    let name: DnsName = asked.hostname.parse().map_err(|error| format!("{error}"))?;
    let hostname: Hostname = asked.hostname.parse().map_err(|error| format!("{error}"))?;
    let addresses: Vec<IpAddr> = match resolve(&asked.resolver.into(), &name).await {
        Resolved::Addresses { addresses, .. } => addresses,
        Resolved::Nothing { why, .. } => return Err(format!("not resolved: {why:?}")),
    };
    for address in addresses {
        let own = asked.ports.iter().find(|(known, _)| *known == address);
        let place = SocketAddr::new(address, own.map_or(asked.port, |(_, port)| *port));
        let answered = request(trust, place, &hostname, &Expectation::at(&asked.path), None).await;
        let answered = answered.map_err(|error| format!("{place}: {error}"))?;
        if answered.status != 200 {
            return Err(format!("{place}: status {}", answered.status));
        }
    }
    Ok(())
}

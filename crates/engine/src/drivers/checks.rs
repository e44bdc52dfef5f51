//! Health checks, made for real.

use std::net::SocketAddr;

use futures::future::join_all;
use jiff::Timestamp;
use pindrel_core::health::{CheckFailure, CheckResult, Checked, Host, HostPort, Measured, Phases};
use pindrel_core::judging::facts::{Unreachable, Untrusted};
use pindrel_core::values::is_link_local_or_metadata;
use pindrel_dns::lookup;
use pindrel_keys::details;
use pindrel_machine::Program;
use tokio::net::lookup_host;
use tokio::time::{Instant, timeout};

use super::{CheckJob, RealDrivers};

/// The most addresses of one name that are checked.
const MOST_ADDRESSES: usize = 8;

fn only(result: CheckResult) -> Vec<(String, Measured)> {
    vec![(String::new(), Measured { phases: Phases::default(), result })]
}

impl RealDrivers {
    pub(super) async fn make_check(&self, job: &CheckJob) -> Vec<(String, Measured)> {
        let within = job.within;
        // Before anything is connected to: a wrong file of roots is no fault of what is checked.
        let trust = match self.trust(&job.trusted) {
            Ok(trust) => trust,
            Err(finding) => return only(CheckResult::Impossible(Unreachable::NotAsked { detail: finding.says() })),
        };
        match &job.what {
            Checked::Combination(_) => Vec::new(),
            Checked::Endpoint { .. } if job.addresses.is_empty() => {
                only(CheckResult::Impossible(Unreachable::NoneKnown))
            }
            Checked::Endpoint { request, .. } => {
                let one = |address| pindrel_probe::check_http(&trust, address, request, within);
                at_each(&job.addresses, one).await
            }
            Checked::Url(request) => {
                let port = request.exchange.port.unwrap_or_else(|| request.exchange.usual_port());
                let host = request.name.as_str().parse().map(Host::Name);
                let Ok(host) = host else { return only(CheckResult::Impossible(Unreachable::NoneKnown)) };
                let place = HostPort { host, port };
                self.at_place(job, &place, |address| pindrel_probe::check_http(&trust, address, request, within)).await
            }
            Checked::Tcp(place) => self.at_place(job, place, |address| pindrel_probe::check_tcp(address, within)).await,
            Checked::Tls(listener) => {
                let check = |address| pindrel_probe::check_tls(&trust, address, listener, within, days_left);
                self.at_place(job, &listener.place, check).await
            }
            Checked::Dns { server, name } => {
                vec![(server.to_string(), lookup::check_authority(*server, name, within).await)]
            }
            Checked::Program(words) => {
                let begun = Instant::now();
                let program = Program { folder: Some(self.folder()), ..Program::command(words, within) };
                let result = match program.run_for_message().await {
                    Ok(_) => CheckResult::Passed,
                    Err(how) => CheckResult::Failed(CheckFailure::Program { how }),
                };
                let phases = Phases { connect: Some(begun.elapsed()), ..Phases::default() };
                vec![(String::new(), Measured { phases, result })]
            }
        }
    }

    /// Checks every address of a host.
    async fn at_place<F: Future<Output = Measured>>(
        &self,
        job: &CheckJob,
        place: &HostPort,
        check: impl Fn(SocketAddr) -> F,
    ) -> Vec<(String, Measured)> {
        let name = match &place.host {
            Host::Address(address) => return at_each(&[SocketAddr::new(*address, place.port)], check).await,
            Host::Name(name) => name.as_str().trim_end_matches('.').to_owned(),
        };
        let no_address = |why: String| only(CheckResult::Failed(CheckFailure::NoAddress { name: name.clone(), why }));
        let looked_up = timeout(job.within, lookup_host((name.as_str(), place.port))).await;
        let addresses: Vec<SocketAddr> = match looked_up {
            Err(_) => return no_address("the system's resolver does not answer".into()),
            Ok(Err(error)) => return no_address(error.to_string()),
            Ok(Ok(addresses)) => addresses.collect(),
        };
        // A name leads to no address that only the manifest may name.
        let usable = addresses.iter().copied().filter(|address| !is_link_local_or_metadata(address.ip()));
        let usable: Vec<SocketAddr> = usable.take(MOST_ADDRESSES).collect();
        let addresses = match (usable.is_empty(), addresses.first()) {
            (false, _) => usable,
            (true, None) => return no_address("the system's resolver knows none".into()),
            (true, Some(first)) => {
                return no_address(format!("it leads to {}, which only the manifest may name", first.ip()));
            }
        };
        at_each(&addresses, check).await
    }
}

async fn at_each<F: Future<Output = Measured>>(
    addresses: &[SocketAddr],
    check: impl Fn(SocketAddr) -> F,
) -> Vec<(String, Measured)> {
    let made = join_all(addresses.iter().map(|address| check(*address))).await;
    let results = addresses.iter().zip(made);
    results.map(|(address, measured)| (address.to_string(), without_roots(measured))).collect()
}

/// That nothing can be verified here says nothing of a peer.
fn without_roots(measured: Measured) -> Measured {
    match measured.result {
        CheckResult::Failed(CheckFailure::Certificate { why: Untrusted::NoRoots { detail } }) => {
            Measured { result: CheckResult::Impossible(Unreachable::NotAsked { detail }), ..measured }
        }
        _ => measured,
    }
}

/// For how many days a certificate is still valid.
fn days_left(der: &[u8]) -> Option<i64> {
    let details = details(der).ok()?;
    Some((details.not_after.as_second() - Timestamp::now().as_second()).div_euclid(86_400))
}

//! Stand-ins for the outside world, on loopback and without root rights: an ACME
//! authority, DNS servers (a parent, a primary, a secondary that lags, a caching
//! resolver) and an endpoint platform whose data plane really terminates TLS.
//!
//! Each is written from the standards and shares no code with the client that is tried
//! against it; each is tested with independent tools.
//!
//! ```no_run
//! # async fn demo() -> Result<(), pindrel_sandbox::SandboxError> {
//! use pindrel_sandbox::{Options, Sandbox};
//!
//! let sandbox = Sandbox::start("sandbox".as_ref(), Options::default()).await?;
//! println!("{}", sandbox.listing().directory);
//! sandbox.stop().await;
//! # Ok(())
//! # }
//! ```

pub mod authority;
mod certificates;
pub mod control;
pub mod dns;
mod listen;
mod net;
pub mod platform;

use std::net::{IpAddr, SocketAddr};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::Duration;

use serde::{Deserialize, Serialize};

use crate::authority::{Authority, ExternalAccount};
use crate::certificates::Issuer;
use crate::dns::resolver::Resolver;
use crate::dns::server::DnsServer;
use crate::dns::zone::Zone;
use crate::listen::Stop;
use crate::net::Net;
pub use crate::net::NetRange;
use crate::platform::Platform;

/// The port of every DNS server.
pub const DNS_PORT: u16 = 5390;
/// The port of the authority.
pub const AUTHORITY_PORT: u16 = 4430;
/// The port of the platform's interface.
pub const PLATFORM_PORT: u16 = 9443;
/// The port that all endpoints share.
pub const ENDPOINT_PORT: u16 = 8443;
/// The first three octets of the sandbox's addresses when nothing else uses them; the
/// demo manifest is written for it.
pub const DEFAULT_NET: &str = "127.47.0";

/// What a client needs, in the sandbox's folder.
const FILES: [&str; 6] =
    ["api-root.pem", "issuing-root.pem", "practice-root.pem", "tsig.secret", "edge.token", "sandbox.json"];

/// How long the stand-ins may take to stop.
const STOP_PATIENCE: Duration = Duration::from_secs(2);

/// The zones that the sandbox serves besides the platform's own.
pub const ZONE: &str = "larkfield.example";
/// A zone below it that somebody else edits, on a server of their own that takes no updates.
pub const ELSEWHERE_ZONE: &str = "alerts.larkfield.example";
/// A zone that challenges may be delegated into.
pub const VALIDATION_ZONE: &str = "validation.test";
/// The zone of the platform's generated default names.
pub const EDGE_ZONE: &str = "edge.test";
/// The name by which CAA records call the authority.
pub const IDENTITY: &str = "authority.sandbox.test";
/// The name by which CAA records call the authority for practice.
pub const PRACTICE_IDENTITY: &str = "practice.sandbox.test";
/// The name of the key that may update the zones.
pub const TSIG_NAME: &str = "pindrel";

/// Why the sandbox did not start.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum SandboxError {
    /// No loopback network is free.
    #[error("every network that the sandbox tries ({range}.0.x to {range}.{last}.x) is in use")]
    NoNet {
        /// Where it looked.
        range: NetRange,
        /// The last network that it tried.
        last: u8,
    },
    /// A server could not listen.
    #[error("{what} cannot listen on {address}: {source}")]
    Listen {
        /// Which server.
        what: &'static str,
        /// Where.
        address: SocketAddr,
        /// Why.
        source: std::io::Error,
    },
    /// A file could not be written.
    #[error("{path} cannot be written: {source}")]
    File {
        /// The file.
        path: PathBuf,
        /// Why.
        source: std::io::Error,
    },
    /// A certificate could not be made.
    #[error("a certificate could not be made: {0}")]
    Certificate(#[from] rcgen::Error),
}

/// How the stand-ins behave.
#[derive(Debug, Clone)]
pub struct Options {
    /// Where the sandbox looks for a free network.
    pub net: NetRange,
    /// How long the secondary takes to transfer a change.
    pub lag: Duration,
    /// How long resolvers may keep a negative answer (the SOA minimum).
    pub negative_ttl: Duration,
    /// How long a gateway or a balancer takes to deploy; a distribution takes four
    /// times as long.
    pub deploy: Duration,
    /// How many of a hundred good nonces the authority refuses.
    pub refuse_nonces: u8,
    /// Whether the authority lists an account's orders.
    pub order_list: bool,
    /// The external account that accounts must be bound to, if any.
    pub external_account: Option<ExternalAccount>,
    /// How long certificates last, whatever their profile says.
    pub lifetime: Option<Duration>,
}

impl Default for Options {
    fn default() -> Self {
        Options {
            net: NetRange::default(),
            lag: Duration::from_millis(500),
            negative_ttl: Duration::from_secs(5),
            deploy: Duration::from_millis(600),
            refuse_nonces: 5,
            order_list: true,
            external_account: None,
            lifetime: None,
        }
    }
}

/// Where everything is; written to `sandbox.json` in the sandbox's folder.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct Listing {
    /// The process that runs it.
    pub process: u32,
    /// The first three octets of all addresses.
    pub net: String,
    /// The authority's ACME directory.
    pub directory: String,
    /// The ACME directory of the authority for practice.
    pub practice: String,
    /// The server of `example` and `test`, which delegates.
    pub parent: SocketAddr,
    /// The server that takes updates.
    pub primary: SocketAddr,
    /// The server that lags behind it.
    pub secondary: SocketAddr,
    /// The server of the zone that somebody else edits.
    pub elsewhere: SocketAddr,
    /// The caching resolver.
    pub resolver: SocketAddr,
    /// The platform's interface.
    pub platform: String,
    /// Its endpoints.
    pub endpoints: Vec<ListedEndpoint>,
}

/// One endpoint of the platform.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct ListedEndpoint {
    /// Its id.
    pub id: String,
    /// What it is.
    pub kind: String,
    /// Its generated name.
    pub default_name: String,
    /// Where it serves TLS.
    pub address: SocketAddr,
    /// Whether hostnames have targets of their own below its generated name.
    #[serde(default)]
    pub own_targets: bool,
}

/// The running stand-ins. Dropping them stops them and removes what they wrote too,
/// without waiting.
pub struct Sandbox {
    folder: PathBuf,
    listing: Listing,
    primary: Arc<DnsServer>,
    secondary: Arc<DnsServer>,
    parent: Arc<DnsServer>,
    elsewhere: Arc<DnsServer>,
    authority: Arc<Authority>,
    practice: Arc<Authority>,
    platform: Arc<Platform>,
    stop: Stop,
    net: Arc<Net>,
    faults: std::sync::Mutex<Vec<String>>,
}

impl Sandbox {
    /// Starts all stand-ins; what a client needs (roots, the TSIG secret, the token) is
    /// written to `folder`.
    ///
    /// # Errors
    /// [`SandboxError`].
    pub async fn start(folder: &Path, options: Options) -> Result<Sandbox, SandboxError> {
        let net = Arc::new(Net::claim(options.net).await?);
        let stop = Stop::new(net.clone());
        let [parent_ip, primary_ip, secondary_ip, resolver_ip, elsewhere_ip] =
            [2, 3, 4, 5, 9].map(|last| net.address(last));

        let api_root = Arc::new(Issuer::root("Sandbox API root")?);
        let issuing_root = Issuer::root("Sandbox issuing root")?;
        let other_root = Issuer::root("Sandbox other root")?;
        let practice_root = Issuer::root("Sandbox practice root")?;
        let secret = dns::tsig::new_secret();
        let token = certificates::random_hex(16);

        let name_server = SocketAddr::new(primary_ip, DNS_PORT);
        let platform = Platform::new(&net, options.deploy, token.clone(), name_server, api_root.clone())?;
        let zones = |servers: [IpAddr; 2]| {
            [ZONE, EDGE_ZONE, VALIDATION_ZONE].map(|name| Zone::with_servers(name, servers, options.negative_ttl))
        };
        let [mut larkfield, mut edge, validation] = zones([primary_ip, secondary_ip]);
        larkfield.add_text("larkfield.example", 300, "Larkfield Sky Survey");
        let of_others = [elsewhere_ip, elsewhere_ip];
        larkfield.delegate(ELSEWHERE_ZONE, of_others);
        let elsewhere =
            DnsServer::new(vec![Zone::with_servers(ELSEWHERE_ZONE, of_others, options.negative_ttl)], None, None);
        for endpoint in platform.listed() {
            edge.add_address(&endpoint.default_name, 30, endpoint.address.ip());
            if endpoint.own_targets {
                edge.add_address(&format!("*.{}", endpoint.default_name), 30, endpoint.address.ip());
            }
        }
        let mut above =
            ["example", "test"].map(|name| Zone::with_servers(name, [parent_ip, parent_ip], options.negative_ttl));
        above[0].delegate(ZONE, [primary_ip, secondary_ip]);
        above[1].delegate(EDGE_ZONE, [primary_ip, secondary_ip]);
        above[1].delegate(VALIDATION_ZONE, [primary_ip, secondary_ip]);

        let parent = DnsServer::new(above.into(), None, None);
        let key = dns::tsig::key(TSIG_NAME, &secret);
        let zones = vec![larkfield.clone(), edge.clone(), validation.clone()];
        let secondary = DnsServer::new(zones, key.clone(), None);
        let updates = dns::server::Updates { follower: secondary.clone(), lag: options.lag };
        let primary = DnsServer::new(vec![larkfield, edge, validation], key, Some(updates));
        for (server, ip) in
            [(&parent, parent_ip), (&primary, primary_ip), (&secondary, secondary_ip), (&elsewhere, elsewhere_ip)]
        {
            dns::server::serve(server.clone(), SocketAddr::new(ip, DNS_PORT), &stop).await?;
        }
        let resolver = Resolver::new(SocketAddr::new(parent_ip, DNS_PORT), DNS_PORT);
        dns::resolver::serve(resolver, SocketAddr::new(resolver_ip, DNS_PORT), &stop).await?;

        let authority_address = SocketAddr::new(net.address(6), AUTHORITY_PORT);
        let validators = vec![SocketAddr::new(primary_ip, DNS_PORT), SocketAddr::new(secondary_ip, DNS_PORT)];
        let authority =
            Authority::new(authority_address, IDENTITY, &issuing_root, &other_root, validators.clone(), &options)?;
        authority::serve(authority.clone(), authority_address, &api_root, &stop).await?;
        let practice_address = SocketAddr::new(net.address(8), AUTHORITY_PORT);
        let for_practice = Options { external_account: None, lifetime: None, ..options };
        let practice = Authority::new(
            practice_address,
            PRACTICE_IDENTITY,
            &practice_root,
            &practice_root,
            validators,
            &for_practice,
        )?;
        authority::serve(practice.clone(), practice_address, &api_root, &stop).await?;
        platform::serve(platform.clone(), &api_root, &stop).await?;

        let listing = Listing {
            process: std::process::id(),
            net: net.prefix(),
            directory: format!("https://{authority_address}/directory"),
            practice: format!("https://{practice_address}/directory"),
            parent: SocketAddr::new(parent_ip, DNS_PORT),
            primary: SocketAddr::new(primary_ip, DNS_PORT),
            secondary: SocketAddr::new(secondary_ip, DNS_PORT),
            elsewhere: SocketAddr::new(elsewhere_ip, DNS_PORT),
            resolver: SocketAddr::new(resolver_ip, DNS_PORT),
            platform: format!("https://{}", platform.address()),
            endpoints: platform.listed(),
        };
        let files = [
            ("api-root.pem", api_root.pem()),
            ("issuing-root.pem", format!("{}{}", issuing_root.pem(), other_root.pem())),
            ("practice-root.pem", practice_root.pem()),
            ("tsig.secret", secret),
            ("edge.token", token),
            ("sandbox.json", serde_json::to_string_pretty(&listing).unwrap_or_default()),
        ];
        write_files(folder, &files)?;
        Ok(Sandbox {
            folder: folder.to_owned(),
            listing,
            primary,
            secondary,
            parent,
            elsewhere,
            authority,
            practice,
            platform,
            stop,
            net,
            faults: std::sync::Mutex::default(),
        })
    }

    /// Returns where everything is.
    pub fn listing(&self) -> &Listing {
        &self.listing
    }

    /// Returns the folder with what a client needs.
    pub fn folder(&self) -> &Path {
        &self.folder
    }

    /// Returns the server that takes updates.
    pub fn primary(&self) -> &DnsServer {
        &self.primary
    }

    /// Returns the server that lags.
    pub fn secondary(&self) -> &DnsServer {
        &self.secondary
    }

    /// Returns the server above.
    pub fn parent(&self) -> &DnsServer {
        &self.parent
    }

    /// Adds a record as somebody else would, on every server of its zone; says whether it could be read.
    pub fn record(&self, owner: &str, record_type: &str, value: &str) -> bool {
        let Some(data) = dns::zone::data(record_type, value) else { return false };
        let servers = [&self.elsewhere, &self.primary, &self.secondary];
        let held = servers.iter().filter(|server| server.add(owner, &data)).count();
        held > 0
    }

    /// Deletes the records of one type at a name, by hand, wherever they are served.
    pub fn delete_record(&self, owner: &str, record_type: &str) {
        for server in [&self.elsewhere, &self.primary, &self.secondary] {
            server.delete(owner, record_type);
        }
    }

    /// Returns the authority.
    pub fn authority(&self) -> &Authority {
        &self.authority
    }

    /// Returns the authority for practice.
    pub fn practice(&self) -> &Authority {
        &self.practice
    }

    /// Returns the platform.
    pub fn platform(&self) -> &Platform {
        &self.platform
    }

    /// Switches a fault on or off, by its word; says whether there is such a fault.
    pub fn switch(&self, word: &str, on: bool) -> bool {
        match word {
            "secondary-silent" => self.secondary.silence(on),
            "secondary-frozen" => self.secondary.freeze(on),
            "parent-silent" => self.parent.silence(on),
            "platform-down" => self.platform.silence(on),
            other => match authority::Fault::from_word(other) {
                Some(fault) => self.authority.switch(fault, on),
                None if self.platform.switch(other, on) => {}
                None => return false,
            },
        }
        let mut faults = self.faults.lock().unwrap_or_else(std::sync::PoisonError::into_inner);
        let any_number = format!("{word}:");
        faults.retain(|known| known != word && !known.starts_with(&any_number));
        if on {
            faults.push(word.to_owned());
        }
        true
    }

    /// Returns the words of the faults that were switched on and not off again.
    pub fn faults(&self) -> Vec<String> {
        self.faults.lock().unwrap_or_else(std::sync::PoisonError::into_inner).clone()
    }

    /// Returns the words of all faults that there are, with what each does.
    pub fn fault_words() -> impl Iterator<Item = (&'static str, &'static str)> {
        authority::Fault::words()
            .chain([
                ("secondary-silent", "the second name server answers nothing"),
                ("secondary-frozen", "the second name server takes no changes over"),
                ("parent-silent", "the name server of the zones above answers nothing"),
                ("platform-down", "the platform answers everything with 503"),
            ])
            .chain(Platform::fault_words())
    }

    /// Stops all stand-ins, waits until they have, and removes what they wrote.
    pub async fn stop(self) {
        self.stop.now();
        let begun = std::time::Instant::now();
        // The sandbox and its `Stop` hold one share each; every open listener another.
        while Arc::strong_count(&self.net) > 2 && begun.elapsed() < STOP_PATIENCE {
            tokio::time::sleep(Duration::from_millis(5)).await;
        }
    }
}

impl Drop for Sandbox {
    fn drop(&mut self) {
        self.stop.now();
        for name in FILES.into_iter().chain([control::SOCKET]) {
            let _ = std::fs::remove_file(self.folder.join(name));
        }
        let _ = std::fs::remove_dir(&self.folder);
    }
}

fn write_files(folder: &Path, files: &[(&str, String)]) -> Result<(), SandboxError> {
    let failed = |path: &Path| {
        let path = path.to_owned();
        move |source| SandboxError::File { path, source }
    };
    std::fs::create_dir_all(folder).map_err(failed(folder))?;
    // A sandbox that was killed left its files, with the list of it; all others are somebody's.
    if !folder.join("sandbox.json").exists()
        && let Some((name, _)) = files.iter().find(|(name, _)| folder.join(name).exists())
    {
        let exists = std::io::Error::new(std::io::ErrorKind::AlreadyExists, "it exists, and is no sandbox's");
        return Err(SandboxError::File { path: folder.join(name), source: exists });
    }
    for (name, text) in files {
        let path = folder.join(name);
        let mut options = std::fs::OpenOptions::new();
        options.create(true).write(true).truncate(true);
        #[cfg(unix)]
        std::os::unix::fs::OpenOptionsExt::mode(&mut options, 0o600);
        let mut file = options.open(&path).map_err(failed(&path))?;
        std::io::Write::write_all(&mut file, text.as_bytes()).map_err(failed(&path))?;
    }
    Ok(())
}

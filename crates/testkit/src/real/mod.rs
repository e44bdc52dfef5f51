//! Real DNS servers, a real resolver and a real ACME test authority, with the
//! sandbox's platform, which has no real counterpart.

pub(crate) mod certified;
pub(crate) mod haproxy;
pub(crate) mod nginx;
pub(crate) mod postgres;
pub(crate) mod powerdns;
pub(crate) mod programs;
pub(crate) mod scripted;

use std::net::{Ipv4Addr, SocketAddr, TcpListener, UdpSocket};
use std::path::Path;
use std::sync::atomic::{AtomicU32, Ordering};
use std::time::Duration;

use pindrel_sandbox::{EDGE_ZONE, Options, Sandbox, ZONE};
use tempfile::TempDir;

use crate::real::certified::{Certified, certified};
use crate::{ManifestText, Program, Workspace, eventually, require};

/// What the servers are, and which Debian packages hold them.
const PROGRAMS: &[(&str, &str)] =
    &[("named", "bind9"), ("dig", "bind9-dnsutils"), ("unbound", "unbound"), ("pebble", "pebble")];
/// The secret of the key that may update the zone, in base64.
pub const TSIG_SECRET: &str = "c2FtcGxlIHNlY3JldCBvZiB0aGUgdGVzdHMsIDMyIGI=";
const PATIENCE: Duration = Duration::from_secs(60);

/// How the real servers behave.
#[derive(Debug, Clone, Copy)]
pub struct RealOptions {
    /// How many of a hundred good nonces the authority refuses.
    pub refuse_nonces: u8,
    /// Whether the secondary is told of changes; if not, it looks by itself every few
    /// seconds.
    pub notify: bool,
    /// How many of a hundred valid authorizations are reused in new orders.
    pub reuse_authorizations: u8,
    /// How many other roots there are, each with a chain of its own.
    pub alternate_roots: u8,
    /// How many intermediates stand in a chain.
    pub chain_length: u8,
    /// Whether accounts must be bound to the external one of [`EXTERNAL_ID`].
    pub external_account: bool,
}

/// The external account of a real authority that asks for one.
pub const EXTERNAL_ID: &str = "observatory-1";
/// Its MAC key, base64url.
pub const EXTERNAL_KEY: &str = "c2FtcGxlIGV4dGVybmFsIGtleSBvZiB0aGUgdGVzdHMsIDMyIGJ5dGVz";

impl Default for RealOptions {
    fn default() -> Self {
        RealOptions {
            refuse_nonces: 5,
            notify: true,
            reuse_authorizations: 0,
            alternate_roots: 0,
            chain_length: 1,
            external_account: false,
        }
    }
}

/// Real servers on loopback, until dropped.
pub struct RealWorld {
    /// The primary, which takes updates.
    pub primary: SocketAddr,
    /// The secondary, which transfers from it.
    pub secondary: SocketAddr,
    /// The server of `example.`, which delegates.
    pub parent: SocketAddr,
    /// The caching resolver.
    pub resolver: SocketAddr,
    /// The same resolver over TLS, and over HTTPS.
    pub resolver_over_tls: [String; 2],
    /// The root of its certificate, in PEM.
    pub resolver_root: String,
    /// The ACME directory.
    pub directory: String,
    /// The root of the authority's own HTTPS, in PEM.
    pub authority_root: String,
    /// The root where its certificates end, in PEM.
    pub issuing_root: String,
    /// The platform and the zone of its default names.
    pub sandbox: Sandbox,
    /// The server processes, by role.
    pub secondary_process: Program,
    /// The authority's process.
    pub authority_process: Program,
    _others: Vec<Program>,
    _folder: TempDir,
}

impl RealWorld {
    /// Starts everything; `None` where a program is missing, which is said.
    pub async fn start(test: &str, options: RealOptions) -> Option<RealWorld> {
        if !require(test, PROGRAMS) {
            return None;
        }
        let folder =
            TempDir::with_prefix("pindrel-real-").unwrap_or_else(|error| panic!("no temporary folder: {error}"));
        let sandbox = Sandbox::start(&folder.path().join("sandbox"), Options::default())
            .await
            .unwrap_or_else(|error| panic!("{error}"));
        let [primary, secondary, parent, resolver, tls, https, acme, management] = std::array::from_fn(|_| free_port());
        let (primary_process, secondary_process, parent_process) =
            named(folder.path(), &options, primary.port(), secondary.port(), parent.port());
        let (resolver_root, resolver_process) =
            unbound(folder.path(), [resolver, tls, https], &[primary, secondary], sandbox.listing().primary);
        let (authority_root, authority_process) = pebble(folder.path(), &options, acme, management, primary);
        let mut processes = [primary_process, parent_process, resolver_process];
        for (server, zone) in
            [(primary, ZONE), (secondary, ZONE), (parent, "example"), (resolver, ZONE), (resolver, EDGE_ZONE)]
        {
            eventually(&format!("{zone} at {server}"), PATIENCE, async || {
                processes.iter_mut().for_each(Program::assert_running);
                dig(server, zone, "SOA").contains("hostmaster")
            })
            .await;
        }
        let http = reqwest::Client::builder()
            .tls_certs_merge(reqwest::Certificate::from_pem_bundle(authority_root.as_bytes()).unwrap_or_default())
            .build()
            .unwrap_or_else(|error| panic!("no HTTP client: {error}"));
        let mut issuing_root = String::new();
        for number in 0..=options.alternate_roots {
            let url = format!("https://{management}/roots/{number}");
            let mut root = String::new();
            eventually("the authority's root", PATIENCE, async || {
                if let Ok(response) = http.get(&url).send().await {
                    root = response.text().await.unwrap_or_default();
                }
                root.contains("BEGIN CERTIFICATE")
            })
            .await;
            issuing_root.push_str(&root);
        }
        Some(RealWorld {
            primary,
            secondary,
            parent,
            resolver,
            resolver_over_tls: [format!("tls://{tls}"), format!("https://{https}/dns-query")],
            resolver_root,
            directory: format!("https://{acme}/dir"),
            authority_root,
            issuing_root,
            sandbox,
            secondary_process,
            authority_process,
            _others: processes.into(),
            _folder: folder,
        })
    }

    /// Makes a folder whose manifest starts with these servers; hostnames are added by
    /// `more`.
    pub fn workspace(&self, program: &str, more: impl FnOnce(ManifestText) -> ManifestText) -> Workspace {
        let mut workspace = Workspace::new(program);
        let servers = [self.primary.to_string(), self.secondary.to_string()];
        let text = ManifestText::new(&self.directory, &servers, &self.parent.to_string(), &self.resolver.to_string());
        workspace.write("pindrel.toml", more(text).text());
        workspace.write("authority-root.pem", &self.authority_root);
        workspace.write("issuing-root.pem", &self.issuing_root);
        for name in ["api-root.pem", "edge.token"] {
            let text = std::fs::read_to_string(self.sandbox.folder().join(name)).unwrap_or_default();
            workspace.write(&format!("sandbox/{name}"), &text);
        }
        workspace.set("TSIG_SECRET", TSIG_SECRET);
        workspace
    }

    /// Adds a record to the zone with an independent tool, as somebody else would; `@` is its apex.
    pub fn update(&self, label: &str, record_type: &str, data: &str) {
        let owner = if label == "@" { ZONE.to_owned() } else { format!("{label}.{ZONE}") };
        let lines = format!(
            "server {} {}\nzone {ZONE}\nupdate add {owner}. 60 {record_type} {data}\nsend\n",
            self.primary.ip(),
            self.primary.port()
        );
        let file = self._folder.path().join("update");
        write(&file, &lines);
        let status = std::process::Command::new("nsupdate")
            .args(["-y", &format!("hmac-sha256:pindrel.:{TSIG_SECRET}")])
            .arg(&file)
            .status();
        assert!(status.is_ok_and(|status| status.success()), "{label} could not be added");
    }

    /// Asks a server with an independent tool; returns the short answer.
    pub fn dig(&self, server: SocketAddr, name: &str, record_type: &str) -> String {
        dig(server, name, record_type)
    }
}

/// Asks a server with `dig`.
pub fn dig(server: SocketAddr, name: &str, record_type: &str) -> String {
    let address = format!("@{}", server.ip());
    let port = server.port().to_string();
    let args = [address.as_str(), "-p", &port, "+short", "+time=2", "+tries=1", name, record_type];
    let output = std::process::Command::new("dig").args(args).output();
    output.map(|output| String::from_utf8_lossy(&output.stdout).into_owned()).unwrap_or_default()
}

/// Where ports for servers are looked for: below those that the system gives to clients, of
/// which one may take any port between its being found free and its server's start.
const PORTS: std::ops::Range<u32> = 12_000..32_000;

/// An address on 127.0.0.1 whose port is free for UDP and TCP; each is given once.
pub fn free_port() -> SocketAddr {
    static GIVEN: AtomicU32 = AtomicU32::new(0);
    let span = PORTS.end - PORTS.start;
    // Two test programs at once begin at different places.
    let begin = std::process::id().wrapping_mul(101);
    let mut candidates = (0..span).map(|_| {
        let n = begin.wrapping_add(GIVEN.fetch_add(1, Ordering::Relaxed)) % span;
        SocketAddr::from((Ipv4Addr::LOCALHOST, u16::try_from(PORTS.start + n).unwrap_or(u16::MAX)))
    });
    let is_free = |address: &SocketAddr| TcpListener::bind(address).is_ok() && UdpSocket::bind(address).is_ok();
    candidates.find(is_free).unwrap_or_else(|| panic!("no free port"))
}

/// A port of this machine for both: one that is free for UDP may be taken for TCP.
pub async fn udp_and_tcp() -> (tokio::net::UdpSocket, tokio::net::TcpListener) {
    loop {
        let socket = tokio::net::UdpSocket::bind((Ipv4Addr::LOCALHOST, 0)).await;
        let socket = socket.unwrap_or_else(|error| panic!("no port for UDP: {error}"));
        let address = socket.local_addr().unwrap_or_else(|error| panic!("a port without a number: {error}"));
        if let Ok(listener) = tokio::net::TcpListener::bind(address).await {
            return (socket, listener);
        }
    }
}

/// A port of this machine that refuses whoever asks, and that nobody else gets while this lives.
pub struct ClosedPort {
    /// Where it is.
    pub address: SocketAddr,
    _taken: (tokio::net::UdpSocket, tokio::net::TcpSocket),
}

impl ClosedPort {
    /// Takes one.
    pub async fn take() -> ClosedPort {
        let taken = async || {
            // What is connected elsewhere hears nobody else: the system answers for it that nobody listens.
            let udp = tokio::net::UdpSocket::bind((Ipv4Addr::LOCALHOST, 0)).await?;
            let address = udp.local_addr()?;
            udp.connect((Ipv4Addr::LOCALHOST, 1)).await?;
            let tcp = tokio::net::TcpSocket::new_v4()?;
            tcp.bind(address)?;
            Ok::<_, std::io::Error>(ClosedPort { address, _taken: (udp, tcp) })
        };
        // A port that is free for UDP may be taken for TCP.
        for _ in 0..100 {
            if let Ok(closed) = taken().await {
                return closed;
            }
        }
        panic!("no free port")
    }
}

fn write(path: &Path, text: &str) {
    std::fs::write(path, text).unwrap_or_else(|error| panic!("{} cannot be written: {error}", path.display()));
}

fn named(
    folder: &Path,
    options: &RealOptions,
    primary: u16,
    secondary: u16,
    parent: u16,
) -> (Program, Program, Program) {
    let refresh = if options.notify { 60 } else { 4 };
    let head = |zone: &str| {
        format!(
            "$TTL 60\n@ IN SOA ns1.{zone}. hostmaster.{zone}. ( 1 {refresh} 2 86400 3 )\n@ IN NS ns1.{zone}.\n@ IN NS ns2.{zone}.\n"
        )
    };
    let glue = format!("ns1.{ZONE}. IN A 127.0.0.1\nns2.{ZONE}. IN A 127.0.0.1\n");
    let notify = if options.notify { "explicit" } else { "no" };
    let keys = ["pindrel.", "idle.", "narrow."]
        .map(|key| format!("key \"{key}\" {{ algorithm hmac-sha256; secret \"{TSIG_SECRET}\"; }};"));
    let key = keys.concat();
    let roles = [
        (
            "primary",
            primary,
            format!("{}{glue}", head(ZONE)),
            format!(
                "{key}\nzone \"{ZONE}\" {{ type primary; file \"zone\"; notify {notify}; also-notify {{ 127.0.0.1 port {secondary}; }}; \
             allow-transfer {{ any; }}; update-policy {{ grant pindrel. zonesub ANY; grant narrow. name _acme-challenge.api.{ZONE}. TXT; \
             grant narrow. name api.{ZONE}. CNAME; }}; }};"
            ),
        ),
        (
            "secondary",
            secondary,
            String::new(),
            format!(
                "zone \"{ZONE}\" {{ type secondary; file \"zone\"; primaries {{ 127.0.0.1 port {primary}; }}; allow-notify {{ 127.0.0.1; }}; notify no; }};"
            ),
        ),
        (
            "parent",
            parent,
            format!(
                "{}ns1.example. IN A 127.0.0.1\nns2.example. IN A 127.0.0.1\n{ZONE}. IN NS ns1.{ZONE}.\n{ZONE}. IN NS ns2.{ZONE}.\n{glue}",
                head("example")
            ),
            "zone \"example\" { type primary; file \"zone\"; notify no; };".into(),
        ),
    ];
    let [first, second, third] = roles.map(|(role, port, zone, config)| {
        let place = folder.join(role);
        std::fs::create_dir_all(&place).unwrap_or_else(|error| panic!("no folder for {role}: {error}"));
        if !zone.is_empty() {
            write(&place.join("zone"), &zone);
        }
        let shown = place.display();
        write(
            &place.join("named.conf"),
            &format!(
                "options {{ directory \"{shown}\"; pid-file \"{shown}/pid\"; session-keyfile \"{shown}/session.key\"; \
                 managed-keys-directory \"{shown}\"; lock-file none; listen-on port {port} {{ 127.0.0.1; }}; listen-on-v6 {{ none; }}; \
                 recursion no; allow-query {{ any; }}; dnssec-validation no; notify-delay 0; notify-rate 1000; startup-notify-rate 1000; \
                 serial-query-rate 1000; min-refresh-time 1; min-retry-time 1; }};\ncontrols {{ }};\n\
                 logging {{ channel l {{ stderr; severity info; }}; category default {{ l; }}; }};\n{config}\n"
            ),
        );
        let conf = place.join("named.conf").display().to_string();
        let program = Program::start("named", &place, &["-f", "-c", &conf], &[]);
        // The secondary's first transfer must find its primary, or it waits for long.
        let begun = std::time::Instant::now();
        let apex = if role == "parent" { "example" } else { ZONE };
        while role != "secondary"
            && begun.elapsed() < PATIENCE
            && !dig(SocketAddr::from((Ipv4Addr::LOCALHOST, port)), apex, "SOA").contains("hostmaster")
        {
            std::thread::sleep(Duration::from_millis(50));
        }
        program
    });
    (first, second, third)
}

/// A resolver at three addresses: plain, over TLS and over HTTPS.
fn unbound(
    folder: &Path,
    [plain, tls, https]: [SocketAddr; 3],
    zone_servers: &[SocketAddr],
    edge: SocketAddr,
) -> (String, Program) {
    let place = folder.join("resolver");
    std::fs::create_dir_all(&place).unwrap_or_else(|error| panic!("no folder for the resolver: {error}"));
    let root = server_certificate(&place).unwrap_or_else(|error| panic!("no certificate for the resolver: {error}"));
    let stub = |zone: &str, servers: &[SocketAddr]| {
        let servers = servers.iter().map(|server| format!("  stub-addr: {}@{}\n", server.ip(), server.port()));
        format!("stub-zone:\n  name: \"{zone}\"\n{}", servers.collect::<String>())
    };
    let config = format!(
        "server:\n{}  tls-port: {}\n  https-port: {}\n  tls-service-key: server.key\n  tls-service-pem: server.pem\n  do-daemonize: no\n  username: \"\"\n  chroot: \"\"\n  directory: \"{}\"\n  pidfile: \"\"\n  \
         use-syslog: no\n  do-not-query-localhost: no\n  access-control: 127.0.0.0/8 allow\n  module-config: \"iterator\"\n  \
         local-zone: \"example.\" nodefault\n  local-zone: \"test.\" nodefault\nremote-control:\n  control-enable: no\n{}{}",
        [plain, tls, https].map(|at| format!("  interface: {}@{}\n", at.ip(), at.port())).concat(),
        tls.port(),
        https.port(),
        place.display(),
        stub(ZONE, zone_servers),
        stub(EDGE_ZONE, &[edge])
    );
    write(&place.join("unbound.conf"), &config);
    let conf = place.join("unbound.conf").display().to_string();
    (root, Program::start("unbound", &place, &["-d", "-c", &conf], &[]))
}

fn pebble(
    folder: &Path,
    options: &RealOptions,
    acme: SocketAddr,
    management: SocketAddr,
    dns: SocketAddr,
) -> (String, Program) {
    let place = folder.join("authority");
    std::fs::create_dir_all(&place).unwrap_or_else(|error| panic!("no folder for the authority: {error}"));
    let root = server_certificate(&place).unwrap_or_else(|error| panic!("no certificate for the authority: {error}"));
    let config = serde_json::json!({ "pebble": {
        "listenAddress": acme.to_string(),
        "managementListenAddress": management.to_string(),
        "certificate": place.join("server.pem"),
        "privateKey": place.join("server.key"),
        "httpPort": 5002,
        "tlsPort": 5001,
        "ocspResponderURL": "",
        "externalAccountBindingRequired": options.external_account,
        "externalAccountMACKeys": { EXTERNAL_ID: EXTERNAL_KEY },
        "certificateValidityPeriod": 7_776_000,
    }});
    write(&place.join("pebble.json"), &config.to_string());
    let conf = place.join("pebble.json").display().to_string();
    let env = [
        ("PEBBLE_VA_NOSLEEP", "1".to_owned()),
        ("PEBBLE_AUTHZREUSE", options.reuse_authorizations.to_string()),
        ("PEBBLE_ALTERNATE_ROOTS", options.alternate_roots.to_string()),
        ("PEBBLE_CHAIN_LENGTH", options.chain_length.to_string()),
        ("PEBBLE_WFE_NONCEREJECT", options.refuse_nonces.to_string()),
    ];
    let program =
        Program::start("pebble", &place, &["-strict", "-config", &conf, "-dnsserver", &dns.to_string()], &env);
    (root, program)
}

/// Writes a server's certificate and key; returns the root above it in PEM.
fn server_certificate(folder: &Path) -> Result<String, rcgen::Error> {
    let Certified { root, leaf, key } = certified(&["localhost", "127.0.0.1"])?;
    write(&folder.join("server.pem"), &leaf.pem());
    write(&folder.join("server.key"), &key.serialize_pem());
    Ok(root.pem())
}

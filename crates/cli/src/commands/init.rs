//! `pindrel init`

use std::io::Write as _;
use std::net::{IpAddr, SocketAddr};
use std::path::{Path, PathBuf};

use clap::{Args, ValueEnum};
use pindrel_core::manifest::{Draft, TomlValue, inline, texts};
use pindrel_core::names::name::{DnsName, Hostname};
use pindrel_core::values::TsigAlgorithm;
use pindrel_core::zones::resolver::ResolverAddress;
use pindrel_engine::secrets::PLACEHOLDER;

use crate::context::Context;
use crate::error::{CliError, Status};

/// The folder of the secrets' files, beside the manifest.
const SECRETS: &str = "secrets";
/// The folder that certificates are delivered to, beside the manifest.
const DELIVERED: &str = "tls";
/// What is kept out of version control.
const IGNORED: [&str; 3] = [".pindrel/", "secrets/", "tls/"];

/// Write a manifest to start from
///
/// Also writes files for the secrets to be put in, and a .gitignore that keeps them and the state
/// out of version control. Nothing that exists is overwritten. What you leave out stands in the
/// manifest in angle brackets, and `pindrel check` names each until it is filled in.
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  pindrel init --hostname api.larkfield.example --authority https://authority.example/directory
  pindrel init --hostname api.larkfield.example --nginx /etc/nginx/pindrel.d \\
      --listen 192.0.2.10:443 --service http://127.0.0.1:9001
  pindrel init --hostname mail.larkfield.example --certificate-only
  pindrel init --hostname www.larkfield.example --static --default-name edge7.vendor.test \\
      --address 192.0.2.80")]
pub(crate) struct InitArgs {
    /// The custom name to hold
    #[arg(long, value_name = "NAME")]
    hostname: Hostname,

    /// The zone it lies in [default: the name without its first label]
    #[arg(long, value_name = "NAME")]
    zone: Option<DnsName>,

    /// A server of the zone, the one for updates first; may be repeated [default: as delegated]
    #[arg(long, value_name = "ADDRESS:PORT")]
    server: Vec<SocketAddr>,

    /// A server of the zone above; may be repeated [default: found through the resolvers]
    #[arg(long, value_name = "ADDRESS:PORT")]
    parent: Vec<SocketAddr>,

    /// A resolver to look public answers up; may be repeated [default: the system's]
    #[arg(long, value_name = "RESOLVER")]
    resolver: Vec<ResolverAddress>,

    /// The name of the TSIG key that signs updates, as the name server knows it
    #[arg(long, value_name = "NAME", default_value = "pindrel.")]
    tsig: DnsName,

    /// The algorithm of the TSIG key
    #[arg(long, value_name = "ALGORITHM", default_value = "hmac-sha256")]
    tsig_algorithm: TsigAlgorithm,

    /// The ACME directory of the authority
    #[arg(long, value_name = "URL")]
    authority: Option<String>,

    /// The mail address that the authority may write to; may be repeated
    #[arg(long, value_name = "ADDRESS")]
    contact: Vec<String>,

    /// Agree to the authority's terms of service, which you have read
    #[arg(long)]
    agree_to_terms: bool,

    /// PEM file of roots for the authority's own HTTPS, where they are not public
    #[arg(long, value_name = "PATH")]
    api_roots: Option<PathBuf>,

    /// PEM file of roots where the authority's certificates end, where they are not public
    #[arg(long, value_name = "PATH")]
    issued_roots: Option<PathBuf>,

    /// Only issue and deliver a certificate for the name: no endpoint, no alias
    #[arg(long, conflicts_with_all = ["endpoint", "kind", "platform", "platform_roots", "is_static", "nginx"])]
    certificate_only: bool,

    /// The endpoint's name, which is also the platform's id of it
    #[arg(long, value_name = "NAME", default_value = "main")]
    endpoint: String,

    /// What the endpoint is
    #[arg(long, value_name = "KIND", default_value = "gateway")]
    kind: Kind,

    /// Where the platform speaks the endpoint protocol
    #[arg(long, value_name = "URL")]
    platform: Option<String>,

    /// PEM file of roots for the platform's own HTTPS, where they are not public
    #[arg(long, value_name = "PATH", conflicts_with = "is_static")]
    platform_roots: Option<PathBuf>,

    /// The endpoint is configured by somebody else, and reads the certificate from a file
    #[arg(id = "is_static", long = "static", conflicts_with = "platform")]
    is_static: bool,

    /// The endpoint is a web server on this machine, whose configuration includes this folder
    #[arg(long, value_name = "FOLDER", conflicts_with_all = ["platform", "platform_roots", "is_static"])]
    nginx: Option<PathBuf>,

    /// Where the web server serves TLS; may be repeated
    #[arg(long, value_name = "ADDRESS:PORT", requires = "nginx")]
    listen: Vec<SocketAddr>,

    /// What the web server stands in front of
    #[arg(long, value_name = "URL", requires = "nginx")]
    service: Option<String>,

    /// What aliases of a static endpoint point at
    #[arg(long, value_name = "NAME", requires = "is_static")]
    default_name: Option<DnsName>,

    /// An address of a static endpoint; may be repeated
    #[arg(long, value_name = "ADDRESS", requires = "is_static")]
    address: Vec<IpAddr>,
}

/// What an endpoint is.
#[derive(Debug, Clone, Copy, ValueEnum)]
enum Kind {
    /// An API gateway
    Gateway,
    /// A CDN distribution
    Distribution,
    /// A load-balanced endpoint
    Balancer,
}

pub(crate) fn run(context: &Context, args: &InitArgs) -> Result<Status, CliError> {
    let zone = match &args.zone {
        Some(zone) => zone.clone(),
        None => zone_of(&args.hostname)?,
    };
    if !args.hostname.is_within(&zone) {
        return Err(CliError::Usage {
            says: format!("{} does not lie in the zone {zone}", args.hostname),
            remedy: "Name the zone that it lies in".into(),
        });
    }
    let simple = |c: char| c.is_ascii_alphanumeric() || c == '-' || c == '_';
    if args.endpoint.is_empty() || !args.endpoint.chars().all(simple) {
        return Err(CliError::Usage {
            says: format!("\"{}\" is not a name for an endpoint", args.endpoint),
            remedy: "Use letters, digits, hyphens and underscores".into(),
        });
    }
    let text = args.manifest(&zone);
    let folder = context.manifest.parent().unwrap_or(Path::new(""));
    if !folder.as_os_str().is_empty() {
        std::fs::create_dir_all(folder).map_err(|error| CliError::file(folder, "made", &error))?;
    }
    write_new(&context.manifest, text.as_bytes(), false)?;
    let secrets = folder.join(SECRETS);
    make_private_folder(&secrets)?;
    if args.certificate_only || args.is_static {
        make_private_folder(&folder.join(DELIVERED))?;
    }
    let tsig = (secrets.join("tsig.secret"), format!("the TSIG secret of {zone}"));
    let token = (secrets.join(format!("{}.token", args.endpoint)), "the token of the platform".to_owned());
    let files = if args.speaks_to_platform() { vec![tsig, token] } else { vec![tsig] };
    for (file, _) in &files {
        if !file.exists() {
            write_new(file, format!("{PLACEHOLDER}\n").as_bytes(), true)?;
        }
    }
    ignore(&folder.join(".gitignore"))?;

    let mut out = anstream::stdout();
    writeln!(out, "Wrote {}.", context.manifest.display())?;
    let put: Vec<String> = files.iter().map(|(file, what)| format!("{what} into {}", file.display())).collect();
    writeln!(out, "Now put {},", put.join("\nand "))?;
    writeln!(out, "fill in what stands in angle brackets, and run:")?;
    writeln!(out, "  pindrel check\n  pindrel settle --dry-run\n  pindrel settle")?;
    Ok(Status::Done)
}

fn zone_of(hostname: &Hostname) -> Result<DnsName, CliError> {
    let parent = hostname.base().split_once('.').map_or("", |(_, rest)| rest);
    let text = if parent.contains('.') { parent } else { hostname.base() };
    text.parse()
        .map_err(|error| CliError::Usage { says: format!("{error}"), remedy: "Name the zone with --zone".into() })
}

impl InitArgs {
    fn speaks_to_platform(&self) -> bool {
        !self.certificate_only && !self.is_static && self.nginx.is_none()
    }

    fn manifest(&self, zone: &DnsName) -> String {
        let mut draft = Draft::new("What should hold. `pindrel check` reads it, `pindrel settle` makes it so.");
        draft.table("defaults", "").set("authority", "main").set("ttl", "10m");
        self.write_authority(&mut draft);
        self.write_zone(zone, &mut draft);
        if self.certificate_only {
            self.write_certificate(&mut draft);
        } else {
            self.write_endpoint(&mut draft);
            self.write_hostname(&mut draft);
        }
        draft.to_text()
    }

    fn write_authority(&self, draft: &mut Draft) {
        let mailto = |address: &String| format!("mailto:{}", address.trim_start_matches("mailto:"));
        let authority = draft.named("authority", "main", "Where certificates are issued, over ACME.");
        authority.set("directory", given(self.authority.as_ref(), "the URL of the ACME directory"));
        if self.contact.is_empty() {
            authority.hint("contact", texts(&["mailto:tls@larkfield.example"]));
        } else {
            authority.set("contact", texts(&self.contact.iter().map(mailto).collect::<Vec<_>>()));
        }
        authority
            .set("agree_to_terms", self.agree_to_terms)
            .note("true once you have read the authority's terms of service")
            .set_some("api_roots", self.api_roots.as_deref().map(shown))
            .set_some("issued_roots", self.issued_roots.as_deref().map(shown));
    }

    fn write_zone(&self, name: &DnsName, draft: &mut Draft) {
        let comment = "The zone of the hostnames, changed by signed dynamic update.";
        let zone = draft.named("zone", name.as_str(), comment).set("driver", "rfc2136");
        let tsig = [
            ("name", format!("{}.", self.tsig.as_str().trim_end_matches('.'))),
            ("algorithm", self.tsig_algorithm.as_str().to_owned()),
            ("secret", format!("file:{SECRETS}/tsig.secret")),
        ];
        zone.set("tsig", inline(tsig.map(|(key, text)| (key, text.into()))));
        if self.server.is_empty() {
            let first = "the one for updates first; left out: as delegated";
            zone.hint("servers", texts(&["192.0.2.1:53"])).note(first);
        } else {
            zone.set("servers", texts(&self.server));
        }
        zone.set_some("parents", some(&self.parent)).set_some("resolvers", some(&self.resolver));
    }

    fn write_endpoint(&self, draft: &mut Draft) {
        let kind = match self.kind {
            Kind::Gateway => "gateway",
            Kind::Distribution => "distribution",
            Kind::Balancer => "balancer",
        };
        let what = match (&self.nginx, self.is_static) {
            (Some(_), _) => "a web server on this machine",
            (None, true) => "an endpoint that somebody else configures",
            (None, false) => "a platform, or an adapter, that speaks the endpoint protocol",
        };
        let endpoint = draft.named("endpoint", &self.endpoint, &format!("Where the traffic ends: {what}."));
        endpoint.set("kind", kind);
        if let Some(folder) = &self.nginx {
            let service = given(self.service.as_ref(), "the URL of a service behind it");
            endpoint
                .set("driver", "nginx")
                .set("folder", shown(folder))
                .set("listen", some(&self.listen).unwrap_or_else(|| texts(&["<ADDRESS:PORT where it serves TLS>"])))
                .set("services", inline([("main", service.into())]));
        } else if self.is_static {
            let default_name = self.default_name.as_ref().map(|name| format!("{name}."));
            endpoint
                .set("driver", "static")
                .set("default_name", given(default_name.as_ref(), "the name that aliases point at"))
                .set("addresses", some(&self.address).unwrap_or_else(|| texts(&["<an address of the endpoint>"])));
        } else {
            endpoint
                .set("driver", "http")
                .set("url", given(self.platform.as_ref(), "the URL of the endpoint protocol"))
                .set("token", format!("file:{SECRETS}/{}.token", self.endpoint))
                .set_some("api_roots", self.platform_roots.as_deref().map(shown));
        }
    }

    fn write_hostname(&self, draft: &mut Draft) {
        let hostname = draft.named("hostname", self.hostname.as_str(), "").set("endpoint", self.endpoint.as_str());
        if self.hostname.is_wildcard() {
            hostname.set("probe_as", "probe").note("the label that the wildcard is asked under");
        }
        if self.is_static {
            hostname.set("certificate", "main");
            self.write_certificate(draft);
        } else {
            let route = [("prefix", "/v1"), ("service", "NAME"), ("release", "live")];
            let route = inline(route.map(|(key, text)| (key, text.into())));
            let expect = [("path", "/"), ("status", "200")];
            hostname.hint("routes", vec![route]).hint("expect", inline(expect.map(|(key, text)| (key, text.into()))));
        }
    }

    fn write_certificate(&self, draft: &mut Draft) {
        let file = format!("{DELIVERED}/main.pem");
        let deliver = inline([("file", file.into()), ("holds", texts(&["key", "leaf", "intermediates"]))]);
        let after = inline([("run", texts(&["systemctl", "reload", "SERVICE"]))]);
        draft
            .named("certificate", "main", "Written to a file that a server reads; held once the server serves it.")
            .set("names", texts(&[&self.hostname]))
            .set("deliver", vec![deliver])
            .hint("after", vec![after])
            .hint("served_at", texts(&["192.0.2.25:443"]));
    }
}

/// What was given, else a placeholder for it that `check` refuses.
fn given(text: Option<&String>, wanted: &str) -> String {
    text.cloned().unwrap_or_else(|| format!("<{wanted}>"))
}

fn shown(path: &Path) -> String {
    path.display().to_string()
}

/// What was given, where something was.
fn some<T: ToString>(items: &[T]) -> Option<TomlValue> {
    (!items.is_empty()).then(|| texts(items))
}

/// Makes a folder that only this user can look into; one that exists stays as it is.
fn make_private_folder(path: &Path) -> Result<(), CliError> {
    let mut builder = std::fs::DirBuilder::new();
    builder.recursive(true);
    std::os::unix::fs::DirBuilderExt::mode(&mut builder, 0o700);
    builder.create(path).map_err(|error| CliError::file(path, "made", &error))
}

fn write_new(path: &Path, bytes: &[u8], private: bool) -> Result<(), CliError> {
    let mut options = std::fs::OpenOptions::new();
    options.write(true).create_new(true);
    if private {
        std::os::unix::fs::OpenOptionsExt::mode(&mut options, 0o600);
    }
    let opened = options.open(path);
    if opened.as_ref().is_err_and(|error| error.kind() == std::io::ErrorKind::AlreadyExists) {
        return Err(CliError::Usage {
            says: format!("{} exists already", path.display()),
            remedy: "Choose another path with --manifest, or move that file away".into(),
        });
    }
    opened.and_then(|mut file| file.write_all(bytes)).map_err(|error| CliError::file(path, "written", &error))
}

fn ignore(path: &Path) -> Result<(), CliError> {
    let failed = |error: std::io::Error| CliError::file(path, "written", &error);
    let present = std::fs::read_to_string(path).unwrap_or_default();
    let missing: Vec<&str> =
        IGNORED.into_iter().filter(|line| !present.lines().any(|present| present.trim() == *line)).collect();
    if missing.is_empty() {
        return Ok(());
    }
    let mut file = std::fs::OpenOptions::new().create(true).append(true).open(path).map_err(failed)?;
    let separator = if present.is_empty() || present.ends_with('\n') { "" } else { "\n" };
    file.write_all(format!("{separator}{}\n", missing.join("\n")).as_bytes()).map_err(failed)
}

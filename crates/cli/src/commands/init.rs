//! `pindrel init`

use std::fmt::Write as _;
use std::io::Write as _;
use std::net::SocketAddr;
use std::path::Path;

use clap::{Args, ValueEnum};
use pindrel_core::name::{DnsName, Hostname};
use pindrel_engine::secrets::PLACEHOLDER;

use crate::context::Context;
use crate::error::{CliError, Status};

/// The folder of the secrets' files, beside the manifest.
const SECRETS: &str = "secrets";
/// What is kept out of version control.
const IGNORED: [&str; 2] = [".pindrel/", "secrets/"];

/// Write a manifest to start from
///
/// Also writes files for the two secrets to be put in, and a .gitignore that keeps them
/// and the state out of version control. Nothing that exists is overwritten.
#[derive(Debug, Args)]
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

    /// The endpoint's name, which is also the platform's id of it
    #[arg(long, value_name = "NAME", default_value = "main")]
    endpoint: String,

    /// What the endpoint is
    #[arg(long, value_name = "KIND", default_value = "gateway")]
    kind: Kind,

    /// Where the platform speaks the endpoint protocol
    #[arg(long, value_name = "URL", default_value = "https://platform.example")]
    platform: String,

    /// The ACME directory of the authority
    #[arg(long, value_name = "URL", default_value = "https://authority.example/directory")]
    authority: String,

    /// The mail address that the authority may write to
    #[arg(long, value_name = "ADDRESS")]
    contact: Option<String>,
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
    let text = manifest(args, &zone);
    let folder = context.manifest.parent().unwrap_or(Path::new(""));
    if !folder.as_os_str().is_empty() {
        std::fs::create_dir_all(folder).map_err(|error| CliError::file(folder, "made", &error))?;
    }
    write_new(&context.manifest, text.as_bytes(), false)?;
    let secrets = folder.join(SECRETS);
    std::fs::create_dir_all(&secrets).map_err(|error| CliError::file(&secrets, "made", &error))?;
    let files = [secrets.join("tsig.secret"), secrets.join(format!("{}.token", args.endpoint))];
    for file in &files {
        if !file.exists() {
            write_new(file, format!("{PLACEHOLDER}\n").as_bytes(), true)?;
        }
    }
    ignore(&folder.join(".gitignore"))?;

    let mut out = anstream::stdout();
    writeln!(out, "Wrote {}.", context.manifest.display())?;
    writeln!(out, "Now put the TSIG secret of {zone} into {}", files[0].display())?;
    writeln!(out, "and the token of the platform into {}; then run:", files[1].display())?;
    writeln!(out, "  pindrel check\n  pindrel settle --dry-run\n  pindrel settle")?;
    Ok(Status::Done)
}

fn zone_of(hostname: &Hostname) -> Result<DnsName, CliError> {
    let parent = hostname.base().split_once('.').map_or("", |(_, rest)| rest);
    let text = if parent.contains('.') { parent } else { hostname.base() };
    text.parse()
        .map_err(|error| CliError::Usage { says: format!("{error}"), remedy: "Name the zone with --zone".into() })
}

fn manifest(args: &InitArgs, zone: &DnsName) -> String {
    let kind = match args.kind {
        Kind::Gateway => "gateway",
        Kind::Distribution => "distribution",
        Kind::Balancer => "balancer",
    };
    let contact = args.contact.clone().unwrap_or_else(|| format!("tls@{zone}"));
    let contact = toml_text(&format!("mailto:{}", contact.trim_start_matches("mailto:")));
    let servers = if args.server.is_empty() {
        "# servers = [\"192.0.2.1:53\"]      # the one for updates first; left out: as delegated\n".to_owned()
    } else {
        format!(
            "servers = {:?}   # the one for updates first\n",
            args.server.iter().map(SocketAddr::to_string).collect::<Vec<_>>()
        )
    };
    let mut text = String::new();
    let _ = write!(
        text,
        "\
# What should hold. `pindrel check` reads it, `pindrel settle` makes it so.
manifest = 1

[defaults]
authority = \"main\"
ttl = \"10m\"

# Where certificates are issued, over ACME.
[authority.main]
directory = {directory}
contact = [{contact}]
agree_to_terms = true              # you have read the authority's terms of service

# The zone of the hostnames, changed by signed dynamic update.
[zone.\"{zone}\"]
driver = \"rfc2136\"
{servers}tsig = {{ name = \"pindrel.\", algorithm = \"hmac-sha256\", secret = \"file:{SECRETS}/tsig.secret\" }}

# Where the traffic ends: a platform, or an adapter, that speaks the endpoint protocol.
[endpoint.{endpoint}]
kind = \"{kind}\"
driver = \"http\"
url = {platform}
token = \"file:{SECRETS}/{endpoint}.token\"

[hostname.\"{hostname}\"]
endpoint = \"{endpoint}\"
",
        directory = toml_text(&args.authority),
        platform = toml_text(&args.platform),
        endpoint = args.endpoint,
        hostname = args.hostname,
    );
    if args.hostname.is_wildcard() {
        text.push_str("probe_as = \"probe\"                 # the label that the wildcard is asked under\n");
    }
    text.push_str("# routes = [{ prefix = \"/v1\", service = \"NAME\", release = \"live\" }]\n# expect = { path = \"/\", status = \"200\" }\n");
    text
}

/// Writes a text as a TOML basic string.
fn toml_text(text: &str) -> String {
    format!(
        "\"{}\"",
        text.chars().filter(|c| !c.is_control()).collect::<String>().replace('\\', "\\\\").replace('"', "\\\"")
    )
}

fn write_new(path: &Path, bytes: &[u8], private: bool) -> Result<(), CliError> {
    let mut options = std::fs::OpenOptions::new();
    options.write(true).create_new(true);
    #[cfg(unix)]
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

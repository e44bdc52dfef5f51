//! What a zone is read from: a file, a zone of the manifest, a server, or the manifest itself.

use std::net::SocketAddr;
use std::path::{Path, PathBuf};

use clap::Args;
use pindrel_core::judging::findings::Finding;
use pindrel_core::names::name::DnsName;
use pindrel_core::text::display_text::io_reason;
use pindrel_core::zones::zone_data::{NameKey, ZoneData};
use pindrel_engine::Part;
use pindrel_engine::zone_files::{ReadFiles, named_after, read};

use crate::args::{Span, patience};
use crate::context::Context;
use crate::error::{CliError, ZoneMistakes};
use crate::names;

/// How zones and zone files are read.
#[derive(Debug, Clone, Args)]
pub(super) struct ReadArgs {
    /// What relative names in a zone file are completed with; else the name that the file has
    #[arg(long, value_name = "NAME", value_parser = origin)]
    pub(super) origin: Option<NameKey>,

    /// A folder where files that a zone file includes may lie, besides the file's own
    #[arg(long, value_name = "FOLDER")]
    pub(super) include_below: Option<PathBuf>,

    /// How long a zone transfer may take
    #[arg(long, value_name = "DURATION", default_value_t = TRANSFER, value_parser = patience)]
    pub(super) patience: Span,
}

/// Reads an origin as it is typed: with or without its final dot.
fn origin(text: &str) -> Result<NameKey, String> {
    NameKey::parse(text.as_bytes(), &NameKey::root()).map_err(|error| error.to_string())
}

/// What stands for the records that the manifest wants.
const MANIFEST: &str = "manifest";
const DNS_PORT: u16 = 53;
/// How long a zone may take to be transferred unless it is said.
const TRANSFER: Span = Span(120);

/// One zone that was asked for, as it was typed.
#[derive(Debug, Clone)]
pub(super) enum Side {
    File(PathBuf),
    Zone(DnsName, Option<SocketAddr>),
    Manifest,
}

/// A zone that was read.
pub(super) struct Read {
    /// What it was read from, for people.
    pub(super) from: String,
    pub(super) data: ZoneData,
    /// Why it is not the whole zone.
    pub(super) partial: Option<Part>,
}

impl std::str::FromStr for Side {
    type Err = String;

    fn from_str(text: &str) -> Result<Side, String> {
        if text == MANIFEST {
            return Ok(Side::Manifest);
        }
        if let Some((zone, server)) = text.split_once('@') {
            let zone = zone.parse().map_err(|error| format!("\"{zone}\" is no zone: {error}"))?;
            let server = server.parse().or_else(|_| server.parse().map(|address| SocketAddr::new(address, DNS_PORT)));
            let server =
                server.map_err(|_| "a server is an address, such as 192.0.2.53 or 127.0.0.1:5301".to_owned())?;
            return Ok(Side::Zone(zone, Some(server)));
        }
        let is_named_as_file = [".zone", ".db", ".txt", ".dns"].iter().any(|end| text.ends_with(end));
        if Path::new(text).is_file() || text.contains('/') || is_named_as_file {
            return Ok(Side::File(text.into()));
        }
        match text.parse() {
            Ok(zone) => Ok(Side::Zone(zone, None)),
            Err(_) => Ok(Side::File(text.into())),
        }
    }
}

impl Side {
    /// Reads it. What `other` is called serves where this side does not say which zone is meant.
    pub(super) async fn read(
        &self,
        context: &Context,
        how: &ReadArgs,
        other: Option<&DnsName>,
    ) -> Result<Read, CliError> {
        let finding = |finding: Finding| CliError::Finding(Box::new(finding));
        match self {
            Side::File(path) => {
                let files = read_files(path, how, other)?;
                if !files.mistakes.is_empty() {
                    return Err(CliError::ZoneFile(Box::new(ZoneMistakes { files })));
                }
                Ok(Read { from: path.display().to_string(), data: files.zone, partial: None })
            }
            Side::Zone(name, None) if !context.manifest.exists() => Err(CliError::Usage {
                says: format!(
                    "there is no file {name}, and no manifest {} with a zone of that name",
                    context.manifest.display()
                ),
                remedy: "Name a zone file, or a manifest with --manifest".into(),
            }),
            Side::Zone(name, server) => {
                let (engine, _) = context.engine_within(how.patience).await?;
                let desired = engine.desired();
                let says = || format!("there is no file {name}, and the manifest has no zone {name}");
                let id = desired.zone_named(name).ok_or_else(|| names::unknown_zone(desired, name, says()))?;
                let zone = engine.zones.read(id, *server).await.map_err(finding)?;
                let from = server.map_or_else(|| name.to_string(), |server| format!("{name} at {server}"));
                Ok(Read { from, data: zone.data, partial: zone.partial })
            }
            Side::Manifest => {
                let (engine, _) = context.engine().await?;
                let id = match other {
                    Some(name) => names::zone(engine.desired(), name)?,
                    None => return Err(no_zone()),
                };
                let zone = engine.zones.wanted_records(id).await.map_err(finding)?;
                Ok(Read { from: "the manifest".into(), data: zone.data, partial: zone.partial })
            }
        }
    }

    /// Returns the name of the zone, as far as it is known without reading anything.
    pub(super) fn zone(&self) -> Option<DnsName> {
        match self {
            Side::Zone(name, _) => Some(name.clone()),
            Side::File(path) => named_after(path)?.to_dns_name(),
            Side::Manifest => None,
        }
    }

    pub(super) fn is_manifest(&self) -> bool {
        matches!(self, Side::Manifest)
    }
}

fn no_zone() -> CliError {
    CliError::Usage {
        says: "which zone is meant cannot be told".into(),
        remedy: "Name the zone, or a file that is named after it".into(),
    }
}

/// Reads a zone file. Relative names are completed with what was typed, else with the name that the file has, else
/// with that of the zone that it is compared with.
pub(super) fn read_files(path: &Path, how: &ReadArgs, other: Option<&DnsName>) -> Result<ReadFiles, CliError> {
    let origin = how.origin.clone().or_else(|| named_after(path)).or_else(|| other.map(NameKey::from));
    read(path, &origin.unwrap_or_default(), None, how.include_below.as_deref()).map_err(|error| CliError::File {
        path: path.display().to_string(),
        doing: "read",
        why: io_reason(&error),
    })
}

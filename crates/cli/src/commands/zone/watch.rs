//! `pindrel zone watch`

use std::sync::Arc;

use clap::Args;
use clap_complete::engine::ArgValueCandidates;
use pindrel_core::names::name::DnsName;
use pindrel_core::values::Ttl;
use pindrel_core::zones::records::{RecordData, RecordSet, RecordType};
use pindrel_core::zones::resolver::ResolverAddress;
use pindrel_core::zones::zone_data::TypeCode;
use pindrel_core::zones::zone_file::read_data;
use pindrel_engine::{Access, Engine, WatchRequest, Watched};

use crate::args::{RunBounds, Span, patience};
use crate::completion;
use crate::context::{Context, bounds};
use crate::error::{CliError, Status};
use crate::names;
use crate::output;

/// How long is watched unless it is said.
const PATIENCE: Span = Span(3_600);

/// Watch a change reach every server and every resolver
///
/// For a hostname, its alias as the manifest wants it; with --type and --value any record of a
/// name in a zone of the manifest. Every authoritative server is asked; resolvers only once all
/// servers have it, or they would keep what was before for another TTL. The end is known as soon
/// as the last server has changed: when the old TTL is over, or for a new name the time that
/// "there is none" may be cached. Who has not got it yet and who has something else are told
/// apart.
///
/// Exit status: 0 everyone has it, 3 not (yet).
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  pindrel zone watch api.larkfield.example
  pindrel zone watch larkfield.example --type MX --value \"10 mail.larkfield.example.\"
  pindrel zone watch api.larkfield.example --resolver 192.0.2.53 --resolver tls://192.0.2.54")]
pub(crate) struct WatchArgs {
    /// A hostname of the manifest, or with --type any name in one of its zones
    #[arg(value_name = "NAME", add = ArgValueCandidates::new(completion::hostnames))]
    name: String,

    /// Watch the records of this type instead of the alias
    #[arg(long = "type", value_name = "TYPE", value_parser = record_type)]
    record_type: Option<RecordType>,

    /// What they shall be, as in a zone file with full names; may be repeated. Without it, what
    /// the server that takes changes gives
    #[arg(long, value_name = "DATA", requires = "record_type")]
    value: Vec<String>,

    /// A resolver to ask, instead of those of the zone: an address, or tls://HOST or https://HOST/PATH;
    /// may be repeated
    #[arg(long, value_name = "RESOLVER", value_parser = resolver)]
    resolver: Vec<ResolverAddress>,

    /// How long to watch at most
    #[arg(long, value_name = "DURATION", default_value_t = PATIENCE, value_parser = patience)]
    patience: Span,
}

fn record_type(text: &str) -> Result<RecordType, String> {
    text.parse()
}

fn resolver(text: &str) -> Result<ResolverAddress, String> {
    text.parse().map_err(|why| format!("{why}; write an address, tls://HOST or https://HOST/PATH"))
}

pub(super) async fn run(context: &Context, args: &WatchArgs) -> Result<Status, CliError> {
    context.refuse_csv()?;
    let mut loaded = context.load_to_look()?;
    output::diagnostics::warn(&loaded.mistakes);
    let bounds = bounds(Span(0), RunBounds { patience: args.patience, ..RunBounds::default() });
    let home = context.open(&mut loaded, Access::Read).await?;
    let engine = loaded.engine("zone watch", home, bounds, Arc::new(())).await?;
    let order = WatchRequest { resolvers: args.resolver.clone(), ..order(&engine, args).await? };
    let watching = output::watch::Watching::start(context, &order);
    let spread = engine.zones.watch(&order, |spread| watching.show(spread)).await?;
    watching.end(&spread)?;
    Ok(if spread.is_done() { Status::Done } else { Status::NotHeld })
}

async fn order(engine: &Engine, args: &WatchArgs) -> Result<WatchRequest, CliError> {
    let desired = engine.desired();
    let hostname = desired.hostname_ids().find(|id| names::matches(&desired.hostname(*id).hostname, &args.name));
    if let (Some(id), None) = (hostname, args.record_type) {
        return Ok(engine.zones.watch_of(id).await?);
    }
    let Some(record_type) = args.record_type else {
        let says = format!("the manifest has no hostname {}", args.name);
        let known = desired.hostnames.iter().map(|wanted| wanted.hostname.as_str());
        return Err(names::unknown(says, &args.name, known, "pindrel status"));
    };
    let usage = |says: String, remedy: &str| CliError::Usage { says, remedy: remedy.into() };
    let owner: DnsName =
        args.name.parse().map_err(|error| usage(format!("{}: {error}", args.name), "Write a full name"))?;
    let zone = desired.zone_at(&owner).ok_or_else(|| {
        usage(format!("{owner} is not in any zone of the manifest"), "List them with: pindrel zone list")
    })?;
    let read = |text: &String| {
        let code = TypeCode::from(record_type);
        let wire = read_data(code, text).map_err(|error| {
            let says = format!("\"{text}\" is not valid data for {record_type}: {}", error.says);
            usage(says, "Write it as in a zone file, with full names, and quotes around texts")
        })?;
        RecordData::from_wire(record_type, &wire).ok_or_else(|| {
            usage(format!("\"{text}\" is not valid data for {record_type}"), "Write it as in a zone file")
        })
    };
    let data: Vec<RecordData> = args.value.iter().map(read).collect::<Result<_, _>>()?;
    let wanted = RecordSet::group(data.into_iter().map(|data| (Ttl::ZERO, data)));
    Ok(WatchRequest {
        zone,
        owner,
        watched: Watched::Type(record_type),
        wanted: (!args.value.is_empty()).then_some(wanted),
        old_ttl: None,
        everywhere: None,
        resolvers: Vec::new(),
    })
}

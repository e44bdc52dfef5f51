//! `pindrel handoff`

use std::sync::Arc;

use clap::{Args, ValueEnum};
use clap_complete::engine::ArgValueCandidates;
use pindrel_core::desired::{HostnameId, ZoneId};
use pindrel_core::names::name::DnsName;
use pindrel_engine::{Access, Handoff};

use crate::args::{RunBounds, Span};
use crate::completion;
use crate::context::{Context, Loaded, bounds};
use crate::error::{CliError, Status};
use crate::names;
use crate::output;

/// List the records that somebody else has to make
///
/// For a zone whose driver is "none", or one hostname in it: the aliases, what proves to an
/// authority or a platform whose a hostname is, each with why it is needed and how to see that
/// it is done. What every server of the zone returns already is ticked. For a zone that Pindrel
/// changes itself: what its registrar has to know of it.
///
/// Nothing is changed. Exit status: 0 all is made, 3 otherwise.
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  pindrel handoff alerts.larkfield.example
  pindrel handoff alerts.larkfield.example --as page > handoff.html
  pindrel handoff alerts.larkfield.example --as zone
  pindrel handoff larkfield.example            # its delegation")]
pub(crate) struct HandoffArgs {
    /// A hostname or a zone of the manifest
    #[arg(value_name = "HOSTNAME|ZONE", add = ArgValueCandidates::new(completion::hostnames_and_zones))]
    name: String,

    /// The form: text for a mail, Markdown, lines of a zone file, CSV, or an HTML page
    #[arg(long = "as", value_name = "FORM", value_enum, default_value_t = HandoffForm::Text)]
    form: HandoffForm,
}

impl HandoffArgs {
    /// The arguments that name a hostname or a zone and nothing else.
    pub(crate) fn of(name: &str) -> HandoffArgs {
        HandoffArgs { name: name.into(), form: HandoffForm::Text }
    }
}

/// In which form a handoff is written.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub(crate) enum HandoffForm {
    Text,
    Markdown,
    Zone,
    Csv,
    Page,
}

pub(crate) async fn run(context: &Context, args: &HandoffArgs) -> Result<Status, CliError> {
    let mut loaded = context.load_to_look()?;
    output::diagnostics::warn(&loaded.mistakes);
    let home = context.open(&mut loaded, Access::Read).await?;
    let (zone, hostnames) = named(&loaded, &args.name)?;
    let is_delegation = !loaded.desired.is_handed_off(zone);
    let engine = loaded.engine("handoff", home, bounds(Span(0), RunBounds::default()), Arc::new(())).await?;
    let handoff: Handoff = engine.zones.handoff(zone, &hostnames).await?;
    output::handoff::print(context, &handoff, args.form, is_delegation)?;
    Ok(if handoff.is_done() { Status::Done } else { Status::NotHeld })
}

/// The zone that is meant, and the hostnames in it.
fn named(loaded: &Loaded, typed: &str) -> Result<(ZoneId, Vec<HostnameId>), CliError> {
    let desired = &loaded.desired;
    let is_zone = |name: DnsName| desired.zone_named(&name);
    if let Some(zone) = typed.parse().ok().and_then(is_zone) {
        let own = desired.hostname_ids().filter(|id| desired.hostname(*id).zone == zone).collect();
        return Ok((zone, own));
    }
    if let Some(id) = desired.hostname_ids().find(|id| names::matches(&desired.hostname(*id).hostname, typed)) {
        let zone = desired.hostname(id).zone;
        if !desired.is_handed_off(zone) {
            let apex = &desired.zone(zone).name;
            return Err(CliError::Usage {
                says: format!("Pindrel itself changes {apex}: nothing of {typed} is left to somebody else"),
                remedy: format!("Run settle; what the registrar has to know is listed by: pindrel handoff {apex}"),
            });
        }
        return Ok((zone, vec![id]));
    }
    let known = desired.hostnames.iter().map(|wanted| wanted.hostname.as_str());
    let known = known.chain(desired.zones.iter().map(|zone| zone.name.as_str()));
    let says = format!("the manifest has no hostname and no zone {typed}");
    Err(names::unknown(says, typed, known, "pindrel zone list"))
}

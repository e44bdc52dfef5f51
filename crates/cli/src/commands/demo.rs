//! `pindrel demo`

use std::fs;
use std::io::Write as _;
use std::path::Path;
use std::time::Duration;

use clap::Args;
use pindrel_sandbox::{Listing, Options, Sandbox, control};

use crate::commands::{cert, check, handoff, health, keep, retire, sandbox, settle, status};
use crate::context::Context;
use crate::demo_manifest;
use crate::error::{CliError, Status};
use crate::output::demo as say;
use crate::signals::stop_signal;

/// What it says of the zone that somebody else edits.
const ALERTS: &str = include_str!("../../../../demo/alerts.toml");
/// That hostname, where its challenge is led, and how long whoever edits its zone takes for each of both.
const ALERTS_NAME: &str = "alerts.larkfield.example";
const ALERTS_CHALLENGE: &str = "alerts.larkfield.example._acme-challenge.larkfield.example";
const EDITED_AFTER: Duration = Duration::from_millis(500);
const ALIAS_MADE_AFTER: Duration = Duration::from_secs(2);
/// Where the plates were before: an address of the sandbox at which nobody answers.
const LEFTOVER: u8 = 44;

/// Where the hostname of the demo that moves and goes is, and where it is then.
const BEFORE: &str = "endpoints = [\"queue-north\", \"queue-south\"]";
const AFTER: &str = "endpoints = [\"queue-south\"]";
/// The begin of that hostname's table, and of what follows it.
const QUEUE: (&str, &str) = ("[hostname.\"tonight.larkfield.example\"]", "# What every name depends on.");

/// What makes it fail.
const DOWN_FAULT: &str = "endpoint-down=queue-north";
/// How long all is well before an endpoint fails.
const BEGUN: Duration = Duration::from_secs(1);
/// How long an endpoint is down, and how long the demo then goes on.
const DOWN: Duration = Duration::from_secs(4);
const BACK: Duration = Duration::from_secs(5);

/// Do the whole job on the demo data in a fresh sandbox
///
/// Starts the sandbox in a temporary folder, checks the demo manifest of Larkfield Sky
/// Survey, settles it, renews a certificate, lets an endpoint fail and come back, moves a
/// hostname, waits for somebody else's records, takes a hostname away and shows the status. Takes
/// about half a minute and leaves nothing behind.
#[derive(Debug, Args)]
pub(crate) struct DemoArgs {
    /// Leave the sandbox running and say how to go on by hand
    #[arg(long)]
    stay: bool,

    /// With --stay: leave it running in the background, and return to the shell
    #[arg(long, requires = "stay")]
    detach: bool,
}

/// Where the stand-ins run.
enum Place {
    Here(Sandbox),
    Background(Listing),
}

impl Place {
    fn listing(&self) -> &Listing {
        match self {
            Place::Here(sandbox) => sandbox.listing(),
            Place::Background(listing) => listing,
        }
    }

    /// Makes a record as somebody else would.
    async fn record(&self, folder: &Path, name: &str, record_type: &str, value: &str) {
        match self {
            Place::Here(sandbox) => drop(sandbox.record(name, record_type, value)),
            Place::Background(_) => {
                control::record(&folder.join("sandbox"), name, record_type, value).await;
            }
        }
    }

    /// Does what whoever edits the zone of the alerts is asked for.
    async fn edit_alerts(&self, folder: &Path) {
        tokio::time::sleep(EDITED_AFTER).await;
        self.record(folder, &format!("_acme-challenge.{ALERTS_NAME}"), "CNAME", ALERTS_CHALLENGE).await;
        let catalogue = self.listing().endpoints.iter().find(|endpoint| endpoint.id == "catalogue");
        let address = catalogue.map(|endpoint| endpoint.address.ip().to_string()).unwrap_or_default();
        tokio::time::sleep(ALIAS_MADE_AFTER).await;
        self.record(folder, ALERTS_NAME, "A", &address).await;
    }
}

pub(crate) async fn run(context: &Context, args: &DemoArgs) -> Result<Status, CliError> {
    let folder = tempfile::Builder::new().prefix("pindrel-demo-").tempdir()?;
    say::opening(folder.path())?;
    let stand_ins = folder.path().join("sandbox");
    let place = if args.detach {
        Place::Background(sandbox::start_detached(&stand_ins, &[]).await?)
    } else {
        let started = Sandbox::start(&stand_ins, Options::default()).await;
        Place::Here(started.map_err(|error| sandbox::failed(&error))?)
    };
    let ended = tokio::select! {
        ended = show(context, folder.path(), &place) => ended,
        signal = stop_signal() => Err(CliError::Interrupted { signal: signal?, under_way: Vec::new() }),
    };
    if let (Err(_), Place::Background(_)) = (&ended, &place) {
        control::stop(&stand_ins).await;
    }
    let status = ended?;
    say::print_curl(folder.path(), place.listing())?;
    match place {
        Place::Background(_) => {
            say::stay(folder.path(), true)?;
            let _ = folder.keep();
        }
        Place::Here(sandbox) if args.stay => {
            say::stay(folder.path(), false)?;
            sandbox::until_stopped(sandbox).await?;
        }
        Place::Here(sandbox) => {
            sandbox.stop().await;
            say::cleaned_up()?;
        }
    }
    std::io::stdout().flush()?;
    Ok(status)
}

async fn show(context: &Context, folder: &Path, place: &Place) -> Result<Status, CliError> {
    let manifest = folder.join("pindrel.toml");
    let text = demo_manifest::manifest(place.listing());
    write(&manifest, &text)?;
    let context = context.for_manifest(manifest.clone());

    let leftover = format!("{}.{LEFTOVER}", place.listing().net);
    place.record(folder, "plates.larkfield.example", "A", &leftover).await;

    say::step("check", "The manifest says which hostnames should lead where. First it is read for mistakes.")?;
    check::run(&context, &check::CheckArgs::default()).await?;
    say::step(
        "settle --dry-run",
        "What would be done, in the order that protects traffic; an old address of the plates goes by name:",
    )?;
    settle::run(&context, &settle::SettleArgs { dry_run: true, ..settle::SettleArgs::default() }).await?;
    say::step("settle", "Now it is done, each step verified by looking at the world.")?;
    settle::run(&context, &settle::SettleArgs::default()).await?;
    say::step("settle", "A second time there is nothing to do.")?;
    settle::run(&context, &settle::SettleArgs::default()).await?;
    say::step("cert renew api.larkfield.example", "A renewal, long before it is due: issued, bound, and seen served.")?;
    cert::renew(&context, "api.larkfield.example").await?;
    say::step("keep", "Pindrel keeps running. Meanwhile queue-north fails, and some seconds later it works again.")?;
    fail_over(&context, folder, place).await?;
    say::step("health list", "What the checks have found:")?;
    health::run(&context, &health::HealthCommand::list()).await?;
    let text = format!("{text}{}", demo_manifest::for_net(ALERTS, place.listing()));
    write(&manifest, &text)?;
    say::step(
        &format!("handoff {ALERTS_NAME}"),
        "The alert feed is added. Somebody else edits its zone, and is sent what is to be made:",
    )?;
    handoff::run(&context, &handoff::HandoffArgs::of(ALERTS_NAME)).await?;
    say::step(&format!("settle --only {ALERTS_NAME}"), "Pindrel waits for them, and goes on when it is there.")?;
    let only = settle::SettleArgs { only: vec![ALERTS_NAME.into()], ..settle::SettleArgs::default() };
    let (settled, ()) = tokio::join!(settle::run(&context, &only), place.edit_alerts(folder));
    settled?;
    write(&manifest, &text.replace(BEFORE, AFTER))?;
    say::step("settle", "The observing queue moves: the manifest no longer names queue-north.")?;
    settle::run(&context, &settle::SettleArgs::default()).await?;
    let (begin, end) = (text.find(QUEUE.0), text.find(QUEUE.1));
    if let Some((begin, end)) = begin.zip(end) {
        write(&manifest, &format!("{}{}", &text[..begin], &text[end..]))?;
    }
    say::step("retire tonight.larkfield.example --revoke --yes", "And it goes: the manifest no longer names it.")?;
    retire::run(&context, &retire::RetireArgs::of("tonight.larkfield.example")).await?;
    say::step("cert list", "The certificates:")?;
    cert::list(&context, &cert::ListArgs::default()).await?;
    say::step("status", "The status now:")?;
    status::run(&context, &status::StatusArgs::default()).await
}

/// Runs on while an endpoint fails and comes back.
async fn fail_over(context: &Context, folder: &Path, place: &Place) -> Result<(), CliError> {
    let stand_ins = folder.join("sandbox");
    let switch = async |on: bool| match place {
        Place::Here(sandbox) => {
            sandbox.switch(DOWN_FAULT, on);
        }
        Place::Background(_) => {
            control::switch(&stand_ins, DOWN_FAULT, on).await;
        }
    };
    let story = async {
        tokio::time::sleep(BEGUN).await;
        switch(true).await;
        tokio::time::sleep(DOWN).await;
        switch(false).await;
        tokio::time::sleep(BACK).await;
    };
    keep::run_until(context, story).await
}

fn write(manifest: &Path, text: &str) -> Result<(), CliError> {
    fs::write(manifest, text).map_err(|error| CliError::file(manifest, "written", &error))
}

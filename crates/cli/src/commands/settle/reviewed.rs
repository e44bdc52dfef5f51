//! Plans that are kept in a file to be read by somebody, and carried out as they were read.

use std::path::Path;

use jiff::Timestamp;
use pindrel_core::planning::reviewed::{ReviewedStep, kept};
use pindrel_engine::{Aim, Engine, Plan, machine};
use serde::{Deserialize, Serialize};

use super::SettleArgs;
use crate::error::CliError;
use crate::output::VERSION;

/// The longest file of a plan that is read.
const MAX_PLAN_BYTES: u64 = 256 << 20;
/// The permission bits of such a file: no secret is in it.
const MODE: u32 = 0o644;

/// A plan with what it was made for.
#[derive(Debug, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct KeptPlan {
    version: u32,
    /// When it was made.
    pub(super) at: Timestamp,
    aim: KeptAim,
    only: Vec<String>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    undo: Option<i64>,
    pub(super) steps: Vec<ReviewedStep>,
}

/// What a plan is to come to.
#[derive(Debug, Clone, Copy, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
enum KeptAim {
    Hold,
    HoldAlias,
    Rehearse,
}

impl KeptPlan {
    /// Keeps a plan in a file.
    pub(super) fn write(path: &Path, args: &SettleArgs, engine: &Engine, plan: &Plan) -> Result<(), CliError> {
        let aim = match args.aim() {
            Aim::Hold => KeptAim::Hold,
            Aim::HoldAliases => KeptAim::HoldAlias,
            Aim::Rehearse => KeptAim::Rehearse,
        };
        let (only, undo, steps) = (args.only.clone(), args.undo, kept(engine.desired(), &plan.steps));
        let plan = KeptPlan { version: VERSION, at: Timestamp::now(), aim, only, undo, steps };
        let mut text = serde_json::to_string_pretty(&plan).map_err(std::io::Error::from)?;
        text.push('\n');
        let failed = |error: std::io::Error| CliError::file(path, "written", &error);
        match machine::not_a_file(path) {
            Some(what) => Err(failed(std::io::Error::other(format!("it is {what}, not a file")))),
            None => machine::replace_file(path, text.as_bytes(), MODE, (None, None)).map_err(failed),
        }
    }

    /// Reads a plan that was kept.
    pub(super) fn read(path: &Path) -> Result<KeptPlan, CliError> {
        let bytes =
            machine::read_at_most(path, MAX_PLAN_BYTES).map_err(|error| CliError::file(path, "read", &error))?;
        let wrong = |why: String| CliError::Usage {
            says: format!("{} is not a plan that settle --dry-run --out wrote: {why}", path.display()),
            remedy: "Make it again with: pindrel settle --dry-run --out FILE".into(),
        };
        let plan: KeptPlan = serde_json::from_slice(&bytes).map_err(|error| wrong(error.to_string()))?;
        if plan.version == VERSION { Ok(plan) } else { Err(wrong(format!("it has version {}", plan.version))) }
    }

    /// Returns the arguments of the run that it is a plan of, with the bounds that were typed now.
    pub(super) fn args(&self, typed: &SettleArgs) -> SettleArgs {
        SettleArgs {
            only: self.only.clone(),
            undo: self.undo,
            // Whoever read the plan has seen what it takes away.
            yes: true,
            hold_alias: matches!(self.aim, KeptAim::HoldAlias),
            rehearse: matches!(self.aim, KeptAim::Rehearse),
            reviewed: None,
            ..typed.clone()
        }
    }
}

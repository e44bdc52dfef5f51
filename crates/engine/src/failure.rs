//! What stops a whole run, and how each error of a lower layer becomes a finding.

use pindrel_acme::TransportError;
use pindrel_core::certificates::acme::order::OrderError;
use pindrel_core::certificates::acme::problem::Problem;
use pindrel_core::judging::findings::{Again, Code, Finding, MachineCause, Report};
use pindrel_core::judging::pin::Pin;
use pindrel_core::names::name::Hostname;
use pindrel_core::text::display_text::with_causes;
use pindrel_core::values::SecretRef;
use pindrel_keys::{KeyError, SealError};
use pindrel_state::StateError;

/// Why a run could not begin or go on.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum EngineError {
    /// The state cannot be read or written.
    #[error(transparent)]
    State(#[from] StateError),
    /// A secret in the state cannot be sealed or opened.
    #[error(transparent)]
    Seal(#[from] SealError),
    /// The sealing key is not the one that the state was made with.
    #[error("the sealing key {given} is not the one that this state was made with ({made_with})")]
    WrongSealingKey {
        /// The id of the key given.
        given: String,
        /// The id of the key that the state was made with.
        made_with: String,
    },
    /// The sealing key's file cannot be read or made.
    #[error("the sealing key {path} cannot be used")]
    SealingKey {
        /// The file.
        path: std::path::PathBuf,
        /// Why.
        #[source]
        source: std::io::Error,
    },
    /// A state that several machines share has its sealing key from elsewhere.
    #[error("no sealing key is given for the state {place}")]
    SealingKeyMissing {
        /// Where the state is.
        place: String,
    },
    /// Others can read the sealing key's file.
    #[error("the sealing key {path} has mode {mode:o}, so others can read it")]
    SealingKeyOpen {
        /// The file.
        path: std::path::PathBuf,
        /// Its permission bits.
        mode: u32,
    },
    /// What `--state` names cannot be understood or used.
    #[error("the state {place} cannot be used: {why}")]
    StateLocation {
        /// What was named, without a password.
        place: String,
        /// Why.
        why: String,
    },
    /// The log of switches made while the state did not answer cannot be written or read.
    #[error("the log of switches made while the state did not answer cannot be written or read: {path}")]
    SwitchLog {
        /// The file, or its folder.
        path: std::path::PathBuf,
        /// Why.
        #[source]
        source: std::io::Error,
    },
    /// A file of that log is corrupt.
    #[error("{path} is not what keep wrote there: {why}")]
    SwitchCorrupt {
        /// The file.
        path: std::path::PathBuf,
        /// How.
        why: String,
    },
    /// A switch cannot be replayed yet: another process works on the alias.
    #[error(
        "{hostname} was switched while the state did not answer; that cannot be stored yet: {worker} is working on it"
    )]
    ReplayWaits {
        /// Whose alias.
        hostname: Hostname,
        /// The process.
        worker: String,
    },
    /// A switch cannot be replayed.
    #[error("{hostname} was switched while the state did not answer, and that cannot be stored: {says}")]
    ReplayFailed {
        /// Whose alias.
        hostname: Hostname,
        /// Why.
        says: String,
    },
    /// The state was removed or replaced while the run was under way.
    #[error("the state was removed or replaced while this run was under way")]
    StateGone,
    /// A fault of Pindrel's own.
    #[error("it ended without a result")]
    Fault,
}

impl EngineError {
    /// Says whether it may pass by itself: the state is away or does not answer.
    pub fn may_pass(&self) -> bool {
        matches!(self, EngineError::State(StateError::Open { .. } | StateError::Failed { .. }))
    }

    /// Returns what to do about it.
    pub fn remedy(&self) -> &'static str {
        match self {
            EngineError::State(StateError::Newer { .. }) => {
                "Use a Pindrel at least as new as the one that wrote the state"
            }
            EngineError::State(StateError::Older { .. }) => {
                "Run pindrel settle or keep of this version, which brings it over, once all that use it are of this version"
            }
            EngineError::State(StateError::Corrupt { .. }) => "Restore the state from its backup",
            EngineError::State(StateError::Foreign { .. }) => {
                "Name another path with --state, or restore the state from its backup"
            }
            EngineError::State(StateError::Superseded { .. }) => "Run settle: it looks again at what the other run did",
            EngineError::State(_) => {
                "Make sure that the file and its folder can be written, or the database reached, and that the disk is not full"
            }
            EngineError::WrongSealingKey { .. } | EngineError::Seal(SealError::OtherKey { .. }) => {
                "Use the key that the state was made with: in sealing.key beside the state, or in PINDREL_SEALING_KEY"
            }
            EngineError::SealingKey { source, .. } if source.kind() == std::io::ErrorKind::NotFound => {
                "Restore sealing.key from its backup, or set PINDREL_SEALING_KEY"
            }
            EngineError::SealingKey { .. } => {
                "Make sure that this user can read and write its folder, and that the disk is not full"
            }
            EngineError::SealingKeyMissing { .. } => {
                "Set PINDREL_SEALING_KEY, or name a file with --sealing-key; `openssl rand -base64 32` makes one"
            }
            EngineError::SealingKeyOpen { .. } => "Run: chmod 600 on that file",
            EngineError::Seal(_) => "Restore the state and its sealing.key from the same backup",
            EngineError::StateLocation { .. } => {
                "Write --state PATH, sqlite:PATH or postgres://USER@HOST/DATABASE?password=env:NAME"
            }
            EngineError::SwitchCorrupt { .. } => {
                "Move the file away; if the alias of that hostname is then reported as foreign, adopt it with: pindrel adopt alias HOSTNAME"
            }
            EngineError::SwitchLog { .. } => {
                "Make sure that this user can read and write that folder, and that the disk is not full"
            }
            EngineError::ReplayWaits { .. } => "Wait until it has ended, and try again",
            EngineError::ReplayFailed { .. } => "Make sure that the state can be written, and try again",
            EngineError::Fault => "Report this bug with the output of -vv",
            EngineError::StateGone => "Restore it from its backup, or run settle with a new one",
        }
    }
}

/// A secret that the manifest refers to cannot be used.
pub(crate) fn secret_unreadable(reference: &SecretRef, why: &str) -> Finding {
    secret_unreadable_for(reference, why, Code::SecretUnreadable.pin())
}

/// The same, where a pin needs it.
pub(crate) fn secret_unreadable_for(reference: &SecretRef, why: &str, pin: Pin) -> Finding {
    Finding::machine(MachineCause::SecretUnreadable { place: reference.to_string(), why: why.to_owned(), pin })
}

/// A fault of Pindrel's own.
pub(crate) fn internal(says: impl Into<String>) -> Finding {
    Finding::internal(says)
}

impl From<EngineError> for Finding {
    fn from(error: EngineError) -> Finding {
        Finding::reported(Report::new(Code::StateUnusable, with_causes(&error), error.remedy()))
    }
}

/// The finding that an error of the state is.
pub(crate) fn state_failed(error: StateError) -> Finding {
    EngineError::from(error).into()
}

/// The finding that an error of sealing is.
pub(crate) fn seal_failed(error: SealError) -> Finding {
    EngineError::from(error).into()
}

/// The finding that an error of a key in the state is.
pub(crate) fn key_failed(error: KeyError) -> Finding {
    let code = if matches!(error, KeyError::Unreadable) { Code::StateUnusable } else { Code::InternalFault };
    Finding::reported(Report::new(code, error.to_string(), "Restore the state from its backup"))
}

/// What a refusal by an authority means.
fn refusal(problem: &Problem) -> (Code, Again) {
    let code = match problem.error() {
        _ if problem.is_rate_limited() => Code::RateLimited,
        "dns" | "connection" | "unauthorized" | "incorrectResponse" | "tls" => Code::ValidationFailed,
        "caa" => Code::CaaForbids,
        "accountDoesNotExist" => Code::AccountMissing,
        _ => Code::AuthorityRefuses,
    };
    let busy =
        problem.status >= Some(500) || matches!(problem.error(), "serverInternal" | "badNonce" | "orderNotReady");
    let again = match problem.retry_at {
        Some(at) => Again::At(at),
        None if busy || code == Code::RateLimited => Again::Now,
        None => Again::Person,
    };
    (code, again)
}

/// The finding that an error of the connection to an authority is.
pub(crate) fn transport_failed(error: TransportError) -> Finding {
    let (code, again) = match &error {
        TransportError::Refused { problem, .. } => refusal(problem),
        TransportError::Http(_) | TransportError::GivenUp { .. } => (Code::AuthorityUnreachable, Again::Now),
        TransportError::Closed(_) => (Code::AccountMissing, Again::Person),
        TransportError::Signing(_) => (Code::InternalFault, Again::Person),
        _ => (Code::AuthorityRefuses, Again::Person),
    };
    Finding::reported(Report::new(code, error.to_string(), error.remedy()).again(again))
}

/// The finding that the end of an order is.
pub(crate) fn order_failed(error: &OrderError) -> Finding {
    let (code, again) = match error {
        OrderError::Refused { problem, .. } | OrderError::Invalid(problem) => refusal(problem),
        OrderError::Validation(_) => (Code::ValidationFailed, Again::Person),
        _ => (Code::OrderFailed, Again::Now),
    };
    Finding::reported(Report::new(code, error.to_string(), error.remedy()).again(again))
}

//! Observes, carries out what the core decides, and verifies each step by looking again.
//!
//! ```text
//!   observe ──▶ facts ──▶ core::pins ──▶ core::plan ──▶ execute ──▶ drivers ──▶ the world
//!      ▲                                                   │
//!      └───────────────── verify by looking ◀──────────────┘
//! ```
//!
//! Every part works on one [run](crate::Engine): what should hold, the state, the
//! vault, the drivers, the clock and the listener. The world is reached only through the
//! traits of [`drivers`], which have doubles in memory, so that a test runs this very code for
//! years of made-up time.
//!
//! | part | does |
//! | --- | --- |
//! | `observe` | turns what drivers see into facts, one file for each thing looked at |
//! | `execute` | carries a plan out: one file for each kind of work |
//! | `acme` | accounts, orders, challenges, advice, spending, rehearsals |
//! | `run` | the whole of a run, what it leaves over, and what is kept of it |
//! | `keep` | the driver of the machine that keeps running |
//! | `home` | where the state is, its secrets, and what this process has claimed on it |
//! | `health` | one-off checks, and the reports about them |
//! | `requests` | what single commands ask beside that: certificates, zones, endpoints, adopting, handing off |
//! | `drivers` | the traits to the world, and how the real ones are made |
//!
//! [`Engine::status`] looks and judges, [`Engine::plan`] says what would be done, and
//! [`Engine::settle`] does it. Nothing here prints: a [`Listener`] is told.

mod acme;
pub mod drivers;
mod events;
mod execute;
mod failure;
mod health;
mod home;
mod keep;
mod observe;
mod requests;
mod run;

pub use acme::accounts::{AccountReport, Registration};
pub use events::{Event, Listener, Summary};
pub use failure::EngineError;
pub use health::{CheckHistory, CheckReport, CheckRun, EndpointHoldReport, ForecastReport, HistoryPoint};
pub use home::{Home, StateLocation, secrets};
pub use keep::{KeepCommand, KeepSetup, MakeDrivers, keep, keep_once};
pub use pindrel_core::keep::KeepSummary;
pub use pindrel_dns::spread::Watched;
pub use pindrel_dns::zone_files;
pub use pindrel_edge::{ServerState, TokenScope, WrittenFile};
pub use pindrel_keys::AccountKey;
pub use pindrel_keys::bundle::LooseFile;
pub use pindrel_machine as machine;
pub use pindrel_state::{
    Access, Attempt, AttemptEnd, Entry, JournalFilter, Moment, OrderEnd, OrderPhase, RunChange, RunRow,
};
pub use requests::adopt::{Adoptable, Candidate, Proof};
pub use requests::certificates::{
    CertificateDetails, CertificateReport, CertificateUse, ExportForm, ImportSummary, PastCertificate, RevocationKey,
    RevocationRequest, RevokeReason,
};
pub use requests::conformance::{ClauseReport, Verdict};
pub use requests::endpoints::{BindingReport, CopyReport, EndpointReport};
pub use requests::handoff::{Handoff, HandoffRecord};
pub use requests::online::{OnlineKind, OnlineReport};
pub use requests::status::{HostnameReport, Report};
pub use requests::watch::{WatchRequest, seconds_until};
pub use requests::zones::{Import, Part, ReadZone, ServerReport, ZoneReport};
pub use run::attempts::LastAttempt;
pub use run::leftovers::{Leftover, LeftoverKind};
pub use run::settle::{Aim, LeftoverScope, Plan, Scope, Stuck};
pub use run::{Bounds, Engine, Setup};

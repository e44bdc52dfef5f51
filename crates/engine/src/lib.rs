//! Observes, carries out what the core decides, and verifies each step by looking again.
//!
//! ```text
//!   observe ──▶ facts ──▶ core::pins ──▶ core::plan ──▶ execute ──▶ drivers ──▶ the world
//!      ▲                                                   │
//!      └───────────────── verify by looking ◀──────────────┘
//! ```
//!
//! Every part works on one [`run`](crate::Engine) context: what should hold, the state, the
//! vault, the drivers, the clock and the listener. The world is reached only through the
//! traits of [`drivers`], which have doubles in memory, so that a test runs this very code for
//! years of made-up time.
//!
//! | part | does |
//! | --- | --- |
//! | `observe` | turns what drivers see into facts, one file for each thing looked at |
//! | `execute` | carries a plan out: one file for each kind of work |
//! | `acme` | accounts, orders, challenges, advice, spending, rehearsals |
//! | `certificates` | what a person does with certificates: list, show, import, export, revoke |
//! | `adopt`, `leftovers` | what exists without a record of it, and what the manifest no longer names |
//! | `drivers` | the traits to the world, and how the real ones are made |
//!
//! [`Engine::status`] looks and judges, [`Engine::plan`] says what would be done, and
//! [`Engine::settle`] does it. Nothing here prints: a [`Listener`] is told.

mod acme;
mod adopt;
mod attempts;
mod certificates;
mod conformance;
pub mod drivers;
mod endpoints;
mod events;
mod execute;
mod failure;
mod handoff;
mod health;
mod home;
mod keep;
mod leases;
mod leftovers;
mod observe;
mod online;
mod run;
mod runs;
pub mod secrets;
mod settle;
mod status;
mod stores;
mod waits;
mod watch;
mod zones;

pub use acme::accounts::{AccountReport, Registration};
pub use adopt::{Adoptable, Candidate, Proof};
pub use attempts::LastAttempt;
pub use certificates::{
    CertificateDetails, CertificateReport, CertificateUse, ExportForm, ImportSummary, PastCertificate, RevocationKey,
    RevocationRequest, RevokeReason,
};
pub use conformance::{ClauseReport, Verdict};
pub use endpoints::{BindingReport, CopyReport, EndpointReport};
pub use events::{Event, Listener, Summary};
pub use failure::EngineError;
pub use handoff::{Handoff, HandoffRecord};
pub use health::{CheckHistory, CheckReport, CheckRun, EndpointHoldReport, ForecastReport, HistoryPoint};
pub use home::{Home, StateLocation};
pub use keep::{KeepCommand, KeepSetup, MakeDrivers, keep, keep_once};
pub use leftovers::{Leftover, LeftoverKind};
pub use online::{OnlineKind, OnlineReport};
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
pub use run::{Bounds, Engine, Setup};
pub use settle::{Aim, LeftoverScope, Plan, Scope, Stuck};
pub use status::{HostnameReport, Report};
pub use watch::{WatchRequest, seconds_until};
pub use zones::{Import, Part, ReadZone, ServerReport, ZoneReport};

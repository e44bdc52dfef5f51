//! Observes, carries out what the core decides, and verifies each step by looking again.
//!
//! ```text
//!   observe ──▶ facts ──▶ core::pins ──▶ core::plan ──▶ execute ──▶ drivers ──▶ the world
//!      ▲                                                   │
//!      └───────────────── verify by looking ◀──────────────┘
//! ```
//!
//! A run is a context, which every part shares: what should hold, the state, the vault, the drivers, the clock and the
//! listener. Over it stand parts with their own fields, each with those before it that it needs; [`Engine`] makes them.
//! The world is reached only through the traits of [`drivers`], which have doubles in memory, so that a test runs this
//! very code for years of made-up time.
//!
//! | part | does |
//! | --- | --- |
//! | `context` | what every part shares, with journal, claims and waits |
//! | `home` | where the state is, what is stored of hostnames and certificates, secrets, and what this process has claimed |
//! | `observe` | turns what drivers see into facts, one file for each thing looked at |
//! | `health` | one-off checks, and the reports about them |
//! | `acme` | accounts, orders, challenges, advice, spending, rehearsals |
//! | `execute` | carries a plan out: one file for each kind of work |
//! | `run` | the whole of a run, and what it leaves over |
//! | `requests` | what single commands ask beside that: certificates, zones, endpoints, adopting, handing off |
//! | `keep` | the driver of the machine that keeps running |
//! | `drivers` | the traits to the world, and how the real ones are made |
//!
//! [`Reports::status`] looks and judges, [`Engine::plan`] says what would be done, and
//! [`Engine::settle`] does it. Nothing here prints: a [`Listener`] is told.

mod acme;
mod context;
pub mod drivers;
mod engine;
mod events;
mod execute;
mod failure;
mod health;
mod home;
mod keep;
mod observe;
mod requests;
mod run;

pub use acme::accounts::{AccountReport, Accounts, Registration};
pub use context::scope::{Aim, LeftoverScope, Scope};
pub use context::{Bounds, Setup};
pub use engine::Engine;
pub use events::{Event, LeftoverKind, Listener, Summary};
pub use failure::EngineError;
pub use health::{CheckHistory, CheckReport, CheckRun, EndpointHoldReport, ForecastReport, Health, HistoryPoint};
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
    Access, Attempt, AttemptEnd, Entry, JournalFilter, ManifestOrigin, Moment, OrderEnd, OrderPhase, RunChange, RunRow,
};
pub use requests::adopt::{Adoptable, Adoption, Candidate, Proof};
pub use requests::certificates::{
    CertificateDetails, CertificateReport, CertificateRequests, CertificateUse, ExportForm, ImportSummary,
    PastCertificate, RevocationKey, RevocationRequest, RevokeReason, write_export,
};
pub use requests::conformance::{ClauseReport, Verdict};
pub use requests::endpoints::{BindingReport, CopyReport, EndpointReport, EndpointRequests};
pub use requests::handoff::{Handoff, HandoffRecord};
pub use requests::online::{OnlineKind, OnlineReport};
pub use requests::status::{GivenReport, HostnameReport, Report, Reports};
pub use requests::watch::{WatchRequest, seconds_until};
pub use requests::zones::{Import, Part, ReadZone, ServerReport, ZoneReport, ZoneRequests};
pub use run::attempts::LastAttempt;
pub use run::leftovers::{Leftover, Retirer};
pub use run::settle::{Plan, Stuck};

//! The thinking part of Pindrel: what should hold, what is missing, in which order
//! to act, and what went wrong.
//!
//! This crate does no I/O, reads no clock, draws no random number and knows no
//! async runtime. Every input is a value and every output is a value, so each
//! decision can be tested from data alone.
//!
//! ```text
//!  manifest text ──▶ manifest ──▶ desired ─┐
//!                                          ├─▶ pins ──▶ plan
//!  facts (what drivers saw, and when) ─────┘     └────▶ findings
//! ```
//!
//! ```
//! use pindrel_core::name::Hostname;
//!
//! let wildcard: Hostname = "*.Stations.Larkfield.example".parse()?;
//! assert_eq!(wildcard.to_string(), "*.stations.larkfield.example");
//! assert_eq!(
//!     wildcard.challenge_name().to_string(),
//!     "_acme-challenge.stations.larkfield.example",
//! );
//! # Ok::<(), pindrel_core::name::NameError>(())
//! ```

pub mod acme;
pub mod budget;
pub mod caa;
pub mod delivery;
pub mod desired;
pub mod display_text;
pub mod endpoint;
pub mod expectation;
pub mod facts;
pub mod findings;
pub mod health;
pub mod keep;
pub mod load_balancer;
pub mod manifest;
pub mod moves;
pub mod name;
pub mod name_servers;
pub mod pin;
pub mod pins;
pub mod plan;
pub mod policy;
pub mod propagation;
pub mod records;
pub mod renewal;
pub mod resolver;
pub mod rights;
pub mod sent_secrets;
pub mod undo;
pub mod unicode;
pub mod values;
pub mod web_server;
pub mod zone_data;
pub mod zone_file;

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
//! use pindrel_core::names::name::Hostname;
//!
//! let wildcard: Hostname = "*.Stations.Larkfield.example".parse()?;
//! assert_eq!(wildcard.to_string(), "*.stations.larkfield.example");
//! assert_eq!(
//!     wildcard.challenge_name().to_string(),
//!     "_acme-challenge.stations.larkfield.example",
//! );
//! # Ok::<(), pindrel_core::names::name::NameError>(())
//! ```

pub mod certificates;
pub mod desired;
pub mod endpoints;
pub mod health;
pub mod judging;
pub mod keep;
pub mod manifest;
pub mod names;
pub mod planning;
pub mod text;
pub mod values;
pub mod zones;

//! Drives the built program on files in temporary folders, against real servers and
//! against the sandbox.

mod real;

/// The built program.
const PINDREL: &str = env!("CARGO_BIN_EXE_pindrel");

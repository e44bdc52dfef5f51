//! Benches of Pindrel.

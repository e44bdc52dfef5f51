//! Planning: which steps lead to what is wanted, in which order; moves, and undoing.

pub mod moves;
pub mod plan;
pub mod undo;

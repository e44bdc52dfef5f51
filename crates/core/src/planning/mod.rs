//! Planning: which steps lead to what is wanted, in which order; moves, plans that were reviewed, and undoing.

pub mod moves;
pub mod plan;
pub mod reviewed;
pub mod undo;

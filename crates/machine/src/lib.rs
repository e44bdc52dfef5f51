//! The machine that Pindrel runs on, as its drivers use it: [`Program`]s that the manifest names, and files that are
//! replaced as a whole.

mod files;
mod program;

pub use files::{create_file, replace_file, replace_file_unless};
pub use program::Program;

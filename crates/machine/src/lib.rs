//! The machine that Pindrel runs on, as its drivers use it: [`Program`]s that the manifest names, files that are read
//! within bounds, and files that are replaced as a whole; and processes without rights for what reads files of others.

mod confined;
mod host;
mod program;
mod read;
mod replace;

pub use confined::{confine, run_confined};
pub use host::{host_name, may_write};
pub use program::Program;
pub use read::{group_id, open_regular, read_at_most, read_regular, read_text, read_with_metadata, user_id};
pub use replace::{create_file, not_a_file, replace_file, replace_file_unless};

//! The name of this machine, and what this user may do on it.

/// Returns the name of this machine, for messages that others read.
pub fn host_name() -> String {
    nix::unistd::gethostname().map_or_else(|_| "an unnamed machine".into(), |name| name.to_string_lossy().into_owned())
}

/// Says whether this user may write at a path.
pub fn may_write(path: &std::path::Path) -> bool {
    nix::unistd::access(path, nix::unistd::AccessFlags::W_OK).is_ok()
}

/// Says whether this user may execute what is at a path.
pub(crate) fn may_execute(path: &std::path::Path) -> bool {
    nix::unistd::access(path, nix::unistd::AccessFlags::X_OK).is_ok()
}

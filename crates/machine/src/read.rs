//! Files that are read within a bound, whatever they are: a pipe or a device has no length to ask for.

use std::fs::{File, Metadata};
use std::io::{Error, ErrorKind, Read as _, Result};
use std::os::unix::fs::OpenOptionsExt as _;
use std::path::Path;

use nix::unistd::{Group, User};
use zeroize::Zeroizing;

/// Reads a file; what was read is wiped when it is no longer needed.
///
/// # Errors
/// Those of the file system, and one where it has more than `most` bytes.
pub fn read_at_most(path: &Path, most: u64) -> Result<Zeroizing<Vec<u8>>> {
    read_with_metadata(path, most).map(|(bytes, _)| bytes)
}

/// Reads a file, with what the file system says of the one that was read.
///
/// # Errors
/// As [`read_at_most`].
pub fn read_with_metadata(path: &Path, most: u64) -> Result<(Zeroizing<Vec<u8>>, Metadata)> {
    let (file, metadata) = open(path)?;
    let expected = metadata.len().min(most);
    // As much as it takes at once: what grows leaves copies behind.
    let mut bytes = Zeroizing::new(Vec::with_capacity(usize::try_from(expected + 1).unwrap_or_default()));
    if file.take(most + 1).read_to_end(&mut bytes)? as u64 > most {
        return Err(Error::other(format!("it has more than {most} bytes")));
    }
    Ok((bytes, metadata))
}

/// Opens a file of any kind for reading. Nobody is waited for: a pipe without a writer is an empty file.
fn open(path: &Path) -> Result<(File, Metadata)> {
    let file = File::options().read(true).custom_flags(nix::libc::O_NONBLOCK).open(path)?;
    let metadata = file.metadata()?;
    Ok((file, metadata))
}

/// Opens a file for reading that must be a regular one: a pipe, a socket or a device would be waited for, or never end.
///
/// # Errors
/// Those of the file system, and one where it is something else.
pub fn open_regular(path: &Path) -> Result<(File, Metadata)> {
    let (file, metadata) = open(path)?;
    if metadata.is_dir() {
        return Err(Error::from(ErrorKind::IsADirectory));
    }
    if !metadata.is_file() {
        return Err(Error::other("it is not a regular file"));
    }
    Ok((file, metadata))
}

/// Reads a regular file.
///
/// # Errors
/// Those of the file system, and one where it is no regular file or has more than `most` bytes.
pub fn read_regular(path: &Path, most: u64) -> Result<Vec<u8>> {
    let (file, metadata) = open_regular(path)?;
    let mut bytes = Vec::with_capacity(usize::try_from(metadata.len().min(most)).unwrap_or_default());
    if file.take(most + 1).read_to_end(&mut bytes)? as u64 > most {
        return Err(Error::other(format!("it has more than {} MiB", most >> 20)));
    }
    Ok(bytes)
}

/// Reads a text file; wiping it is up to whoever wants that.
///
/// # Errors
/// As [`read_at_most`], and [`ErrorKind::InvalidData`] where it is not UTF-8.
pub fn read_text(path: &Path, most: u64) -> Result<String> {
    let mut bytes = read_at_most(path, most)?;
    String::from_utf8(std::mem::take(&mut *bytes)).map_err(|error| Error::new(ErrorKind::InvalidData, error))
}

/// Returns the number of the user of that name, where this machine has one.
pub fn user_id(name: &str) -> Option<u32> {
    User::from_name(name).ok().flatten().map(|user| user.uid.as_raw())
}

/// Returns the number of the group of that name, where this machine has one.
pub fn group_id(name: &str) -> Option<u32> {
    Group::from_name(name).ok().flatten().map(|group| group.gid.as_raw())
}

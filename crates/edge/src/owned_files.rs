//! Files that Pindrel writes for servers on this machine.

use std::fs;
use std::io::ErrorKind;
use std::os::unix::fs::DirBuilderExt as _;
use std::path::Path;

use pindrel_core::names::name::Hostname;
use pindrel_core::text::display_text::io_reason;
use pindrel_machine::{read_regular, replace_file};

use crate::{BoundHostname, EdgeError};

/// How each file begins that a person might edit.
pub(crate) const WRITTEN_BY: &str = "# Written by Pindrel; what is changed here by hand is overwritten.\n";
/// The longest file that is read.
const MAX_BYTES: u64 = 16 << 20;

/// Returns what a hostname's files are called, without their ending. No hostname begins with an
/// underscore.
pub(crate) fn base_name(hostname: &Hostname) -> String {
    match hostname.as_str().strip_prefix("*.") {
        Some(base) => format!("_.{base}"),
        None => hostname.to_string(),
    }
}

/// Returns the hostname whose files are called so.
pub(crate) fn hostname_of(base: &str) -> Option<Hostname> {
    let wildcard = base.strip_prefix("_.").map(|rest| format!("*.{rest}"));
    wildcard.as_deref().unwrap_or(base).parse().ok()
}

/// Refuses to change what is not as it was read.
pub(crate) fn require_unchanged(
    known: Option<&BoundHostname>,
    present: Option<String>,
    hostname: &Hostname,
) -> Result<(), EdgeError> {
    let as_read = known.and_then(|known| known.etag.clone()) == present;
    if as_read { Ok(()) } else { Err(EdgeError::Changed(hostname.clone())) }
}

pub(crate) fn failed(path: &Path, doing: &'static str) -> impl Fn(std::io::Error) -> EdgeError + use<> {
    let path = path.display().to_string();
    move |error| EdgeError::File { path: path.clone(), doing, why: io_reason(&error) }
}

/// Makes a folder with those above it; one that exists stays as it is.
pub(crate) fn make_folder(path: &Path, mode: u32) -> Result<(), EdgeError> {
    fs::DirBuilder::new().recursive(true).mode(mode).create(path).map_err(failed(path, "made"))
}

/// Reads a file; `None` where there is none.
pub(crate) fn read(path: &Path) -> Result<Option<String>, EdgeError> {
    let bytes = match read_regular(path, MAX_BYTES) {
        Err(error) if error.kind() == ErrorKind::NotFound => return Ok(None),
        read => read.map_err(failed(path, "read"))?,
    };
    let text = String::from_utf8(bytes).map_err(|error| std::io::Error::new(ErrorKind::InvalidData, error));
    text.map(Some).map_err(failed(path, "read"))
}

/// Writes a file as a whole: who reads it sees the old one or the new one.
pub(crate) fn write(path: &Path, text: &str, mode: u32) -> Result<(), EdgeError> {
    replace_file(path, text.as_bytes(), mode, (None, None)).map_err(failed(path, "written"))
}

/// Removes a file, if there is one.
pub(crate) fn remove(path: &Path) -> Result<(), EdgeError> {
    match fs::remove_file(path) {
        Err(error) if error.kind() != ErrorKind::NotFound => Err(failed(path, "removed")(error)),
        _ => Ok(()),
    }
}

/// Returns the names of what is in a folder, sorted.
pub(crate) fn names(folder: &Path) -> Vec<String> {
    let entries = fs::read_dir(folder).into_iter().flatten().flatten();
    let mut names: Vec<String> = entries.filter_map(|entry| entry.file_name().into_string().ok()).collect();
    names.sort();
    names
}

#[cfg(test)]
mod tests {
    use std::os::unix::fs::PermissionsExt as _;

    use super::*;

    #[test]
    fn a_hostname_and_its_files_name_each_other_and_nobody_elses() {
        for name in ["api.larkfield.example", "*.stations.larkfield.example", "xn--bcher-kva.example", "a-b.c.example"]
        {
            let hostname: Hostname = name.parse().unwrap();
            assert!(!base_name(&hostname).contains(['*', '/']), "{name}");
            assert_eq!(hostname_of(&base_name(&hostname)), Some(hostname));
        }
        for foreign in ["00-services", "_default", "", "..", "a b.example", "_.", "*.*.example"] {
            assert_eq!(hostname_of(foreign), None, "{foreign:?}");
        }
    }

    #[test]
    fn a_file_is_whole_and_its_own_whatever_lay_there_before() {
        let folder = tempfile::tempdir().unwrap();
        let (path, elsewhere) = (folder.path().join("key.pem"), folder.path().join("elsewhere"));
        assert_eq!(read(&path), Ok(None));
        remove(&path).unwrap();
        // A link that somebody laid in the way.
        fs::write(&elsewhere, "theirs").unwrap();
        std::os::unix::fs::symlink(&elsewhere, &path).unwrap();
        write(&path, "secret", 0o600).unwrap();
        assert_eq!(fs::read_to_string(&elsewhere).unwrap(), "theirs");
        assert_eq!(read(&path), Ok(Some("secret".into())));
        assert_eq!(fs::symlink_metadata(&path).unwrap().permissions().mode() & 0o777, 0o600);
        assert_eq!(names(folder.path()).len(), 2, "nothing is left beside it");
        for (wrong, doing) in [(folder.path().join("key.pem/x"), "written"), (folder.path().join("none/x"), "written")]
        {
            let failed = write(&wrong, "", 0o600).unwrap_err();
            assert!(matches!(failed, EdgeError::File { doing: told, .. } if told == doing));
        }
        assert!(matches!(read(folder.path()), Err(EdgeError::File { doing: "read", .. })), "a folder is no file");
        fs::File::create(&elsewhere).unwrap().set_len(MAX_BYTES + 1).unwrap();
        assert!(matches!(read(&elsewhere), Err(EdgeError::File { doing: "read", .. })), "nor is what is too long");
    }
}

//! Files that are replaced as a whole: a reader sees the old one or the new one, never a part.

use std::fs::{self, File, Permissions};
use std::io::{self, Write as _};
use std::os::unix::fs::{FileTypeExt as _, PermissionsExt as _, fchown};
use std::path::{Path, PathBuf};
use std::time::Duration;

use tempfile::NamedTempFile;

/// What the name of a file that is not whole yet has between the name that it shall get and some random letters.
const UNFINISHED: &str = ".pindrel-unfinished-";
const RANDOM_LETTERS: usize = 10;
/// The age from which such a file counts as abandoned.
const ABANDONED: Duration = Duration::from_secs(600);

/// Puts a whole file in the place of another, for a user and a group where they are given.
///
/// # Errors
/// Where it cannot be written; the old file stays.
pub fn replace_file(path: &Path, bytes: &[u8], mode: u32, owner: (Option<u32>, Option<u32>)) -> io::Result<()> {
    replace_file_unless(path, bytes, mode, owner, || Ok(None::<()>)).map(|_| ())
}

/// Returns what stands at a path instead of a file: whatever is written there would take its place.
pub fn not_a_file(path: &Path) -> Option<&'static str> {
    let found = fs::symlink_metadata(path).ok()?.file_type();
    [
        (found.is_file(), None),
        (found.is_symlink(), Some("a link")),
        (found.is_dir(), Some("a folder")),
        (found.is_fifo(), Some("a pipe")),
        (found.is_socket(), Some("a socket")),
        (true, Some("a device")),
    ]
    .into_iter()
    .find_map(|(is, what)| is.then_some(what))?
}

/// The same, unless at the last moment there is a reason not to; that is returned.
///
/// # Errors
/// Where it cannot be written, or the reason not be looked for; the old file stays.
pub fn replace_file_unless<T>(
    path: &Path,
    bytes: &[u8],
    mode: u32,
    (user, group): (Option<u32>, Option<u32>),
    reason: impl FnOnce() -> io::Result<Option<T>>,
) -> io::Result<Option<T>> {
    let (mut file, folder) = temporary_beside(path)?;
    sweep(&folder, &unfinished(path), file.as_file());
    file.write_all(bytes)?;
    file.as_file().set_permissions(Permissions::from_mode(mode))?;
    if user.is_some() || group.is_some() {
        // By its descriptor: a link that was put in the place of its name is not followed.
        fchown(file.as_file(), user, group)?;
    }
    file.as_file().sync_all()?;
    if let Some(reason) = reason()? {
        return Ok(Some(reason));
    }
    file.persist(path).map_err(|error| error.error)?;
    // The name is permanently in the folder only once the folder is written too.
    File::open(folder)?.sync_all()?;
    Ok(None)
}

/// Makes a file that is not there yet, whole or not at all.
///
/// # Errors
/// Where it cannot be written, or exists.
pub fn create_file(path: &Path, bytes: &[u8], mode: u32) -> io::Result<()> {
    let (mut file, folder) = temporary_beside(path)?;
    file.write_all(bytes)?;
    file.as_file().set_permissions(Permissions::from_mode(mode))?;
    file.as_file().sync_all()?;
    file.persist_noclobber(path).map_err(|error| error.error)?;
    File::open(folder)?.sync_all()
}

/// What the names of files begin with that shall get this one's.
fn unfinished(path: &Path) -> String {
    format!(".{}{UNFINISHED}", path.file_name().unwrap_or_default().to_string_lossy())
}

/// Removes what a run left behind that was killed between writing this very file and giving it its name: it
/// may hold a private key. How old that is follows from the file that was made `just_now`: a file server may have
/// another time than this machine.
fn sweep(folder: &Path, begin: &str, just_now: &File) {
    let Ok(entries) = fs::read_dir(folder) else { return };
    let Ok(now) = just_now.metadata().and_then(|metadata| metadata.modified()) else { return };
    let is_left = |name: &str| {
        let letters = name.strip_prefix(begin).unwrap_or_default();
        letters.len() == RANDOM_LETTERS && letters.bytes().all(|letter| letter.is_ascii_alphanumeric())
    };
    for entry in entries.flatten().filter(|entry| is_left(&entry.file_name().to_string_lossy())) {
        // Of a link it is the link itself that is looked at.
        let old = entry.metadata().is_ok_and(|metadata| {
            let age = metadata.modified().ok().and_then(|modified| now.duration_since(modified).ok());
            metadata.is_file() && age.is_some_and(|age| age > ABANDONED)
        });
        if old {
            // Whoever may not remove it did not write it.
            let _ = fs::remove_file(entry.path());
        }
    }
}

fn temporary_beside(path: &Path) -> io::Result<(NamedTempFile, PathBuf)> {
    let folder = path.parent().filter(|folder| !folder.as_os_str().is_empty());
    let folder = folder.map_or_else(|| PathBuf::from("."), Path::to_owned);
    let name = unfinished(path);
    Ok((tempfile::Builder::new().prefix(&name).rand_bytes(RANDOM_LETTERS).tempfile_in(&folder)?, folder))
}

#[cfg(test)]
mod tests {
    use std::io::Read as _;

    use super::*;

    fn names(folder: &Path) -> Vec<String> {
        let files = std::fs::read_dir(folder).unwrap();
        files.map(|file| file.unwrap().file_name().to_string_lossy().into_owned()).collect()
    }

    #[test]
    fn a_file_is_replaced_as_a_whole_or_not_at_all() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("site.pem");
        for (bytes, mode) in [(&b"old"[..], 0o644), (b"new and longer", 0o600), (b"", 0o440)] {
            // Whoever has it open goes on reading the old one.
            let before = std::fs::File::open(&path).ok();
            replace_file(&path, bytes, mode, (None, None)).unwrap();
            let (read, metadata) = (std::fs::read(&path).unwrap(), std::fs::metadata(&path).unwrap());
            let found = metadata.permissions().mode() & 0o777;
            assert_eq!((&read[..], found), (bytes, mode));
            if let Some(mut before) = before {
                let mut text = Vec::new();
                before.read_to_end(&mut text).unwrap();
                assert_ne!(text, bytes);
            }
        }
        // What a killed run left of this very file is swept; what is being written is not, nor what others named alike.
        let left = folder.path().join(".site.pem.pindrel-unfinished-0123456789");
        std::fs::write(&left, "a private key").unwrap();
        replace_file(&path, b"", 0o440, (None, None)).unwrap();
        assert!(left.exists());
        let foreign =
            [".pindrel-notes", ".site.pem.pindrel-unfinished-notes", ".other.pem.pindrel-unfinished-0123456789"];
        let long_ago = std::time::SystemTime::now() - ABANDONED - std::time::Duration::from_secs(1);
        for name in foreign.iter().map(|name| folder.path().join(name)).chain([left.clone()]) {
            let file = std::fs::File::options().create(true).write(true).truncate(false).open(name).unwrap();
            file.set_modified(long_ago).unwrap();
        }
        replace_file(&path, b"", 0o440, (None, None)).unwrap();
        assert!(!left.exists());
        for name in foreign {
            std::fs::remove_file(folder.path().join(name)).unwrap();
        }
        // What changed at the last moment stays.
        let reason = replace_file_unless(&path, b"late", 0o440, (None, None), || Ok(Some("changed"))).unwrap();
        assert_eq!((reason, std::fs::read(&path).unwrap()), (Some("changed"), Vec::new()));
        // A folder in its place, and a folder that is not there: nothing is left behind.
        let taken = folder.path().join("taken");
        std::fs::create_dir(&taken).unwrap();
        assert!(replace_file(&taken, b"bytes", 0o600, (None, None)).is_err());
        assert!(replace_file(&folder.path().join("none/site.pem"), b"bytes", 0o600, (None, None)).is_err());
        let mut left = names(folder.path());
        left.sort();
        assert_eq!(left, ["site.pem", "taken"]);
    }
}

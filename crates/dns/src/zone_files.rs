//! Zone files on this machine, with the files that they include.

use std::fs::File;
use std::io::{self, BufRead as _, BufReader, Read as _};
use std::path::{Path, PathBuf};

use pindrel_core::text::display_text::io_reason;
use pindrel_core::zones::zone_data::{NameKey, Place, TypeCode, ZoneBuilder, ZoneData, ZoneTooLarge};
use pindrel_core::zones::zone_file::{Include, LONGEST_ENTRY, Mistake, MistakeCode, Reader, Sink};
use pindrel_machine::open_regular;

/// The most files of one zone, and how deep they may be nested.
const MOST_FILES: usize = 100;
const DEEPEST: usize = 8;
/// How many bytes all of them have together at most.
const MOST_BYTES: u64 = 256 << 20;
/// The most mistakes that are kept; more are counted.
const MOST_MISTAKES: usize = 1_000;

/// A zone as its files have it.
#[derive(Debug)]
pub struct ReadFiles {
    /// The files, by the numbers in places.
    pub files: Vec<PathBuf>,
    /// What could be read.
    pub zone: ZoneData,
    /// What could not.
    pub mistakes: Vec<Mistake>,
    /// The number of mistakes after the first.
    pub more: usize,
}

/// Returns the name of the zone that a file is named after, such as `larkfield.example.zone` or
/// `db.larkfield.example`.
pub fn named_after(path: &Path) -> Option<NameKey> {
    let name = path.file_name()?.to_str()?;
    let name =
        ["zone", "db", "txt", "dns"].iter().find_map(|end| name.strip_suffix(&format!(".{end}"))).unwrap_or(name);
    let name = name.strip_prefix("db.").unwrap_or(name);
    let is_name = name.contains('.') && !name.contains(|c: char| !(c.is_ascii_alphanumeric() || "-_.".contains(c)));
    is_name.then(|| NameKey::parse(name.as_bytes(), &NameKey::root()).ok())?
}

/// Reads a zone file with those that it includes, which lie in its own folder or in `below`, or in a folder therein:
/// their paths are relative to the file that includes them, or else to `below`, as a server takes its own folder.
/// Relative names are completed with `origin` until the file says otherwise.
///
/// # Errors
/// Where the file itself cannot be read; what it includes is a mistake at the line that does.
pub fn read(path: &Path, origin: &NameKey, apex: Option<NameKey>, below: Option<&Path>) -> io::Result<ReadFiles> {
    let (file, metadata) = open_regular(path)?;
    let own = path.parent().filter(|folder| !folder.as_os_str().is_empty()).unwrap_or(Path::new("."));
    let mut reading = Reading {
        files: vec![path.to_owned()],
        folders: [Some(own), below].into_iter().flatten().filter_map(|folder| folder.canonicalize().ok()).collect(),
        below: below.map(Path::to_owned),
        builder: ZoneBuilder::with_room_for(metadata.len().min(MOST_BYTES)),
        records: 0,
        mistakes: Vec::new(),
        more: 0,
        bytes_left: MOST_BYTES,
        is_full: false,
    };
    let mut reader = Reader::new(origin.clone(), 0);
    reading.file(path, file, &mut reader, 0)?;
    // A link that somebody else may have made shows nothing of what it leads to, unless that is a zone file.
    if reading.mistakes.len() + reading.more > reading.records && path.is_symlink() {
        return Err(io::Error::other("it leads to what is no zone file"));
    }
    let Reading { files, builder, mistakes, more, .. } = reading;
    // A part of a zone has no SOA record.
    let apex = apex.or_else(|| builder.first_soa().cloned()).unwrap_or_else(|| origin.clone());
    Ok(ReadFiles { files, zone: builder.finish(Some(apex)), mistakes, more })
}

struct Reading {
    files: Vec<PathBuf>,
    /// Where included files may lie.
    folders: Vec<PathBuf>,
    /// Where paths begin besides.
    below: Option<PathBuf>,
    builder: ZoneBuilder,
    records: usize,
    mistakes: Vec<Mistake>,
    more: usize,
    bytes_left: u64,
    is_full: bool,
}

impl Reading {
    fn file(&mut self, path: &Path, file: File, reader: &mut Reader, depth: usize) -> io::Result<()> {
        let mut file = BufReader::with_capacity(1 << 16, file);
        let mut line = Vec::new();
        loop {
            line.clear();
            // One byte more than an entry may have, so that a longer one is told.
            let length = (&mut file).take(LONGEST_ENTRY as u64 + 1).read_until(b'\n', &mut line)?;
            if length == 0 {
                break;
            }
            self.bytes_left = self.bytes_left.checked_sub(length as u64).ok_or_else(too_long)?;
            if length > LONGEST_ENTRY && !line.ends_with(b"\n") {
                let skipped = skip_line(&mut file, self.bytes_left)?;
                self.bytes_left = self.bytes_left.checked_sub(skipped).ok_or_else(too_long)?;
            }
            if let Some(include) = reader.line(&line, self) {
                self.include(path, reader, &include, depth);
            }
            if self.is_full {
                return Err(io::Error::other(ZoneTooLarge));
            }
        }
        reader.end(self);
        Ok(())
    }

    fn include(&mut self, from: &Path, reader: &Reader, include: &Include, depth: usize) {
        let beside = from.parent().unwrap_or(Path::new("")).join(&include.path);
        let below = self.below.as_ref().map(|below| below.join(&include.path));
        let path = below.filter(|below| !beside.exists() && below.exists()).unwrap_or(beside);
        if self.bytes_left == 0 {
            return;
        }
        if depth + 1 > DEEPEST || self.files.len() >= MOST_FILES {
            let why = format!("a zone has at most {MOST_FILES} files, {DEEPEST} deep; does a file include itself?");
            return self.mistake(include.unreadable(why));
        }
        let number = u16::try_from(self.files.len()).unwrap_or(u16::MAX);
        self.files.push(path.clone());
        let mut inner = reader.included(include, number);
        let before = (self.records, self.mistakes.len(), self.more);
        let read = self.open(&path).and_then(|file| self.file(&path, file, &mut inner, depth + 1));
        let (records, kept, more) = before;
        // A file that cannot be included is a mistake of the line that includes it.
        let is_of_entry = |mistake: &Mistake| mistake.code != MistakeCode::Include;
        let wrong = self.mistakes[kept..].iter().filter(|mistake| is_of_entry(mistake)).count() + self.more - more;
        let why = match read {
            Err(error) => io_reason(&error),
            Ok(()) if wrong > self.records - records => format!("it is no zone file ({wrong} entries cannot be read)"),
            Ok(()) => return,
        };
        // What is no zone file may be a secret: nothing of it is shown.
        let others: Vec<Mistake> = self.mistakes.drain(kept..).filter(|mistake| !is_of_entry(mistake)).collect();
        self.mistakes.extend(others);
        self.more = more;
        self.mistake(include.unreadable(why));
    }

    /// Opens an included file, wherever a link leads, below the folders that it may lie in.
    fn open(&self, path: &Path) -> io::Result<File> {
        let real = path.canonicalize()?;
        if !self.folders.iter().any(|folder| real.starts_with(folder)) {
            let why = "it lies outside the folder of the zone file; --include-below FOLDER allows another one";
            return Err(io::Error::other(why));
        }
        open_regular(&real).map(|(file, _)| file)
    }
}

fn too_long() -> io::Error {
    io::Error::other(format!("the zone's files have more than {} MiB", MOST_BYTES >> 20))
}

/// Skips the rest of a line, or more than `most` bytes of it; returns how many.
fn skip_line(file: &mut BufReader<File>, most: u64) -> io::Result<u64> {
    let mut skipped = 0;
    loop {
        let buffer = file.fill_buf()?;
        if buffer.is_empty() || skipped > most {
            return Ok(skipped);
        }
        let (taken, is_end) = match buffer.iter().position(|octet| *octet == b'\n') {
            Some(at) => (at + 1, true),
            None => (buffer.len(), false),
        };
        file.consume(taken);
        skipped += taken as u64;
        if is_end {
            return Ok(skipped);
        }
    }
}

impl Sink for Reading {
    fn record(&mut self, owner: &NameKey, code: TypeCode, ttl: u32, data: &[u8], place: Place) {
        self.records += 1;
        self.is_full |= self.builder.add(owner, code, ttl, data, place).is_err();
    }

    fn spelling(&mut self, text: &str) {
        self.builder.spell(text);
    }

    fn mistake(&mut self, mistake: Mistake) {
        if self.mistakes.len() < MOST_MISTAKES {
            self.mistakes.push(mistake);
        } else {
            self.more += 1;
        }
    }
}

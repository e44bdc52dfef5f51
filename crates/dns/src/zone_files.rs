//! Zone files on this machine, with the files that they include.

use std::fs::File;
use std::io::{self, BufRead as _, BufReader, Read as _};
use std::path::{Path, PathBuf};

use pindrel_core::display_text::io_reason;
use pindrel_core::zone_data::{NameKey, Place, TypeCode, ZoneBuilder, ZoneData};
use pindrel_core::zone_file::{Include, LONGEST_ENTRY, Mistake, Reader, Sink};

/// The most files of one zone, and how deep they may be nested.
const MOST_FILES: usize = 100;
const DEEPEST: usize = 8;
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

/// Reads a zone file. Relative names are completed with `origin` until the file says otherwise.
///
/// # Errors
/// Where the file itself cannot be read; what it includes is a mistake at the line that does.
pub fn read(path: &Path, origin: &NameKey, apex: Option<NameKey>) -> io::Result<ReadFiles> {
    let size = std::fs::metadata(path).map_or(0, |metadata| metadata.len());
    let mut reading = Reading {
        files: vec![path.to_owned()],
        builder: ZoneBuilder::with_room_for(size),
        mistakes: Vec::new(),
        more: 0,
        is_full: false,
    };
    let mut reader = Reader::new(origin.clone(), 0);
    reading.file(path, &mut reader, 0)?;
    let Reading { files, builder, mistakes, more, .. } = reading;
    // A part of a zone has no SOA record.
    let apex = apex.or_else(|| builder.first_soa().cloned()).unwrap_or_else(|| origin.clone());
    Ok(ReadFiles { files, zone: builder.finish(Some(apex)), mistakes, more })
}

struct Reading {
    files: Vec<PathBuf>,
    builder: ZoneBuilder,
    mistakes: Vec<Mistake>,
    more: usize,
    is_full: bool,
}

impl Reading {
    fn file(&mut self, path: &Path, reader: &mut Reader, depth: usize) -> io::Result<()> {
        let mut file = BufReader::with_capacity(1 << 16, File::open(path)?);
        let mut line = Vec::new();
        loop {
            line.clear();
            // One byte more than an entry may have, so that a longer one is told.
            let length = (&mut file).take(LONGEST_ENTRY as u64 + 1).read_until(b'\n', &mut line)?;
            if length == 0 {
                break;
            }
            if length > LONGEST_ENTRY && !line.ends_with(b"\n") {
                skip_line(&mut file)?;
            }
            if let Some(include) = reader.line(&line, self) {
                self.include(path, reader, &include, depth);
            }
            if self.is_full {
                return Err(io::Error::other("the zone has more than 4 GiB of names and data"));
            }
        }
        reader.end(self);
        Ok(())
    }

    fn include(&mut self, from: &Path, reader: &Reader, include: &Include, depth: usize) {
        let path = from.parent().unwrap_or(Path::new("")).join(&include.path);
        if depth + 1 > DEEPEST || self.files.len() >= MOST_FILES {
            let why = format!("a zone has at most {MOST_FILES} files, {DEEPEST} deep; does a file include itself?");
            return self.mistake(include.unreadable(why));
        }
        let number = u16::try_from(self.files.len()).unwrap_or(u16::MAX);
        self.files.push(path.clone());
        let mut inner = reader.included(include, number);
        if let Err(error) = self.file(&path, &mut inner, depth + 1) {
            self.mistake(include.unreadable(io_reason(&error)));
        }
    }
}

fn skip_line(file: &mut BufReader<File>) -> io::Result<()> {
    loop {
        let buffer = file.fill_buf()?;
        if buffer.is_empty() {
            return Ok(());
        }
        let (taken, is_end) = match buffer.iter().position(|octet| *octet == b'\n') {
            Some(at) => (at + 1, true),
            None => (buffer.len(), false),
        };
        file.consume(taken);
        if is_end {
            return Ok(());
        }
    }
}

impl Sink for Reading {
    fn record(&mut self, owner: &NameKey, code: TypeCode, ttl: u32, data: &[u8], place: Place) {
        self.is_full |= self.builder.add(owner, code, ttl, data, place).is_err();
    }

    fn mistake(&mut self, mistake: Mistake) {
        if self.mistakes.len() < MOST_MISTAKES {
            self.mistakes.push(mistake);
        } else {
            self.more += 1;
        }
    }
}

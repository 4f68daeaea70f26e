//! One file that is followed: its content, known by how it begins and by the bytes before the place shipped last, and the
//! whole lines that are waiting in it.

use super::position::{FINGERPRINT_BYTES, Position, hex};
use anyhow::{Context, Result};
use std::fs::{File, Metadata};
use std::io::{Read, Seek, SeekFrom};
use std::os::unix::fs::{FileExt, MetadataExt};
use std::path::{Path, PathBuf};
use std::time::{Duration, Instant};

/// A line longer than this is taken as it is.
const MAX_LINE: u64 = 4 << 20;
/// How packed data begins: gzip, zstd, xz, bzip2.
const PACKED: [&[u8]; 4] = [b"\x1f\x8b", b"\x28\xb5\x2f\xfd", b"\xfd7zXZ", b"BZh"];

/// A file being read.
pub struct Followed {
    /// Device and number: its name while it lives.
    pub id: String,
    pub path: PathBuf,
    file: File,
    /// Bytes shipped.
    pub offset: u64,
    /// Lines shipped.
    pub line: u64,
    /// When it was last seen to grow.
    grown: Instant,
    pub(super) size: u64,
    /// How its content begins, as far as it was seen.
    begins: Vec<u8>,
    /// The bytes before `offset`.
    ends: Vec<u8>,
    /// The file whose content this one repeats.
    pub(super) copy_of: Option<String>,
    /// Whether it is the rest of a file that was cut: it grows no more.
    pub(super) is_rest: bool,
}

/// Bytes of a file that are to be shipped together.
pub struct Piece {
    pub from: u64,
    pub to: u64,
    pub bytes: Vec<u8>,
}

/// Content that is no longer where it was: its file was cut.
pub(super) struct Lost {
    pub path: PathBuf,
    pub begins: Vec<u8>,
    ends: Vec<u8>,
    pub offset: u64,
    pub line: u64,
}

pub(super) fn id_of(meta: &Metadata) -> String {
    format!("{:x}-{:x}", meta.dev(), meta.ino())
}

/// The bytes of a file from `at`, `length` at most.
fn bytes_at(file: &File, at: u64, length: usize) -> Result<Vec<u8>> {
    let mut bytes = vec![0; length];
    let mut read = 0;
    while read < length {
        match file.read_at(bytes.get_mut(read..).unwrap_or_default(), at + read as u64)? {
            0 => break,
            n => read += n,
        }
    }
    bytes.truncate(read);
    Ok(bytes)
}

/// The bytes before `offset`, by which a place in a content is known.
fn bytes_before(file: &File, offset: u64) -> Result<Vec<u8>> {
    let from = offset.saturating_sub(FINGERPRINT_BYTES as u64);
    bytes_at(file, from, usize::try_from(offset - from)?)
}

fn begins_like(file: &File, begins: &[u8]) -> Result<bool> {
    Ok(bytes_at(file, 0, begins.len())? == begins)
}

impl Followed {
    /// Opens a file at its start.
    pub(super) fn open(path: &Path) -> Result<Self> {
        let file = File::open(path).with_context(|| format!("cannot read {}", path.display()))?;
        let meta = file.metadata()?;
        Ok(Followed {
            id: id_of(&meta),
            path: path.to_owned(),
            begins: bytes_at(&file, 0, FINGERPRINT_BYTES)?,
            file,
            offset: 0,
            line: 0,
            grown: Instant::now(),
            size: meta.len(),
            ends: Vec::new(),
            copy_of: None,
            is_rest: false,
        })
    }

    /// Its position, to be kept.
    pub fn position(&self) -> Position {
        Position {
            path: self.path.clone(),
            offset: self.offset,
            line: self.line,
            begins: hex(&self.begins),
            ends: hex(&self.ends),
            rest: self.is_rest,
        }
    }

    /// Moves on behind what was shipped.
    pub fn shipped(&mut self, piece: &Piece) -> Result<()> {
        let lines = memchr::memchr_iter(b'\n', &piece.bytes).count() as u64;
        self.go_to(piece.to, self.line + lines)
    }

    pub(super) fn go_to(&mut self, offset: u64, line: u64) -> Result<()> {
        (self.offset, self.line) = (offset, line);
        self.ends = bytes_before(&self.file, offset)?;
        Ok(())
    }

    /// Bytes that are there and not shipped.
    pub fn waiting(&self) -> u64 {
        if self.copy_of.is_some() { 0 } else { self.size.saturating_sub(self.offset) }
    }

    /// Goes to where it was; what was lost where it is another content now.
    pub(super) fn resume(&mut self, known: &Position) -> Result<Option<Lost>> {
        let (begins, ends) = (known.begin_bytes(), known.end_bytes());
        self.is_rest = known.rest;
        if known.offset <= self.size && begins_like(&self.file, &begins)? {
            self.go_to(known.offset, known.line)?;
            if ends.is_empty() || self.ends == ends {
                return Ok(None);
            }
            (self.offset, self.line, self.ends) = (0, 0, Vec::new());
        }
        self.is_rest = false;
        Ok(Some(Lost { path: self.path.clone(), begins, ends, offset: known.offset, line: known.line }))
    }

    /// Whether it holds packed data.
    pub(super) fn is_packed(&self) -> bool {
        PACKED.iter().any(|magic| self.begins.starts_with(magic))
    }

    /// Looks how large the file is, and whether it is still the same content; what is lost where it is not.
    pub(super) fn look(&mut self) -> Result<Option<Lost>> {
        let size = self.file.metadata()?.len();
        if size != self.size {
            self.grown = Instant::now();
        }
        self.size = size;
        if size >= self.offset && begins_like(&self.file, &self.begins)? {
            if self.begins.len() < FINGERPRINT_BYTES {
                self.begins = bytes_at(&self.file, 0, FINGERPRINT_BYTES)?;
            }
            return Ok(None);
        }
        let lost = Lost {
            path: self.path.clone(),
            begins: std::mem::take(&mut self.begins),
            ends: std::mem::take(&mut self.ends),
            offset: self.offset,
            line: self.line,
        };
        (self.offset, self.line, self.is_rest, self.copy_of) = (0, 0, false, None);
        self.begins = bytes_at(&self.file, 0, FINGERPRINT_BYTES)?;
        Ok(Some(lost))
    }

    /// Whether it holds what was lost, and so more than was shipped of it, or just that.
    pub(super) fn holds(&self, lost: &Lost) -> Result<bool> {
        let from = lost.offset.saturating_sub(lost.ends.len() as u64);
        Ok(self.size >= lost.offset
            && self.size > 0
            && begins_like(&self.file, &lost.begins)?
            && bytes_at(&self.file, from, lost.ends.len())? == lost.ends)
    }

    /// Whether all it has is also what `other` begins with.
    pub(super) fn repeats(&self, other: &Followed) -> Result<bool> {
        let common = usize::try_from(self.size)?.min(FINGERPRINT_BYTES);
        Ok(self.size > 0
            && self.size <= other.size
            && bytes_at(&self.file, 0, common)? == bytes_at(&other.file, 0, common)?
            && bytes_before(&self.file, self.size)? == bytes_before(&other.file, self.size)?)
    }

    /// The bytes from `from` to `to`, which were noted before.
    pub fn again(&self, from: u64, to: u64) -> Result<Piece> {
        let mut bytes = vec![0; usize::try_from(to.saturating_sub(from))?];
        self.file.read_exact_at(&mut bytes, from)?;
        Ok(Piece { from, to, bytes })
    }

    /// Whether it is at `offset` of content that begins so.
    pub fn is_at(&self, offset: u64, begins: &str) -> bool {
        self.offset == offset && self.copy_of.is_none() && hex(&self.begins).starts_with(begins)
    }

    /// Whole lines up to `most` bytes; with `all`, also a last one without an end. Nothing where the file was cut
    /// meanwhile, which the next look finds.
    pub fn read(&mut self, most: u64, all: bool) -> Result<Option<Piece>> {
        if self.copy_of.is_some() {
            return Ok(None);
        }
        let all = all || self.is_rest;
        self.file.seek(SeekFrom::Start(self.offset))?;
        let mut bytes = Vec::new();
        self.file.by_ref().take(most).read_to_end(&mut bytes)?;
        if !begins_like(&self.file, &self.begins)? || self.file.metadata()?.len() < self.offset {
            return Ok(None);
        }
        if !bytes.contains(&b'\n') && bytes.len() as u64 >= most && most < MAX_LINE {
            return self.read(MAX_LINE, all);
        }
        let at_end = self.offset + bytes.len() as u64 >= self.size;
        let whole = bytes.iter().rposition(|b| *b == b'\n').map_or(0, |at| at + 1);
        if whole > 0 || !(all && at_end || bytes.len() as u64 >= MAX_LINE) {
            bytes.truncate(if all && at_end { bytes.len() } else { whole });
        }
        Ok((!bytes.is_empty()).then(|| Piece { from: self.offset, to: self.offset + bytes.len() as u64, bytes }))
    }

    /// Whether there is nothing behind `to`.
    pub fn ends_at(&self, to: u64) -> bool {
        to >= self.size
    }

    /// Whether nothing was added for so long, or nothing will be.
    pub fn rests(&self, since: Duration) -> bool {
        self.is_rest || self.grown.elapsed() >= since
    }
}

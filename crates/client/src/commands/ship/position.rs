//! What was shipped, on disk: how far each file is, and the batch that is under way.
//!
//! A batch is noted with its bounds and its idempotency key before it is first sent, and its end becomes the file's
//! position when it was answered. After a crash in between, just these bytes are sent again under the same key, which
//! the service stores once.

use super::content::{Followed, Piece};
use anyhow::{Context, Result, bail};
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use std::fs::{File, TryLockError};
use std::io::Write;
use std::path::{Path, PathBuf};

/// Bytes from the start of a file by which it is known again.
pub const FINGERPRINT_BYTES: usize = 256;

/// How far a file is.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Position {
    /// Where it was found last.
    pub path: PathBuf,
    /// Bytes shipped.
    pub offset: u64,
    /// Lines shipped.
    pub line: u64,
    /// The file's first bytes, as hex: another file may get the number of one that is gone, and a file may be cut.
    pub begins: String,
    /// The bytes before `offset`, as hex.
    #[serde(default)]
    pub ends: String,
    /// Whether it is a copy in which the rest of a file is read that was cut.
    #[serde(default)]
    pub rest: bool,
}

impl Position {
    /// The file's first bytes.
    pub fn begin_bytes(&self) -> Vec<u8> {
        bytes_of(&self.begins)
    }

    /// The bytes before `offset`.
    pub fn end_bytes(&self) -> Vec<u8> {
        bytes_of(&self.ends)
    }
}

/// A batch that was noted and not answered yet.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Pending {
    /// The file.
    pub file: String,
    /// Its bytes.
    pub from: u64,
    /// See `from`.
    pub to: u64,
    /// The idempotency key.
    pub key: String,
    /// The file's first bytes, as hex.
    #[serde(default)]
    pub begins: String,
}

impl Pending {
    /// A piece of a file.
    pub fn of(file: &Followed, piece: &Piece, key: String) -> Self {
        let begins = file.position().begins;
        Pending { file: file.id.clone(), from: piece.from, to: piece.to, key, begins }
    }
}

/// The file's content.
#[derive(Debug, Default, Serialize, Deserialize)]
struct Kept {
    files: BTreeMap<String, Position>,
    pending: Option<Pending>,
}

/// Positions in a folder that no other process uses.
pub struct Positions {
    folder: PathBuf,
    kept: Kept,
    _lock: File,
}

impl Positions {
    /// Opens the folder, making it where it is missing.
    pub fn open(folder: &Path) -> Result<Self> {
        let shown = folder.display();
        std::fs::create_dir_all(folder).with_context(|| format!("cannot make {shown}"))?;
        let lock = File::create(folder.join("lock")).with_context(|| format!("cannot write in {shown}"))?;
        match lock.try_lock() {
            Ok(()) => {}
            Err(TryLockError::WouldBlock) => {
                bail!("another `calvex ship` uses {shown}; give each a folder of its own with --state")
            }
            Err(TryLockError::Error(e)) => bail!("cannot lock {shown}: {e}"),
        }
        let file = folder.join("positions.json");
        let kept = match std::fs::read(&file) {
            Ok(bytes) => serde_json::from_slice(&bytes).with_context(|| {
                format!("{} does not read; remove it to ship every file from its start", file.display())
            })?,
            Err(e) if e.kind() == std::io::ErrorKind::NotFound => Kept::default(),
            Err(e) => return Err(e).with_context(|| format!("cannot read {}", file.display())),
        };
        Ok(Positions { folder: folder.to_owned(), kept, _lock: lock })
    }

    /// The position kept of a file, whatever it holds now.
    pub fn of(&self, file: &str) -> Option<&Position> {
        self.kept.files.get(file)
    }

    /// The copies in which the rest of a cut file is read.
    pub fn rests(&self) -> impl Iterator<Item = (&str, &Position)> {
        self.kept.files.iter().filter(|(_, p)| p.rest).map(|(id, p)| (id.as_str(), p))
    }

    /// The batch under way.
    pub fn pending(&self) -> Option<&Pending> {
        self.kept.pending.as_ref()
    }

    /// Notes a batch before it is sent, and where its file stands.
    pub fn begin(&mut self, pending: Pending, position: Position) -> Result<()> {
        self.kept.files.insert(pending.file.clone(), position);
        self.kept.pending = Some(pending);
        self.write()
    }

    /// Keeps positions, all at once.
    pub fn put(&mut self, positions: impl IntoIterator<Item = (String, Position)>) -> Result<()> {
        self.kept.files.extend(positions);
        self.write()
    }

    /// Notes that the batch under way was answered.
    pub fn done(&mut self, file: &str, position: Position) -> Result<()> {
        self.kept.pending = None;
        self.kept.files.insert(file.to_owned(), position);
        self.write()
    }

    /// Forgets the batch under way: its file is gone.
    pub fn give_up(&mut self) -> Result<()> {
        self.kept.pending = None;
        self.write()
    }

    /// Forgets a file.
    pub fn forget(&mut self, file: &str) -> Result<()> {
        match self.kept.files.remove(file) {
            Some(_) => self.write(),
            None => Ok(()),
        }
    }

    /// Written beside and moved in place, so that it is whole always.
    fn write(&self) -> Result<()> {
        let beside = self.folder.join("positions.new");
        let mut file = File::create(&beside)?;
        file.write_all(&serde_json::to_vec(&self.kept)?)?;
        file.sync_data()?;
        std::fs::rename(&beside, self.folder.join("positions.json"))?;
        Ok(())
    }
}

fn bytes_of(hex: &str) -> Vec<u8> {
    let byte = |pair: &[u8]| std::str::from_utf8(pair).ok().and_then(|p| u8::from_str_radix(p, 16).ok());
    hex.as_bytes().chunks(2).map_while(byte).collect()
}

/// The first bytes of a file, as kept.
pub fn hex(bytes: &[u8]) -> String {
    bytes.iter().take(FINGERPRINT_BYTES).map(|b| format!("{b:02x}")).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_noted_is_there_again_and_another_file_is_told_apart() -> Result<()> {
        let folder = tempfile::tempdir()?;
        let mut positions = Positions::open(folder.path())?;
        assert!(Positions::open(folder.path()).is_err(), "one process at a time");
        let begins = hex(b"door 1\n");
        let position =
            Position { path: "x.log".into(), offset: 10, line: 2, begins: begins.clone(), ..Position::default() };
        let pending = Pending { file: "1-2".into(), from: 0, to: 10, key: "k".into(), begins };
        positions.begin(pending, Position::default())?;
        drop(positions);
        let mut positions = Positions::open(folder.path())?;
        assert_eq!(positions.pending().map(|p| p.to), Some(10));
        positions.done("1-2", position.clone())?;
        drop(positions);
        let positions = Positions::open(folder.path())?;
        assert_eq!((positions.pending(), positions.of("1-2")), (None, Some(&position)));
        assert_eq!(position.begin_bytes(), b"door 1\n");
        Ok(())
    }
}

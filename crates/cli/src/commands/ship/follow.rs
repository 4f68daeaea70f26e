//! Files that grow: found by name or pattern, read through growth, rotation and truncation.

use super::position::{FINGERPRINT_BYTES, Positions, hex};
use anyhow::{Context, Result};
use std::fs::{File, Metadata};
use std::io::{Read, Seek, SeekFrom};
use std::os::unix::fs::{FileExt, MetadataExt};
use std::path::{Path, PathBuf};
use std::time::{Duration, Instant};

/// A file that has lost its name is let go when it has not grown for so long.
const FAREWELL: Duration = Duration::from_secs(5);
/// A line longer than this is taken as it is.
const MAX_LINE: u64 = 4 << 20;

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
    size: u64,
}

/// Bytes of a file that are to be shipped together.
pub struct Piece {
    pub from: u64,
    pub to: u64,
    pub bytes: Vec<u8>,
}

fn id_of(meta: &Metadata) -> String {
    format!("{:x}-{:x}", meta.dev(), meta.ino())
}

impl Followed {
    /// Opens a file at the position known of it, or at its start.
    fn open(path: &Path, positions: &Positions) -> Result<Self> {
        let file = File::open(path).with_context(|| format!("cannot read {}", path.display()))?;
        let meta = file.metadata()?;
        let id = id_of(&meta);
        let known = positions.of(&id, &first_bytes(&file)?).filter(|p| p.offset <= meta.len());
        let (offset, line) = known.map_or((0, 0), |p| (p.offset, p.line));
        Ok(Followed { id, path: path.to_owned(), file, offset, line, grown: Instant::now(), size: meta.len() })
    }

    /// How the file begins, for its position.
    pub fn begins(&self) -> Result<String> {
        Ok(hex(&first_bytes(&self.file)?))
    }

    /// Bytes that are there and not shipped.
    pub fn waiting(&self) -> u64 {
        self.size.saturating_sub(self.offset)
    }

    /// Looks how large the file is; true where it was cut and is read from its start.
    fn look(&mut self) -> Result<bool> {
        let size = self.file.metadata()?.len();
        if size != self.size {
            self.grown = Instant::now();
        }
        self.size = size;
        let cut = size < self.offset;
        if cut {
            (self.offset, self.line) = (0, 0);
        }
        Ok(cut)
    }

    /// The bytes from `from` to `to`, which were noted before.
    pub fn again(&self, from: u64, to: u64) -> Result<Piece> {
        let mut bytes = vec![0; usize::try_from(to.saturating_sub(from))?];
        self.file.read_exact_at(&mut bytes, from)?;
        Ok(Piece { from, to, bytes })
    }

    /// Whole lines up to `most` bytes; with `all`, also a last one without an end.
    pub fn read(&mut self, most: u64, all: bool) -> Result<Option<Piece>> {
        self.file.seek(SeekFrom::Start(self.offset))?;
        let mut bytes = Vec::new();
        self.file.by_ref().take(most).read_to_end(&mut bytes)?;
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

    /// Whether nothing was added for so long.
    pub fn rests(&self, since: Duration) -> bool {
        self.grown.elapsed() >= since
    }
}

fn first_bytes(file: &File) -> Result<Vec<u8>> {
    let mut bytes = vec![0; FINGERPRINT_BYTES];
    let length = file.read_at(&mut bytes, 0)?;
    bytes.truncate(length);
    Ok(bytes)
}

/// The files that some patterns name.
pub struct Files {
    patterns: Vec<String>,
    pub followed: Vec<Followed>,
}

impl Files {
    /// Files, patterns (`*`, `?`, `**`, `[..]`) and folders, whose files are meant.
    pub fn new(named: &[String]) -> Self {
        let pattern = |name: &String| {
            if Path::new(name).is_dir() { format!("{}/*", name.trim_end_matches('/')) } else { name.clone() }
        };
        Files { patterns: named.iter().map(pattern).collect(), followed: Vec::new() }
    }

    /// The patterns that name no file now.
    pub fn missing(&self) -> Vec<&str> {
        self.patterns.iter().filter(|p| paths(p).next().is_none()).map(String::as_str).collect()
    }

    /// Looks for new files, growth and cuts, and lets go of what is gone and shipped; the files that were cut.
    pub fn look(&mut self, positions: &mut Positions) -> Result<Vec<PathBuf>> {
        let mut cut = Vec::new();
        let mut named = Vec::new();
        for path in self.patterns.iter().flat_map(|p| paths(p)) {
            let Ok(meta) = path.metadata() else { continue };
            if !meta.is_file() {
                continue;
            }
            let id = id_of(&meta);
            match self.followed.iter_mut().find(|f| f.id == id) {
                Some(known) => known.path = path,
                None => {
                    // A file that went between the two looks is no fault.
                    if let Ok(found) = Followed::open(&path, positions) {
                        self.followed.push(found);
                    }
                }
            }
            named.push(id);
        }
        for followed in &mut self.followed {
            if followed.look()? {
                cut.push(followed.path.clone());
            }
        }
        let (kept, gone): (Vec<Followed>, Vec<Followed>) = std::mem::take(&mut self.followed)
            .into_iter()
            .partition(|f| named.contains(&f.id) || f.waiting() > 0 || !f.rests(FAREWELL));
        self.followed = kept;
        for file in gone {
            positions.forget(&file.id)?;
        }
        Ok(cut)
    }
}

/// The paths of a pattern; one that is no pattern is a path.
fn paths(pattern: &str) -> Box<dyn Iterator<Item = PathBuf>> {
    if Path::new(pattern).exists() {
        return Box::new(std::iter::once(PathBuf::from(pattern)));
    }
    match glob::glob(pattern) {
        Ok(found) => Box::new(found.filter_map(Result::ok)),
        Err(_) => Box::new(std::iter::empty()),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::io::Write;

    fn all(files: &mut Files, positions: &mut Positions) -> Result<Vec<String>> {
        files.look(positions)?;
        let mut told = Vec::new();
        for file in &mut files.followed {
            while let Some(piece) = file.read(16, false)? {
                file.offset = piece.to;
                told.push(String::from_utf8(piece.bytes)?);
            }
        }
        Ok(told)
    }

    #[test]
    fn growth_rotation_and_truncation() -> Result<()> {
        let folder = tempfile::tempdir()?;
        let mut positions = Positions::open(&folder.path().join("state"))?;
        let path = folder.path().join("a.log");
        let mut files = Files::new(&[format!("{}/*.log", folder.path().display())]);
        assert_eq!((all(&mut files, &mut positions)?.len(), files.missing().len()), (0, 1));
        let mut file = File::create(&path)?;
        file.write_all(b"one\ntwo\nhalf")?;
        assert_eq!(all(&mut files, &mut positions)?, ["one\ntwo\n"]);
        file.write_all(b" done\n")?;
        assert_eq!(all(&mut files, &mut positions)?, ["half done\n"]);
        // Renamed, and written to once more; a new one under its name.
        std::fs::rename(&path, folder.path().join("a.log.1"))?;
        File::create(&path)?.write_all(b"new\n")?;
        file.write_all(b"last words\n")?;
        let mut told = all(&mut files, &mut positions)?;
        told.sort();
        assert_eq!(told, ["last words\n", "new\n"]);
        // Cut and written anew.
        File::create(&path)?.write_all(b"n\n")?;
        assert_eq!(all(&mut files, &mut positions)?, ["n\n"]);
        // A line longer than a batch is still one line.
        File::options().append(true).open(&path)?.write_all(b"a line of more than sixteen bytes\n")?;
        assert_eq!(all(&mut files, &mut positions)?, ["a line of more than sixteen bytes\n"]);
        Ok(())
    }
}

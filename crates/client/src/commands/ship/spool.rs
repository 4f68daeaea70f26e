//! Standard input on its way: copied to files of a few MiB, so that what was read is not lost with this process, and up to
//! a bound, so that a service which is away fills no disk.

use super::content::Followed;
use super::files_in;
use super::position::Positions;
use anyhow::{Context, Result};
use std::fs::File;
use std::io::{BufRead, BufReader, Write};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::time::Duration;

/// A file of the spool is closed when it has so many bytes.
const SEGMENT_BYTES: u64 = 4 << 20;
/// The folder's size is looked at whenever so much was written.
const CHECK_BYTES: u64 = 256 << 10;
/// How often a full spool is looked at.
const FULL: Duration = Duration::from_millis(100);

/// The spool, and the thread that fills it.
pub struct Spool {
    folder: PathBuf,
    /// Whether standard input has ended.
    ended: Arc<AtomicBool>,
    /// The file being written.
    writing: Arc<AtomicU64>,
}

fn segment(folder: &Path, number: u64) -> PathBuf {
    folder.join(format!("{number:016}.lines"))
}

fn number_of(path: &Path) -> Option<u64> {
    path.file_name()?.to_str()?.strip_suffix(".lines")?.parse().ok()
}

fn size(folder: &Path) -> u64 {
    files_in(folder).unwrap_or_default().iter().filter_map(|p| p.metadata().ok()).map(|m| m.len()).sum()
}

impl Spool {
    /// Begins to copy standard input; what an earlier process left is shipped first.
    pub fn start(folder: &Path, most: u64) -> Result<Self> {
        std::fs::create_dir_all(folder).with_context(|| format!("cannot make {}", folder.display()))?;
        let last = files_in(folder)?.iter().filter_map(|p| number_of(p)).max().unwrap_or(0);
        let (ended, writing) = (Arc::new(AtomicBool::new(false)), Arc::new(AtomicU64::new(last + 1)));
        let (to, done, number) = (folder.to_owned(), ended.clone(), writing.clone());
        std::thread::spawn(move || {
            if let Err(e) = copy(BufReader::new(std::io::stdin()), &to, most, &number) {
                eprintln!("calvex ship: standard input is read no further: {e}");
            }
            done.store(true, Ordering::SeqCst);
        });
        Ok(Spool { folder: folder.to_owned(), ended, writing })
    }

    /// The pattern of its files.
    pub fn pattern(&self) -> String {
        format!("{}/*.lines", self.folder.display())
    }

    /// Whether standard input has ended and is written.
    pub fn ended(&self) -> bool {
        self.ended.load(Ordering::SeqCst)
    }

    /// Removes the files that are shipped and written no more.
    pub fn remove_shipped(&self, followed: &mut Vec<Followed>, positions: &mut Positions) -> Result<()> {
        let writing = if self.ended() { u64::MAX } else { self.writing.load(Ordering::SeqCst) };
        let mut kept = Vec::new();
        for file in std::mem::take(followed) {
            let own = file.path.parent() == Some(&self.folder);
            let closed = own && number_of(&file.path).is_some_and(|n| n < writing);
            if closed && file.path.metadata().is_ok_and(|m| m.len() == file.offset) {
                std::fs::remove_file(&file.path)?;
                positions.forget(&file.id)?;
            } else {
                kept.push(file);
            }
        }
        *followed = kept;
        Ok(())
    }
}

fn copy(mut from: impl BufRead, folder: &Path, most: u64, writing: &AtomicU64) -> std::io::Result<()> {
    let mut line = Vec::new();
    let (mut out, mut written, mut unchecked): (Option<File>, u64, u64) = (None, 0, 0);
    loop {
        line.clear();
        if from.read_until(b'\n', &mut line)? == 0 {
            return Ok(());
        }
        if line.last() != Some(&b'\n') {
            line.push(b'\n');
        }
        unchecked += line.len() as u64;
        if unchecked > CHECK_BYTES.min(most / 4) {
            unchecked = 0;
            while size(folder) > most {
                // A file that is closed can be shipped and removed.
                if out.take().is_some() {
                    writing.fetch_add(1, Ordering::SeqCst);
                }
                std::thread::sleep(FULL);
            }
        }
        if written >= SEGMENT_BYTES && out.take().is_some() {
            writing.fetch_add(1, Ordering::SeqCst);
        }
        let file = match out.as_mut() {
            Some(file) => file,
            None => {
                written = 0;
                let path = segment(folder, writing.load(Ordering::SeqCst));
                out.insert(File::options().create(true).append(true).open(path)?)
            }
        };
        file.write_all(&line)?;
        written += line.len() as u64;
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn lines_go_to_files_of_a_bounded_size() -> Result<()> {
        let folder = tempfile::tempdir()?;
        let line = format!("{}\n", "x".repeat(1 << 20));
        let writing = AtomicU64::new(1);
        copy(line.repeat(6).as_bytes(), folder.path(), 64 << 20, &writing)?;
        let files = files_in(folder.path())?;
        assert_eq!((files.len(), size(folder.path())), (2, line.len() as u64 * 6));
        assert_eq!(files.iter().filter_map(|p| number_of(p)).collect::<Vec<_>>(), [1, 2]);
        Ok(())
    }
}

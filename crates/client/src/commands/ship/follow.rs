//! Files that grow: found by name or pattern, read through growth, rotation and truncation.
//!
//! Content is known by how it begins and by the bytes before the place shipped last, not by its file alone:
//!
//! | what happens | what is done |
//! | --- | --- |
//! | a file is renamed | it keeps its number, and is read on under its new name |
//! | a file of the same name and folder begins like one that is followed, and as far as it goes | it is a copy: nothing of it is shipped while the first stands |
//! | a file is shorter than before, or begins otherwise | it was cut: what was not shipped is read from a copy, if there is one; then the file from its start |
//! | a file begins like packed data | it is passed over, and reported once |

use super::content::{Followed, Lost, id_of};
use super::position::{Pending, Positions};
use anyhow::Result;
use std::collections::HashSet;
use std::path::{Path, PathBuf};
use std::time::Duration;

/// A file that has lost its name is let go when it has not grown for so long.
const FAREWELL: Duration = Duration::from_secs(5);

/// What a look found that its user should know.
#[derive(Debug, PartialEq, Eq)]
pub enum Notice {
    /// A file was cut; whether a copy of what it held was found.
    Cut(PathBuf, bool),
    /// A file is packed.
    Packed(PathBuf),
}

/// Whether a file is called as copies of another are: in its folder, with its name and more behind it, or with a number
/// or date before its ending.
fn named_like(copy: &Path, of: &Path) -> bool {
    let name = |path: &Path| path.file_name().and_then(|n| n.to_str()).map(str::to_owned).unwrap_or_default();
    let (copy_name, name) = (name(copy), name(of));
    let longer = copy_name.len() > name.len() && copy_name.starts_with(&name);
    let (stem, ending) = name.rsplit_once('.').unwrap_or((name.as_str(), ""));
    let within = copy_name.strip_prefix(stem).and_then(|rest| rest.strip_suffix(ending));
    let dated = within
        .is_some_and(|w| w.len() > 1 && w.starts_with(['-', '_', '.']) && w.contains(|c: char| c.is_ascii_digit()));
    copy.parent() == of.parent() && (longer || dated)
}

/// The files that some patterns name.
pub struct Files {
    patterns: Vec<String>,
    pub followed: Vec<Followed>,
    /// Packed files that were passed over.
    packed: HashSet<String>,
}

impl Files {
    /// Files, patterns (`*`, `?`, `**`, `[..]`) and folders, whose files are meant.
    pub fn new(named: &[String]) -> Self {
        let pattern = |name: &String| {
            if Path::new(name).is_dir() { format!("{}/*", name.trim_end_matches('/')) } else { name.clone() }
        };
        Files { patterns: named.iter().map(pattern).collect(), followed: Vec::new(), packed: HashSet::new() }
    }

    /// The patterns that name no file now.
    pub fn missing(&self) -> Vec<&str> {
        self.patterns.iter().filter(|p| paths(p).next().is_none()).map(String::as_str).collect()
    }

    /// Looks for new files, growth, copies and cuts, and lets go of what is gone and shipped.
    pub fn look(&mut self, positions: &mut Positions) -> Result<Vec<Notice>> {
        let (mut notices, mut lost) = (Vec::new(), Vec::new());
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
                    let Ok(mut found) = Followed::open(&path) else { continue };
                    if found.is_packed() {
                        if self.packed.insert(id) {
                            notices.push(Notice::Packed(path));
                        }
                        continue;
                    }
                    if let Some(known) = positions.of(&found.id) {
                        lost.extend(found.resume(known)?.map(|l| (found.id.clone(), l)));
                    }
                    self.followed.push(found);
                }
            }
            named.push(id);
        }
        self.open_rests(positions)?;
        for followed in &mut self.followed {
            lost.extend(followed.look()?.map(|l| (followed.id.clone(), l)));
        }
        for (id, lost) in lost {
            let found = self.recover(&id, &lost, positions)?;
            notices.push(Notice::Cut(lost.path, found));
        }
        self.find_copies(positions)?;
        self.let_go(&named, positions)?;
        Ok(notices)
    }

    /// Reads on in a copy of what was lost; whether there is one. Both positions are kept at once: the copy goes on where
    /// the file stood, and the file begins anew.
    fn recover(&mut self, id: &str, lost: &Lost, positions: &mut Positions) -> Result<bool> {
        let holds = |f: &Followed| f.id != id && !lost.begins.is_empty() && f.holds(lost).unwrap_or(false);
        if !self.followed.iter().any(holds) && !lost.begins.is_empty() {
            let beside = lost.path.parent().into_iter().flat_map(|folder| super::files_in(folder).unwrap_or_default());
            let known = |f: &Followed| self.followed.iter().any(|k| k.id == f.id);
            // Opening a pipe would wait for its writer.
            let files = beside.filter(|p| p.is_file() && named_like(p, &lost.path));
            let opened = files.filter_map(|p| Followed::open(&p).ok());
            let mut copies: Vec<Followed> = opened.filter(|f| !known(f) && holds(f)).collect();
            self.followed.extend(copies.pop());
        }
        let begun = self.followed.iter().find(|f| f.id == id).map(|f| (f.id.clone(), f.position()));
        let copy = self.followed.iter_mut().find(|f| holds(f));
        let found = copy.is_some();
        let moved = match copy {
            // One that is further already was read before.
            Some(copy) if copy.copy_of.is_some() || copy.offset < lost.offset => {
                copy.go_to(lost.offset, lost.line)?;
                (copy.copy_of, copy.is_rest) = (None, true);
                Some((copy.id.clone(), copy.position()))
            }
            Some(copy) => {
                copy.is_rest = true;
                Some((copy.id.clone(), copy.position()))
            }
            None => None,
        };
        positions.put(moved.into_iter().chain(begun))?;
        Ok(found)
    }

    /// The file in which a batch stands that was under way: its own, or the copy of it that is read instead.
    pub fn under_way(&self, pending: &Pending) -> Option<usize> {
        let at = |f: &&Followed| f.is_at(pending.from, &pending.begins);
        let own = self.followed.iter().position(|f| f.id == pending.file && at(&f));
        own.or_else(|| self.followed.iter().position(|f| at(&f)))
    }

    /// Opens what is left of files that were cut, where no pattern names the copies.
    fn open_rests(&mut self, positions: &Positions) -> Result<()> {
        for (id, rest) in positions.rests() {
            if self.followed.iter().any(|f| f.id == id) {
                continue;
            }
            let beside = rest.path.parent().into_iter().flat_map(|folder| super::files_in(folder).unwrap_or_default());
            let mut opened = beside.filter(|p| p.is_file()).filter_map(|p| Followed::open(&p).ok());
            if let Some(mut found) = opened.find(|f| f.id == id)
                && found.resume(rest)?.is_none()
            {
                found.is_rest = true;
                self.followed.push(found);
            }
        }
        Ok(())
    }

    /// Marks the files that repeat another one.
    fn find_copies(&mut self, positions: &Positions) -> Result<()> {
        for at in 0..self.followed.len() {
            let Some(file) = self.followed.get(at) else { continue };
            if file.offset > 0 || file.is_rest || positions.of(&file.id).is_some_and(|p| p.offset > 0) {
                continue;
            }
            let originals = self.followed.iter().filter(|o| o.id != file.id && o.copy_of.is_none());
            let mut originals = originals.filter(|o| named_like(&file.path, &o.path));
            let original = originals.find(|o| file.repeats(o).unwrap_or(false)).map(|o| o.id.clone());
            if let Some(file) = self.followed.get_mut(at) {
                file.copy_of = original;
            }
        }
        Ok(())
    }

    /// Lets go of files that have no name any more and are shipped, and of rests that are.
    fn let_go(&mut self, named: &[String], positions: &mut Positions) -> Result<()> {
        let (kept, gone): (Vec<Followed>, Vec<Followed>) = std::mem::take(&mut self.followed)
            .into_iter()
            .partition(|f| named.contains(&f.id) || f.waiting() > 0 || !(f.is_rest || f.rests(FAREWELL)));
        self.followed = kept;
        for file in gone {
            // What it had is shipped, and so is what its copies have.
            for copy in self.followed.iter_mut().filter(|f| f.copy_of.as_ref() == Some(&file.id)) {
                copy.go_to(copy.size.min(file.offset), file.line)?;
                copy.copy_of = None;
                positions.put([(copy.id.clone(), copy.position())])?;
            }
            positions.forget(&file.id)?;
        }
        Ok(())
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
mod tests;

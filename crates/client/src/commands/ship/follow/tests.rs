//! Schedules of writing, looking, copying, cutting, renaming and ends of the process: every line once.

use super::*;
use anyhow::Context;
use proptest::prelude::*;
use std::collections::BTreeMap;
use std::fs::File;
use std::io::Write;

fn all(files: &mut Files, positions: &mut Positions) -> Result<Vec<String>> {
    files.look(positions)?;
    let mut reported = Vec::new();
    for file in &mut files.followed {
        while let Some(piece) = file.read(16, false)? {
            file.shipped(&piece)?;
            reported.push(String::from_utf8(piece.bytes)?);
        }
    }
    Ok(reported)
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
    let mut reported = all(&mut files, &mut positions)?;
    reported.sort();
    assert_eq!(reported, ["last words\n", "new\n"]);
    // Cut and written anew, beyond its old length before anybody looked.
    File::create(&path)?.write_all(b"another\n")?;
    assert_eq!(all(&mut files, &mut positions)?, ["another\n"]);
    // A line longer than a batch is still one line.
    File::options().append(true).open(&path)?.write_all(b"a line of more than sixteen bytes\n")?;
    assert_eq!(all(&mut files, &mut positions)?, ["a line of more than sixteen bytes\n"]);
    Ok(())
}

#[test]
fn packed_files_and_files_that_begin_alike() -> Result<()> {
    let folder = tempfile::tempdir()?;
    let mut positions = Positions::open(&folder.path().join("state"))?;
    let path = |name: &str| folder.path().join(name);
    std::fs::write(path("a.log"), "a banner\none\n")?;
    std::fs::write(path("a.log.1"), "a banner\ntwo\n")?;
    std::fs::write(path("b.log"), "a banner\none\n")?;
    std::fs::write(path("a.log.2.gz"), b"\x1f\x8b\x08\x00packed")?;
    let mut files = Files::new(&[format!("{}/*.*", folder.path().display())]);
    assert_eq!(files.look(&mut positions)?, [Notice::Packed(path("a.log.2.gz"))]);
    assert_eq!(files.look(&mut positions)?, [], "reported once");
    let mut reported = all(&mut files, &mut positions)?.concat();
    assert_eq!(reported.matches("banner").count(), 3, "alike is no copy, and another name is none: {reported}");
    // A copy says nothing new, until it does.
    std::fs::copy(path("b.log"), path("b.log.1"))?;
    assert_eq!(all(&mut files, &mut positions)?, [] as [&str; 0]);
    File::options().append(true).open(path("b.log.1"))?.write_all(b"of its own\n")?;
    reported = all(&mut files, &mut positions)?.concat();
    assert_eq!(reported, "a banner\none\nof its own\n", "it was no copy after all");
    Ok(())
}

#[derive(Debug, Clone)]
enum Op {
    Write(u8),
    /// Ships all there is.
    Ship,
    /// Ships one batch.
    Turn,
    /// The process ends between noting a batch and sending it, or between sending it and its answer.
    Crash(bool),
    Restart,
    /// Renamed, and begun anew.
    Rename,
    /// Copied and cut, with looks or batches between the two.
    CopyAndCut(u8),
}

/// A folder in which a log is written, and what ships it.
struct Sim {
    folder: tempfile::TempDir,
    pattern: String,
    files: Files,
    positions: Option<Positions>,
    written: u64,
    keys: u64,
    /// As a service stores: a key once.
    stored: BTreeMap<String, Vec<u8>>,
}

impl Sim {
    fn new(pattern: &str) -> Result<Self> {
        let folder = tempfile::tempdir()?;
        std::fs::create_dir(folder.path().join("logs"))?;
        let pattern = format!("{}/logs/{pattern}", folder.path().display());
        let positions = Some(Positions::open(&folder.path().join("state"))?);
        let files = Files::new(std::slice::from_ref(&pattern));
        Ok(Sim { folder, pattern, files, positions, written: 0, keys: 0, stored: BTreeMap::new() })
    }

    fn log(&self) -> PathBuf {
        self.folder.path().join("logs/app.log")
    }

    fn write(&mut self, lines: u8) -> Result<()> {
        let mut log = File::options().create(true).append(true).open(self.log())?;
        for _ in 0..lines {
            self.written += 1;
            writeln!(log, "line {}", self.written)?;
        }
        Ok(())
    }

    fn restart(&mut self) -> Result<()> {
        self.positions = None;
        self.positions = Some(Positions::open(&self.folder.path().join("state"))?);
        self.files = Files::new(std::slice::from_ref(&self.pattern));
        Ok(())
    }

    /// One turn; whether anything was shipped. With `crash`, it ends before the first batch is sent, or before it is
    /// answered.
    fn turn(&mut self, crash: Option<bool>) -> Result<bool> {
        let positions = self.positions.as_mut().context("open")?;
        self.files.look(positions)?;
        if let Some(pending) = positions.pending().cloned() {
            let at = self.files.under_way(&pending);
            let file = at.and_then(|at| self.files.followed.get_mut(at)).context("what was under way is gone")?;
            let piece = file.again(pending.from, pending.to)?;
            self.stored.entry(pending.key).or_insert_with(|| piece.bytes.clone());
            file.shipped(&piece)?;
            positions.done(&file.id, file.position())?;
        }
        let mut any = false;
        for file in &mut self.files.followed {
            let Some(piece) = file.read(24, false)? else { continue };
            self.keys += 1;
            let key = self.keys.to_string();
            let pending = Pending::of(file, &piece, key.clone());
            positions.begin(pending, file.position())?;
            if crash == Some(false) {
                return Ok(true);
            }
            self.stored.insert(key, piece.bytes.clone());
            if crash == Some(true) {
                return Ok(true);
            }
            file.shipped(&piece)?;
            positions.done(&file.id, file.position())?;
            any = true;
        }
        Ok(any)
    }

    fn run(&mut self, op: &Op) -> Result<()> {
        match op {
            Op::Write(lines) => self.write(*lines)?,
            Op::Ship => while self.turn(None)? {},
            Op::Turn => drop(self.turn(None)?),
            Op::Crash(sent) => {
                self.turn(Some(*sent))?;
                self.restart()?;
            }
            Op::Restart => self.restart()?,
            Op::Rename | Op::CopyAndCut(_) => {
                if !self.log().exists() {
                    return Ok(());
                }
                // A rotation is seen before the next; what a pattern does not name cannot be known otherwise.
                self.turn(None)?;
                let old = |n: u64| self.folder.path().join(format!("logs/app.log.{n}"));
                let last = (1..).find(|n| !old(*n).exists()).unwrap_or(1);
                for n in (1..last).rev() {
                    std::fs::rename(old(n), old(n + 1))?;
                }
                match op {
                    Op::CopyAndCut(between) => {
                        std::fs::copy(self.log(), old(1))?;
                        match between % 4 {
                            0 => {}
                            1 => drop(self.turn(None)?),
                            2 => self.run(&Op::Ship)?,
                            _ => self.run(&Op::Crash(between % 8 < 4))?,
                        }
                        File::create(self.log())?;
                    }
                    _ => std::fs::rename(self.log(), old(1))?,
                }
            }
        }
        Ok(())
    }

    fn shipped(&self) -> Vec<String> {
        let text: Vec<u8> = self.stored.values().flatten().copied().collect();
        let mut lines: Vec<String> = String::from_utf8_lossy(&text).lines().map(str::to_owned).collect();
        lines.sort_by_key(|line| line.trim_start_matches("line ").parse::<u64>().unwrap_or(u64::MAX));
        lines
    }
}

fn op() -> impl Strategy<Value = Op> {
    prop_oneof![
        4 => (1u8..6).prop_map(Op::Write),
        2 => Just(Op::Ship),
        2 => Just(Op::Turn),
        2 => any::<bool>().prop_map(Op::Crash),
        1 => Just(Op::Restart),
        1 => Just(Op::Rename),
        3 => any::<u8>().prop_map(Op::CopyAndCut),
    ]
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 300, ..ProptestConfig::default() })]
    #[test]
    fn every_line_once(ops in prop::collection::vec(op(), 1..24), wide in any::<bool>()) {
        // A name alone loses sight of a file that is renamed while nobody follows it.
        let renames = ops.iter().any(|op| matches!(op, Op::Rename));
        let mut sim = Sim::new(if wide || renames { "app.log*" } else { "app.log" }).unwrap();
        for op in &ops {
            sim.run(op).unwrap();
        }
        sim.run(&Op::Ship).unwrap();
        sim.run(&Op::Ship).unwrap();
        let expected: Vec<String> = (1..=sim.written).map(|n| format!("line {n}")).collect();
        prop_assert_eq!(sim.shipped(), expected);
    }
}

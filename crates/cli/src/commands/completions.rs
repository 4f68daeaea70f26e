//! `calvex completions` and `calvex manual`: what shells and readers of manuals need, made of the commands themselves.

use crate::Ended;
use anyhow::{Context, Result};
use clap::{Args, Command};
use clap_complete::Shell;
use std::path::PathBuf;

/// Completions for a shell, to standard output.
#[derive(Args)]
pub struct Completions {
    /// bash, zsh, fish, elvish or powershell
    shell: Shell,
}

impl Completions {
    pub fn run(self, mut command: Command) -> Result<Ended> {
        // Into memory first: the generator does not tell of a reader that has gone.
        let mut out = Vec::new();
        clap_complete::generate(self.shell, &mut command, "calvex", &mut out);
        std::io::Write::write_all(&mut std::io::stdout().lock(), &out)?;
        Ok(Ended::Well)
    }
}

/// Manual pages, one a command, into a folder.
#[derive(Args)]
pub struct Manual {
    /// The folder; made where it is missing
    folder: PathBuf,
}

impl Manual {
    pub fn run(self, command: Command) -> Result<Ended> {
        let folder = self.folder.display().to_string();
        std::fs::create_dir_all(&self.folder).with_context(|| format!("cannot make {folder}"))?;
        clap_mangen::generate_to(command, &self.folder).with_context(|| format!("cannot write to {folder}"))?;
        Ok(Ended::Well)
    }
}

//! `calvex completions` and `calvex manual`: what shells and readers of manuals need, made of the commands themselves.

use anyhow::{Context, Result};
use calvex_client::Ended;
use calvex_client::proposed::VARIABLE;
use clap::{Args, Command};
use clap_complete::Shell;
use clap_complete::env::Shells;
use std::path::PathBuf;

/// A script that completes commands, options, and in queries the fields and values that the service has seen, to standard
/// output: `source <(calvex completions bash)`.
#[derive(Args)]
pub struct Completions {
    /// bash, zsh, fish, elvish or powershell
    shell: Shell,
}

impl Completions {
    pub fn run(self) -> Result<Ended> {
        let name = self.shell.to_string();
        let shells = Shells::builtins();
        let shell = shells.completer(&name).with_context(|| format!("no completions for `{name}`"))?;
        let mut out = Vec::new();
        shell.write_registration(VARIABLE, "calvex", "calvex", "calvex", &mut out)?;
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

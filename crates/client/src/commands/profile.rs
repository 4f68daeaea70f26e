//! `calvex profile`: services by name, each with its address and token, in a file that only its owner may read.
//!
//! ```toml
//! chosen = "night"
//!
//! [profile.night]
//! url = "https://calvex.fennmark.example"
//! token = "calvex-token-…"
//! ```

use crate::client::{Connection, DEFAULT_URL};
use crate::options::Form;
use crate::{Ended, output};
use anyhow::{Context, Result, bail};
use clap::{Args, Subcommand};
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use std::io::{IsTerminal, Read, Write};
use std::os::unix::fs::{OpenOptionsExt, PermissionsExt};
use std::path::{Path, PathBuf};

/// Longest file that is read.
const MAX_BYTES: u64 = 1 << 20;

/// Services by name, with their addresses and tokens.
#[derive(Args)]
pub struct Profile {
    #[command(subcommand)]
    act: Act,
}

#[derive(Subcommand)]
enum Act {
    /// Keep a service's address and token under a name; the token comes from CALVEX_TOKEN or standard input
    Set {
        /// What it is called here
        name: String,
        /// Its address
        address: String,
        /// Without a token: it is asked for a password each time
        #[arg(long)]
        no_token: bool,
    },
    /// The services kept, the chosen one marked
    List {
        #[command(flatten)]
        form: Form,
    },
    /// Ask this one where nothing else is said
    Use {
        /// As it is called here
        name: String,
    },
    /// Forget one
    Remove {
        /// As it is called here
        name: String,
    },
}

/// The file.
#[derive(Debug, Default, Serialize, Deserialize)]
#[serde(default, deny_unknown_fields)]
pub struct Profiles {
    #[serde(skip_serializing_if = "Option::is_none")]
    chosen: Option<String>,
    profile: BTreeMap<String, Kept>,
}

/// One service.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Kept {
    /// Its address.
    pub url: String,
    /// A token that reads.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub token: Option<String>,
}

/// Where profiles are: the system's directory for configuration (XDG Base Directory Specification).
fn file() -> Result<PathBuf> {
    let set = |name: &str| std::env::var_os(name).filter(|v| !v.is_empty()).map(PathBuf::from);
    let config = set("XDG_CONFIG_HOME").filter(|p| p.is_absolute());
    let config = config.or_else(|| set("HOME").map(|home| home.join(".config")));
    Ok(config.context("there is no place for configuration; set HOME or XDG_CONFIG_HOME")?.join("calvex/profiles.toml"))
}

impl Profiles {
    /// Those kept; none where there is no file.
    pub fn load() -> Result<Self> {
        Self::read(&file()?)
    }

    fn read(path: &Path) -> Result<Self> {
        let shown = path.display();
        let file = match std::fs::File::open(path) {
            Ok(file) => file,
            Err(e) if e.kind() == std::io::ErrorKind::NotFound => return Ok(Self::default()),
            Err(e) => return Err(e).with_context(|| format!("cannot read {shown}")),
        };
        let mode = file.metadata()?.permissions().mode() & 0o777;
        if mode & 0o077 != 0 {
            bail!("{shown} holds tokens and may be read by others (mode {mode:o}); run: chmod 600 {shown}");
        }
        let mut text = String::new();
        file.take(MAX_BYTES).read_to_string(&mut text).with_context(|| format!("cannot read {shown}"))?;
        toml::from_str(&text).with_context(|| format!("{shown} is not understood; mend it, or remove it"))
    }

    fn write(&self, path: &Path) -> Result<()> {
        let shown = path.display().to_string();
        let folder = path.parent().context("no folder")?;
        std::fs::create_dir_all(folder).with_context(|| format!("cannot make {}", folder.display()))?;
        // Whole or not at all, and never readable by others for a moment.
        let fresh = path.with_extension("new");
        let _ = std::fs::remove_file(&fresh);
        let mut out = std::fs::OpenOptions::new()
            .write(true)
            .create_new(true)
            .mode(0o600)
            .open(&fresh)
            .with_context(|| format!("cannot write {shown}"))?;
        out.write_all(toml::to_string(self)?.as_bytes())?;
        out.sync_all()?;
        std::fs::rename(&fresh, path).with_context(|| format!("cannot write {shown}"))
    }

    /// The one of this name; where none is named, the chosen one if there is one.
    pub fn get(&self, name: Option<&str>) -> Result<Option<&Kept>> {
        let Some(name) = name.or(self.chosen.as_deref()) else { return Ok(None) };
        let found = self.profile.get(name);
        found.map(Some).with_context(|| {
            format!(
                "no profile `{name}`; `calvex profile set {name} ADDRESS` keeps one, `calvex profile list` shows them"
            )
        })
    }
}

/// The token, from the environment or standard input.
fn token() -> Result<String> {
    if let Ok(token) = std::env::var("CALVEX_TOKEN")
        && !token.is_empty()
    {
        return Ok(token);
    }
    if std::io::stdin().is_terminal() {
        eprint!("token (`calvex token new` makes one): ");
    }
    let mut line = String::new();
    std::io::stdin().read_line(&mut line)?;
    let token = line.trim().to_owned();
    if token.is_empty() {
        bail!("no token; set CALVEX_TOKEN, write it to standard input, or say --no-token");
    }
    Ok(token)
}

impl Profile {
    pub async fn run(self) -> Result<Ended> {
        let path = file()?;
        let mut all = Profiles::read(&path)?;
        match self.act {
            Act::Set { name, address, no_token } => {
                if name.is_empty() || name.len() > 64 {
                    bail!("a profile needs a name of 1 to 64 characters");
                }
                let url = address.trim_end_matches('/').to_owned();
                if !url.starts_with("http://") && !url.starts_with("https://") {
                    bail!("`{address}` is no address; it begins with http:// or https://, as in {DEFAULT_URL}");
                }
                let kept = Kept { url, token: if no_token { None } else { Some(token()?) } };
                // What does not let in is reported now, not at three in the morning.
                if let Some(token) = &kept.token {
                    let connection = Connection::to(&kept.url, token);
                    let _: serde_json::Value = connection.open().await?.get("/api/me").await?;
                }
                all.profile.insert(name.clone(), kept);
                all.chosen.get_or_insert(name);
            }
            Act::List { form } => {
                let chosen = |name: &String| all.chosen.as_ref() == Some(name);
                if form.is_json() {
                    for (name, kept) in &all.profile {
                        let row = serde_json::json!({ "name": name, "url": kept.url, "token": kept.token.is_some(), "chosen": chosen(name) });
                        output::line(&row.to_string())?;
                    }
                } else if !all.profile.is_empty() {
                    let row = |(name, kept): (&String, &Kept)| {
                        let mark = if chosen(name) { "●" } else { "" };
                        let token = if kept.token.is_some() { "kept" } else { "none" };
                        vec![mark.to_owned(), name.clone(), kept.url.clone(), token.to_owned()]
                    };
                    output::table(&["", "name", "address", "token"], all.profile.iter().map(row).collect())?;
                }
                return Ok(if all.profile.is_empty() { Ended::Nothing } else { Ended::Well });
            }
            Act::Use { name } => {
                all.get(Some(&name))?;
                all.chosen = Some(name);
            }
            Act::Remove { name } => {
                all.get(Some(&name))?;
                all.profile.remove(&name);
                all.chosen = all.chosen.filter(|c| *c != name);
            }
        }
        all.write(&path)?;
        Ok(Ended::Well)
    }
}

#[cfg(test)]
#[allow(clippy::unwrap_used, reason = "a test may end where it stands")]
mod tests {
    use super::*;

    #[test]
    fn kept_for_its_owner_alone() {
        let folder = std::env::temp_dir().join(format!("calvex-profiles-{}", std::process::id()));
        let path = folder.join("calvex/profiles.toml");
        assert!(Profiles::read(&path).unwrap().profile.is_empty());
        let mut all = Profiles { chosen: Some("night".into()), ..Profiles::default() };
        let kept = Kept { url: "http://127.0.0.1:8437".into(), token: Some("t".into()) };
        all.profile.insert("night".into(), kept.clone());
        all.write(&path).unwrap();
        assert_eq!(std::fs::metadata(&path).unwrap().permissions().mode() & 0o777, 0o600);
        let read = Profiles::read(&path).unwrap();
        assert_eq!(read.get(None).unwrap(), Some(&kept));
        assert!(read.get(Some("day")).unwrap_err().to_string().contains("calvex profile set day"));
        std::fs::set_permissions(&path, std::fs::Permissions::from_mode(0o644)).unwrap();
        assert!(Profiles::read(&path).unwrap_err().to_string().contains("chmod 600"));
        std::fs::remove_dir_all(folder).unwrap();
    }
}

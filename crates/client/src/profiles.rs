//! Profiles: services by name, each with its address and token, in a file that only its owner may read.
//!
//! ```toml
//! chosen = "night"
//!
//! [profile.night]
//! url = "https://calvex.fennmark.example"
//! token = "calvex-token-…"
//! ```

use anyhow::{Context, Result, bail};
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use std::io::{Read, Write};
use std::os::unix::fs::{OpenOptionsExt, PermissionsExt};
use std::path::{Path, PathBuf};

/// Longest file that is read.
const MAX_BYTES: u64 = 1 << 20;

/// The services kept, as the file has them.
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
    ///
    /// # Errors
    /// A file that cannot be read, that others may read, or that is not understood.
    pub fn load() -> Result<Self> {
        Self::read(&file()?)
    }

    /// Writes them for their owner alone.
    ///
    /// # Errors
    /// Where the file cannot be written.
    pub fn save(&self) -> Result<()> {
        self.write(&file()?)
    }

    /// Every one by name.
    pub fn iter(&self) -> impl ExactSizeIterator<Item = (&String, &Kept)> {
        self.profile.iter()
    }

    /// The name of the chosen one.
    pub fn chosen(&self) -> Option<&str> {
        self.chosen.as_deref()
    }

    /// Keeps one under this name; the first is chosen.
    pub fn keep(&mut self, name: String, kept: Kept) {
        self.profile.insert(name.clone(), kept);
        self.chosen.get_or_insert(name);
    }

    /// Chooses the one of this name.
    ///
    /// # Errors
    /// Where there is none.
    pub fn choose(&mut self, name: String) -> Result<()> {
        self.get(Some(&name))?;
        self.chosen = Some(name);
        Ok(())
    }

    /// Removes the one of this name.
    ///
    /// # Errors
    /// Where there is none.
    pub fn remove(&mut self, name: &str) -> Result<()> {
        self.get(Some(name))?;
        self.profile.remove(name);
        self.chosen.take_if(|chosen| chosen == name);
        Ok(())
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
    ///
    /// # Errors
    /// Where there is none of this name.
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

#[cfg(test)]
#[allow(clippy::unwrap_used, reason = "a test may end where it stands")]
mod tests {
    use super::*;

    #[test]
    fn kept_for_its_owner_alone() {
        let folder = std::env::temp_dir().join(format!("calvex-profiles-{}", std::process::id()));
        let path = folder.join("calvex/profiles.toml");
        assert!(Profiles::read(&path).unwrap().profile.is_empty());
        let mut all = Profiles::default();
        let kept = Kept { url: "http://127.0.0.1:8437".into(), token: Some("t".into()) };
        all.keep("night".into(), kept.clone());
        all.write(&path).unwrap();
        assert_eq!(std::fs::metadata(&path).unwrap().permissions().mode() & 0o777, 0o600);
        let read = Profiles::read(&path).unwrap();
        assert_eq!(read.get(None).unwrap(), Some(&kept));
        assert!(read.get(Some("day")).unwrap_err().to_string().contains("calvex profile set day"));
        std::fs::set_permissions(&path, std::fs::Permissions::from_mode(0o644)).unwrap();
        assert!(Profiles::read(&path).unwrap_err().to_string().contains("chmod 600"));
        all.remove("night").unwrap();
        assert_eq!((all.chosen(), all.get(None).unwrap()), (None, None));
        assert!(all.remove("night").is_err() && all.choose("night".into()).is_err());
        std::fs::remove_dir_all(folder).unwrap();
    }
}

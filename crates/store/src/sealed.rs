//! Secrets that must be given back, as they are kept: encrypted by a key in a file outside the database, so that whoever
//! reads the database alone, or a backup of it, has none of them.
//!
//! ```text
//! kept     = "sealed:" key id ":" base64url( nonce ‖ box )
//! key id   = the first 8 hex digits of the SHA-256 of the key
//! nonce    = 24 random bytes
//! box      = XChaCha20-Poly1305 (draft-irtf-cfrg-xchacha) of the secret; its place stands in the associated data
//! key file = a key a line, 64 hex digits; the first seals, all open
//! ```
//!
//! All nodes of a database have the same keys. The file is read again where it changed, before something is sealed and where
//! something was sealed by a key that is not known.

use crate::{Result, StoreError};
use base64::Engine;
use base64::engine::general_purpose::URL_SAFE_NO_PAD;
use chacha20poly1305::aead::{Aead, KeyInit, Payload};
use chacha20poly1305::{XChaCha20Poly1305, XNonce};
use parking_lot::RwLock;
use sha2::{Digest, Sha256};
use std::io::Write;
use std::os::unix::fs::OpenOptionsExt;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::SystemTime;

/// Where secrets stand: with contacts, with rules and their messages.
pub(crate) const CONTACT: &str = "contact";
pub(crate) const RULE: &str = "rule";

const PREFIX: &str = "sealed:";
const NONCE: usize = 24;
/// Bytes of the key file at most.
const MAX_FILE: u64 = 64 << 10;

#[derive(Clone)]
struct Key {
    id: String,
    bytes: [u8; 32],
}

impl Key {
    fn of(bytes: [u8; 32]) -> Self {
        let hash = Sha256::digest(bytes);
        Key { id: hash.iter().take(4).map(|b| format!("{b:02x}")).collect(), bytes }
    }

    fn hex(&self) -> String {
        self.bytes.iter().map(|b| format!("{b:02x}")).collect()
    }
}

/// The keys of a service; none before it named a file, and then secrets are kept as they are.
#[derive(Clone, Default)]
pub struct Keys {
    file: Option<PathBuf>,
    keys: Arc<RwLock<Vec<Key>>>,
    /// When the file was changed that was read.
    read: Arc<RwLock<Option<SystemTime>>>,
}

impl std::fmt::Debug for Keys {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "{} keys of {:?}", self.keys.read().len(), self.file)
    }
}

fn bad(path: &Path, why: impl std::fmt::Display) -> StoreError {
    StoreError::Server(format!("secrets.key_file = `{}`: {why}", path.display()))
}

impl Keys {
    /// Those of a file; where there is none, it is made with a new key, readable by its owner alone.
    ///
    /// # Errors
    /// Where it can be neither read nor made, or holds something else.
    pub fn open(path: &Path, fresh: [u8; 32]) -> Result<Self> {
        match std::fs::metadata(path) {
            Ok(meta) if meta.len() > MAX_FILE => return Err(bad(path, "it is larger than 64 KiB")),
            Ok(_) => {}
            Err(e) if e.kind() == std::io::ErrorKind::NotFound => write(path, &[Key::of(fresh)])?,
            Err(e) => return Err(bad(path, e)),
        }
        let read = changed_at(path);
        let keys = read_file(path)?;
        Ok(Keys { file: Some(path.to_owned()), keys: Arc::new(RwLock::new(keys)), read: Arc::new(RwLock::new(read)) })
    }

    /// Reads the file again where it changed; what was known stays where it cannot be read.
    fn refresh(&self) {
        let Some(file) = &self.file else { return };
        let now = changed_at(file);
        if now.is_none() || now == *self.read.read() {
            return;
        }
        match read_file(file) {
            Ok(keys) => (*self.keys.write(), *self.read.write()) = (keys, now),
            Err(e) => tracing::error!("the keys of secrets are as they were: {e}"),
        }
    }

    /// A secret as it is kept, for its `place`: what is sealed for one opens in no other.
    pub fn seal(&self, place: &str, secret: &str) -> String {
        self.refresh();
        let keys = self.keys.read();
        let Some(key) = keys.first() else { return secret.to_owned() };
        let nonce: [u8; NONCE] = rand::random();
        let payload = Payload { msg: secret.as_bytes(), aad: place.as_bytes() };
        let cipher = XChaCha20Poly1305::new((&key.bytes).into());
        // It fails for messages of 256 GiB alone.
        let Ok(sealed) = cipher.encrypt(&XNonce::from(nonce), payload) else { return String::new() };
        format!("{PREFIX}{}:{}", key.id, URL_SAFE_NO_PAD.encode([nonce.as_slice(), &sealed].concat()))
    }

    /// The secret that is kept so; none where its key is gone or it was tampered with, which is logged.
    pub fn unseal(&self, place: &str, kept: &str) -> Option<String> {
        let Some(sealed) = kept.strip_prefix(PREFIX) else { return Some(kept.to_owned()) };
        let opened = || {
            let (id, text) = sealed.split_once(':')?;
            if self.keys.read().iter().all(|key| key.id != id) {
                self.refresh();
            }
            let key = self.keys.read().iter().find(|key| key.id == id)?.clone();
            let bytes = URL_SAFE_NO_PAD.decode(text).ok()?;
            let (nonce, sealed) = bytes.split_at_checked(NONCE)?;
            let payload = Payload { msg: sealed, aad: place.as_bytes() };
            let nonce = XNonce::from(<[u8; NONCE]>::try_from(nonce).ok()?);
            let secret = XChaCha20Poly1305::new((&key.bytes).into()).decrypt(&nonce, payload).ok()?;
            String::from_utf8(secret).ok()
        };
        let secret = opened();
        if secret.is_none() {
            tracing::error!(
                place,
                "a secret cannot be opened: its key is not in secrets.key_file; give the contact a new one"
            );
        }
        secret
    }

    /// Whether a secret is kept under the key that seals now.
    pub fn is_current(&self, kept: &str) -> bool {
        let keys = self.keys.read();
        let Some(key) = keys.first() else { return true };
        kept.strip_prefix(PREFIX).and_then(|rest| rest.split_once(':')).is_some_and(|(id, _)| id == key.id)
    }

    /// Puts a new key before the others.
    ///
    /// # Errors
    /// Where the file cannot be written.
    pub fn begin_rotation(&self, fresh: [u8; 32]) -> Result<()> {
        let mut keys = self.keys.write();
        let anew = [vec![Key::of(fresh)], keys.clone()].concat();
        if let Some(file) = &self.file {
            write(file, &anew)?;
        }
        *keys = anew;
        Ok(())
    }

    /// Forgets every key but the one that seals: nothing is kept under another any more.
    ///
    /// # Errors
    /// Where the file cannot be written.
    pub fn end_rotation(&self) -> Result<()> {
        let mut keys = self.keys.write();
        keys.truncate(1);
        match &self.file {
            Some(file) => write(file, &keys),
            None => Ok(()),
        }
    }
}

fn changed_at(path: &Path) -> Option<SystemTime> {
    std::fs::metadata(path).and_then(|meta| meta.modified()).ok()
}

fn read_file(path: &Path) -> Result<Vec<Key>> {
    let text = std::fs::read_to_string(path).map_err(|e| bad(path, e))?;
    let lines = text.lines().map(str::trim).filter(|line| !line.is_empty());
    let keys = lines.map(|line| Some(Key::of(from_hex(line)?))).collect::<Option<Vec<Key>>>();
    keys.filter(|keys| !keys.is_empty()).ok_or_else(|| bad(path, "a key is 64 hex digits on a line"))
}

fn from_hex(text: &str) -> Option<[u8; 32]> {
    let digits: Option<Vec<u8>> = (text.len() == 64 && text.is_ascii())
        .then(|| (0..32).map(|n| u8::from_str_radix(text.get(n * 2..n * 2 + 2)?, 16).ok()).collect())
        .flatten();
    digits?.try_into().ok()
}

/// Writes the file whole or not at all.
fn write(path: &Path, keys: &[Key]) -> Result<()> {
    let beside = path.with_extension("new");
    let written = || -> std::io::Result<()> {
        if let Some(folder) = path.parent() {
            std::fs::create_dir_all(folder)?;
        }
        let mut file = std::fs::File::options().create(true).truncate(true).write(true).mode(0o600).open(&beside)?;
        keys.iter().try_for_each(|key| writeln!(file, "{}", key.hex()))?;
        file.sync_all()?;
        std::fs::rename(&beside, path)
    };
    written().map_err(|e| bad(path, e))
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::os::unix::fs::PermissionsExt;

    #[test]
    fn what_is_sealed_opens_in_its_place_with_its_key() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("own").join("secrets.key");
        let keys = Keys::open(&path, [7; 32]).unwrap();
        assert_eq!(std::fs::metadata(&path).unwrap().permissions().mode() & 0o777, 0o600);
        let kept = keys.seal("contact desk", "whsec_1");
        assert!(!kept.contains("whsec") && kept.len() < 255 && kept != keys.seal("contact desk", "whsec_1"));
        assert_eq!(keys.unseal("contact desk", &kept).as_deref(), Some("whsec_1"));
        assert_eq!(keys.unseal("contact other", &kept), None);
        let mut tampered = kept.clone();
        let last = if tampered.pop() == Some('A') { 'B' } else { 'A' };
        tampered.push(last);
        assert_eq!(keys.unseal("contact desk", &tampered), None);
        assert_eq!(keys.unseal("contact desk", "sealed:nonsense"), None);
        // What was kept before there was a key is as it is, and is sealed at the next turn.
        assert_eq!(keys.unseal("contact desk", "whsec_0").as_deref(), Some("whsec_0"));
        assert!(!keys.is_current("whsec_0") && keys.is_current(&kept));
        // Another node of the same file: it has a new key as soon as this one does.
        let other = Keys::open(&path, [9; 32]).unwrap();
        // A new key: what is kept under the old one opens until it is forgotten; so after a restart.
        keys.begin_rotation([8; 32]).unwrap();
        assert!(!keys.is_current(&kept));
        for keys in [keys.clone(), Keys::open(&path, [9; 32]).unwrap()] {
            assert_eq!(keys.unseal("contact desk", &kept).as_deref(), Some("whsec_1"));
        }
        let anew = keys.seal("contact desk", "whsec_1");
        assert_eq!(other.unseal("contact desk", &anew).as_deref(), Some("whsec_1"));
        assert!(keys.is_current(&other.seal("contact desk", "whsec_2")));
        keys.end_rotation().unwrap();
        assert_eq!(keys.unseal("contact desk", &kept), None);
        assert_eq!(Keys::open(&path, [9; 32]).unwrap().unseal("contact desk", &anew).as_deref(), Some("whsec_1"));
        std::fs::write(&path, "no key\n").unwrap();
        assert!(Keys::open(&path, [9; 32]).is_err());
        // Without a file nothing is sealed.
        assert_eq!(Keys::default().seal("x", "whsec_1"), "whsec_1");
    }
}

//! One certificate for every way in that is encrypted: read from its files, and again when these change. Connections that
//! are open go on with the one they began with; a pair that does not fit changes nothing.
//!
//! TLS 1.2 and 1.3 (RFC 5246, RFC 8446), with the cipher suites that rustls takes as safe.

use crate::config::settings::Settings;
use crate::error::{Result, ServiceError};
use parking_lot::RwLock;
use rustls::pki_types::pem::PemObject;
use rustls::pki_types::{CertificateDer, PrivateKeyDer};
use rustls::server::{ClientHello, ResolvesServerCert};
use rustls::sign::CertifiedKey;
use std::sync::Arc;
use tokio_rustls::TlsAcceptor;

/// Bytes of a certificate's or key's file at most.
const MAX_FILE: u64 = 1 << 20;

/// A way in, as it names its protocols to clients (ALPN, RFC 7301).
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Speaks {
    /// HTTP/2 and HTTP/1.1.
    Http,
    /// HTTP/2 alone.
    Grpc,
    /// Lines or frames, which have no name.
    Other,
}

/// The certificate of the service.
pub struct Certificates {
    cert: String,
    key: String,
    current: RwLock<Arc<CertifiedKey>>,
    /// Hash of what the files held when they were read last.
    read: RwLock<blake3::Hash>,
}

impl std::fmt::Debug for Certificates {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "the certificate of {}", self.cert)
    }
}

impl Certificates {
    /// The one that the settings name; none where they name none.
    ///
    /// # Errors
    /// Where the files cannot be read or do not fit.
    pub fn of(settings: &Settings) -> Result<Option<Arc<Self>>> {
        let (cert, key) = (settings.text("tls.cert").to_owned(), settings.text("tls.key").to_owned());
        if cert.is_empty() && key.is_empty() {
            return Ok(None);
        }
        let (certified, hash) = load(&cert, &key)?;
        let (current, read) = (RwLock::new(Arc::new(certified)), RwLock::new(hash));
        Ok(Some(Arc::new(Certificates { cert, key, current, read })))
    }

    /// Reads the files again where they changed; whether they did.
    ///
    /// # Errors
    /// Where they cannot be read or do not fit; what was read before goes on.
    pub fn reload(&self) -> Result<bool> {
        let hash = hash_of(&read(&self.cert, "tls.cert")?, &read(&self.key, "tls.key")?);
        if hash == *self.read.read() {
            return Ok(false);
        }
        let (certified, hash) = load(&self.cert, &self.key)?;
        *self.current.write() = Arc::new(certified);
        *self.read.write() = hash;
        Ok(true)
    }

    /// Takes connections with whatever certificate there is then.
    ///
    /// # Errors
    /// Where the library has no safe protocol.
    pub fn acceptor(self: &Arc<Self>, speaks: Speaks) -> Result<TlsAcceptor> {
        let config = rustls::ServerConfig::builder_with_provider(Arc::new(rustls::crypto::ring::default_provider()))
            .with_safe_default_protocol_versions()
            .map_err(|e| ServiceError::Setting(format!("TLS: {e}")))?;
        let mut config = config.with_no_client_auth().with_cert_resolver(self.clone());
        config.alpn_protocols = match speaks {
            Speaks::Http => vec![b"h2".to_vec(), b"http/1.1".to_vec()],
            Speaks::Grpc => vec![b"h2".to_vec()],
            Speaks::Other => Vec::new(),
        };
        Ok(TlsAcceptor::from(Arc::new(config)))
    }
}

impl ResolvesServerCert for Certificates {
    fn resolve(&self, _: ClientHello<'_>) -> Option<Arc<CertifiedKey>> {
        Some(self.current.read().clone())
    }
}

fn bad(name: &str, path: &str, why: &str) -> ServiceError {
    ServiceError::Setting(format!("{name} = `{path}`: {why}; give a PEM file (`calvex admin certificate` makes one)"))
}

fn read(path: &str, name: &str) -> Result<Vec<u8>> {
    let size = std::fs::metadata(path).map_err(|e| bad(name, path, &e.to_string()))?.len();
    if size > MAX_FILE {
        return Err(bad(name, path, "it is larger than 1 MiB"));
    }
    std::fs::read(path).map_err(|e| bad(name, path, &e.to_string()))
}

fn hash_of(cert: &[u8], key: &[u8]) -> blake3::Hash {
    blake3::Hasher::new().update(&cert.len().to_le_bytes()).update(cert).update(key).finalize()
}

fn load(cert_path: &str, key_path: &str) -> Result<(CertifiedKey, blake3::Hash)> {
    let (cert, key) = (read(cert_path, "tls.cert")?, read(key_path, "tls.key")?);
    let chain = CertificateDer::pem_slice_iter(&cert).collect::<std::result::Result<Vec<_>, _>>();
    let chain = chain.map_err(|e| bad("tls.cert", cert_path, &e.to_string()))?;
    if chain.is_empty() {
        return Err(bad("tls.cert", cert_path, "it holds no certificate"));
    }
    let secret = PrivateKeyDer::from_pem_slice(&key).map_err(|e| bad("tls.key", key_path, &e.to_string()))?;
    let certified = CertifiedKey::from_der(chain, secret, &rustls::crypto::ring::default_provider());
    Ok((certified.map_err(|e| bad("tls.cert", cert_path, &e.to_string()))?, hash_of(&cert, &key)))
}

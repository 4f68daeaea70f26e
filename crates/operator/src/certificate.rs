//! `calvex admin certificate`: an authority of one's own, and a certificate by it, for a trial.

use anyhow::{Context, Result, ensure};
use calvex_client::{Ended, output};
use clap::Args;
use rcgen::{
    BasicConstraints, CertificateParams, DnType, ExtendedKeyUsagePurpose, IsCa, Issuer, KeyPair, KeyUsagePurpose,
};
use rustls::pki_types::CertificateDer;
use rustls::pki_types::pem::PemObject;
use std::io::Write;
use std::os::unix::fs::OpenOptionsExt;
use std::path::{Path, PathBuf};

/// How long a certificate is good; the authority is good ten times as long.
const DAYS: i64 = 90;
/// The name of every authority that this command makes.
const AUTHORITY: &str = "Calvex trial authority";
/// A certificate is good from this long before it is made: clocks differ.
const BEFORE: jiff::SignedDuration = jiff::SignedDuration::from_hours(24);

/// Make a private certificate authority, and a certificate by it, for a trial. An authority that is there is used again
#[derive(Args)]
pub struct Certificate {
    /// The folder to write ca.pem, ca-key.pem, cert.pem and key.pem to
    #[arg(long, value_name = "DIR")]
    to: PathBuf,
    /// A name or address that clients use; localhost, 127.0.0.1 and ::1 if none is given
    #[arg(long = "host", value_name = "HOST")]
    hosts: Vec<String>,
}

impl Certificate {
    pub fn run(self) -> Result<Ended> {
        make(&self.to, &self.hosts)?;
        let shown = |name: &str| self.to.join(name).display().to_string();
        output::line(&format!("service  CALVEX_TLS_CERT={} CALVEX_TLS_KEY={}", shown("cert.pem"), shown("key.pem")))?;
        output::line(&format!("client   calvex --ca {} …", shown("ca.pem")))?;
        Ok(Ended::Well)
    }
}

/// Writes the files; keys are readable by their owner alone.
///
/// # Errors
/// Where the folder cannot be written, or the authority in it cannot be read.
pub fn make(dir: &Path, hosts: &[String]) -> Result<()> {
    std::fs::create_dir_all(dir).with_context(|| format!("cannot make {}", dir.display()))?;
    let (ca, ca_key) = (dir.join("ca.pem"), dir.join("ca-key.pem"));
    let issuer = match (std::fs::read_to_string(&ca), std::fs::read_to_string(&ca_key)) {
        (Ok(made), Ok(key)) => {
            let key = KeyPair::from_pem(&key)?;
            ensure!(is_authority(&made, &key), "{} is no authority; remove it to have one made", ca.display());
            Issuer::new(authority(), key)
        }
        _ => {
            let (params, key) = (authority(), KeyPair::generate()?);
            write(&ca, &params.self_signed(&key)?.pem(), 0o644)?;
            write(&ca_key, &key.serialize_pem(), 0o600)?;
            Issuer::new(params, key)
        }
    };
    let default = ["localhost", "127.0.0.1", "::1"].map(str::to_owned).to_vec();
    let hosts = if hosts.is_empty() { default } else { hosts.to_vec() };
    let mut params = CertificateParams::new(hosts.clone())?;
    params.distinguished_name.push(DnType::CommonName, hosts.first().map_or("localhost", String::as_str));
    params.extended_key_usages = vec![ExtendedKeyUsagePurpose::ServerAuth];
    lasting(&mut params, DAYS);
    let key = KeyPair::generate()?;
    let cert = params.signed_by(&key, &issuer)?;
    // The key first: whoever reads the pair again meanwhile finds one that does not fit, and goes on with the old one.
    write(&dir.join("key.pem"), &key.serialize_pem(), 0o600)?;
    write(&dir.join("cert.pem"), &cert.pem(), 0o644)
}

/// The certificate of an authority; what it signs names it by this and by its key.
fn authority() -> CertificateParams {
    let mut params = CertificateParams::default();
    params.distinguished_name.push(DnType::CommonName, AUTHORITY);
    params.is_ca = IsCa::Ca(BasicConstraints::Constrained(0));
    params.key_usages = vec![KeyUsagePurpose::KeyCertSign, KeyUsagePurpose::CrlSign];
    lasting(&mut params, DAYS * 10);
    params
}

/// Whether a certificate is one that this command made for an authority of this key: both stand in it as they are.
fn is_authority(pem: &str, key: &KeyPair) -> bool {
    let Ok(der) = CertificateDer::from_pem_slice(pem.as_bytes()) else { return false };
    let holds = |bytes: &[u8]| memchr::memmem::find(&der, bytes).is_some();
    holds(AUTHORITY.as_bytes()) && holds(key.public_key_raw())
}

fn lasting(params: &mut CertificateParams, days: i64) {
    let day = |at: jiff::Timestamp| {
        let date = at.to_zoned(jiff::tz::TimeZone::UTC).date();
        rcgen::date_time_ymd(i32::from(date.year()), date.month().unsigned_abs(), date.day().unsigned_abs())
    };
    let now = jiff::Timestamp::now();
    params.not_before = day(now - BEFORE);
    params.not_after = day(now + jiff::SignedDuration::from_hours(24 * days));
}

fn write(path: &Path, text: &str, mode: u32) -> Result<()> {
    let beside = path.with_extension("new");
    let mut file = std::fs::File::options().create(true).truncate(true).write(true).mode(mode).open(&beside)?;
    file.write_all(text.as_bytes())?;
    std::fs::rename(&beside, path).with_context(|| format!("cannot write {}", path.display()))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn an_authority_is_used_again_and_a_strange_one_refused() {
        let dir = tempfile::tempdir().unwrap();
        let read = |name: &str| std::fs::read(dir.path().join(name)).unwrap();
        make(dir.path(), &[]).unwrap();
        let (ca, first) = (read("ca.pem"), read("cert.pem"));
        make(dir.path(), &["depot".to_owned()]).unwrap();
        assert_eq!(read("ca.pem"), ca);
        assert_ne!(read("cert.pem"), first);
        // The key of another authority, and a certificate that is none.
        let other = tempfile::tempdir().unwrap();
        make(other.path(), &[]).unwrap();
        std::fs::copy(other.path().join("ca-key.pem"), dir.path().join("ca-key.pem")).unwrap();
        assert!(make(dir.path(), &[]).unwrap_err().to_string().contains("is no authority"));
        std::fs::copy(other.path().join("cert.pem"), other.path().join("ca.pem")).unwrap();
        assert!(make(other.path(), &[]).unwrap_err().to_string().contains("is no authority"));
    }
}

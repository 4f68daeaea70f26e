//! `calvex admin certificate`: an authority of one's own, and a certificate by it, for a trial.

use crate::{Ended, output};
use anyhow::{Context, Result};
use clap::Args;
use rcgen::{
    BasicConstraints, CertificateParams, DnType, ExtendedKeyUsagePurpose, IsCa, Issuer, KeyPair, KeyUsagePurpose,
};
use std::io::Write;
use std::os::unix::fs::OpenOptionsExt;
use std::path::{Path, PathBuf};

/// How long a certificate is good; the authority is good ten times as long.
const DAYS: i64 = 90;
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
        (Ok(ca), Ok(key)) => Issuer::from_ca_cert_pem(&ca, KeyPair::from_pem(&key)?)
            .with_context(|| format!("{} is no authority; remove it to have one made", dir.join("ca.pem").display()))?,
        _ => {
            let mut params = CertificateParams::default();
            params.distinguished_name.push(DnType::CommonName, "Calvex trial authority");
            params.is_ca = IsCa::Ca(BasicConstraints::Constrained(0));
            params.key_usages = vec![KeyUsagePurpose::KeyCertSign, KeyUsagePurpose::CrlSign];
            lasting(&mut params, DAYS * 10);
            let key = KeyPair::generate()?;
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

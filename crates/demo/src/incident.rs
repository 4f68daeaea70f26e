//! A fresh failure, for a demo that runs: what the night had, and what one of the days before had, now.

use super::requests::{certificate_ended, drop_off, lease_change, release};
use super::{Phase, Sent};
use rand::SeedableRng;
use rand_chacha::ChaCha8Rng;

/// What fails.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Incident {
    /// An operator shortens the slot lease, as in the night: leases run out before doors confirm.
    Leases,
    /// The certificate of the tariff service has ended: billing and notify fail.
    Certificate,
}

impl Incident {
    /// Both kinds.
    pub const ALL: [Incident; 2] = [Incident::Leases, Incident::Certificate];

    /// Its name.
    pub fn name(self) -> &'static str {
        match self {
            Incident::Leases => "leases",
            Incident::Certificate => "certificate",
        }
    }

    /// By its name.
    pub fn from_name(name: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|kind| kind.name() == name)
    }

    /// The change that begins it. Nobody makes a certificate end.
    pub fn begins(self, at_ns: i64) -> Option<Sent> {
        match self {
            Incident::Leases => Some(lease_change(at_ns, 120, 12)),
            Incident::Certificate => None,
        }
    }

    /// The change that ends it.
    pub fn ends(self, at_ns: i64) -> Sent {
        match self {
            Incident::Leases => lease_change(at_ns, 12, 120),
            Incident::Certificate => release(at_ns, "new certificate of billing"),
        }
    }

    /// What one request that it touches says, from `at_ns` on.
    pub fn request(self, seed: u64, serial: u64, at_ns: i64) -> Vec<Sent> {
        let mut rng = ChaCha8Rng::seed_from_u64(seed ^ serial.wrapping_mul(0x9e37_79b9_7f4a_7c15));
        match self {
            Incident::Leases => drop_off(&mut rng, serial, at_ns, Phase::Changed),
            Incident::Certificate => certificate_ended(&mut rng, serial, at_ns),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn both_kinds_fail_and_end() {
        for kind in Incident::ALL {
            assert_eq!(Incident::from_name(kind.name()), Some(kind));
            let said: Vec<Sent> = (0..40).flat_map(|serial| kind.request(1, serial, 0)).collect();
            let failures = said.iter().filter(|sent| sent.json.contains("\"error\"")).count();
            assert!(failures > 20, "{failures} failures of {kind:?}");
            assert!(said.iter().any(|sent| sent.is_span) && said.iter().all(|sent| sent.at_ns >= 0));
            assert!(kind.ends(5).json.contains("mark"));
            // The same seed gives the same events.
            assert_eq!(kind.request(1, 7, 0)[0].json, kind.request(1, 7, 0)[0].json);
        }
        assert_eq!(Incident::from_name("storm"), None);
    }
}

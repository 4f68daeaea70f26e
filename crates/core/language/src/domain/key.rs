//! Senders' keys: what they may send, and their secrets, of which several may be good at once.

/// What a key may send; anything where nothing is said.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct KeyLimits {
    /// The services it may send for.
    pub services: Vec<String>,
    /// The lanes it may send to.
    pub lanes: Vec<u32>,
    /// Events a second.
    pub rate: Option<u32>,
    /// Events a day.
    pub day_events: Option<u64>,
    /// Bytes a day.
    pub day_bytes: Option<u64>,
    /// From when on it is no longer good.
    pub ends_ns: Option<i64>,
    /// Whether what it sends is a past that is moved in: then old events do not count as late.
    pub past: bool,
}

impl KeyLimits {
    /// Whether a key with these may send nothing that one with `others` may not.
    pub fn are_within(&self, others: &KeyLimits) -> bool {
        fn few<T: PartialEq>(own: &[T], others: &[T]) -> bool {
            others.is_empty() || !own.is_empty() && own.iter().all(|one| others.contains(one))
        }
        fn least<T: PartialOrd>(own: Option<T>, other: Option<T>) -> bool {
            other.is_none_or(|other| own.is_some_and(|own| own <= other))
        }
        few(&self.services, &others.services)
            && few(&self.lanes, &others.lanes)
            && least(self.rate, others.rate)
            && least(self.day_events, others.day_events)
            && least(self.day_bytes, others.day_bytes)
            && least(self.ends_ns, others.ends_ns)
            && (!self.past || others.past)
    }
}

/// A sender's key.
#[derive(Debug, Clone, PartialEq, Eq)]
#[allow(missing_docs)]
pub struct Key {
    pub id: u32,
    pub name: String,
    /// A JSON object.
    pub fixed: String,
    pub limits: KeyLimits,
    /// From when on the secret that was shown is no longer good.
    pub secret_ends_ns: Option<i64>,
}

/// A secret of a key as listed.
#[derive(Debug, Clone, PartialEq, Eq)]
#[allow(missing_docs)]
pub struct KeySecret {
    pub prefix: String,
    pub created_ns: i64,
    pub ends_ns: Option<i64>,
}

/// A key as listed.
#[derive(Debug, Clone, PartialEq, Eq)]
#[allow(missing_docs)]
pub struct KeyListed {
    pub key: Key,
    pub created_ns: i64,
    pub revoked_ns: Option<i64>,
    pub last_ns: Option<i64>,
    /// The team that it belongs to.
    pub team: Option<String>,
    /// The newest first.
    pub secrets: Vec<KeySecret>,
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn limits_lie_within_others_where_nothing_more_may_be_sent() {
        let known = KeyLimits { services: vec!["slots".into(), "edge".into()], rate: Some(10), ..KeyLimits::default() };
        assert!(known.are_within(&known) && known.are_within(&KeyLimits::default()));
        assert!(!KeyLimits::default().are_within(&known));
        let narrower =
            KeyLimits { services: vec!["edge".into()], rate: Some(9), ends_ns: Some(5), ..KeyLimits::default() };
        assert!(narrower.are_within(&known) && !known.are_within(&narrower));
        for wider in [
            KeyLimits { services: vec!["edge".into(), "billing".into()], ..narrower.clone() },
            KeyLimits { services: Vec::new(), ..narrower.clone() },
            KeyLimits { rate: Some(11), ..narrower.clone() },
            KeyLimits { past: true, ..narrower.clone() },
            KeyLimits { rate: None, ..narrower },
        ] {
            assert!(!wider.are_within(&known), "{wider:?}");
        }
    }
}

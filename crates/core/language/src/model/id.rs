//! Identity: event ids given at commit, and the trace and span ids of W3C Trace Context.
#![cfg_attr(
    not(test),
    expect(clippy::indexing_slicing, reason = "tables of all bytes and nibbles, indexed by bytes and nibbles")
)]

use std::fmt;
use std::str::FromStr;

/// A trace id, 16 bytes.
pub type TraceId = [u8; 16];
/// A span id, 8 bytes.
pub type SpanId = [u8; 8];

/// Where an event stands in the journal of the node that took it; unique for ever, and kept through seal and merge.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Default)]
pub struct EventId {
    /// The node that took it.
    pub node: u16,
    /// The node's epoch then.
    pub epoch: u32,
    /// The journal row of that epoch.
    pub seq: u64,
    /// The ordinal of the event within the row.
    pub ordinal: u32,
}

impl fmt::Display for EventId {
    fn fmt(&self, f: &mut fmt::Formatter) -> fmt::Result {
        write!(f, "{}-{}-{}-{}", self.node, self.epoch, self.seq, self.ordinal)
    }
}

impl FromStr for EventId {
    type Err = String;
    fn from_str(text: &str) -> Result<Self, String> {
        let bad = || format!("`{text}` is not an event id; one looks like 1-3-2290-26");
        let mut parts = text.split('-');
        let mut next = || parts.next().ok_or_else(bad);
        let id = EventId {
            node: next()?.parse().map_err(|_| bad())?,
            epoch: next()?.parse().map_err(|_| bad())?,
            seq: next()?.parse().map_err(|_| bad())?,
            ordinal: next()?.parse().map_err(|_| bad())?,
        };
        if parts.next().is_some() { Err(bad()) } else { Ok(id) }
    }
}

/// Lower-case hex.
pub fn to_hex(bytes: &[u8]) -> String {
    const DIGITS: &[u8; 16] = b"0123456789abcdef";
    let mut out = String::with_capacity(bytes.len() * 2);
    for b in bytes {
        out.push(DIGITS[usize::from(b >> 4)] as char);
        out.push(DIGITS[usize::from(b & 15)] as char);
    }
    out
}

fn from_hex<const N: usize>(text: &str) -> Option<[u8; N]> {
    let text = text.as_bytes();
    if text.len() != N * 2 {
        return None;
    }
    let mut out = [0u8; N];
    let mut met = 0;
    for (slot, pair) in out.iter_mut().zip(text.chunks_exact(2)) {
        let (high, low) = (DIGIT[usize::from(pair[0])], DIGIT[usize::from(pair[1])]);
        met |= high | low;
        *slot = high << 4 | low & 15;
    }
    // Whether one of them was none is asked once, at the end.
    (met < 16).then_some(out)
}

/// The value of each hex digit; 255 for what is none.
const DIGIT: [u8; 256] = {
    let mut values = [255; 256];
    let mut value = 0;
    while value < 16 {
        values[b"0123456789abcdef"[value] as usize] = value as u8;
        values[b"0123456789ABCDEF"[value] as usize] = value as u8;
        value += 1;
    }
    values
};

/// A trace id from 32 hex digits in either case; all zero means none (W3C Trace Context, 3.2.2.3).
pub fn parse_trace(text: &str) -> Option<TraceId> {
    from_hex::<16>(text).filter(|id| *id != [0; 16])
}

/// A span id from 16 hex digits in either case; all zero means none.
pub fn parse_span(text: &str) -> Option<SpanId> {
    from_hex::<8>(text).filter(|id| *id != [0; 8])
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn event_ids_round_trip() {
        let id = EventId { node: 1, epoch: 3, seq: 2290, ordinal: 26 };
        assert_eq!(id.to_string().parse(), Ok(id));
        for bad in ["", "1-2-3", "1-2-3-4-5", "1-2-x-4", "99999-1-1-1"] {
            assert!(bad.parse::<EventId>().is_err(), "{bad}");
        }
    }

    #[test]
    fn hex_ids() {
        let id = parse_trace("5B8aa5a2d2c872e8321cf37308d69df2").unwrap();
        assert_eq!(to_hex(&id), "5b8aa5a2d2c872e8321cf37308d69df2");
        assert_eq!(parse_trace("00000000000000000000000000000000"), None);
        assert_eq!(parse_span("12345678901234g7"), None);
    }
}

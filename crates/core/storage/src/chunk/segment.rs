//! The envelope of every segment: what it belongs to, and a checksum over its payload.

use super::VERSION;
use calvex_language::error::{CoreError, Result};
use std::sync::Arc;

const MAGIC: &[u8; 4] = b"CvxP";
/// Bytes before the payload.
pub(super) const HEADER_BYTES: usize = 20;

/// Wraps a payload.
pub(crate) fn seal_segment(chunk: u64, segment: u16, payload: &[u8]) -> Vec<u8> {
    let mut out = Vec::with_capacity(HEADER_BYTES + payload.len());
    out.extend_from_slice(MAGIC);
    out.extend_from_slice(&VERSION.to_le_bytes());
    out.extend_from_slice(&segment.to_le_bytes());
    out.extend_from_slice(&chunk.to_le_bytes());
    out.extend_from_slice(&crc32fast::hash(payload).to_le_bytes());
    out.extend_from_slice(payload);
    out
}

/// Bytes that a segment may be held in: on the heap, or mapped from a file of the cache.
pub trait SegmentBytes: AsRef<[u8]> + Send + Sync {}

impl<T: AsRef<[u8]> + Send + Sync> SegmentBytes for T {}

/// A segment whose header and checksum held. Only these are read.
#[derive(Clone)]
pub struct VerifiedSegment {
    bytes: Arc<dyn SegmentBytes>,
    version: u16,
}

impl std::fmt::Debug for VerifiedSegment {
    fn fmt(&self, f: &mut std::fmt::Formatter) -> std::fmt::Result {
        write!(f, "VerifiedSegment({} bytes, version {})", self.len(), self.version)
    }
}

impl VerifiedSegment {
    /// Checks that `bytes` are segment `segment` of `chunk`.
    ///
    /// # Errors
    /// [`CoreError::Damaged`] or [`CoreError::Version`], naming the segment.
    pub fn check(bytes: impl SegmentBytes + 'static, chunk: u64, segment: u16) -> Result<Self> {
        let location = || format!("chunk {chunk:x} segment {segment}");
        let damaged = |what: &str| CoreError::damaged(location(), what);
        let all = bytes.as_ref();
        let (header, payload) = all.split_first_chunk::<HEADER_BYTES>().ok_or_else(|| damaged("it is cut short"))?;
        let (magic, rest) = header.split_at(MAGIC.len());
        let [v0, v1, names @ .., c0, c1, c2, c3] = rest else { return Err(damaged("it is cut short")) };
        if magic != MAGIC {
            return Err(damaged("it does not begin as one"));
        }
        let version = u16::from_le_bytes([*v0, *v1]);
        if !(1..=VERSION).contains(&version) {
            return Err(CoreError::Version { location: location(), found: version, known: VERSION });
        }
        if names != [&segment.to_le_bytes()[..], &chunk.to_le_bytes()].concat() {
            return Err(damaged("it names another chunk or segment"));
        }
        if [*c0, *c1, *c2, *c3] != crc32fast::hash(payload).to_le_bytes() {
            return Err(damaged("its checksum does not hold"));
        }
        Ok(VerifiedSegment { bytes: Arc::new(bytes), version })
    }

    /// What the checksum covers.
    pub fn payload(&self) -> &[u8] {
        (*self.bytes).as_ref().get(HEADER_BYTES..).unwrap_or(&[])
    }

    /// All bytes, as stored.
    pub fn bytes(&self) -> &[u8] {
        (*self.bytes).as_ref()
    }

    /// The version of the format it is written in.
    pub fn version(&self) -> u16 {
        self.version
    }

    /// Size with header.
    pub fn len(&self) -> usize {
        self.bytes().len()
    }

    /// Never, for a checked segment; here because `len` is.
    pub fn is_empty(&self) -> bool {
        self.bytes().is_empty()
    }
}

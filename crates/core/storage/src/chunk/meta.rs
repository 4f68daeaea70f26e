//! What is known of a chunk and of a bloom set without reading them: their rows in the catalogue.

/// A chunk as catalogued.
#[derive(Debug, Clone, PartialEq, Eq)]
#[allow(missing_docs)]
pub struct ChunkMeta {
    pub id: u64,
    pub lane: u32,
    pub day: i32,
    /// The day on which its segments' table may be dropped.
    pub bucket: i32,
    pub visible_until_ns: i64,
    pub time_min: i64,
    pub time_max: i64,
    pub rows: u32,
    pub bytes: u64,
    pub segments: u16,
    pub late: bool,
    /// Of all its segments; 0 for chunks from before there was one.
    pub checksum: u32,
    /// The bloom set that holds its filter.
    pub bloom_set: Option<BloomSetMember>,
}

/// A bloom set whose segments are written.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct BloomSetMeta {
    /// From the numbers of chunks.
    pub id: u64,
    /// The lane of all its chunks.
    pub lane: u32,
    /// Their bucket.
    pub bucket: i32,
    /// How many segments it has.
    pub segments: u16,
    /// Of all its segments.
    pub checksum: u32,
    /// Its chunks, by place.
    pub chunks: Vec<u64>,
}

/// Where a chunk stands in a bloom set.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct BloomSetMember {
    /// The bloom set.
    pub id: u64,
    /// The chunk's place in it.
    pub place: u16,
    /// Where the bloom set's segments stand.
    pub bucket: i32,
    /// Of all its segments.
    pub checksum: u32,
}

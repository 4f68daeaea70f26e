//! Fuzz targets for the readers of chunks, bloom sets and the journal. `cargo test` runs each briefly; with a fuzzing engine
//! (`cargo bolero test fuzz::chunk_reader -p calvex-storage`) they run for as long as wished.
//!
//! Bytes are changed behind the checksum, which is then set right: what a checksum catches never reaches a decoder.

use crate::chunk::journal::{decode_batch, encode_batch};
use crate::chunk::{
    ChunkPage, ChunkSource, Directory, MAX_MEMBERS, VerifiedSegment, build_bloom_set, chunk_bloom,
    chunks_that_may_match, pages_that_may_match, resealed,
};
use crate::columns::{materialise_all, select};
use crate::testing::{Edits, edited};
use bolero::{check, produce};
use calvex_language::error::{CoreError, Result};
use calvex_language::query::{Context, Filter, parse};
use std::sync::Arc;

const ROUNDS: usize = 3000;

struct Forged(Vec<Vec<u8>>);

impl Forged {
    /// One of the segments changed behind its checksum.
    fn of(segments: &[Vec<u8>], segment: u8, edits: &Edits, cut: u16) -> Self {
        let segment = usize::from(segment) % segments.len();
        let mut forged = segments.to_vec();
        let payload = VerifiedSegment::check(segments[segment].clone(), 1, segment as u16).unwrap().payload().to_vec();
        forged[segment] = resealed(1, segment as u16, &edited(&payload, edits, cut));
        Forged(forged)
    }
}

impl ChunkSource for Forged {
    fn directory(&self, chunk: u64) -> Result<Arc<Directory>> {
        Ok(Arc::new(Directory::read(chunk, &self.segment(chunk, 0)?)?))
    }
    fn segment(&self, chunk: u64, segment: u16) -> Result<VerifiedSegment> {
        let bytes = self.0.get(usize::from(segment)).ok_or_else(|| CoreError::Unavailable("gone".into()))?;
        VerifiedSegment::check(bytes.clone(), chunk, segment)
    }
}

fn golden() -> Vec<Vec<u8>> {
    let bytes = include_bytes!("chunk/golden/v4.bin");
    let (mut at, mut segments) = (0, Vec::new());
    while at < bytes.len() {
        let length = u32::from_le_bytes(bytes[at..at + 4].try_into().unwrap()) as usize;
        segments.push(bytes[at + 4..at + 4 + length].to_vec());
        at += 4 + length;
    }
    segments
}

#[test]
fn bloom_set_reader() {
    let whole = Arc::new(chunk_bloom(1, &Forged(golden())).unwrap());
    let segments = build_bloom_set(1, &[(1, whole.clone()), (2, Arc::default()), (3, whole)]);
    let filter = parse("lease slot.bank=BK-003 or 17", &Context::utc(0)).query.filter;
    assert_eq!(chunks_that_may_match(&filter, 1, &Forged(segments.clone())).unwrap().count(), 3);
    check!()
        .with_iterations(ROUNDS)
        .with_generator((produce::<u8>(), produce::<Edits>().with().len(0usize..6), produce::<u16>()))
        .for_each(|(segment, edits, cut)| {
            match chunks_that_may_match(&filter, 1, &Forged::of(&segments, *segment, edits, *cut)) {
                Ok(chunks) => assert!(chunks.len() <= MAX_MEMBERS),
                Err(e) => assert!(e.to_string().contains("segment 0") || e.to_string().contains("gone"), "{e}"),
            }
        });
}

#[test]
fn chunk_reader() {
    let segments = golden();
    let filter = parse("lease door<9 slot.bank=BK-003 severity>=info", &Context::utc(0)).query.filter;
    check!()
        .with_iterations(ROUNDS)
        .with_generator((produce::<u8>(), produce::<Edits>().with().len(0usize..6), produce::<u16>()))
        .for_each(|(segment, edits, cut)| {
            let source = Forged::of(&segments, *segment, edits, *cut);
            let Ok(directory) = source.directory(1) else { return };
            let _ = pages_that_may_match(&filter, &directory, &source);
            for page in 0..directory.pages.len().min(64) {
                let page = ChunkPage::new(directory.clone(), page, &source);
                for reported in [
                    materialise_all(&page).err(),
                    select(&filter, &page, "").err(),
                    select(&Filter::All, &page, "").err(),
                ] {
                    let named = reported.is_none_or(|e| {
                        e.to_string().contains("chunk 1 segment")
                            || e.to_string().contains("gone")
                            || e.to_string().contains("page")
                            || e.to_string().contains("block")
                    });
                    assert!(named, "an error names what is damaged");
                }
            }
        });
}

#[test]
fn segments_behind_their_checksum() {
    let segments = golden();
    check!().with_iterations(ROUNDS).with_type::<(u8, Edits, u16)>().for_each(|(segment, edits, cut)| {
        let segment = usize::from(*segment) % segments.len();
        let bytes = edited(&segments[segment], edits, *cut);
        let same = bytes == segments[segment];
        match VerifiedSegment::check(bytes, 1, segment as u16) {
            Ok(_) => assert!(same, "a changed segment was taken"),
            Err(e) => assert!(e.to_string().contains(&format!("chunk 1 segment {segment}")), "{e}"),
        }
    });
}

#[test]
fn journal_reader() {
    let source = Forged(golden());
    let directory = source.directory(1).unwrap();
    let page = materialise_all(&ChunkPage::new(directory, 0, &source)).unwrap();
    let batch = encode_batch(&crate::columns::build_page(&page).unwrap());
    let (header, content) = batch.split_at(10);
    check!().with_iterations(ROUNDS).with_type::<(Edits, u16, bool)>().for_each(|(edits, cut, behind)| {
        let bytes = if *behind {
            // The raw columns, packed again, so that the decoder of columns is reached.
            let length = u32::from_le_bytes(content[..4].try_into().unwrap()) as usize;
            let raw = zstd::bulk::decompress(&content[4..], length).unwrap();
            let raw = edited(&raw, edits, *cut);
            [&(raw.len() as u32).to_le_bytes()[..], &zstd::bulk::compress(&raw, 1).unwrap()].concat()
        } else {
            edited(content, edits, *cut)
        };
        let mut forged = header.to_vec();
        forged[6..10].copy_from_slice(&crc32fast::hash(&bytes).to_le_bytes());
        forged.extend_from_slice(&bytes);
        match decode_batch(&forged, "1-1-1") {
            Ok(page) => {
                let _ = materialise_all(&page.with_origin(1, 1, 1));
            }
            Err(e) => assert!(e.to_string().contains("journal batch 1-1-1"), "{e}"),
        }
    });
}

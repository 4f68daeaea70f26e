//! Fuzz targets for the readers of chunks, roll-ups and the journal. `cargo test` runs each briefly; with a fuzzing engine
//! (`cargo bolero test fuzz::chunk_reader -p calvex-storage`) they run for as long as wished.
//!
//! Bytes are changed behind the checksum, which is then set right: what a checksum catches never reaches a decoder.

use crate::chunk::journal::{decode_batch, encode_batch};
use crate::chunk::{
    ChunkPage, ChunkSource, Directory, MAX_MEMBERS, VerifiedPart, build_rollup, chunks_that_may_match,
    pages_that_may_match, resealed, whole_filter,
};
use crate::columns::{gather_all, select};
use crate::testing::{Edits, edited};
use bolero::{check, produce};
use calvex_language::error::{CoreError, Result};
use calvex_language::query::{Context, Filter, parse};
use std::sync::Arc;

const ROUNDS: usize = 3000;

struct Forged(Vec<Vec<u8>>);

impl Forged {
    /// One of the parts changed behind its checksum.
    fn of(parts: &[Vec<u8>], part: u8, edits: &Edits, cut: u16) -> Self {
        let part = usize::from(part) % parts.len();
        let mut forged = parts.to_vec();
        let payload = VerifiedPart::check(parts[part].clone(), 1, part as u16).unwrap().payload().to_vec();
        forged[part] = resealed(1, part as u16, &edited(&payload, edits, cut));
        Forged(forged)
    }
}

impl ChunkSource for Forged {
    fn directory(&self, chunk: u64) -> Result<Arc<Directory>> {
        Ok(Arc::new(Directory::read(chunk, &self.part(chunk, 0)?)?))
    }
    fn part(&self, chunk: u64, part: u16) -> Result<VerifiedPart> {
        let bytes = self.0.get(usize::from(part)).ok_or_else(|| CoreError::Unavailable("gone".into()))?;
        VerifiedPart::check(bytes.clone(), chunk, part)
    }
}

fn golden() -> Vec<Vec<u8>> {
    let bytes = include_bytes!("chunk/golden/v4.bin");
    let (mut at, mut parts) = (0, Vec::new());
    while at < bytes.len() {
        let length = u32::from_le_bytes(bytes[at..at + 4].try_into().unwrap()) as usize;
        parts.push(bytes[at + 4..at + 4 + length].to_vec());
        at += 4 + length;
    }
    parts
}

#[test]
fn rollup_reader() {
    let whole = Arc::new(whole_filter(1, &Forged(golden())).unwrap());
    let parts = build_rollup(1, &[(1, whole.clone()), (2, Arc::default()), (3, whole)]);
    let filter = parse("lease slot.bank=BK-003 or 17", &Context::utc(0)).query.filter;
    assert_eq!(chunks_that_may_match(&filter, 1, &Forged(parts.clone())).unwrap().count(), 3);
    check!()
        .with_iterations(ROUNDS)
        .with_generator((produce::<u8>(), produce::<Edits>().with().len(0usize..6), produce::<u16>()))
        .for_each(|(part, edits, cut)| {
            match chunks_that_may_match(&filter, 1, &Forged::of(&parts, *part, edits, *cut)) {
                Ok(chunks) => assert!(chunks.len() <= MAX_MEMBERS),
                Err(e) => assert!(e.to_string().contains("part 0") || e.to_string().contains("gone"), "{e}"),
            }
        });
}

#[test]
fn chunk_reader() {
    let parts = golden();
    let filter = parse("lease door<9 slot.bank=BK-003 severity>=info", &Context::utc(0)).query.filter;
    check!()
        .with_iterations(ROUNDS)
        .with_generator((produce::<u8>(), produce::<Edits>().with().len(0usize..6), produce::<u16>()))
        .for_each(|(part, edits, cut)| {
            let source = Forged::of(&parts, *part, edits, *cut);
            let Ok(directory) = source.directory(1) else { return };
            let _ = pages_that_may_match(&filter, &directory, &source);
            for page in 0..directory.pages.len().min(64) {
                let page = ChunkPage::new(directory.clone(), page, &source);
                for told in
                    [gather_all(&page).err(), select(&filter, &page, "").err(), select(&Filter::All, &page, "").err()]
                {
                    let named = told.is_none_or(|e| {
                        e.to_string().contains("chunk 1 part")
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
fn parts_behind_their_checksum() {
    let parts = golden();
    check!().with_iterations(ROUNDS).with_type::<(u8, Edits, u16)>().for_each(|(part, edits, cut)| {
        let part = usize::from(*part) % parts.len();
        let bytes = edited(&parts[part], edits, *cut);
        let same = bytes == parts[part];
        match VerifiedPart::check(bytes, 1, part as u16) {
            Ok(_) => assert!(same, "a changed part was taken"),
            Err(e) => assert!(e.to_string().contains(&format!("chunk 1 part {part}")), "{e}"),
        }
    });
}

#[test]
fn journal_reader() {
    let source = Forged(golden());
    let directory = source.directory(1).unwrap();
    let page = gather_all(&ChunkPage::new(directory, 0, &source)).unwrap();
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
                let _ = gather_all(&page.with_origin(1, 1, 1));
            }
            Err(e) => assert!(e.to_string().contains("journal batch 1-1-1"), "{e}"),
        }
    });
}

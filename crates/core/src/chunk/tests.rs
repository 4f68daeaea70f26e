//! The format: every part by truncation and flips, large pages, and many columns.

use super::*;
use crate::columns::{PageRead, gather_all};
use crate::event::{Event, EventId, Path, Value};
use std::sync::Arc;

struct Shelf(Vec<Vec<u8>>);

impl ChunkSource for Shelf {
    fn directory(&self, chunk: u64) -> crate::error::Result<Arc<Directory>> {
        Ok(Arc::new(Directory::read(chunk, &self.part(chunk, 0)?)?))
    }
    fn part(&self, chunk: u64, part: u16) -> crate::error::Result<VerifiedPart> {
        let bytes = self.0.get(part as usize).cloned();
        VerifiedPart::check(bytes.unwrap_or_default(), chunk, part)
    }
}

fn event(n: u32) -> Event {
    Event {
        id: EventId { node: 1, epoch: 2, seq: u64::from(n) / 100, place: n % 100 },
        time_ns: 1_791_081_521_000_000_000 + i64::from(n) * 1_000_003,
        message: format!("lease LS-{n} ran out before door {} confirmed", n % 30),
        service: "slots".into(),
        fields: vec![
            (Path::new(["slot", "bank"]), Value::Text(format!("BK-{:03}", n % 40))),
            (Path::root("late_by_ms"), Value::Int(i64::from(n % 977))),
        ],
        ..Event::default()
    }
}

fn read_all(chunk: &BuiltChunk) -> Vec<Event> {
    let shelf = Shelf(chunk.parts.clone());
    let directory = shelf.directory(chunk.id).unwrap();
    let page = |p| gather_all(&ChunkPage::new(directory.clone(), p, &shelf)).unwrap();
    (0..directory.pages.len()).flat_map(page).collect()
}

#[test]
fn large_chunks_come_back_exactly_in_time_order() {
    let events: Vec<Event> = (0..20_000).map(event).collect();
    let shuffled: Vec<Event> = events.iter().rev().cloned().collect();
    let chunks = build_chunks(shuffled, || 7).unwrap();
    assert_eq!(chunks.len(), 1);
    let mut back = read_all(&chunks[0]);
    back.iter_mut().for_each(|e| e.fields.reverse());
    assert!(back == events, "events differ");
    assert!(chunks[0].parts.iter().all(|p| p.len() <= MAX_PART_BYTES));
}

#[test]
fn incompressible_text_is_spread_over_parts() {
    let noise = |n: u32| {
        let mut x = u64::from(n) + 1;
        let step = |_| {
            x = x.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
            char::from(b'!' + (x >> 57) as u8 % 90)
        };
        (0..60_000).map(step).collect::<String>()
    };
    let events: Vec<Event> = (0..200).map(|n| Event { message: noise(n), ..event(n) }).collect();
    let chunks = build_chunks(events.clone(), || 1).unwrap();
    assert!(chunks[0].parts.len() > 2);
    assert!(chunks[0].parts.iter().all(|p| p.len() <= MAX_PART_BYTES));
    assert_eq!(read_all(&chunks[0]).len(), events.len());
}

#[test]
fn very_many_columns_are_spread_over_chunks() {
    let wide = |n: u32| Event {
        fields: (0..100).map(|i| (Path::root(&format!("f{n}_{i}")), Value::Int(i))).collect(),
        ..event(n)
    };
    let events: Vec<Event> = (0..200).map(wide).collect();
    let mut id = 0;
    let chunks = build_chunks(events, || {
        id += 1;
        id
    })
    .unwrap();
    assert_eq!(chunks.iter().map(|c| c.rows).sum::<usize>(), 200);
    assert_eq!(chunks.iter().map(|c| read_all(c).len()).sum::<usize>(), 200);
}

#[test]
fn each_truncation_and_flip_is_an_error_that_names_the_part() {
    let chunk = &build_chunks((0..50).map(event).collect(), || 0xa1).unwrap()[0];
    for (n, part) in chunk.parts.iter().enumerate() {
        let place = format!("chunk a1 part {n}");
        for cut in 0..part.len() {
            let error = VerifiedPart::check(part[..cut].to_vec(), 0xa1, n as u16).unwrap_err().to_string();
            assert!(error.contains(&place), "{error}");
        }
        for at in 0..part.len() {
            let mut damaged = part.clone();
            damaged[at] ^= 1 << (at % 8);
            let error = VerifiedPart::check(damaged, 0xa1, n as u16).unwrap_err().to_string();
            assert!(error.contains(&place), "{error}");
        }
    }
}

#[test]
fn bytes_that_a_checksum_lets_through_never_panic() {
    let chunk = &build_chunks((0..50).map(event).collect(), || 1).unwrap()[0];
    let payload = VerifiedPart::check(chunk.parts[0].clone(), 1, 0).unwrap().payload().to_vec();
    for at in 0..payload.len().min(2000) {
        let mut forged = payload.clone();
        forged[at] ^= 0x55;
        let part = part::seal_part(1, 0, &forged);
        if let Ok(directory) = Directory::read(1, &VerifiedPart::check(part, 1, 0).unwrap()) {
            let shelf = Shelf(chunk.parts.clone());
            let directory = Arc::new(directory);
            for page in 0..directory.pages.len() {
                let page = ChunkPage::new(directory.clone(), page, &shelf);
                let _ = gather_all(&page);
                let _ = page.time_span();
            }
        }
    }
}

/// The golden chunk of format 1 stays readable for ever. `CALVEX_BLESS=1` writes it anew when the version rises.
#[test]
fn golden_chunk() {
    let path = concat!(env!("CARGO_MANIFEST_DIR"), "/src/chunk/golden/v1.bin");
    if std::env::var_os("CALVEX_BLESS").is_some() {
        let chunk = &build_chunks((0..20).map(event).collect(), || 1).unwrap()[0];
        let mut out = Vec::new();
        for part in &chunk.parts {
            out.extend_from_slice(&(part.len() as u32).to_le_bytes());
            out.extend_from_slice(part);
        }
        std::fs::write(path, out).unwrap();
    }
    let bytes = std::fs::read(path).unwrap();
    let (mut at, mut parts) = (0, Vec::new());
    while at < bytes.len() {
        let length = u32::from_le_bytes(bytes[at..at + 4].try_into().unwrap()) as usize;
        parts.push(bytes[at + 4..at + 4 + length].to_vec());
        at += 4 + length;
    }
    let mut back = read_all(&BuiltChunk { id: 1, parts, rows: 20, time_min: 0, time_max: 0 });
    back.iter_mut().for_each(|e| e.fields.reverse());
    assert_eq!(back, (0..20).map(event).collect::<Vec<_>>());
}

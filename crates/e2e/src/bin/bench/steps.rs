//! What an event costs on its way in, step by step: the engine's own work on one thread, without network and database.

use crate::{HOUR_NS, SLICE, slice};
use anyhow::Result;
use calvex_e2e::load::Load;
use calvex_intake::batch::{BatchBuilder, HeadKey, Policy, Reading};
use calvex_intake::normalise::{Arrival, Limits};
use calvex_intake::route::RouteTable;
use calvex_intake::transform::Transforms;
use calvex_storage::chunk::journal::{decode_batch, encode_batch};
use calvex_storage::chunk::{BuiltChunk, MAX_CHUNK_ROWS, build_chunks};
use calvex_storage::columns::{Page, PageRead};
use std::collections::BTreeMap;
use std::time::{Duration, Instant};

/// Takes `events` events, a million at most, through the steps and prints what each took.
pub fn steps(events: usize) -> Result<()> {
    let from_ns = i64::try_from(jiff::Timestamp::now().as_nanosecond())? - HOUR_NS;
    let bodies = slice(&mut Load::new(1, from_ns, HOUR_NS * 9 / 10 / events as i64), events.min(SLICE));
    let count = bodies.iter().map(|b| b.events).sum::<usize>();
    let (routes, transforms, ties) = (RouteTable::new(Vec::new(), 1), Transforms::default(), Default::default());
    let policy = Policy::of_routes(&routes, &transforms, &|_| ("main", 36_500));
    let mut took: BTreeMap<&str, Duration> = BTreeMap::new();
    let mut timed = |step: &'static str, began: Instant| *took.entry(step).or_default() += began.elapsed();
    let mut heads: BTreeMap<HeadKey, Vec<Page>> = BTreeMap::new();
    let mut journal_bytes = 0;
    for (body, seq) in bodies.iter().zip(1..) {
        let began = Instant::now();
        let arrived_ns = from_ns + HOUR_NS;
        let arrival = Arrival { arrived_ns, sender: "bench", fixed: &[], limits: Limits::default(), ties: &ties };
        let (mut batch, mut reading) = (BatchBuilder::new(arrival), Reading::default());
        calvex_wire::ndjson::decode(&body.bytes, &mut batch, &mut reading)?;
        timed("1 decode, normalise, to columns", began);
        let began = Instant::now();
        let batch = batch.finish(&reading, &policy)?;
        timed("2 route", began);
        for (key, page) in batch.pages {
            let began = Instant::now();
            let batch = encode_batch(&page);
            journal_bytes += batch.len();
            timed("3 journal batch", began);
            let began = Instant::now();
            decode_batch(&batch, "")?;
            timed("5 decode, on each other node", began);
            heads.entry(key).or_default().push(page.with_origin(1, 1, seq));
        }
    }
    let mut chunk_bytes = 0;
    for pages in heads.into_values() {
        let mut head: Vec<&dyn PageRead> = Vec::new();
        for page in &pages {
            head.push(page);
            if head.iter().map(|p| p.rows()).sum::<usize>() >= MAX_CHUNK_ROWS / 2 {
                chunk_bytes += seal(&head, &mut timed)?;
                head.clear();
            }
        }
        if !head.is_empty() {
            chunk_bytes += seal(&head, &mut timed)?;
        }
    }
    let mut whole = Duration::ZERO;
    for (step, took) in took {
        println!("{step}: {} ns an event", took.as_nanos() / count as u128);
        whole += took;
    }
    println!(
        "together {} ns; {:.1} bytes an event in the journal, {:.1} in chunks",
        whole.as_nanos() / count as u128,
        journal_bytes as f64 / count as f64,
        chunk_bytes as f64 / count as f64
    );
    Ok(())
}

fn seal(head: &[&dyn PageRead], timed: &mut impl FnMut(&'static str, Instant)) -> Result<usize> {
    let began = Instant::now();
    let chunks = build_chunks(head, || 1)?;
    timed("4 seal", began);
    Ok(chunks.iter().map(BuiltChunk::bytes).sum())
}

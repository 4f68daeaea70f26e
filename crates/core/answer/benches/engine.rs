//! Microbenchmarks of the engine's steps: `cargo bench -p calvex-answer`. Each works on one page's or one head's worth of
//! events of the made-up locker network; throughput is in events.
#![allow(clippy::unwrap_used, reason = "a benchmark that fails should stop")]
#![allow(missing_docs, reason = "criterion's macros make undocumented items")]

use calvex_answer::measure::Quantiles;
use calvex_intake::batch::{BatchBuilder, Policy, Reading};
use calvex_intake::normalise::{Arrival, Known, Limits, RawEvent};
use calvex_intake::route::RouteTable;
use calvex_intake::transform::Transforms;
use calvex_language::error::Result;
use calvex_language::model::template;
use calvex_language::query::parse_filter;
use calvex_storage::chunk::journal::{decode_batch, encode_batch};
use calvex_storage::chunk::{
    BuiltChunk, ChunkPage, ChunkSource, Directory, VerifiedSegment, build_chunks, pages_that_may_match,
};
use calvex_storage::columns::{Page, PageRead, select};
use criterion::{Criterion, Throughput, criterion_group, criterion_main};
use std::hint::black_box;
use std::sync::Arc;

const ROWS: usize = 8192;

fn lines(from: usize, count: usize) -> Vec<String> {
    (from..from + count)
        .map(|n| {
            let mix = (n as u64).wrapping_mul(0x9e37_79b9_7f4a_7c15);
            let trace = (n as u64 / 12).wrapping_mul(0x9e37_79b9_7f4a_7c15);
            let parcel = trace % 90_000;
            let time = calvex_language::model::time::format_utc(1_791_081_521_000_000_000 + n as i64 * 350_000, 6);
            let (thing, verb) = (["door", "parcel", "lease", "code"][n % 4], ["opened", "closed", "moved"][n % 3]);
            format!(
                r#"{{"time":"{time}","level":"info","service":"slots","host":"slots-{}","message":"{thing} of PX-{parcel:05} {verb} at door {}","trace_id":"{trace:032x}","span_id":"{mix:016x}","slot":{{"bank":"BK-{:03}","door":{}}},"took_ms":{},"parcel":{{"id":"PX-{parcel:05}"}}}}"#,
                parcel % 4,
                mix % 36,
                parcel % 40,
                mix % 36,
                mix % 4000
            )
        })
        .collect()
}

fn page(lines: &[String]) -> Page {
    let mut reading = Reading::default();
    let limits = Limits::default();
    let arrived_ns = 1_791_081_521_000_000_000;
    let ties = calvex_language::query::Ties::default();
    let arrival = Arrival { arrived_ns, sender: "slots-prod", fixed: &[], limits, ties: &ties };
    let mut batch = BatchBuilder::new(arrival);
    for (n, line) in lines.iter().enumerate() {
        let fields = reading.flattener.json(line, &mut reading.paths, &limits);
        let event = fields.map(|fields| RawEvent { fields, known: Known::default() });
        batch.push(n, event, &mut reading).unwrap();
    }
    let (routes, transforms) = (RouteTable::new(Vec::new(), 1), Transforms::default());
    let policy = Policy::of_routes(&routes, &transforms, &|_| ("main", 36_500));
    batch.finish(&reading, &policy).unwrap().pages.remove(0).1
}

struct Shelf(Vec<Vec<u8>>);

impl ChunkSource for Shelf {
    fn directory(&self, chunk: u64) -> Result<Arc<Directory>> {
        Ok(Arc::new(Directory::read(chunk, &self.segment(chunk, 0)?)?))
    }
    fn segment(&self, chunk: u64, segment: u16) -> Result<VerifiedSegment> {
        VerifiedSegment::check(self.0[usize::from(segment)].clone(), chunk, segment)
    }
}

fn seal(pages: &[Page]) -> BuiltChunk {
    let sources: Vec<&dyn PageRead> = pages.iter().map(|p| p as &dyn PageRead).collect();
    build_chunks(&sources, || 1).unwrap().remove(0)
}

fn engine(c: &mut Criterion) {
    let all: Vec<String> = lines(0, ROWS * 8);
    let pages: Vec<Page> = all.chunks(ROWS).zip(1..).map(|(l, seq)| page(l).with_origin(1, 1, seq)).collect();
    let chunk = seal(&pages);
    let shelf = Shelf(chunk.segments);
    let directory = shelf.directory(1).unwrap();

    let mut group = c.benchmark_group("page");
    group.throughput(Throughput::Elements(ROWS as u64)).sample_size(20);
    group.bench_function("decode", |b| b.iter(|| page(black_box(&all[..ROWS]))));
    group.bench_function("split", |b| {
        let mut template = String::new();
        b.iter(|| {
            for line in &all[..ROWS] {
                template.clear();
                template::split(&line[80..160], &mut template, |v| {
                    black_box(v);
                });
            }
        });
    });
    let batch = encode_batch(&pages[0]);
    group.bench_function("journal", |b| b.iter(|| encode_batch(black_box(&pages[0]))));
    group.bench_function("replay", |b| b.iter(|| decode_batch(black_box(&batch), "").unwrap()));
    for (name, query) in [
        ("scan a value", "slot.bank=BK-017"),
        ("scan a word", "opened"),
        ("scan a beginning", "open*"),
        ("scan a regex", "message~/of PX-\\d+9 closed/"),
    ] {
        let filter = parse_filter(query).unwrap();
        group.bench_function(name, |b| {
            b.iter(|| select(&filter, &ChunkPage::new(directory.clone(), 3, &shelf), "").unwrap().count());
        });
    }
    group.finish();

    let mut group = c.benchmark_group("chunk");
    group.throughput(Throughput::Elements(all.len() as u64)).sample_size(10);
    group.bench_function("seal", |b| b.iter(|| seal(black_box(&pages))));
    group.bench_function("merge", |b| {
        b.iter(|| {
            let read: Vec<ChunkPage> =
                (0..directory.pages.len()).map(|p| ChunkPage::passing(directory.clone(), p, &shelf)).collect();
            let sources: Vec<&dyn PageRead> = read.iter().map(|p| p as &dyn PageRead).collect();
            build_chunks(&sources, || 1).unwrap()
        });
    });
    group.finish();

    let filter = parse_filter("trace=5b8aa5a2d2c872e8321cf37308d69df2").unwrap();
    c.bench_function("filter probe, one chunk", |b| {
        b.iter(|| pages_that_may_match(black_box(&filter), &directory, &shelf).unwrap().count());
    });
    c.bench_function("percentile of a million", |b| {
        b.iter(|| {
            let mut q = Quantiles::default();
            (0..1_000_000u32).for_each(|n| q.add(f64::from(n.wrapping_mul(2_654_435_761) % 4000)));
            q.percentile(95.0)
        });
    });
}

criterion_group!(benches, engine);
criterion_main!(benches);

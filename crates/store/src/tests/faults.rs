//! Faults between all steps of a seal and of a merge: after each, and after a restart, every acknowledged event stands
//! in exactly one place, and the work can be done again. And the cache of segments, damaged and cold.

use super::{claimed, replayed_batches, run, store, swept};
use crate::catalogue::parts_table;
use crate::fault::Step;
use crate::*;
use calvex_language::model::{Event, EventId};
use calvex_storage::chunk::journal::{decode_batch, encode_batch};
use calvex_storage::chunk::{BloomSetMeta, ChunkMeta};
use calvex_storage::chunk::{
    BuiltChunk, ChunkPage, ChunkSource, Directory, VerifiedSegment, build_bloom_set, build_chunks,
};
use calvex_storage::columns::{Page, PageRead, build_page, materialise_all};
use std::collections::BTreeMap;
use std::sync::Arc;

const DAY: i32 = 20_000;
const BUCKET: i32 = 20_100;

fn page(from: i64, rows: i64) -> Page {
    let event = |n: i64| Event { time_ns: n, message: format!("door {n} opened"), ..Event::default() };
    build_page(&(from..from + rows).map(event).collect::<Vec<_>>()).unwrap().with_ordinals()
}

/// Commits three journal rows of five events each; what they hold, as pages.
async fn journalled(store: &Store, claim: &Claim, after_seq: u64) -> Vec<Page> {
    let seqs: Vec<u64> = (after_seq + 1..=after_seq + 3).collect();
    let pages: Vec<Page> = seqs.iter().map(|seq| page(*seq as i64 * 5, 5)).collect();
    let row = |(seq, page): (&u64, &Page)| JournalEntry {
        seq: *seq,
        lane: 1,
        day: DAY,
        late: false,
        rows: page.rows(),
        batch: encode_batch(page),
    };
    let rows = seqs.iter().zip(&pages).map(row).collect();
    store
        .commit(claim, &Commit { table: JournalTable { slot: 1, no: 1 }, after_seq, rows, receipts: vec![] })
        .await
        .unwrap();
    seqs.iter().zip(pages).map(|(seq, page)| page.with_origin(claim.slot, claim.epoch, *seq)).collect()
}

/// Chunks read without any cache.
struct Direct<'a>(&'a Store, tokio::runtime::Handle);

impl ChunkSource for Direct<'_> {
    fn directory(&self, chunk: u64) -> calvex_language::error::Result<Arc<Directory>> {
        Ok(Arc::new(Directory::read(chunk, &self.segment(chunk, 0)?)?))
    }
    fn segment(&self, chunk: u64, segment: u16) -> calvex_language::error::Result<VerifiedSegment> {
        let bytes = self.1.block_on(self.0.read_segment(BUCKET, chunk, segment));
        VerifiedSegment::check(
            bytes.map_err(|e| calvex_language::CoreError::Unavailable(e.to_string()))?,
            chunk,
            segment,
        )
    }
}

async fn pages_of(store: &Store, chunks: Vec<u64>) -> Vec<Vec<Event>> {
    let (store, handle) = (store.clone(), tokio::runtime::Handle::current());
    tokio::task::spawn_blocking(move || {
        let source = Direct(&store, handle);
        let mut pages = Vec::new();
        for chunk in chunks {
            let directory = source.directory(chunk).unwrap();
            for page in 0..directory.pages.len() {
                pages.push(materialise_all(&ChunkPage::new(directory.clone(), page, &source)).unwrap());
            }
        }
        pages
    })
    .await
    .unwrap()
}

/// Every event that is kept, with how often it is, in journal and catalogue together.
async fn kept(store: &Store, claim: &Claim) -> BTreeMap<EventId, (usize, String)> {
    let mut found = BTreeMap::new();
    let mut add = |e: Event| found.entry(e.id).or_insert((0, e.message)).0 += 1;
    for b in replayed_batches(store, claim).await {
        let page = decode_batch(&b.batch, "x").unwrap().with_origin(b.at.slot, b.at.epoch, b.at.seq);
        materialise_all(&page).unwrap().into_iter().for_each(&mut add);
    }
    let chunks = store.chunks().await.unwrap().iter().map(|c| c.id).collect();
    pages_of(store, chunks).await.into_iter().flatten().for_each(&mut add);
    found
}

async fn assert_whole(store: &Store, claim: &Claim, events: usize, when: &str) {
    let kept = kept(store, claim).await;
    assert_eq!(kept.len(), events, "{when}: an event is lost");
    for (id, (times, message)) in kept {
        assert_eq!(times, 1, "{when}: {id} stands {times} times");
        let number = id.seq * 5 + u64::from(id.ordinal);
        assert_eq!(message, format!("door {number} opened"), "{when}");
    }
}

fn catalogued(chunk: &BuiltChunk) -> ChunkMeta {
    ChunkMeta {
        id: chunk.id,
        lane: 1,
        day: DAY,
        bucket: BUCKET,
        visible_until_ns: i64::MAX,
        time_min: chunk.time_min,
        time_max: chunk.time_max,
        rows: chunk.rows as u32,
        bytes: chunk.bytes() as u64,
        segments: chunk.segments.len() as u16,
        late: false,
        checksum: chunk.checksum(),
        bloom_set: None,
    }
}

fn built(claim: &Claim, number: u64, pages: &[Page]) -> BuiltChunk {
    let sources: Vec<&dyn PageRead> = pages.iter().map(|p| p as &dyn PageRead).collect();
    build_chunks(&sources, || claim.first_chunk + number).unwrap().remove(0)
}

async fn seal(store: &Store, claim: &Claim, chunk: &BuiltChunk, covers: Vec<JournalRowRef>) -> Result<()> {
    let row = catalogued(chunk);
    store.write_chunks(&[(row.clone(), chunk.segments.as_slice())]).await?;
    store.seal(claim, &Seal { chunks: vec![row], covers }).await
}

async fn merge(store: &Store, claim: &Claim, chunk: &BuiltChunk, replaces: Vec<ChunkMeta>) -> Result<()> {
    let row = catalogued(chunk);
    store.write_chunks(&[(row.clone(), chunk.segments.as_slice())]).await?;
    store.merge(claim, &Merge { chunks: vec![row], replaces }).await
}

/// Fifteen events in two chunks; also what they were built of.
async fn two_chunks(store: &Store) -> (Claim, Vec<Page>, BuiltChunk, BuiltChunk) {
    let claim = claimed(store, "n").await;
    let pages = journalled(store, &claim, 0).await;
    let (a, b) = (built(&claim, 1, &pages[..1]), built(&claim, 2, &pages[1..]));
    seal(store, &claim, &a, rows_of(&claim, 1..=1)).await.unwrap();
    seal(store, &claim, &b, rows_of(&claim, 2..=3)).await.unwrap();
    (claim, pages, a, b)
}

/// Writes the segments of a bloom set of `chunks`.
async fn in_bloom_sets(store: &Store, claim: &Claim, number: u64, chunks: &[&BuiltChunk]) -> BloomSetMeta {
    let id = claim.first_chunk + number;
    let filters: Vec<_> = chunks.iter().map(|c| (c.id, Arc::new(c.bloom.clone()))).collect();
    let (segments, chunks) = (build_bloom_set(id, &filters), chunks.iter().map(|c| c.id).collect());
    store.write_bloom_set_segments(BUCKET, id, &segments).await.unwrap();
    BloomSetMeta { id, lane: 1, bucket: BUCKET, segments: segments.len() as u16, checksum: 0, chunks }
}

async fn segments_of(store: &Store) -> Vec<u64> {
    let select = format!("SELECT DISTINCT chunk FROM parts_{BUCKET} ORDER BY chunk");
    sqlx::query_scalar(sql::safe(select)).fetch_all(&store.pool).await.unwrap()
}

fn rows_of(claim: &Claim, seqs: std::ops::RangeInclusive<u64>) -> Vec<JournalRowRef> {
    seqs.map(|seq| JournalRowRef { table: JournalTable { slot: 1, no: 1 }, slot: 1, epoch: claim.epoch, seq }).collect()
}

#[test]
fn a_seal_is_whole_after_a_fault_at_any_step() {
    run(async {
        for step in Step::ALL {
            let store = store().await;
            let claim = claimed(&store, "n").await;
            let pages = journalled(&store, &claim, 0).await;
            let chunk = built(&claim, 1, &pages);
            store.faults.arm(step);
            let failed = seal(&store, &claim, &chunk, rows_of(&claim, 1..=3)).await;
            assert!(matches!(failed, Err(StoreError::Injected(s)) if s == step), "{step:?}: {failed:?}");
            assert!(store.faults.spent());
            assert_whole(&store, &claim, 15, &format!("{step:?}, at once")).await;
            // A restart sweeps what no catalogue row names; then the work is done again by the new epoch.
            let again = claimed(&store, "n").await;
            swept(&store, &again).await;
            assert_whole(&store, &again, 15, &format!("{step:?}, restarted")).await;
            let named: Vec<u64> = store.chunks().await.unwrap().iter().map(|c| c.id).collect();
            if step != Step::SegmentsBegin {
                assert_eq!(segments_of(&store).await, named, "{step:?}: segments without a name are swept");
            }
            if named.is_empty() {
                let chunk = built(&again, 1, &pages);
                seal(&store, &again, &chunk, rows_of(&claim, 1..=3)).await.unwrap();
            }
            assert_whole(&store, &again, 15, &format!("{step:?}, sealed")).await;
            assert_eq!(store.chunks().await.unwrap().len(), 1);
        }
    });
}

#[test]
fn a_seal_tried_again_by_the_same_process_is_done_once() {
    run(async {
        for step in Step::ALL {
            let store = store().await;
            let claim = claimed(&store, "n").await;
            let pages = journalled(&store, &claim, 0).await;
            let chunk = built(&claim, 1, &pages);
            store.faults.arm(step);
            while seal(&store, &claim, &chunk, rows_of(&claim, 1..=3)).await.is_err() {}
            assert_whole(&store, &claim, 15, &format!("{step:?}")).await;
            assert_eq!(store.chunks().await.unwrap().len(), 1, "{step:?}");
        }
    });
}

#[test]
fn a_merge_is_whole_after_a_fault_at_any_step() {
    run(async {
        for step in Step::ALL {
            let store = store().await;
            let claim = claimed(&store, "n").await;
            let mut pages = journalled(&store, &claim, 0).await;
            pages.extend(journalled(&store, &claim, 3).await);
            let (a, b) = (built(&claim, 1, &pages[..3]), built(&claim, 2, &pages[3..]));
            seal(&store, &claim, &a, rows_of(&claim, 1..=3)).await.unwrap();
            seal(&store, &claim, &b, rows_of(&claim, 4..=6)).await.unwrap();
            let both = built(&claim, 3, &pages);
            let replaces = store.chunks().await.unwrap();
            store.faults.arm(step);
            let failed = merge(&store, &claim, &both, replaces.clone()).await;
            assert!(matches!(failed, Err(StoreError::Injected(s)) if s == step), "{step:?}: {failed:?}");
            assert_whole(&store, &claim, 30, &format!("{step:?}, at once")).await;
            // Searches that began before still read what was replaced.
            assert_eq!(pages_of(&store, vec![a.id, b.id]).await.len(), 2, "{step:?}");
            merge(&store, &claim, &both, replaces.clone()).await.unwrap();
            assert_whole(&store, &claim, 30, &format!("{step:?}, again")).await;
            let named: Vec<u64> = store.chunks().await.unwrap().iter().map(|c| c.id).collect();
            assert_eq!(named, [both.id], "{step:?}");
            store.remove_segments(BUCKET, a.id).await.unwrap();
            store.remove_segments(BUCKET, both.id).await.unwrap();
            assert_eq!(segments_of(&store).await, [b.id, both.id], "{step:?}: only what nothing names goes");
            let again = claimed(&store, "n").await;
            swept(&store, &again).await;
            assert_eq!(segments_of(&store).await, [both.id], "{step:?}");
            assert_whole(&store, &again, 30, &format!("{step:?}, restarted")).await;
        }
    });
}

#[test]
fn a_merge_gives_way_to_whoever_changed_its_chunks() {
    run(async {
        let store = store().await;
        let (claim, pages, ..) = two_chunks(&store).await;
        let replaces = store.chunks().await.unwrap();
        let both = built(&claim, 3, &pages);
        // The lane's term was changed meanwhile.
        store.reterm_chunks(1, 7).await.unwrap();
        assert!(matches!(merge(&store, &claim, &both, replaces).await, Err(StoreError::Missing(_))));
        assert_whole(&store, &claim, 15, "after a change of term").await;
        // Another process took the node's place.
        let replaces = store.chunks().await.unwrap();
        claimed(&store, "n").await;
        assert!(matches!(merge(&store, &claim, &both, replaces).await, Err(StoreError::Fenced(_))));
        assert_whole(&store, &claim, 15, "after being fenced").await;
    });
}

#[test]
fn a_bloom_set_is_whole_after_a_fault_at_any_step() {
    run(async {
        for step in [Step::Fenced, Step::Added, Step::BeforeCommit, Step::AfterCommit] {
            let store = store().await;
            let (claim, _, a, b) = two_chunks(&store).await;
            let row = in_bloom_sets(&store, &claim, 3, &[&a, &b]).await;
            store.faults.arm(step);
            let failed = store.bloom_set(&claim, &row).await;
            assert!(matches!(failed, Err(StoreError::Injected(s)) if s == step), "{step:?}: {failed:?}");
            let done = step == Step::AfterCommit;
            let places = |chunks: Vec<ChunkMeta>| chunks.iter().filter_map(|c| c.bloom_set).collect::<Vec<_>>();
            assert_eq!(places(store.chunks().await.unwrap()).len(), if done { 2 } else { 0 }, "{step:?}");
            assert_whole(&store, &claim, 15, &format!("{step:?}, at once")).await;
            // Parts that no record names go; the work is done again by the new epoch.
            let again = claimed(&store, "n").await;
            swept(&store, &again).await;
            assert_eq!(segments_of(&store).await.contains(&row.id), done, "{step:?}");
            if !done {
                let row = in_bloom_sets(&store, &again, 1, &[&a, &b]).await;
                store.bloom_set(&again, &row).await.unwrap();
                store.bloom_set(&again, &row).await.unwrap();
            }
            let mut placed = places(store.chunks().await.unwrap());
            placed.sort_by_key(|p| p.place);
            assert_eq!(placed.iter().map(|p| (p.place, p.bucket)).collect::<Vec<_>>(), [(0, BUCKET), (1, BUCKET)]);
            assert_whole(&store, &again, 15, &format!("{step:?}, again")).await;
        }
    });
}

#[test]
fn a_bloom_set_gives_way_and_goes_with_its_bucket() {
    run(async {
        let store = store().await;
        let (claim, _, a, b) = two_chunks(&store).await;
        let row = in_bloom_sets(&store, &claim, 3, &[&a, &b]).await;
        // A chunk moved to another bucket meanwhile.
        store.open_bucket(1, BUCKET + 1).await.unwrap();
        store.move_chunk(&claim, b.id, BUCKET, BUCKET + 1).await.unwrap();
        assert!(matches!(store.bloom_set(&claim, &row).await, Err(StoreError::Missing(_))));
        assert!(store.chunks().await.unwrap().iter().all(|c| c.bloom_set.is_none()), "nothing was done");
        store.move_chunk(&claim, b.id, BUCKET + 1, BUCKET).await.unwrap();
        store.bloom_set(&claim, &row).await.unwrap();
        // One whose term was lengthened leaves; it is in no bloom set once the bucket is gone.
        store.move_chunk(&claim, b.id, BUCKET, BUCKET + 1).await.unwrap();
        sqlx::query("UPDATE chunk SET visible_until_ns = 5 WHERE bucket = ?")
            .bind(BUCKET)
            .execute(&store.pool)
            .await
            .unwrap();
        assert!(store.drop_bucket(&claim, BUCKET, 10).await.unwrap());
        let left = store.chunks().await.unwrap();
        assert_eq!(left.iter().map(|c| (c.id, c.bloom_set)).collect::<Vec<_>>(), [(b.id, None)]);
        let old = claim.clone();
        claimed(&store, "n").await;
        assert!(matches!(store.bloom_set(&old, &row).await, Err(StoreError::Fenced(_))));
    });
}

/// A store with one chunk.
async fn one_sealed() -> (Store, BuiltChunk) {
    let store = store().await;
    let claim = claimed(&store, "n").await;
    let pages = journalled(&store, &claim, 0).await;
    let chunk = built(&claim, 1, &pages);
    seal(&store, &claim, &chunk, rows_of(&claim, 1..=3)).await.unwrap();
    (store, chunk)
}

#[test]
fn cached_cold_or_damaged_the_answer_is_the_same() {
    run(async {
        let (store, chunk) = one_sealed().await;
        let folder = tempfile::tempdir().unwrap();
        let disk = || Some((folder.path().join("cache"), 1 << 20));
        let checksum = chunk.checksum();
        let read = |cache: SegmentCache| {
            let (store, id) = (store.clone(), chunk.id);
            async move {
                let handle = tokio::runtime::Handle::current();
                let reading = tokio::task::spawn_blocking(move || {
                    let location_of = |_| Some(BucketRef { bucket: BUCKET, checksum });
                    let reader = cache.reader(&store, handle, &location_of);
                    let directory = reader.directory(id).unwrap();
                    let page = ChunkPage::new(directory, 0, &reader);
                    (materialise_all(&page).unwrap().len(), reader.reads().1)
                });
                reading.await.unwrap()
            }
        };
        let cache = SegmentCache::new(1 << 20, "ours", disk());
        let (rows, fetched) = read(cache.clone()).await;
        assert!(rows == 15 && fetched > 0, "cold");
        assert_eq!(read(cache.clone()).await, (15, 0), "from memory");
        cache.clear(false);
        assert_eq!(read(cache).await, (15, 0), "from disk");
        // A new process finds the files; one is damaged, one cut short, one is no segment at all.
        let names = || {
            let entries = std::fs::read_dir(folder.path().join("cache/ours")).unwrap().flatten();
            let mut paths: Vec<_> = entries.map(|e| e.path()).collect();
            paths.sort();
            paths
        };
        let paths = names();
        assert_eq!(paths.len(), 2, "directory and columns; nothing asked for the filter");
        let mut bytes = std::fs::read(&paths[0]).unwrap();
        bytes[30] ^= 1;
        std::fs::write(&paths[0], bytes).unwrap();
        let bytes = std::fs::read(&paths[1]).unwrap();
        std::fs::write(&paths[1], &bytes[..bytes.len() / 2]).unwrap();
        std::fs::write(folder.path().join("cache/ours/half.new"), b"x").unwrap();
        let cache = SegmentCache::new(1 << 20, "ours", disk());
        let (rows, fetched) = read(cache.clone()).await;
        assert!(rows == 15 && fetched > 0, "damaged files are fetched again");
        cache.clear(false);
        assert_eq!(names(), paths, "once they are written");
        let cache = SegmentCache::new(1 << 20, "ours", disk());
        assert_eq!(read(cache.clone()).await, (15, 0), "and are whole then");
        cache.forget(chunk.id, checksum, chunk.segments.len() as u16);
        while !names().is_empty() {
            cache.clear(true);
        }
        assert_eq!(read(SegmentCache::new(1 << 20, "ours", None)).await.0, 15, "without a disk");
    });
}

#[test]
fn segments_are_prefetched() {
    run(async {
        let (store, chunk) = one_sealed().await;
        let all: Vec<u16> = (0..chunk.segments.len() as u16).collect();
        assert!(all.len() > 2, "a directory, columns and blooms");
        let handle = tokio::runtime::Handle::current();
        let reading = tokio::task::spawn_blocking(move || {
            let location_of = |_| Some(BucketRef { bucket: BUCKET, checksum: chunk.checksum() });
            // Nothing has a place in this cache: what was prefetched stays with the question.
            let cache = SegmentCache::new(0, "ours", None);
            let reader = cache.reader(&store, handle.clone(), &location_of);
            assert!(!reader.is_cold());
            assert_eq!(reader.segment(chunk.id, 1).unwrap().bytes(), chunk.segments[1]);
            assert!(reader.is_cold(), "one was not at hand");
            // One that is not there is left to whoever asks for it.
            reader.prefetch(chunk.id, &[&all[..], &[900]].concat());
            let fetched = reader.reads().1;
            for (n, bytes) in (0u16..).zip(&chunk.segments) {
                assert_eq!(reader.segment(chunk.id, n).unwrap().bytes(), bytes);
            }
            assert_eq!(reader.reads().1, fetched, "each was near");
            assert!(reader.segment(chunk.id, 900).is_err());
            // More than one statement reads, and more than a question holds beside the cache.
            let many: Vec<u16> = (0..2_000).collect();
            reader.prefetch(chunk.id, &many);
            // What is damaged is not kept, and reported by whoever asks for it.
            let damage = format!("UPDATE {} SET bytes = REVERSE(bytes) WHERE part = 1", parts_table(BUCKET));
            handle.block_on(sqlx::query(sql::safe(damage)).execute(&store.pool)).unwrap();
            let reader = cache.reader(&store, handle, &location_of);
            reader.prefetch(chunk.id, &all);
            assert_eq!(reader.segment(chunk.id, 2).unwrap().bytes(), chunk.segments[2]);
            assert!(reader.segment(chunk.id, 1).unwrap_err().to_string().contains("segment 1"));
        });
        reading.await.unwrap();
    });
}

//! What can be found now: heads, heads being sealed, and chunks, each event in exactly one of them at any moment.

mod followed;

use super::small_pages::{fitting, small_run};
use crate::auth::{LaneAccess, ReadScope};
use crate::config::Config;
use calvex_answer::retention::visible_until_ns;
use calvex_answer::scan::{Extent, InBloomSet, Location};
use calvex_intake::batch::HeadKey;
use calvex_storage::chunk::{BloomSetMember, ChunkMeta};
use calvex_storage::columns::{Page, PageRead};
use calvex_store::{BucketRef, JournalRowRef, SealedRows};
use followed::FollowedHead;
use parking_lot::RwLock;
use std::collections::{BTreeSet, HashMap, HashSet};
use std::ops::RangeInclusive;
use std::sync::Arc;
use tokio::sync::broadcast;

/// Events in memory, and the journal rows that hold them meanwhile.
#[derive(Debug, Clone, Default)]
pub struct Head {
    pub pages: Vec<Arc<Page>>,
    pub rows: Vec<JournalRowRef>,
    pub events: usize,
    pub bytes: usize,
    /// When its first event was admitted.
    pub born_ns: i64,
}

/// A chunk that is no longer in the catalogue, for searches that began before.
struct Retired {
    chunk: ChunkMeta,
    /// This node merged it, by this change of its, and removes its segments.
    own: Option<u64>,
    /// Since when no search begins with it on any node; none while another node may not have read that it went.
    since_ns: Option<i64>,
}

#[derive(Default)]
struct Inner {
    heads: HashMap<HeadKey, Head>,
    sealing: HashMap<HeadKey, Vec<Head>>,
    /// What other nodes have in their heads. They seal it.
    followed: HashMap<HeadKey, FollowedHead>,
    chunks: HashMap<u64, ChunkMeta>,
    /// Where bloom sets stand.
    bloom_sets: HashMap<u64, BucketRef>,
    retired: HashMap<u64, Retired>,
}

/// What other nodes did, to be applied as one step.
#[derive(Debug, Default)]
pub struct Step {
    /// Every chunk of the catalogue and every row of others' heads, where everything was read; with the ids of chunks that
    /// the view had when reading began.
    pub everything: Option<(Vec<ChunkMeta>, Vec<u64>)>,
    /// Chunks that came, or whose row changed.
    pub added: Vec<ChunkMeta>,
    /// Chunks that went.
    pub removed: Vec<u64>,
    /// Journal rows that became chunks.
    pub sealed: Vec<SealedRows>,
    /// Journal rows that came.
    pub rows: Vec<(HeadKey, Page, JournalRowRef)>,
}

/// What those who follow get.
#[derive(Debug, Clone)]
pub enum Fresh {
    /// A page just admitted to this lane.
    Page(u32, Arc<Page>),
    /// The service stops.
    End,
}

/// Admitted pages that one who follows may be behind; beyond, it misses some, and learns how many.
const FOLLOWED_PAGES: usize = 256;

/// The current state; each change is one step under one lock, so that a search sees every event once.
pub struct View {
    inner: RwLock<Inner>,
    fresh: broadcast::Sender<Fresh>,
}

impl View {
    /// Starts with the chunks of the catalogue.
    pub fn new(chunks: Vec<ChunkMeta>) -> Self {
        let bloom_sets = bloom_sets_of(&chunks);
        let chunks = chunks.into_iter().map(|c| (c.id, c)).collect();
        View {
            inner: RwLock::new(Inner { chunks, bloom_sets, ..Inner::default() }),
            fresh: broadcast::Sender::new(FOLLOWED_PAGES),
        }
    }

    /// Admits a committed page.
    pub fn admit(&self, key: HeadKey, page: Page, row: JournalRowRef, now_ns: i64) {
        let mut inner = self.inner.write();
        let head = inner.heads.entry(key).or_insert_with(|| Head { born_ns: now_ns, ..Head::default() });
        head.events += page.rows();
        head.bytes += page.weight_bytes();
        head.rows.push(row);
        let page = Arc::new(page);
        head.pages.push(page.clone());
        drop(inner);
        // An error means that nobody follows.
        let _ = self.fresh.send(Fresh::Page(key.lane, page));
    }

    /// Follows what is admitted from now on.
    pub fn follow(&self) -> broadcast::Receiver<Fresh> {
        self.fresh.subscribe()
    }

    /// Tells those who follow that the service stops.
    pub fn end_following(&self) {
        let _ = self.fresh.send(Fresh::End);
    }

    /// Joins the last small pages of a head. They are joined without the lock, and stay as they are where the head was taken
    /// meanwhile; what was admitted meanwhile stays behind them.
    pub fn compact(&self, key: HeadKey) {
        let run: Vec<Arc<Page>> = {
            let inner = self.inner.read();
            let Some(head) = inner.heads.get(&key) else { return };
            head.pages[head.pages.len() - small_run(&head.pages)..].to_vec()
        };
        let [first, .., last] = run.as_slice() else { return };
        let pages: Vec<Page> = run.iter().map(|page| Page::clone(page)).collect();
        // Within one head an earlier page has the lower ids, and joining keeps the order of equal times.
        let Ok(joined) = super::group::join(&pages) else { return };
        let mut inner = self.inner.write();
        let Some(head) = inner.heads.get_mut(&key) else { return };
        let Some(at) = head.pages.iter().rposition(|page| Arc::ptr_eq(page, first)) else { return };
        let end = at + run.len();
        if !head.pages.get(end - 1).is_some_and(|page| Arc::ptr_eq(page, last)) {
            return;
        }
        let before: usize = run.iter().map(|page| page.weight_bytes()).sum();
        head.bytes = (head.bytes + joined.weight_bytes()).saturating_sub(before);
        head.pages.splice(at..end, [Arc::new(joined)]);
    }

    /// Takes the head out to be sealed that is due and has waited longest; it stays searchable. One that fills again at once
    /// keeps no other from its turn.
    pub fn begin_seal(&self, due: impl Fn(&HeadKey, &Head) -> bool) -> Option<(HeadKey, Head)> {
        let mut inner = self.inner.write();
        let key = *inner.heads.iter().filter(|(k, h)| due(k, h)).min_by_key(|(_, h)| h.born_ns)?.0;
        let head = inner.heads.remove(&key)?;
        inner.sealing.entry(key).or_default().push(head.clone());
        Some((key, head))
    }

    /// Puts chunks in the place of the head they were made of.
    pub fn finish_seal(&self, key: HeadKey, head: &Head, chunks: &[ChunkMeta]) {
        let mut inner = self.inner.write();
        let same = |h: &Head| h.rows.first() == head.rows.first();
        if let Some(list) = inner.sealing.get_mut(&key) {
            list.retain(|h| !same(h));
        }
        inner.sealing.retain(|_, list| !list.is_empty());
        inner.chunks.extend(chunks.iter().map(|c| (c.id, c.clone())));
    }

    /// Events and bytes of all heads, those being sealed included.
    pub fn head_size(&self) -> (usize, usize) {
        let inner = self.inner.read();
        let all = inner.heads.values().chain(inner.sealing.values().flatten());
        all.fold((0, 0), |(events, bytes), h| (events + h.events, bytes + h.bytes))
    }

    /// The heaviest head.
    pub fn heaviest(&self) -> Option<HeadKey> {
        self.inner.read().heads.iter().max_by_key(|(_, h)| h.bytes).map(|(k, _)| *k)
    }

    /// How many chunks.
    pub fn chunk_count(&self) -> usize {
        self.inner.read().chunks.len()
    }

    /// Events and bytes of a lane's chunks.
    pub fn sealed_size(&self, lane: u32) -> (u64, u64) {
        let inner = self.inner.read();
        let of_lane = inner.chunks.values().filter(|c| c.lane == lane);
        of_lane.fold((0, 0), |(events, bytes), c| (events + u64::from(c.rows), bytes + c.bytes))
    }

    /// Where the segments of a chunk or bloom set stand.
    pub fn location_of(&self, id: u64) -> Option<BucketRef> {
        let inner = self.inner.read();
        let chunk = inner.chunks.get(&id).or_else(|| inner.retired.get(&id).map(|r| &r.chunk));
        let location = |c: &ChunkMeta| BucketRef { bucket: c.bucket, checksum: c.checksum };
        chunk.map(location).or_else(|| inner.bloom_sets.get(&id).copied())
    }

    /// Notes that chunks stand in a bloom set.
    pub fn finish_bloom_set(&self, id: u64, location: BucketRef, chunks: &[u64]) {
        let BucketRef { bucket, checksum } = location;
        let mut inner = self.inner.write();
        inner.bloom_sets.insert(id, location);
        for (place, chunk) in (0u16..).zip(chunks) {
            if let Some(row) = inner.chunks.get_mut(chunk) {
                row.bloom_set = Some(BloomSetMember { id, place, bucket, checksum });
            }
        }
    }

    /// Puts merged chunks in the place of those they were made of, by this change of this node.
    pub fn finish_merge(&self, replaced: &[ChunkMeta], chunks: &[ChunkMeta], change: u64) {
        let mut inner = self.inner.write();
        for old in replaced {
            if let Some(chunk) = inner.chunks.remove(&old.id) {
                inner.retired.insert(old.id, Retired { chunk, own: Some(change), since_ns: None });
            }
        }
        inner.chunks.extend(chunks.iter().map(|c| (c.id, c.clone())));
    }

    /// Takes note that every node has read up to this change of this one.
    pub fn note_read_by_all(&self, change: u64, now_ns: i64) {
        for retired in self.inner.write().retired.values_mut() {
            if retired.since_ns.is_none() && retired.own.is_none_or(|own| own <= change) {
                retired.since_ns = Some(now_ns);
            }
        }
    }

    /// Takes the chunks that went before `before_ns`: no search reads them any more. With each, whether this node removes
    /// its segments.
    pub fn take_retired(&self, before_ns: i64) -> Vec<(ChunkMeta, bool)> {
        let mut inner = self.inner.write();
        let due = inner.retired.extract_if(|_, r| r.since_ns.is_some_and(|since_ns| since_ns < before_ns));
        due.map(|(_, r)| (r.chunk, r.own.is_some())).collect()
    }

    /// Whether any chunk waits for others to have read that it went.
    pub fn has_retired(&self) -> bool {
        !self.inner.read().retired.is_empty()
    }

    /// Applies what other nodes did. Chunks that went stay readable for a while.
    pub fn apply(&self, step: Step, own_ids: &RangeInclusive<u64>, now_ns: i64) {
        let mut fresh = Vec::new();
        let mut inner = self.inner.write();
        let (mut gone, mut before) = (step.removed, HashMap::new());
        if let Some((catalogue, known_before)) = step.everything {
            let there: HashSet<u64> = catalogue.iter().map(|c| c.id).collect();
            gone.extend(known_before.into_iter().filter(|id| !there.contains(id)));
            before = std::mem::take(&mut inner.followed);
            // A chunk of this node that the view does not have is one that it seals or merges just now.
            let ours_and_new =
                |inner: &Inner, c: &ChunkMeta| own_ids.contains(&c.id) && !inner.chunks.contains_key(&c.id);
            let others: Vec<ChunkMeta> = catalogue.into_iter().filter(|c| !ours_and_new(&inner, c)).collect();
            put_chunks(&mut inner, others);
        }
        put_chunks(&mut inner, step.added);
        for id in gone {
            if let Some(chunk) = inner.chunks.remove(&id) {
                inner.retired.insert(id, Retired { chunk, own: None, since_ns: Some(now_ns) });
            }
        }
        for rows in step.sealed {
            let SealedRows { lane, day, late, .. } = rows;
            let head = inner.followed.get_mut(&HeadKey { lane, day, late });
            if let Some(Err(e)) = head.map(|head| head.drop_sealed(&rows)) {
                // Only for a defect: the page is in memory.
                tracing::error!("events of another node are not found until they are sealed: {e}");
            }
        }
        let mut grown = BTreeSet::new();
        for (key, page, row) in step.rows {
            let page = Arc::new(page);
            inner.followed.entry(key).or_default().put(page.clone(), row);
            grown.insert((key, row.slot, row.epoch));
            // One that was read again is not new to those who follow.
            if before.get(&key).is_none_or(|head: &FollowedHead| !head.has(&row)) {
                fresh.push(Fresh::Page(key.lane, page));
            }
        }
        inner.followed.retain(|_, head| !head.is_empty());
        drop(inner);
        for page in fresh {
            let _ = self.fresh.send(page);
        }
        grown.into_iter().for_each(|(key, slot, epoch)| self.compact_followed(key, slot, epoch));
    }

    /// As [`View::compact`], of another node's head.
    fn compact_followed(&self, key: HeadKey, slot: u16, epoch: u32) {
        loop {
            let pair = self.inner.read().followed.get(&key).and_then(|head| head.last_two(slot, epoch));
            let Some((a, b)) = pair else { return };
            let Some(joined) = fitting(&a, &b) else { return };
            let mut inner = self.inner.write();
            let head = inner.followed.get_mut(&key);
            if !head.is_some_and(|head| head.join_last(slot, epoch, (&a, &b), joined)) {
                return;
            }
        }
    }

    /// Takes what stands in others' heads of these slots and epochs for its own, to be sealed here.
    pub fn adopt(&self, of: &HashSet<(u16, u32)>, now_ns: i64) {
        let mut inner = self.inner.write();
        let inner = &mut *inner;
        for (key, head) in &mut inner.followed {
            for (page, rows) in head.take_of(of) {
                let own = inner.heads.entry(*key).or_insert_with(|| Head { born_ns: now_ns, ..Head::default() });
                own.events += page.rows();
                own.bytes += page.weight_bytes();
                own.rows.extend(rows);
                own.pages.push(page);
            }
        }
        inner.followed.retain(|_, head| !head.is_empty());
    }

    /// Events and bytes of other nodes' heads.
    pub fn followed_size(&self) -> (usize, usize) {
        let inner = self.inner.read();
        let pages = inner.followed.values().flat_map(FollowedHead::pages);
        pages.fold((0, 0), |(events, bytes), page| (events + page.rows(), bytes + page.weight_bytes()))
    }

    /// Every chunk.
    pub fn chunks(&self) -> Vec<ChunkMeta> {
        self.inner.read().chunks.values().cloned().collect()
    }

    /// A chunk by its id.
    pub fn chunk(&self, id: u64) -> Option<ChunkMeta> {
        self.inner.read().chunks.get(&id).cloned()
    }

    /// Whether any head has events of this lane and day, or is being sealed.
    pub fn has_head(&self, lane: u32, day: i32) -> bool {
        let inner = self.inner.read();
        inner
            .heads
            .keys()
            .chain(inner.sealing.keys())
            .chain(inner.followed.keys())
            .any(|k| k.lane == lane && k.day == day)
    }

    /// What stands in `scope` now, without what has expired.
    pub fn extents(&self, config: &Config, now_ns: i64, scope: &ReadScope) -> Vec<Extent> {
        let inner = self.inner.read();
        let mut extents = Vec::new();
        let mut access: HashMap<u32, LaneAccess> = HashMap::new();
        let own = inner.heads.iter().chain(inner.sealing.iter().flat_map(|(k, list)| list.iter().map(move |h| (k, h))));
        let own = own.map(|(key, head)| (key, head.pages.iter().collect::<Vec<_>>()));
        let followed = inner.followed.iter().map(|(key, head)| (key, head.pages().collect()));
        for (key, pages) in own.chain(followed) {
            let kept = config.lane(key.lane).is_some_and(|l| visible_until_ns(key.day, l.retention_days) > now_ns);
            let access = access.entry(key.lane).or_insert_with(|| scope.access(key.lane, config));
            for page in pages.into_iter().filter(|_| kept) {
                let (time_min, time_max) = page.time_span();
                let extent = Extent {
                    lane: config.name(key.lane),
                    time_min,
                    time_max,
                    rows: page.rows(),
                    location: Location::Head(page.clone()),
                    bloom_set: None,
                    restriction: None,
                };
                push(&mut extents, extent, access);
            }
        }
        for chunk in inner.chunks.values() {
            if chunk.visible_until_ns > now_ns {
                let access = access.entry(chunk.lane).or_insert_with(|| scope.access(chunk.lane, config));
                let extent = Extent {
                    lane: config.name(chunk.lane),
                    time_min: chunk.time_min,
                    time_max: chunk.time_max,
                    rows: chunk.rows as usize,
                    location: Location::Chunk(chunk.id),
                    bloom_set: chunk.bloom_set.map(|r| InBloomSet { id: r.id, member: usize::from(r.place) }),
                    restriction: None,
                };
                push(&mut extents, extent, access);
            }
        }
        extents
    }
}

/// Names chunks, and the bloom sets they stand in, in the place of what was known of them.
fn put_chunks(inner: &mut Inner, chunks: Vec<ChunkMeta>) {
    inner.bloom_sets.extend(bloom_sets_of(&chunks));
    inner.chunks.extend(chunks.into_iter().map(|c| (c.id, c)));
}

/// Adds what may be read of an extent.
fn push(extents: &mut Vec<Extent>, extent: Extent, access: &LaneAccess) {
    match access {
        LaneAccess::None => {}
        LaneAccess::Whole => extents.push(extent),
        LaneAccess::Part(parts) => {
            extents.extend(parts.iter().map(|part| Extent { restriction: Some(part.clone()), ..extent.clone() }));
        }
    }
}

fn bloom_sets_of(chunks: &[ChunkMeta]) -> HashMap<u64, BucketRef> {
    let location = |r: BloomSetMember| (r.id, BucketRef { bucket: r.bucket, checksum: r.checksum });
    chunks.iter().filter_map(|c| c.bloom_set).map(location).collect()
}

#[cfg(test)]
mod tests;

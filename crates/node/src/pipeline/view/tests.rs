use super::*;
use calvex_answer::scan::{Budget, OneByOne, Scope};
use calvex_answer::search::{Find, Order, find};
use calvex_language::domain::lane::Lane;
use calvex_language::model::{Event, EventId};
use calvex_language::query::{Filter, TimeRange};
use calvex_storage::chunk::{ChunkSource, Directory, VerifiedSegment, build_chunks};
use calvex_storage::columns::build_page;
use calvex_store::JournalTable;

/// The segments of chunks, by chunk.
#[derive(Default)]
struct Shelf(HashMap<u64, Vec<Vec<u8>>>);

impl ChunkSource for Shelf {
    fn directory(&self, chunk: u64) -> calvex_language::error::Result<Arc<Directory>> {
        Ok(Arc::new(Directory::read(chunk, &self.segment(chunk, 0)?)?))
    }
    fn segment(&self, chunk: u64, segment: u16) -> calvex_language::error::Result<VerifiedSegment> {
        let bytes = self.0.get(&chunk).and_then(|segments| segments.get(usize::from(segment)).cloned());
        VerifiedSegment::check(bytes.unwrap_or_default(), chunk, segment)
    }
}

const KEY: HeadKey = HeadKey { lane: 1, day: 0, late: false };

fn row(seq: u64) -> JournalRowRef {
    JournalRowRef { table: JournalTable { slot: 1, no: 1 }, slot: 1, epoch: 1, seq }
}

fn page(seq: u64, events: i64) -> Page {
    let event = |n: i64| Event {
        id: EventId { node: 1, epoch: 1, seq, ordinal: n as u32 },
        time_ns: seq as i64 * 1000 + n,
        message: format!("door {n} opened"),
        ..Event::default()
    };
    build_page(&(0..events).map(event).collect::<Vec<_>>()).unwrap()
}

/// Makes chunk `id` of pages, as its row of the catalogue.
fn sealed(shelf: &mut Shelf, id: u64, pages: &[Arc<Page>]) -> ChunkMeta {
    let pages: Vec<Page> = pages.iter().map(|p| p.as_ref().clone()).collect();
    let sources: Vec<&dyn PageRead> = pages.iter().map(|p| p as &dyn PageRead).collect();
    let built = build_chunks(&sources, || id).unwrap().remove(0);
    let meta = crate::pipeline::sealer::catalogued(&built, KEY, 100, i64::MAX);
    shelf.0.insert(id, built.segments);
    meta
}

/// The times of all events that a search sees, in order.
fn seen(view: &View, shelf: &Shelf) -> Vec<i64> {
    let lane = Lane {
        id: 1,
        name: "main".into(),
        retention_days: 10_000,
        listed: true,
        is_default: true,
        owner: None,
        audited: false,
        day_events: None,
        day_bytes: None,
    };
    let extents = view.extents(&Config::of_lanes(vec![lane]), 0, &ReadScope::everything());
    let budget = Budget::new(1 << 20);
    let scope = Scope {
        view: &extents,
        source: shelf,
        workers: &OneByOne,
        stop: &|| None,
        budget: &budget,
        progress: None,
        passing: None,
    };
    let ask = Find { filter: &Filter::All, range: TimeRange::ALL, order: Order::Oldest, after: None, limit: 1000 };
    let found = find(&scope, &ask);
    assert_eq!(found.explain.left_out, Vec::<String>::new());
    found.events.iter().map(|(e, _)| e.time_ns).collect()
}

#[test]
fn a_head_that_fills_again_at_once_keeps_no_other_from_its_turn() {
    let view = View::new(Vec::new());
    let of_day = |day| HeadKey { day, ..KEY };
    (0..20).for_each(|day| view.admit(of_day(day), page(1, 1), row(1), 0));
    let mut sealed = std::collections::HashSet::new();
    for turn in 1..=20 {
        let (key, _) = view.begin_seal(|_, _| true).unwrap();
        assert!(sealed.insert(key.day), "day {} again while others wait", key.day);
        view.admit(key, page(1, 1), row(1), turn);
    }
}

#[test]
fn an_event_stands_in_exactly_one_location_at_every_step() {
    let (view, mut shelf) = (View::new(Vec::new()), Shelf::default());
    let mut expected = Vec::new();
    for seq in 1..=3 {
        view.admit(KEY, page(seq, 5), row(seq), 0);
        expected.extend((0..5).map(|n| seq as i64 * 1000 + n));
        assert_eq!(seen(&view, &shelf), expected, "admitted");
    }
    view.compact(KEY);
    assert_eq!(seen(&view, &shelf), expected, "compacted");

    let (key, head) = view.begin_seal(|_, _| true).unwrap();
    assert_eq!(seen(&view, &shelf), expected, "being sealed");
    // What comes meanwhile is another head's.
    view.admit(KEY, page(4, 5), row(4), 0);
    expected.extend((0..5).map(|n| 4000 + n));
    assert_eq!(seen(&view, &shelf), expected, "being sealed, and more came");
    assert!(view.has_head(1, 0) && view.head_size().0 == 20);
    let first = sealed(&mut shelf, 7, &head.pages);
    assert_eq!(seen(&view, &shelf), expected, "its chunk is written and not yet catalogued");
    view.finish_seal(key, &head, std::slice::from_ref(&first));
    assert_eq!((seen(&view, &shelf), view.head_size().0), (expected.clone(), 5), "sealed");

    let (key, head) = view.begin_seal(|_, _| true).unwrap();
    let second = sealed(&mut shelf, 8, &head.pages);
    view.finish_seal(key, &head, std::slice::from_ref(&second));
    assert_eq!((seen(&view, &shelf), view.has_head(1, 0)), (expected.clone(), false), "both sealed");

    let pages: Vec<Arc<Page>> = (1..=4).map(|seq| Arc::new(page(seq, 5))).collect();
    let merged = sealed(&mut shelf, 9, &pages);
    view.finish_merge(&[first.clone(), second], std::slice::from_ref(&merged), 3);
    assert_eq!((seen(&view, &shelf), view.chunk_count()), (expected.clone(), 1), "merged");
    // A search that began before still finds where the old ones stand, until they are taken.
    view.note_read_by_all(2, 40);
    assert!(view.location_of(7).is_some() && view.take_retired(1000).is_empty(), "not every node has read it");
    view.note_read_by_all(3, 50);
    assert!(view.location_of(7).is_some() && view.take_retired(50).is_empty());
    assert_eq!((view.take_retired(51).len(), view.location_of(7).is_none()), (2, true));

    // The catalogue read before another seal does not undo that seal.
    view.admit(KEY, page(5, 5), row(5), 0);
    expected.extend((0..5).map(|n| 5000 + n));
    let known = [9];
    let (key, head) = view.begin_seal(|_, _| true).unwrap();
    let third = sealed(&mut shelf, 10, &head.pages);
    view.finish_seal(key, &head, &[third]);
    let everything = Some((vec![merged.clone()], known.to_vec()));
    view.apply(Step { everything, ..Step::default() }, &(0..=100), 0);
    assert_eq!(seen(&view, &shelf), expected, "read again");
}

/// A journal row of the node of slot 2.
fn of_other(seq: u64) -> (HeadKey, Page, JournalRowRef) {
    let table = JournalTable { slot: 2, no: 1 };
    (KEY, page(seq, 5).with_origin(2, 1, seq), JournalRowRef { table, slot: 2, epoch: 1, seq })
}

/// A node that commits one event at a time leaves few pages here, and any of its rows may be the last of a seal.
#[test]
fn a_trickle_of_another_node_leaves_few_pages() {
    for last in [1, 57, 256, 299] {
        let (view, mut shelf) = (View::new(Vec::new()), Shelf::default());
        let one = |seq: u64| {
            let table = JournalTable { slot: 2, no: 1 };
            (KEY, page(seq, 1).with_origin(2, 1, seq), JournalRowRef { table, slot: 2, epoch: 1, seq })
        };
        for seq in 1..=300 {
            view.apply(Step { rows: vec![one(seq)], ..Step::default() }, &(0..=100), 0);
        }
        let pages = || view.inner.read().followed.get(&KEY).map_or(0, |head| head.pages().count());
        assert!((1..=9).contains(&pages()), "{} pages", pages());
        let pages: Vec<Arc<Page>> = (1..=last).map(|seq| Arc::new(one(seq).1)).collect();
        let chunk = sealed(&mut shelf, 200, &pages);
        let of = SealedRows { slot: 2, epoch: 1, seq_min: 1, seq_max: last, lane: 1, day: 0, late: false };
        view.apply(Step { added: vec![chunk], sealed: vec![of], ..Step::default() }, &(0..=100), 0);
        assert_eq!(seen(&view, &shelf), (1..=300).map(|seq| seq * 1000).collect::<Vec<i64>>());
        assert_eq!(view.followed_size().0, 300 - last as usize);
    }
}

#[test]
fn what_another_node_has_stands_in_one_location_at_every_step() {
    let (view, mut shelf) = (View::new(Vec::new()), Shelf::default());
    let own_ids = 0..=100;
    let rows = |seqs: std::ops::RangeInclusive<u64>| Step { rows: seqs.map(of_other).collect(), ..Step::default() };
    let times = |seqs: std::ops::RangeInclusive<u64>| -> Vec<i64> {
        seqs.flat_map(|seq| (0..5).map(move |n| seq as i64 * 1000 + n)).collect()
    };
    view.apply(rows(1..=4), &own_ids, 0);
    assert_eq!(seen(&view, &shelf), times(1..=4), "followed");
    assert!(view.has_head(1, 0) && view.head_size().0 == 0 && view.followed_size().0 == 20, "it is not sealed here");
    assert!(view.begin_seal(|_, _| true).is_none());
    // The other one sealed some of it, and more came, in one look.
    let pages: Vec<Arc<Page>> = (1..=3).map(|seq| Arc::new(of_other(seq).1)).collect();
    let chunk = sealed(&mut shelf, 200, &pages);
    let of = SealedRows { slot: 2, epoch: 1, seq_min: 1, seq_max: 3, lane: 1, day: 0, late: false };
    let others = SealedRows { day: 1, ..of };
    let step = Step { added: vec![chunk.clone()], sealed: vec![of, others], ..rows(5..=6) };
    view.apply(step, &own_ids, 0);
    assert_eq!((seen(&view, &shelf), view.followed_size().0), (times(1..=6), 15));
    // Everything is read again: what stands twice in reading stands once here.
    let known: Vec<u64> = view.chunks().iter().map(|c| c.id).collect();
    let step = Step { everything: Some((vec![chunk.clone()], known)), ..rows(4..=7) };
    let mut followed = view.follow();
    view.apply(step, &own_ids, 0);
    assert_eq!(seen(&view, &shelf), times(1..=7));
    assert!(matches!(followed.try_recv(), Ok(Fresh::Page(1, page)) if page.time_span().0 == 7000));
    assert!(followed.try_recv().is_err(), "only what is new is shown to those who follow");
    // A chunk of its own that the catalogue names already is put into the view by its seal alone.
    view.admit(KEY, page(8, 5), row(8), 0);
    let (key, head) = view.begin_seal(|_, _| true).unwrap();
    let own = sealed(&mut shelf, 7, &head.pages);
    let step = Step { everything: Some((vec![chunk.clone(), own.clone()], vec![200])), ..rows(4..=7) };
    view.apply(step, &own_ids, 0);
    assert_eq!(seen(&view, &shelf), times(1..=8), "being sealed, and named");
    view.finish_seal(key, &head, &[own]);
    assert_eq!(seen(&view, &shelf), times(1..=8));
    // Another node merges both; what it replaced stays readable for a while.
    let all: Vec<Arc<Page>> = (1..=3).map(|seq| Arc::new(of_other(seq).1)).chain([Arc::new(page(8, 5))]).collect();
    let merged = sealed(&mut shelf, 201, &all);
    view.apply(Step { added: vec![merged], removed: vec![200, 7], ..Step::default() }, &own_ids, 60);
    assert_eq!((seen(&view, &shelf), view.location_of(200).is_some()), (times(1..=8), true));
    assert!(view.take_retired(61).iter().all(|(_, own)| !own), "the other one removes their segments");
    // The other node died, and is adopted: its rows are sealed here.
    view.adopt(&HashSet::from([(2, 1)]), 0);
    assert_eq!((seen(&view, &shelf), view.followed_size().0, view.head_size().0), (times(1..=8), 0, 20));
    let (key, head) = view.begin_seal(|_, _| true).unwrap();
    assert_eq!(head.rows.iter().map(|r| r.seq).collect::<Vec<_>>(), [4, 5, 6, 7]);
    let last = sealed(&mut shelf, 8, &head.pages);
    view.finish_seal(key, &head, &[last]);
    assert_eq!(seen(&view, &shelf), times(1..=8));
}

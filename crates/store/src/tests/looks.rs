//! Looks: what one node sees of another, once, whatever order things come in.

use super::{claimed, commit, replayed, row, run, store};
use crate::*;
use std::collections::{BTreeSet, HashSet};

/// Two nodes of one database.
async fn two() -> (Store, Claim, Claim) {
    let store = store().await;
    let a = claimed(&store, "a").await;
    let b = store.claim("b", Others::Beside).await.unwrap();
    store.add_journal_table(JournalTable { slot: b.slot, no: 1 }).await.unwrap();
    (store, a, b)
}

/// One that looks, and what it has seen: journal rows in heads, and chunks.
struct Looker {
    claim: Claim,
    up_to: Option<ReadUpTo>,
    rows: BTreeSet<(u16, u32, u64)>,
    chunks: BTreeSet<u64>,
    read_everything: bool,
}

impl Looker {
    fn new(claim: &Claim) -> Self {
        Looker {
            claim: claim.clone(),
            up_to: None,
            rows: BTreeSet::new(),
            chunks: BTreeSet::new(),
            read_everything: false,
        }
    }

    async fn look(&mut self, store: &Store) {
        let own = HashSet::from([(self.claim.slot, self.claim.epoch)]);
        let look = store.look(&self.claim, &own, self.up_to.as_ref()).await.unwrap();
        self.read_everything = look.catalogue.is_some();
        if let Some(catalogue) = &look.catalogue {
            self.chunks = catalogue.iter().map(|c| c.id).collect();
            self.rows.clear();
        }
        self.chunks.extend(look.added.iter().map(|c| c.id));
        for gone in &look.removed {
            self.chunks.remove(gone);
        }
        for s in &look.sealed {
            assert_eq!((s.lane, s.day, s.late), (1, 20_000, false));
            self.rows.retain(|(slot, epoch, seq)| {
                (*slot, *epoch) != (s.slot, s.epoch) || *seq < s.seq_min || *seq > s.seq_max
            });
        }
        for stored in &look.rows {
            let at = stored.at;
            assert_eq!(stored.batch, row(at.seq).batch);
            assert!(self.rows.insert((at.slot, at.epoch, at.seq)), "{at:?} was seen twice");
        }
        self.up_to = Some(look.up_to);
    }

    fn seqs(&self) -> Vec<u64> {
        self.rows.iter().map(|(.., seq)| *seq).collect()
    }
}

fn chunk(id: u64) -> calvex_storage::chunk::ChunkMeta {
    calvex_storage::chunk::ChunkMeta { lane: 1, day: 20_000, ..super::chunk(id, 100, i64::MAX) }
}

async fn seal(store: &Store, claim: &Claim, id: u64, covers: Vec<JournalRowRef>) -> Result<()> {
    store.open_bucket(claim.slot, 100).await?;
    store.seal(claim, &Seal { chunks: vec![chunk(id)], covers }).await
}

fn commit_of(claim: &Claim, after: u64, rows: u64) -> Commit {
    Commit { table: JournalTable { slot: claim.slot, no: 1 }, ..commit(after, rows, vec![]) }
}

#[test]
fn what_another_acknowledged_is_seen_once_as_row_or_as_chunk() {
    run(async {
        let (store, a, b) = two().await;
        let mut by_b = Looker::new(&b);
        store.commit(&a, &commit_of(&a, 0, 3)).await.unwrap();
        by_b.look(&store).await;
        assert!(by_b.read_everything);
        assert_eq!(by_b.seqs(), [1, 2, 3]);
        by_b.look(&store).await;
        assert!(!by_b.read_everything && by_b.seqs() == [1, 2, 3]);
        // Its own are left out.
        store.commit(&b, &commit_of(&b, 0, 2)).await.unwrap();
        store.commit(&a, &commit_of(&a, 3, 40)).await.unwrap();
        by_b.look(&store).await;
        assert_eq!(by_b.seqs(), (1..=43).collect::<Vec<_>>());
        // Some are sealed; some come and are sealed before they are looked at.
        let rows = replayed(&store, &a).await;
        seal(&store, &a, a.first_chunk, rows[..3].to_vec()).await.unwrap();
        store.commit(&a, &commit_of(&a, 43, 2)).await.unwrap();
        let rows = replayed(&store, &a).await;
        seal(&store, &a, a.first_chunk + 1, rows[40..].to_vec()).await.unwrap();
        by_b.look(&store).await;
        assert!(!by_b.read_everything);
        assert_eq!(by_b.seqs(), (4..=43).collect::<Vec<_>>());
        assert_eq!(by_b.chunks, BTreeSet::from([a.first_chunk, a.first_chunk + 1]));
        // Chunks that are merged, and merged again before the next look.
        let merged = |id, replaces: &[u64]| Merge {
            chunks: vec![chunk(id)],
            replaces: replaces.iter().map(|id| chunk(*id)).collect(),
        };
        let id = a.first_chunk;
        store.merge(&a, &merged(id + 2, &[id])).await.unwrap();
        store.merge(&a, &merged(id + 3, &[id + 1, id + 2])).await.unwrap();
        by_b.look(&store).await;
        assert_eq!(by_b.chunks, BTreeSet::from([id + 3]));
        // What a look found is what everything is.
        let mut anew = Looker::new(&b);
        anew.look(&store).await;
        assert_eq!((anew.rows, anew.chunks), (by_b.rows, by_b.chunks));
    });
}

#[test]
fn what_others_have_read_is_known() {
    run(async {
        let (store, a, b) = two().await;
        let mut by_b = Looker::new(&b);
        by_b.look(&store).await;
        store.note_read(&b, by_b.up_to.as_ref().unwrap()).await.unwrap();
        store.commit(&a, &commit_of(&a, 0, 1)).await.unwrap();
        seal(&store, &a, a.first_chunk, replayed(&store, &a).await).await.unwrap();
        // A duty moves the fence and changes nothing.
        store.take_duty(&a, "rules").await.unwrap();
        let work = store.newest_change(&a).await.unwrap();
        assert!(work > 0 && store.read_by_all(&a).await.unwrap() < work, "b has not read it");
        by_b.look(&store).await;
        store.note_read(&b, by_b.up_to.as_ref().unwrap()).await.unwrap();
        assert_eq!(store.read_by_all(&a).await.unwrap(), work);
        // One that does not live is not waited for.
        store.leave(&b).await.unwrap();
        assert_eq!(store.read_by_all(&a).await.unwrap(), u64::MAX);
    });
}

#[test]
fn a_change_that_is_missing_makes_everything_be_read() {
    run(async {
        let (store, a, b) = two().await;
        let mut by_b = Looker::new(&b);
        by_b.look(&store).await;
        let mut last = 0;
        let mut seal_one = async |by_b: &mut Looker, look: bool| {
            store.commit(&a, &commit_of(&a, last, 1)).await.unwrap();
            seal(&store, &a, a.first_chunk + last, replayed(&store, &a).await).await.unwrap();
            last += 1;
            if look {
                by_b.look(&store).await;
            }
        };
        seal_one(&mut by_b, true).await;
        assert!(!by_b.read_everything);
        seal_one(&mut by_b, false).await;
        sqlx::query("DELETE FROM catalogue_change ORDER BY n DESC LIMIT 1").execute(&store.pool).await.unwrap();
        seal_one(&mut by_b, true).await;
        // The change that is missing was the newest, so that nothing shows it; the one after it does.
        seal_one(&mut by_b, false).await;
        sqlx::query("UPDATE catalogue_change SET sealed = '[[1,2]]' ORDER BY n DESC LIMIT 1")
            .execute(&store.pool)
            .await
            .unwrap();
        by_b.look(&store).await;
        assert!(by_b.read_everything, "a form that is not known");
        assert_eq!((by_b.chunks.len(), by_b.rows.len()), (4, 0));
        seal_one(&mut by_b, false).await;
        seal_one(&mut by_b, false).await;
        let second = "DELETE FROM catalogue_change WHERE n = (SELECT n FROM (SELECT n FROM catalogue_change ORDER BY n DESC LIMIT 1 OFFSET 1) x)";
        sqlx::query(second).execute(&store.pool).await.unwrap();
        by_b.look(&store).await;
        assert!(by_b.read_everything, "one in between is missing");
        assert_eq!(by_b.chunks.len(), 6);
    });
}

#[test]
fn a_node_that_starts_again_or_is_adopted_is_followed_on() {
    run(async {
        let (store, a, b) = two().await;
        let mut by_b = Looker::new(&b);
        store.commit(&a, &commit_of(&a, 0, 2)).await.unwrap();
        by_b.look(&store).await;
        // It starts again, and goes on with its rows; new ones count from one again.
        let a = store.claim("a", Others::Beside).await;
        assert!(a.is_ok(), "its beat stood still while it was watched");
        let a = a.unwrap();
        store.commit(&a, &commit_of(&a, 0, 1)).await.unwrap();
        by_b.look(&store).await;
        assert_eq!(by_b.seqs(), [1, 2, 1]);
        seal(&store, &a, a.first_chunk, replayed(&store, &a).await).await.unwrap();
        by_b.look(&store).await;
        assert_eq!((by_b.seqs().len(), by_b.chunks.len()), (0, 1));
        // A third adopts it; what it seals of the first's is seen like the first's own.
        store.commit(&a, &commit_of(&a, 1, 2)).await.unwrap();
        let c = store.claim("c", Others::Beside).await.unwrap();
        let seen = store.nodes().await.unwrap().into_iter().find(|n| n.slot == a.slot).unwrap();
        assert!(store.adopt(&c, &seen, &super::act()).await.unwrap());
        by_b.look(&store).await;
        assert_eq!(by_b.seqs(), [2, 3]);
        seal(&store, &c, c.first_chunk, replayed(&store, &c).await).await.unwrap();
        by_b.look(&store).await;
        assert_eq!((by_b.seqs().len(), by_b.chunks.len()), (0, 2));
        assert!(!by_b.read_everything);
    });
}

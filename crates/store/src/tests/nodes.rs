//! Slots, claims and ownership: two processes on one database, other names, ids that go on.

use super::{act, claimed, commit, replayed, run, store};
use crate::*;
use calvex_language::model::Event;
use calvex_storage::chunk::ChunkMeta;
use calvex_storage::chunk::{ChunkSource, build_chunks};
use calvex_storage::columns::{PageRead, build_page};

#[test]
fn of_claims_at_once_one_of_a_name_succeeds_and_no_epoch_is_given_twice() {
    run(async {
        let store = store().await;
        store.claim("n", Others::Beside).await.unwrap();
        store.leave(&store.claim("n", Others::Impossible).await.unwrap()).await.unwrap();
        let names = ["n", "n", "m", "n", "o", "m"];
        let claims = names.map(|name| {
            let store = store.clone();
            tokio::spawn(async move { store.claim(name, Others::Beside).await })
        });
        let mut done = Vec::new();
        for claim in claims {
            match claim.await.unwrap() {
                Ok(claim) => done.push(claim),
                Err(e) => assert!(matches!(e, StoreError::Alive(_)) || e.is_passing(), "{e}"),
            }
        }
        let mut slots: Vec<(u16, String)> = done.iter().map(|c| (c.slot, c.name.clone())).collect();
        slots.sort_unstable();
        slots.dedup_by_key(|(slot, _)| *slot);
        assert_eq!(slots.len(), done.len(), "{done:?}");
        assert!(done.iter().any(|c| c.name == "n") && done.len() <= 3, "{done:?}");
        // Each of them can work.
        for claim in &done {
            assert!(store.beat(claim, 0).await.unwrap());
        }
    });
}

/// Beats as a node that lives.
fn beating(store: &Store, claim: &Claim) -> tokio::task::JoinHandle<()> {
    let (store, claim) = (store.clone(), claim.clone());
    tokio::spawn(async move {
        while store.beat(&claim, 0).await.unwrap() {
            tokio::time::sleep(std::time::Duration::from_millis(50)).await;
        }
    })
}

#[test]
fn a_name_that_lives_is_refused_and_others_live_beside_it() {
    run(async {
        let store = store().await;
        let live = claimed(&store, "n").await;
        let beats = beating(&store, &live);
        let refused = store.claim("n", Others::Beside).await.unwrap_err();
        assert!(matches!(&refused, StoreError::Alive(n) if n == "n"), "{refused}");
        assert!(refused.to_string().contains("calvex admin nodes"), "{refused}");
        assert!(store.retire("n", &act()).await.is_err(), "it lives");
        let beside = store.claim("m", Others::Beside).await.unwrap();
        assert_ne!(beside.slot, live.slot);
        assert!(store.beat(&live, 0).await.unwrap() && store.beat(&beside, 0).await.unwrap());
        store.commit(&live, &commit(0, 2, vec![])).await.unwrap();
        beats.abort();
        // One that stopped in order is not watched for, and has what it left.
        store.leave(&live).await.unwrap();
        let again = store.claim("n", Others::Beside).await.unwrap();
        assert!(!store.beat(&live, 0).await.unwrap(), "the old one learns that it was replaced");
        assert_eq!((again.slot, again.epoch), (live.slot, live.epoch + 1));
        assert_eq!(replayed(&store, &again).await.len(), 2);
        assert!(replayed(&store, &beside).await.is_empty());
    });
}

#[test]
fn of_adoptions_at_once_one_succeeds_and_one_that_moved_is_not_adopted() {
    run(async {
        let store = store().await;
        let dead = claimed(&store, "dead").await;
        store.commit(&dead, &commit(0, 3, vec![])).await.unwrap();
        assert!(store.take_duty(&dead, "rules").await.unwrap());
        let (a, b) = (store.claim("a", Others::Beside).await.unwrap(), store.claim("b", Others::Beside).await.unwrap());
        assert!(!store.take_duty(&a, "rules").await.unwrap(), "somebody has it");
        let seen = store.nodes().await.unwrap().into_iter().find(|n| n.slot == dead.slot).unwrap();
        store.beat(&dead, 0).await.unwrap();
        assert!(!store.adopt(&a, &seen, &act()).await.unwrap(), "it moved since");
        let seen = store.nodes().await.unwrap().into_iter().find(|n| n.slot == dead.slot).unwrap();
        let (store_a, store_b) = (store.clone(), store.clone());
        let ((by_a, by_b), (seen_a, seen_b)) = ((a.clone(), b.clone()), (seen.clone(), seen.clone()));
        let tries = [
            tokio::spawn(async move { store_a.adopt(&by_a, &seen_a, &act()).await }),
            tokio::spawn(async move { store_b.adopt(&by_b, &seen_b, &act()).await }),
        ];
        let mut adopted = Vec::new();
        for (own, one) in [&a, &b].into_iter().zip(tries) {
            match one.await.unwrap() {
                Ok(true) => adopted.push(own),
                Ok(false) => {}
                Err(e) => assert!(e.is_passing(), "{e}"),
            }
        }
        let [by] = adopted.as_slice() else { panic!("{adopted:?}") };
        // The dead one can neither append nor seal nor work; its rows and duties are the other's.
        assert!(matches!(store.commit(&dead, &commit(3, 1, vec![])).await, Err(StoreError::Fenced(_))));
        let covers = replayed(&store, by).await;
        assert_eq!(covers.len(), 3);
        let seal = Seal { chunks: vec![], covers };
        assert!(matches!(store.seal(&dead, &seal).await, Err(StoreError::Fenced(_))));
        assert!(matches!(store.take_duty(&dead, "expiry").await, Err(StoreError::Fenced(_))));
        store.seal(by, &seal).await.unwrap();
        let owners = store.duty_owners().await.unwrap();
        assert_eq!(owners, [DutyOwner { duty: "rules".into(), slot: by.slot, epoch: by.epoch }]);
        // It comes back under its name, with a slot of its own and nothing of what it had.
        let back = store.claim("dead", Others::Beside).await.unwrap();
        assert_eq!((back.slot, back.epoch), (dead.slot, dead.epoch + 2));
        assert!(replayed(&store, &back).await.is_empty());
        store.leave(by).await.unwrap();
        assert!(store.duty_owners().await.unwrap().is_empty(), "a stop in order hands duties over");
    });
}

#[test]
fn a_node_that_is_drained_is_listed_so_and_takes_part_again_with_its_next_claim() {
    run(async {
        let store = store().await;
        let claim = store.claim("n", Others::Beside).await.unwrap();
        let draining = async |store: &Store| store.nodes().await.unwrap()[0].draining;
        store.drain("n", true, &act()).await.unwrap();
        store.drain("n", true, &act()).await.unwrap();
        assert!(draining(&store).await);
        assert!(matches!(store.drain("m", true, &act()).await, Err(StoreError::Missing(_))));
        store.drain("n", false, &act()).await.unwrap();
        assert!(!draining(&store).await);
        store.drain("n", true, &act()).await.unwrap();
        store.leave(&claim).await.unwrap();
        assert!(store.drain("n", false, &act()).await.is_err(), "it does not live");
        store.claim("n", Others::Beside).await.unwrap();
        assert!(!draining(&store).await);
    });
}

#[test]
fn a_node_under_another_name_goes_on_with_what_a_dead_one_left() {
    run(async {
        let store = store().await;
        let first = claimed(&store, "n").await;
        store.commit(&first, &commit(0, 3, vec![])).await.unwrap();
        let second = claimed(&store, "renamed").await;
        assert_eq!((first.slot, second.slot), (1, 2));
        assert_eq!(replayed(&store, &second).await.len(), 3);
        // The old process can neither append nor seal, though its name is another.
        assert!(matches!(store.commit(&first, &commit(3, 1, vec![])).await, Err(StoreError::Fenced(_))));
        let covers = replayed(&store, &second).await;
        let seal = Seal { chunks: vec![], covers };
        assert!(matches!(store.seal(&first, &seal).await, Err(StoreError::Fenced(_))));
        store.seal(&second, &seal).await.unwrap();
        assert!(replayed(&store, &second).await.is_empty());
        store.forget_owned(&second, &Default::default()).await.unwrap();
        let owned: i64 = sqlx::query_scalar("SELECT COUNT(*) FROM journal_owner").fetch_one(&store.pool).await.unwrap();
        assert_eq!(owned, 1, "what is sealed needs no owner");
    });
}

/// In a cluster a slot uses two tables by turns, and none of them is dropped.
#[test]
fn two_journal_tables_by_turns() {
    run(async {
        let store = store().await;
        let claim = claimed(&store, "n").await;
        let table = |no| JournalTable { slot: claim.slot, no };
        assert_eq!(
            store.next_journal_table(table(7)).await.unwrap(),
            Some(table(8)),
            "on one server a new one each time"
        );
        assert!(store.is_past(table(7), 8) && !store.is_past(table(8), 8));
        store.drop_journal_table(table(8)).await.unwrap();
        store.in_cluster.store(true, std::sync::atomic::Ordering::SeqCst);
        // What a slot had before it was in a cluster is left.
        assert_eq!(store.next_journal_table(table(7)).await.unwrap(), Some(table(1)));
        assert!(store.is_past(table(7), 1) && !store.is_past(table(2), 1) && !store.is_past(table(1), 2));
        store.commit(&claim, &commit(0, 1, vec![])).await.unwrap();
        assert_eq!(store.next_journal_table(table(1)).await.unwrap(), Some(table(2)));
        assert_eq!(store.next_journal_table(table(2)).await.unwrap(), None, "a row of the first is not sealed yet");
        let covers = replayed(&store, &claim).await;
        store.seal(&claim, &Seal { chunks: vec![], covers }).await.unwrap();
        assert_eq!(store.next_journal_table(table(2)).await.unwrap(), Some(table(1)));
        assert_eq!(store.journal_tables().await.unwrap(), [table(1), table(2)]);
    });
}

#[test]
fn rows_from_before_slots_are_adopted() {
    run(async {
        let store = store().await;
        let old = JournalTable { slot: 0, no: 7 };
        store.add_journal_table(old).await.unwrap();
        sqlx::query("INSERT INTO journal_7 (node, epoch, seq, lane_id, day, late, row_count, batch) VALUES (9, 4, 1, 1, 1, 0, 1, 'x')")
            .execute(&store.pool)
            .await
            .unwrap();
        let claim = claimed(&store, "n").await;
        let rows = replayed(&store, &claim).await;
        assert_eq!(rows, [JournalRowRef { table: old, slot: 9, epoch: 4, seq: 1 }]);
        store.seal(&claim, &Seal { chunks: vec![], covers: rows }).await.unwrap();
        assert!(store.drop_journal_table(old).await.unwrap());
    });
}

#[test]
fn slots_are_given_out_one_by_one_and_end() {
    run(async {
        let store = store().await;
        for n in 0..5 {
            // Every start used to burn a number of the database's own counter.
            assert_eq!(store.claim("n", Others::Impossible).await.unwrap().slot, 1, "start {n}");
        }
        let values: Vec<String> = (2..=4095).map(|n| format!("({n}, 'x{n}', 1)")).collect();
        let insert = format!("INSERT INTO node (slot, name, epoch) VALUES {}", values.join(","));
        sqlx::query(sql::safe(insert)).execute(&store.pool).await.unwrap();
        let refused = store.claim("one more", Others::Impossible).await.unwrap_err().to_string();
        assert!(refused.contains("calvex admin node retire"), "{refused}");
        store.retire("x77", &act()).await.unwrap();
        let claim = store.claim("one more", Others::Impossible).await.unwrap();
        assert_eq!((claim.slot, claim.epoch), (77, 2), "its epoch goes on");
    });
}

#[test]
fn ids_of_chunks_go_on_behind_every_one_that_was_given() {
    run(async {
        let store = store().await;
        let claim = claimed(&store, "n").await;
        store.open_bucket(1, 100).await.unwrap();
        // More chunks in one epoch than the 24 bits of an epoch's own range.
        let far = claim.first_chunk + (1 << 24) * 3 + 5;
        let row = super::chunk(far, 100, i64::MAX);
        store.seal(&claim, &Seal { chunks: vec![row.clone()], covers: vec![] }).await.unwrap();
        let next = claimed(&store, "n").await;
        assert_eq!(next.first_chunk, far + 1);
        // A chunk under an id that is taken is refused; what stands there stays.
        store.write_segments(100, far, 0, &[b"kept".to_vec()]).await.unwrap();
        let other = ChunkMeta { rows: 99, checksum: 7, ..row };
        assert!(store.write_chunks(&[(other, &[b"other".to_vec()][..])]).await.is_err());
        assert_eq!(store.read_segment(100, far, 0).await.unwrap(), b"kept");
    });
}

#[test]
fn a_cache_of_another_database_answers_nothing() {
    run(async {
        let (store, other) = (store().await, super::store().await);
        let (own, its) = (store.installation([1; 16]).await.unwrap(), other.installation([2; 16]).await.unwrap());
        assert_eq!((own.len(), own == its, store.installation([3; 16]).await.unwrap() == own), (32, false, true));
        // Two databases give one chunk id to different events.
        let claim = claimed(&store, "n").await;
        assert_eq!(claim, claimed(&other, "n").await);
        let built = |message: &str| {
            let page = build_page(&[Event { message: message.into(), ..Event::default() }]).unwrap();
            build_chunks(&[&page as &dyn PageRead], || claim.first_chunk).unwrap().remove(0)
        };
        let folder = tempfile::tempdir().unwrap();
        for (store, installation, message) in
            [(&store, &own, "ours"), (&other, &own, "theirs"), (&other, &its, "theirs")]
        {
            let chunk = built(message);
            store.open_bucket(1, 100).await.unwrap();
            let row = ChunkMeta { checksum: chunk.checksum(), ..super::chunk(chunk.id, 100, i64::MAX) };
            store.write_chunks(&[(row, chunk.segments.as_slice())]).await.unwrap();
            // Even where both claim to be one installation, as after a restore by hand, the checksum distinguishes them.
            let cache = SegmentCache::new(1 << 20, installation, Some((folder.path().to_owned(), 1 << 20)));
            let (store, handle, id) = (store.clone(), tokio::runtime::Handle::current(), chunk.id);
            let read = tokio::task::spawn_blocking(move || {
                let location = BucketRef { bucket: 100, checksum: chunk.checksum() };
                let reader_of = |_| Some(location);
                let reader = cache.reader(&store, handle, &reader_of);
                let last = chunk.segments.len() as u16 - 1;
                (0..=last).map(|n| reader.segment(id, n).unwrap().bytes().to_vec()).collect::<Vec<_>>()
                    == chunk.segments
            });
            assert!(read.await.unwrap(), "{message}");
        }
        let folders: Vec<_> = std::fs::read_dir(folder.path()).unwrap().flatten().map(|e| e.file_name()).collect();
        assert_eq!(folders, [its.as_str()], "what belongs to another installation is gone");
    });
}

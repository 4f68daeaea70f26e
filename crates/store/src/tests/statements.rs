//! Every transaction of the store, with a fault at its Nth statement, for every N and every sort of fault: the statement
//! is refused with an error that passes or that does not, the connection is lost before it or after it. Whatever strikes,
//! every acknowledged event stands in exactly one place, no half of an act is seen, and the act can be done again.

use super::ruled::{lease_errors, raised};
use super::striker::{Strike, Striker};
use super::{act, claimed, commit, replayed, run, store};
use crate::*;
use calvex_language::domain::access::Role;
use calvex_language::domain::error_group::{GroupState, KeptGroup, SeenGroup};
use calvex_language::domain::grant::May;
use calvex_language::domain::rule::{AlertChange, Judgement, RuleState};
use calvex_storage::chunk::{BloomSetMeta, ChunkMeta};
use std::collections::BTreeMap;

const STRIKES: [Strike; 7] = [
    Strike::LostBefore,
    Strike::LostAfter,
    Strike::Error(1213, "40001"), // deadlock, or certification failed
    Strike::Error(1205, "HY000"), // lock wait
    Strike::Error(1290, "HY000"), // read-only
    Strike::Error(1047, "08S01"), // no quorum
    Strike::Error(1153, "08S01"), // packet too large
];

/// A store whose statements pass the striker, and one on the same database whose do not.
async fn stores() -> (Store, Store, Striker) {
    let plain = store().await;
    let options = plain.pool.connect_options();
    let striker = Striker::start(options.get_socket().unwrap().clone());
    let through = StoreOptions::socket(&striker.socket, options.get_database().unwrap());
    (plain, Store::open(through).await.unwrap(), striker)
}

/// Does `act` with a fault at its Nth statement, for each N until none strikes any more; `check` looks after each, with
/// what the act returned, and `again` does it once more where it failed.
async fn at_every_statement<A, C>(what: &str, act: impl Fn(Store, Store) -> A, check: impl Fn(Store) -> C)
where
    A: Future<Output = Result<()>>,
    C: Future<Output = ()>,
{
    let (plain, through, striker) = stores().await;
    for strike in STRIKES {
        for n in 1.. {
            assert!(n < 200, "{what}: {strike:?} never ends");
            reset(&plain).await;
            striker.arm(n, strike);
            let done = act(plain.clone(), through.clone()).await;
            let hit = striker.disarm();
            match (&done, hit) {
                (Ok(()), _) => {}
                (Err(e), true) => {
                    let permanent = strike == Strike::Error(1153, "08S01");
                    assert_eq!(e.is_passing(), !permanent, "{what}, statement {n}, {strike:?}: {e}");
                }
                (Err(e), false) => panic!("{what} failed without a fault: {e}"),
            }
            check(plain.clone()).await;
            if !hit {
                break;
            }
        }
    }
}

/// Empties what the acts of these tests write; quicker than another database.
async fn reset(store: &Store) {
    let mut connection = store.pool.acquire().await.unwrap();
    let run = async |connection: &mut sqlx::MySqlConnection, statement: String| {
        use sqlx::Executor;
        connection.execute(sql::safe(statement)).await.unwrap();
    };
    let made = "SELECT TABLE_NAME FROM information_schema.TABLES WHERE TABLE_SCHEMA = DATABASE()
                AND (TABLE_NAME LIKE 'segments\\_%' OR TABLE_NAME REGEXP '^(journal|receipt)_[0-9_]+$')";
    let made: Vec<String> = sqlx::query_scalar(made).fetch_all(&mut *connection).await.unwrap();
    run(&mut connection, "SET SESSION foreign_key_checks = 0".into()).await;
    for table in made {
        run(&mut connection, format!("DROP TABLE {table}")).await;
    }
    for table in [
        "outbox",
        "alert",
        "rule",
        "audit",
        "error_group",
        "error_group_seen",
        "user",
        "rollup_chunk",
        "rollup",
        "chunk_origin",
        "chunk",
        "bucket_use",
        "bucket",
        "receipt",
        "catalogue_change",
        "journal_owner",
        "journal_table",
        "duty_owner",
        "node_read",
        "fence",
        "node",
    ] {
        run(&mut connection, format!("DELETE FROM {table}")).await;
    }
    run(&mut connection, "SET SESSION foreign_key_checks = 1".into()).await;
}

/// Where each seq of the journal stands: in the journal, in a chunk (by its origins), or in both.
async fn standing(store: &Store) -> BTreeMap<u64, usize> {
    let mut found = BTreeMap::new();
    for table in store.journal_tables().await.unwrap() {
        let select = format!("SELECT seq FROM {}", table.name());
        let seqs: Vec<u64> = sqlx::query_scalar(sql::safe(select)).fetch_all(&store.pool).await.unwrap();
        seqs.into_iter().for_each(|seq| *found.entry(seq).or_default() += 1);
    }
    let select = "SELECT o.seq_min, o.seq_max FROM chunk_origin o JOIN chunk c ON c.id = o.chunk";
    let spans: Vec<(u64, u64)> = sqlx::query_as(select).fetch_all(&store.pool).await.unwrap();
    spans.into_iter().for_each(|(from, to)| (from..=to).for_each(|seq| *found.entry(seq).or_default() += 1));
    found
}

async fn assert_once(store: &Store, events: u64) {
    let standing = standing(store).await;
    assert_eq!(standing, (1..=events).map(|seq| (seq, 1)).collect(), "each row stands once");
}

/// In one statement, and statement by statement.
#[test]
fn a_commit_is_written_once_or_not_at_all() {
    committed_once_with_batches_of(10);
    committed_once_with_batches_of(20_000);
}

fn committed_once_with_batches_of(bytes: usize) {
    run(async {
        let receipt =
            || StoredReceipt { key_id: 7, name: [1; 32], body: Some([2; 32]), answer: b"ok".to_vec(), made_ns: 5 };
        let act = |plain: Store, through: Store| async move {
            let claim = claimed(&plain, "n").await;
            let mut group = commit(0, 3, vec![receipt()]);
            group.rows.iter_mut().for_each(|row| row.batch = vec![row.seq as u8; bytes]);
            match through.commit(&claim, &group).await {
                Ok(done) => assert_eq!(done, Committed::Yes),
                Err(e) => {
                    // Nothing, or all of it, is there; the same call again finds out which and ends it.
                    let receipt = plain.receipt(7, &[[1; 32]], i64::MIN, 5).await.unwrap().is_some();
                    assert_eq!(replayed(&plain, &claim).await.len(), if receipt { 3 } else { 0 }, "{e}");
                    assert_eq!(plain.commit(&claim, &group).await.unwrap(), Committed::Yes);
                    return Err(e);
                }
            }
            Ok(())
        };
        at_every_statement("commit", act, |store| async move {
            assert_once(&store, 3).await;
            assert!(store.receipt(7, &[[1; 32]], i64::MIN, 5).await.unwrap().is_some());
        })
        .await;
    });
}

/// A claim with three journal rows, and the seal that covers them.
async fn to_seal(store: &Store) -> (Claim, Seal) {
    let claim = claimed(store, "n").await;
    store.commit(&claim, &commit(0, 3, vec![])).await.unwrap();
    let covers = replayed(store, &claim).await;
    let row = ChunkMeta { segments: 2, ..super::chunk(claim.first_chunk, 100, 50) };
    (claim, Seal { chunks: vec![row], covers })
}

async fn write_and_seal(store: &Store, claim: &Claim, seal: &Seal) -> Result<()> {
    let segments = [b"directory".to_vec(), b"columns".to_vec()];
    store.write_chunks(&[(seal.chunks[0].clone(), &segments[..])]).await?;
    store.seal(claim, seal).await
}

#[test]
fn a_seal_moves_its_rows_once_or_not_at_all() {
    run(async {
        let act = |plain: Store, through: Store| async move {
            let (claim, seal) = to_seal(&plain).await;
            let done = write_and_seal(&through, &claim, &seal).await;
            assert_once(&plain, 3).await;
            if done.is_err() {
                write_and_seal(&plain, &claim, &seal).await.unwrap();
            }
            done
        };
        at_every_statement("seal", act, |store| async move {
            assert_once(&store, 3).await;
            assert_eq!(store.chunks().await.unwrap().len(), 1);
            let segments: i64 =
                sqlx::query_scalar("SELECT COUNT(*) FROM parts_100").fetch_one(&store.pool).await.unwrap();
            assert_eq!(segments, 2, "its segments are whole");
            let changes: i64 =
                sqlx::query_scalar("SELECT COUNT(*) FROM catalogue_change").fetch_one(&store.pool).await.unwrap();
            assert_eq!(changes, 1);
        })
        .await;
    });
}

#[test]
fn a_merge_swaps_its_chunks_once_or_not_at_all() {
    run(async {
        let act = |plain: Store, through: Store| async move {
            let (claim, seal) = to_seal(&plain).await;
            write_and_seal(&plain, &claim, &seal).await.unwrap();
            let new = ChunkMeta { rows: 9, ..super::chunk(claim.first_chunk + 1, 100, 50) };
            let merge = Merge { chunks: vec![new.clone()], replaces: plain.chunks().await.unwrap() };
            let merged = async |store: &Store| {
                store.write_chunks(&[(new.clone(), &[b"merged".to_vec()][..])]).await?;
                store.merge(&claim, &merge).await
            };
            let done = merged(&through).await;
            assert_eq!(plain.chunks().await.unwrap().len(), 1, "never both, never none");
            if done.is_err() {
                merged(&plain).await.unwrap();
            }
            done
        };
        at_every_statement("merge", act, |store| async move {
            let rows: Vec<u32> = store.chunks().await.unwrap().iter().map(|c| c.rows).collect();
            assert_eq!(rows, [9]);
        })
        .await;
    });
}

#[test]
fn a_bloom_set_names_its_chunks_once_or_not_at_all() {
    run(async {
        let act = |plain: Store, through: Store| async move {
            let (claim, seal) = to_seal(&plain).await;
            write_and_seal(&plain, &claim, &seal).await.unwrap();
            let (id, chunks) = (claim.first_chunk + 1, vec![seal.chunks[0].id]);
            let row = BloomSetMeta { id, lane: 1, bucket: 100, segments: 1, checksum: 7, chunks };
            let rolled = async |store: &Store| {
                store.write_bloom_set_segments(100, id, &[b"blooms".to_vec()]).await?;
                store.bloom_set(&claim, &row).await
            };
            let done = rolled(&through).await;
            if done.is_err() && plain.chunks().await.unwrap()[0].bloom_set.is_none() {
                rolled(&plain).await.unwrap();
            }
            done
        };
        at_every_statement("bloom set", act, |store| async move {
            let bloom_set = store.chunks().await.unwrap()[0].bloom_set.unwrap();
            assert_eq!(store.read_segment(100, bloom_set.id, 0).await.unwrap(), b"blooms");
        })
        .await;
    });
}

#[test]
fn moving_and_dropping_keep_what_is_live() {
    run(async {
        let act = |plain: Store, through: Store| async move {
            let (claim, seal) = to_seal(&plain).await;
            write_and_seal(&plain, &claim, &seal).await.unwrap();
            let id = seal.chunks[0].id;
            plain.open_bucket(1, 200).await.unwrap();
            let expired = async |store: &Store| {
                store.move_chunk(&claim, id, 100, 200).await?;
                store.drop_bucket(&claim, 100, 20).await.map(|_| ())
            };
            let done = expired(&through).await;
            let bucket = plain.chunks().await.unwrap()[0].bucket;
            assert_eq!(
                plain.read_segment(bucket, id, 1).await.unwrap(),
                b"columns",
                "it can be read where it is named"
            );
            if done.is_err() {
                if bucket == 100 {
                    plain.move_chunk(&claim, id, 100, 200).await.unwrap();
                }
                plain.drop_bucket(&claim, 100, 20).await.unwrap();
            }
            done
        };
        at_every_statement("move and drop", act, |store| async move {
            assert_eq!(store.buckets().await.unwrap(), [200]);
            assert_eq!(store.chunks().await.unwrap()[0].bucket, 200);
        })
        .await;
    });
}

#[test]
fn a_judgement_and_its_notifications_stand_together() {
    run(async {
        let act_on = |plain: Store, through: Store| async move {
            let claim = claimed(&plain, "n").await;
            let owner = plain.add_user("mira", "x", Role::Admin, (May::Read, &[]), &act()).await.unwrap();
            let rule_id = plain.add_rule(&lease_errors(owner), &act()).await.unwrap();
            let judgement = raised(rule_id);
            let done = through.commit_judgement(&claim, &judgement).await.map(|_| ());
            let alerts = plain.latest_alerts(10).await.unwrap().len();
            assert_eq!(plain.outbox_due(9).await.unwrap().len(), alerts, "nobody is notified of what was not raised");
            if done.is_err() {
                // One that was committed after all is found so, and nobody is notified twice.
                plain.commit_judgement(&claim, &judgement).await.unwrap();
            }
            done
        };
        at_every_statement("judgement", act_on, |store| async move {
            assert_eq!(store.latest_alerts(10).await.unwrap().len(), 1);
            let due = store.outbox_due(9).await.unwrap();
            assert_eq!(due.len(), 1);
            store.outbox_done(&due[0], 10).await.unwrap();
            assert!(store.outbox_due(99).await.unwrap().is_empty());
        })
        .await;
    });
}

#[test]
fn a_judgement_that_another_overtook_writes_nothing() {
    run(async {
        let store = store().await;
        let claim = claimed(&store, "n").await;
        let owner = store.add_user("mira", "x", Role::Admin, (May::Read, &[]), &act()).await.unwrap();
        let rule_id = store.add_rule(&lease_errors(owner), &act()).await.unwrap();
        assert!(store.commit_judgement(&claim, &raised(rule_id)).await.unwrap());
        // Two nodes looked at the rule as it stood; the second must not raise the same alert again.
        assert!(!store.commit_judgement(&claim, &raised(rule_id)).await.unwrap());
        let quiet = Judgement { judged_before_ns: Some(8), state: RuleState::Quiet, ..raised(rule_id) };
        assert!(!store.commit_judgement(&claim, &quiet).await.unwrap());
        assert_eq!(store.latest_alerts(10).await.unwrap().len(), 1);
        assert_eq!(store.outbox_due(9).await.unwrap().len(), 1);
        assert_eq!(store.rules().await.unwrap()[0].state, RuleState::Raised);
        // From where it stands now it goes on.
        let ended = Judgement { judged_before_ns: Some(9), judged_ns: 20, changes: Vec::new(), ..quiet };
        assert!(store.commit_judgement(&claim, &ended).await.unwrap());
        assert_eq!(store.rules().await.unwrap()[0].state, RuleState::Quiet);
    });
}

/// What senders wrote stands in explanations and messages: its length never keeps an alert from being raised.
#[test]
fn a_judgement_with_long_messages_is_committed() {
    run(async {
        let store = store().await;
        let claim = claimed(&store, "n").await;
        let owner = store.add_user("mira", "x", Role::Admin, (May::Read, &[]), &act()).await.unwrap();
        let rule_id = store.add_rule(&lease_errors(owner), &act()).await.unwrap();
        let mut judgement = raised(rule_id);
        let long = "→".repeat(100_000);
        if let AlertChange::Raise { alert, notify } = &mut judgement.changes[0] {
            alert.explanation = Some(long.clone());
            notify[0].payload = long.clone();
        }
        assert!(store.commit_judgement(&claim, &judgement).await.unwrap());
        assert_eq!(store.outbox_due(9).await.unwrap()[0].payload, long);
    });
}

#[test]
fn error_groups_are_seen_said_and_returned() {
    run(async {
        let seen =
            |id: &str, lane: u32, first_ns: i64, last_ns: i64| SeenGroup { id: id.into(), lane, first_ns, last_ns };
        let (one, two) = ("1111111111111111", "2222222222222222");
        let act_on = |_: Store, through: Store| async move {
            let groups = [seen(one, 1, 50, 60), seen(one, 2, 40, 90), seen(two, 1, 10, 10)];
            through.put_seen_groups(&groups, &[]).await?;
            through.put_seen_groups(&[seen(one, 1, 20, 55)], &[]).await?;
            let said = KeptGroup {
                id: one.into(),
                said: GroupState::Resolved,
                said_ns: 100,
                said_by: "mira".into(),
                release: Some("41.2".into()),
                failed_releases: vec!["41.1".into()],
                note: "hinges".into(),
                returned_ns: None,
            };
            through.say_of_group(&said, &act()).await
        };
        at_every_statement("error groups", act_on, |store| async move {
            let kept = store.kept_groups().await.unwrap();
            assert!(kept.iter().all(|group| group.failed_releases == ["41.1"] && group.returned_ns.is_none()));
            if let [group] = kept.as_slice() {
                let of_one = store.seen_groups(&[one]).await.unwrap();
                assert_eq!(of_one, [seen(one, 1, 20, 60), seen(one, 2, 40, 90)]);
                // Seen before it was resolved is no return, seen after it is one, and stays one.
                store.put_seen_groups(&[], &[(one.into(), 100)]).await.unwrap();
                assert_eq!(store.kept_groups().await.unwrap()[0].returned_ns, None);
                store.put_seen_groups(&[], &[(one.into(), 120), (one.into(), 130)]).await.unwrap();
                assert_eq!(store.kept_groups().await.unwrap()[0].returned_ns, Some(120));
                let taken_back = KeptGroup { said: GroupState::New, ..group.clone() };
                store.say_of_group(&taken_back, &act()).await.unwrap();
                assert!(store.kept_groups().await.unwrap().is_empty());
                assert_eq!(store.groups_seen_until().await.unwrap(), Some(90));
            }
        })
        .await;
    });
}

#[test]
fn error_groups_are_forgotten_beyond_the_most() {
    use crate::records::error_groups::MAX_SEEN;
    run(async {
        let store = store().await;
        let id = |n: u64| format!("{n:016x}");
        let said = KeptGroup {
            id: id(0),
            said: GroupState::Known,
            said_ns: 1,
            said_by: "mira".into(),
            release: None,
            failed_releases: Vec::new(),
            note: String::new(),
            returned_ns: None,
        };
        store.say_of_group(&said, &act()).await.unwrap();
        let seen = |n: u64| SeenGroup { id: id(n), lane: 1, first_ns: n as i64, last_ns: n as i64 };
        let all: Vec<SeenGroup> = (0..MAX_SEEN + 3).map(seen).collect();
        store.put_seen_groups(&all, &[]).await.unwrap();
        // The oldest go, but for the one of which something was said.
        let ids: Vec<String> = (0..6).map(id).collect();
        let ids: Vec<&str> = ids.iter().map(String::as_str).collect();
        let mut left: Vec<i64> = store.seen_groups(&ids).await.unwrap().iter().map(|group| group.first_ns).collect();
        left.sort_unstable();
        assert_eq!(left, [0, 4, 5]);
    });
}

#[test]
fn a_claim_is_whole_or_not_at_all() {
    run(async {
        let act = |plain: Store, through: Store| async move {
            let old = claimed(&plain, "old").await;
            plain.commit(&old, &commit(0, 2, vec![])).await.unwrap();
            let done = through.claim("n", Others::Impossible).await;
            // Either the old one goes on, or it can do nothing any more and the new one owns what it left.
            let goes_on = plain.beat(&old, 0).await.unwrap();
            let appends = plain.commit(&old, &commit(2, 1, vec![])).await;
            assert_eq!(goes_on, appends.is_ok(), "{appends:?}");
            let claim = match &done {
                Ok(claim) => claim.clone(),
                Err(_) => plain.claim("n", Others::Impossible).await.unwrap(),
            };
            assert_eq!(replayed(&plain, &claim).await.len(), if goes_on { 3 } else { 2 });
            done.map(|_| ())
        };
        at_every_statement("claim", act, |store| async move {
            let nodes = store.nodes().await.unwrap();
            assert_eq!(nodes.iter().filter(|n| n.alive).count(), 1, "{nodes:?}");
        })
        .await;
    });
}

//! Receipts in tables by day: found by every node, taken once across midnight, gone with their table.

use super::{claimed, commit, replayed, run, store};
use crate::*;
use calvex_language::model::time::DAY_NS;
use sha2::{Digest, Sha256};

/// Noon of day 20 000.
const NOON: i64 = 20_000 * DAY_NS + DAY_NS / 2;
const MIDNIGHT: i64 = 20_001 * DAY_NS;
const NOON_S: u64 = 20_000 * 86_400 + 43_200;
const SECOND: i64 = 1_000_000_000;
const MINUTE: i64 = 60 * SECOND;

fn receipt(name: u8, made_ns: i64) -> StoredReceipt {
    StoredReceipt { key_id: 7, name: [name; 32], body: Some([name + 100; 32]), answer: b"ok".to_vec(), made_ns }
}

/// Another node's way to the same database.
async fn beside(store: &Store) -> Store {
    let options = store.pool.connect_options();
    let socket = options.get_socket().unwrap().clone();
    Store::open(StoreOptions::socket(&socket, options.get_database().unwrap())).await.unwrap()
}

async fn tables(store: &Store) -> Vec<String> {
    let mut names: Vec<String> = sqlx::query_scalar(sql::RECEIPT_TABLES).fetch_all(&store.pool).await.unwrap();
    names.sort();
    names
}

#[test]
fn a_receipt_stands_with_its_events_or_not_at_all() {
    run(async {
        let store = store().await;
        let claim = claimed(&store, "n").await;
        let made = receipt(1, NOON);
        store.commit(&claim, &commit(0, 1, vec![made.clone()])).await.unwrap();
        let taken = store.commit(&claim, &commit(1, 1, vec![made])).await.unwrap();
        assert_eq!(taken, Committed::ReceiptTaken);
        assert_eq!(replayed(&store, &claim).await.len(), 1);
        let found = store.receipt(7, &[[1; 32]], i64::MIN, NOON).await.unwrap().unwrap();
        assert_eq!((found.answer.as_slice(), found.made_s), (&b"ok"[..], NOON_S));
        assert!(found.is_of(&[101; 32]) && !found.is_of(&[102; 32]));
        assert!(store.receipt(8, &[[1; 32]], i64::MIN, NOON).await.unwrap().is_none(), "a key speaks for itself only");
    });
}

#[test]
fn on_either_side_of_midnight_one_name_is_taken_once() {
    run(async {
        let store = store().await;
        let claim = claimed(&store, "n").await;
        let (before, after) = (MIDNIGHT - MINUTE, MIDNIGHT + MINUTE);
        store.commit(&claim, &commit(0, 1, vec![receipt(1, before)])).await.unwrap();
        assert_eq!(tables(&store).await, ["receipt_20000", "receipt_20001"]);
        // Neither looked the name up before: both were on their way at once.
        let other = commit(1, 1, vec![receipt(2, after), receipt(1, after)]);
        assert_eq!(store.commit(&claim, &other).await.unwrap(), Committed::ReceiptTaken);
        assert!(store.receipt(7, &[[2; 32]], i64::MIN, after).await.unwrap().is_none(), "nothing of it was written");
        // And so by a node whose clock is not yet at midnight.
        let third = commit(1, 1, vec![receipt(3, after)]);
        assert_eq!(store.commit(&claim, &third).await.unwrap(), Committed::Yes);
        let fourth = commit(2, 1, vec![receipt(3, before)]);
        assert_eq!(store.commit(&claim, &fourth).await.unwrap(), Committed::ReceiptTaken);
    });
}

#[test]
fn every_node_finds_a_receipt_until_its_table_goes() {
    run(async {
        let store = store().await;
        let claim = claimed(&store, "n").await;
        let other = beside(&store).await;
        let next_day = NOON + DAY_NS;
        // Both know the tables of a first day; the second day's is made by one of them.
        assert!(other.receipt(7, &[[1; 32]], i64::MIN, NOON).await.unwrap().is_none());
        store.commit(&claim, &commit(0, 1, vec![receipt(1, NOON)])).await.unwrap();
        store.commit(&claim, &commit(1, 1, vec![receipt(2, next_day)])).await.unwrap();
        for name in [1, 2] {
            assert!(other.receipt(7, &[[name; 32]], i64::MIN, next_day).await.unwrap().is_some(), "{name}");
        }
        let newest = other.receipt(7, &[[1; 32], [2; 32]], i64::MIN, next_day).await.unwrap().unwrap();
        assert_eq!(newest.made_s, NOON_S + 86_400);
        let newer = other.receipt(7, &[[1; 32]], NOON + SECOND, next_day).await.unwrap();
        assert!(newer.is_none(), "made before what was asked for");
        // What is older than a day goes, whole; the other node looks again for what stands.
        store.expire_receipts(20_001, 20_001).await.unwrap();
        assert_eq!(tables(&store).await, ["receipt_20001", "receipt_20002"], "today's, and tomorrow's ahead");
        assert!(other.receipt(7, &[[1; 32]], i64::MIN, next_day).await.unwrap().is_none());
        assert!(other.receipt(7, &[[2; 32]], i64::MIN, next_day).await.unwrap().is_some());
    });
}

#[test]
fn a_node_whose_clock_is_behind_makes_a_table_again() {
    run(async {
        let store = store().await;
        let claim = claimed(&store, "n").await;
        store.commit(&claim, &commit(0, 1, vec![receipt(1, NOON)])).await.unwrap();
        beside(&store).await.expire_receipts(20_005, 20_005).await.unwrap();
        assert_eq!(tables(&store).await, ["receipt_20005", "receipt_20006"]);
        assert_eq!(store.commit(&claim, &commit(1, 1, vec![receipt(2, NOON)])).await.unwrap(), Committed::Yes);
        assert!(store.receipt(7, &[[2; 32]], i64::MIN, NOON).await.unwrap().is_some());
        assert_eq!(replayed(&store, &claim).await.len(), 2, "each group once");
    });
}

/// Else each wrong clock would leave a table that every name is looked up in.
#[test]
fn what_a_clock_far_ahead_has_left_goes() {
    run(async {
        let store = store().await;
        let claim = claimed(&store, "n").await;
        for (made_no, days_ahead) in (0..).zip([0, 8, 9, 4000]) {
            let made = receipt(made_no as u8, NOON + days_ahead * DAY_NS);
            store.commit(&claim, &commit(made_no, 1, vec![made])).await.unwrap();
        }
        store.expire_receipts(20_000 - 8, 20_000).await.unwrap();
        assert_eq!(tables(&store).await, ["receipt_20000", "receipt_20001", "receipt_20008"]);
    });
}

#[test]
fn today_is_never_dropped_whatever_is_asked() {
    run(async {
        let store = store().await;
        let claim = claimed(&store, "n").await;
        store.commit(&claim, &commit(0, 1, vec![receipt(1, NOON)])).await.unwrap();
        store.expire_receipts(i32::MAX, 20_000).await.unwrap();
        assert!(store.receipt(7, &[[1; 32]], i64::MIN, NOON).await.unwrap().is_some());
    });
}

#[test]
fn receipts_from_before_there_was_a_table_a_day_answer_until_they_are_old() {
    run(async {
        let store = store().await;
        let add = "INSERT INTO receipt (key_id, idempotency, body, answer, made_ns) VALUES (7, ?, ?, 'ok', ?)";
        let add = sqlx::query(add).bind(&[1u8; 32][..]).bind(&[101u8; 32][..]).bind(NOON);
        add.execute(&store.pool).await.unwrap();
        let found = store.receipt(7, &[[1; 32]], i64::MIN, NOON + DAY_NS).await.unwrap().unwrap();
        assert!(found.is_of(&[101; 32]));
        store.expire_receipts(20_000, 20_001).await.unwrap();
        assert!(store.receipt(7, &[[1; 32]], i64::MIN, NOON + DAY_NS).await.unwrap().is_some(), "not old enough");
        store.expire_receipts(20_001, 20_001).await.unwrap();
        assert!(store.receipt(7, &[[1; 32]], i64::MIN, NOON + DAY_NS).await.unwrap().is_none());
    });
}

/// What a row holds decides when a table passes 1 MiB, from which size on its file keeps several MiB free.
#[test]
fn five_thousand_receipts_take_no_more_than_a_mib() {
    run(async {
        let store = store().await;
        let claim = claimed(&store, "n").await;
        let hash = |n: u64| <[u8; 32]>::from(Sha256::digest(n.to_le_bytes()));
        for group in 0..50 {
            let made = |n: u64| StoredReceipt {
                key_id: 7,
                name: hash(group * 100 + n),
                body: Some(hash(1_000_000 + group * 100 + n)),
                answer: b"2000".to_vec(),
                made_ns: NOON,
            };
            let receipts = (0..100).map(made).collect();
            store.commit(&claim, &commit(group, 1, receipts)).await.unwrap();
        }
        let bytes = store.table_bytes("receipt_20000").await.unwrap();
        assert!(bytes <= 1 << 20, "{bytes} bytes");
    });
}

//! The store against a real MariaDB: one server for the run, one database a test.

mod access;
mod faults;
mod looks;
mod nodes;
mod receipts;
mod ruled;
mod sharing;
mod statements;
mod striker;
mod versions;

use crate::records::Act;
use crate::*;
use calvex_language::domain::access::Actor;
use calvex_storage::chunk::ChunkMeta;
use std::sync::atomic::{AtomicU32, Ordering};
use tokio::sync::OnceCell;

struct Shared {
    _dir: tempfile::TempDir,
    socket: std::path::PathBuf,
}

static SHARED: OnceCell<Shared> = OnceCell::const_new();
static SERIAL: AtomicU32 = AtomicU32::new(0);

extern "C" fn stop_server() {
    // Ends the server of this run when the test process ends, whichever test started it.
    if let Some(shared) = SHARED.get()
        && let Ok(pid) = std::fs::read_to_string(shared._dir.path().join("mariadb/pid"))
        && let Ok(pid) = pid.trim().parse()
    {
        let _ = nix::sys::signal::kill(nix::unistd::Pid::from_raw(pid), nix::sys::signal::Signal::SIGKILL);
        let _ = std::fs::remove_dir_all(shared._dir.path());
    }
}

fn settings(dir: &std::path::Path) -> ServerSettings {
    ServerSettings { data_dir: dir.to_owned(), buffer_pool_mib: 64, redo_log_mib: 32 }
}

/// One runtime for all tests, because the server's watcher lives on the one that started it.
fn run<F: Future>(test: F) -> F::Output {
    static RUNTIME: std::sync::LazyLock<tokio::runtime::Runtime> =
        std::sync::LazyLock::new(|| tokio::runtime::Runtime::new().unwrap());
    RUNTIME.block_on(test)
}

async fn store() -> Store {
    let shared = SHARED
        .get_or_init(|| async {
            let dir = tempfile::tempdir().unwrap();
            let server = Server::start(settings(dir.path())).await.unwrap();
            let socket = server.socket().to_owned();
            std::mem::forget(server);
            at_exit(stop_server);
            Shared { _dir: dir, socket }
        })
        .await;
    let name = format!("t{}", SERIAL.fetch_add(1, Ordering::SeqCst));
    Store::open(StoreOptions::socket(&shared.socket, &name)).await.unwrap()
}

#[allow(unsafe_code)]
fn at_exit(f: extern "C" fn()) {
    // SAFETY: `f` is a plain function that touches only statics and the file system.
    unsafe {
        nix::libc::atexit(f);
    }
}

/// A lane that keeps its events for a week.
fn lane(name: &str) -> crate::records::lanes::LaneTerms<'_> {
    crate::records::lanes::LaneTerms {
        name,
        retention_days: 7,
        listed: true,
        day_events: None,
        day_bytes: None,
        owner: None,
        audited: false,
    }
}

fn act() -> Act<'static> {
    Act {
        at_ns: 0,
        by: Actor { name: "mira", token: None },
        act: "test",
        what: String::new(),
        before: None,
        chain: (0, 0),
    }
}

fn row(seq: u64) -> JournalEntry {
    JournalEntry { seq, lane: 1, day: 20_000, late: false, rows: 3, batch: vec![seq as u8; 10] }
}

fn commit(after_seq: u64, rows: u64, receipts: Vec<StoredReceipt>) -> Commit {
    Commit {
        table: JournalTable { slot: 1, no: 1 },
        after_seq,
        rows: (1..=rows).map(|n| row(after_seq + n)).collect(),
        receipts,
    }
}

/// A claim, and its first journal table.
async fn claimed(store: &Store, name: &str) -> Claim {
    let claim = store.claim(name, Others::Impossible).await.unwrap();
    store.add_journal_table(JournalTable { slot: claim.slot, no: 1 }).await.unwrap();
    claim
}

/// Beside other nodes what nothing names is listed, and goes later where nothing names it then either.
#[test]
fn what_is_listed_goes_unless_it_is_named_meanwhile() {
    run(async {
        let store = store().await;
        let claim = claimed(&store, "n").await;
        store.open_bucket(1, 100).await.unwrap();
        let ids = claim.own_ids();
        let (orphan, moved) = (claim.first_chunk, claim.first_chunk + 1);
        for chunk in [orphan, moved] {
            store.write_segments(100, chunk, 0, &[b"segment".to_vec()]).await.unwrap();
        }
        let listed = store.orphans(&ids).await.unwrap();
        assert_eq!(listed, [(100, vec![orphan, moved])].into());
        // As a chunk that is moved into the bucket: its copy is there before the catalogue names it.
        store.seal(&claim, &Seal { chunks: vec![chunk(moved, 100, 10)], covers: vec![] }).await.unwrap();
        assert_eq!(store.sweep_listed(&listed).await.unwrap(), 1);
        assert_eq!(store.read_segment(100, moved, 0).await.unwrap(), b"segment");
        assert!(store.read_segment(100, orphan, 0).await.is_err());
        assert!(store.orphans(&ids).await.unwrap().is_empty());
    });
}

/// Sweeps as a start does that is alone; how many segments.
async fn swept(store: &Store, claim: &Claim) -> u64 {
    let mut swept = 0;
    for ids in claim.ids_of_others_that_are_over(Others::Impossible) {
        swept += store.sweep_orphans(&ids).await.unwrap();
    }
    swept
}

/// Every journal row that the claim owns.
async fn replayed_batches(store: &Store, claim: &Claim) -> Vec<StoredBatch> {
    let mut seen = Vec::new();
    for table in store.journal_tables().await.unwrap() {
        let mut after = (0, 0, 0);
        loop {
            let batches = store.replay(claim, table, after).await.unwrap();
            let Some(last) = batches.last() else { break };
            after = (last.at.slot, last.at.epoch, last.at.seq);
            seen.extend(batches);
        }
    }
    seen
}

async fn replayed(store: &Store, claim: &Claim) -> Vec<JournalRowRef> {
    replayed_batches(store, claim).await.into_iter().map(|batch| batch.at).collect()
}

#[test]
fn every_statement_fits_the_schema() {
    run(async {
        let store = store().await;
        for (name, statement) in sql::ALL {
            use sqlx::Executor;
            let prepared = store.pool.prepare(sql::safe((*statement).to_owned())).await;
            assert!(prepared.is_ok(), "{name}: {}", prepared.err().unwrap());
        }
    });
}

#[test]
fn a_commit_repeated_is_written_once() {
    run(async {
        let store = store().await;
        let claim = claimed(&store, "n").await;
        let first = commit(0, 2, vec![]);
        assert_eq!(store.commit(&claim, &first).await.unwrap(), Committed::Yes);
        // As after a connection lost during COMMIT: the same call finds the earlier one.
        assert_eq!(store.commit(&claim, &first).await.unwrap(), Committed::Yes);
        assert_eq!(store.commit(&claim, &commit(2, 1, vec![])).await.unwrap(), Committed::Yes);
        assert_eq!(replayed(&store, &claim).await.iter().map(|r| r.seq).collect::<Vec<_>>(), [1, 2, 3]);
    });
}

/// In one statement, and statement by statement; what is read back is what was written.
#[test]
fn small_and_large_commits_follow_each_other() {
    run(async {
        let store = store().await;
        let claim = claimed(&store, "n").await;
        let receipt =
            |n: u8| StoredReceipt { key_id: 7, name: [n; 32], body: None, answer: vec![n, 0, b'\''], made_ns: 5 };
        let every_byte: Vec<u8> = (0..=255).collect();
        for (n, bytes) in [(0, 256), (1, 40_960), (2, 256), (3, 0)] {
            let mut group = commit(n, 1, vec![receipt(n as u8)]);
            group.rows[0].batch = every_byte.iter().copied().cycle().take(bytes).collect();
            assert_eq!(store.commit(&claim, &group).await.unwrap(), Committed::Yes);
            // A receipt that is there is found in both ways, and leaves nothing open.
            let taken =
                Commit { after_seq: n + 1, rows: vec![JournalEntry { seq: n + 2, ..group.rows[0].clone() }], ..group };
            assert_eq!(store.commit(&claim, &taken).await.unwrap(), Committed::ReceiptTaken);
        }
        let read: Vec<_> = replayed_batches(&store, &claim).await.into_iter().map(|b| (b.at.seq, b.batch)).collect();
        assert_eq!(
            read.iter().map(|(seq, batch)| (*seq, batch.len())).collect::<Vec<_>>(),
            [(1, 256), (2, 40_960), (3, 256), (4, 0)]
        );
        assert!(read.iter().all(|(_, batch)| batch.iter().zip(every_byte.iter().cycle()).all(|(a, b)| a == b)));
        let found = store.receipt(7, &[[2; 32]], i64::MIN, 5).await.unwrap().unwrap();
        assert_eq!(found.answer, [2, 0, b'\'']);
    });
}

#[test]
fn an_earlier_epoch_can_neither_append_nor_seal() {
    run(async {
        let store = store().await;
        let old = claimed(&store, "n").await;
        store.commit(&old, &commit(0, 1, vec![])).await.unwrap();
        let new = claimed(&store, "n").await;
        assert_eq!((new.slot, new.epoch), (old.slot, old.epoch + 1));
        assert!(matches!(store.commit(&old, &commit(1, 1, vec![])).await, Err(StoreError::Fenced(_))));
        let covers = replayed(&store, &new).await;
        let seal = Seal { chunks: vec![], covers };
        assert!(matches!(store.seal(&old, &seal).await, Err(StoreError::Fenced(_))));
        assert_eq!(replayed(&store, &new).await.len(), 1, "the new epoch adopts what the old one left");
        store.seal(&new, &seal).await.unwrap();
        assert!(replayed(&store, &new).await.is_empty());
    });
}

fn chunk(id: u64, bucket: i32, until: i64) -> ChunkMeta {
    ChunkMeta {
        id,
        lane: 1,
        day: 20_000,
        bucket,
        visible_until_ns: until,
        time_min: 1,
        time_max: 2,
        rows: 3,
        bytes: 4,
        segments: 1,
        late: false,
        checksum: 0,
        bloom_set: None,
    }
}

#[test]
fn sealing_takes_all_rows_or_none() {
    run(async {
        let store = store().await;
        let claim = claimed(&store, "n").await;
        store.commit(&claim, &commit(0, 3, vec![])).await.unwrap();
        let covers = replayed(&store, &claim).await;
        store.open_bucket(1, 100).await.unwrap();
        let id = claim.first_chunk + 1;
        let mut wrong = covers.clone();
        wrong.push(JournalRowRef { table: JournalTable { slot: 1, no: 1 }, slot: 1, epoch: claim.epoch, seq: 99 });
        assert!(store.seal(&claim, &Seal { chunks: vec![chunk(id, 100, 10)], covers: wrong }).await.is_err());
        assert_eq!((replayed(&store, &claim).await.len(), store.chunks().await.unwrap().len()), (3, 0));
        let seal = Seal { chunks: vec![chunk(id, 100, 10)], covers };
        store.seal(&claim, &seal).await.unwrap();
        store.seal(&claim, &seal).await.unwrap();
        assert_eq!((replayed(&store, &claim).await.len(), store.chunks().await.unwrap().len()), (0, 1));
    });
}

#[test]
fn a_bucket_is_dropped_only_when_nothing_live_names_it() {
    run(async {
        let store = store().await;
        let claim = claimed(&store, "n").await;
        store.open_bucket(1, 100).await.unwrap();
        store.open_bucket(1, 200).await.unwrap();
        let (a, b) = ((claim.first_chunk + 1), (claim.first_chunk + 2));
        for id in [a, b] {
            store.write_segments(100, id, 0, &[b"segment".to_vec()]).await.unwrap();
        }
        store.seal(&claim, &Seal { chunks: vec![chunk(a, 100, 10), chunk(b, 100, 50)], covers: vec![] }).await.unwrap();
        assert!(!store.drop_bucket(&claim, 100, 20).await.unwrap(), "b is still to be seen");
        assert_eq!(store.live_chunks(100, 20).await.unwrap(), [b]);
        store.move_chunk(&claim, b, 100, 200).await.unwrap();
        assert!(store.drop_bucket(&claim, 100, 20).await.unwrap());
        assert_eq!(store.buckets().await.unwrap(), [200]);
        assert_eq!(store.read_segment(200, b, 0).await.unwrap(), b"segment");
        assert!(store.read_segment(100, a, 0).await.is_err());
        store.close_bucket(200).await.unwrap();
        let late = Seal { chunks: vec![chunk(claim.first_chunk + 9, 200, 50)], covers: vec![] };
        assert!(store.seal(&claim, &late).await.is_err(), "a closing bucket takes no chunk");
    });
}

#[test]
fn parts_without_a_catalogue_row_are_swept_by_a_later_epoch() {
    run(async {
        let store = store().await;
        let first = claimed(&store, "n").await;
        store.open_bucket(1, 100).await.unwrap();
        let (kept, orphan) = ((first.first_chunk + 1), (first.first_chunk + 2));
        store.write_segments(100, kept, 0, &[b"kept".to_vec()]).await.unwrap();
        store.write_segments(100, orphan, 0, &[b"orphan".to_vec()]).await.unwrap();
        store.seal(&first, &Seal { chunks: vec![chunk(kept, 100, 10)], covers: vec![] }).await.unwrap();
        assert_eq!(swept(&store, &first).await, 0, "its own epoch may still be writing");
        let second = claimed(&store, "n").await;
        assert_eq!(swept(&store, &second).await, 1);
        assert!(store.read_segment(100, orphan, 0).await.is_err());
        assert_eq!(store.read_segment(100, kept, 0).await.unwrap(), b"kept");
    });
}

#[test]
fn empty_journal_tables_go() {
    run(async {
        let store = store().await;
        let claim = claimed(&store, "n").await;
        store.commit(&claim, &commit(0, 1, vec![])).await.unwrap();
        let table = |no| JournalTable { slot: claim.slot, no };
        store.add_journal_table(table(2)).await.unwrap();
        let mut second = commit(1, 1, vec![]);
        second.table = table(2);
        store.commit(&claim, &second).await.unwrap();
        assert!(!store.drop_journal_table(table(1)).await.unwrap());
        let covers: Vec<_> = replayed(&store, &claim).await.into_iter().filter(|r| r.table == table(1)).collect();
        store.seal(&claim, &Seal { chunks: vec![], covers }).await.unwrap();
        assert!(store.drop_journal_table(table(1)).await.unwrap());
        assert_eq!(store.journal_tables().await.unwrap(), [table(2)]);
        assert_eq!(replayed(&store, &claim).await.len(), 1);
    });
}

/// The sealer's own turn and an administrator's seal may drop the same tables at once.
#[test]
fn an_empty_journal_table_is_dropped_by_many_at_once() {
    run(async {
        let store = store().await;
        let claim = claimed(&store, "n").await;
        for no in 2..30 {
            let table = JournalTable { slot: claim.slot, no };
            store.add_journal_table(table).await.unwrap();
            let dropped = tokio::join!(
                store.drop_journal_table(table),
                store.drop_journal_table(table),
                store.drop_journal_table(table),
            );
            assert!(dropped.0.unwrap() && dropped.1.unwrap() && dropped.2.unwrap());
        }
    });
}

#[test]
fn a_commit_is_cut_to_what_the_database_takes_at_once() {
    run(async {
        let store = store().await;
        let claim = claimed(&store, "n").await;
        sqlx::query(sql::safe("SET GLOBAL max_allowed_packet = 1048576".into())).execute(&store.pool).await.unwrap();
        // Connections keep what they were opened with, so that the new limit holds for new ones only.
        let small = Store {
            pool: sqlx::MySqlPool::connect_with((*store.pool.connect_options()).clone()).await.unwrap(),
            ..store.clone()
        };
        small.read_limits().await;
        let mut group = commit(0, 5, vec![]);
        group.rows.iter_mut().for_each(|r| r.batch = vec![7; 700_000]);
        assert_eq!(small.commit(&claim, &group).await.unwrap(), Committed::Yes);
        assert_eq!(replayed(&store, &claim).await.len(), 5);
        let mut alone = commit(5, 1, vec![]);
        alone.rows[0].batch = vec![7; 1_100_000];
        let refused = small.commit(&claim, &alone).await.unwrap_err();
        assert!(matches!(refused, StoreError::TooLarge(..)) && !refused.is_passing(), "{refused}");
        sqlx::query(sql::safe("SET GLOBAL max_allowed_packet = 16777216".into())).execute(&store.pool).await.unwrap();
    });
}

#[test]
fn an_outside_database_is_taken_unless_it_may_lose() {
    run(async {
        let own = store().await;
        let socket = SHARED.get().unwrap().socket.display().to_string();
        let options =
            |lossy| StoreOptions::url(&format!("mysql://root@localhost/outside?socket={socket}"), lossy).unwrap();
        let outside = Store::open(options(false)).await.unwrap();
        assert_eq!(outside.lanes().await.unwrap().len(), 1);
        let set = |n: u8| sql::safe(format!("SET GLOBAL innodb_flush_log_at_trx_commit = {n}"));
        sqlx::query(set(2)).execute(&own.pool).await.unwrap();
        let refused = Store::open(options(false)).await;
        let allowed = Store::open(options(true)).await;
        sqlx::query(set(1)).execute(&own.pool).await.unwrap();
        assert!(matches!(refused, Err(StoreError::Lossy(_))) && allowed.is_ok());
        assert!(StoreOptions::url("mysql//", false).is_err());
    });
}

#[test]
fn a_private_server_comes_back_after_kill_and_takes_an_orphan_over() {
    run(async {
        let dir = tempfile::tempdir().unwrap();
        let server = Server::start(settings(dir.path())).await.unwrap();
        let store = Store::open(StoreOptions::socket(server.socket(), "calvex")).await.unwrap();
        store.put_lane(&lane("devices"), None, &act()).await.unwrap();
        let pid = || {
            std::fs::read_to_string(dir.path().join("mariadb/pid"))
                .unwrap_or_default()
                .trim()
                .parse::<i32>()
                .unwrap_or(0)
        };
        let first = pid();
        nix::sys::signal::kill(nix::unistd::Pid::from_raw(first), nix::sys::signal::Signal::SIGKILL).unwrap();
        while pid() == first || store.lanes().await.is_err() {
            tokio::time::sleep(std::time::Duration::from_millis(20)).await;
        }
        assert!(
            matches!(Server::start(settings(dir.path())).await, Err(StoreError::Server(_))),
            "the directory is locked"
        );
        store.close().await;
        let orphan = pid();
        drop(server);
        let again = Server::start(settings(dir.path())).await.unwrap();
        assert_ne!(pid(), orphan);
        let store = Store::open(StoreOptions::socket(again.socket(), "calvex")).await.unwrap();
        assert_eq!(store.lanes().await.unwrap().len(), 2);
        again.stop().await;
    });
}

#[test]
fn a_database_over_tcp_is_reached_through_the_relay() {
    run(async {
        let own = store().await;
        let options = own.pool.connect_options();
        let socket = options.get_socket().unwrap().clone();
        // The server of the tests listens on a socket alone; this is its port.
        let listener = tokio::net::TcpListener::bind("127.0.0.1:0").await.unwrap();
        let port = listener.local_addr().unwrap();
        let forwarding = tokio::spawn(async move {
            while let Ok((mut client, _)) = listener.accept().await {
                let mut server = tokio::net::UnixStream::connect(&socket).await.unwrap();
                tokio::spawn(async move { tokio::io::copy_bidirectional(&mut client, &mut server).await });
            }
        });
        let dead = tokio::net::TcpListener::bind("127.0.0.1:0").await.unwrap().local_addr().unwrap();
        let url = format!("mysql://root@{dead},{port}/{}", options.get_database().unwrap());
        let over_tcp = Store::open(StoreOptions::url(&url, false).unwrap()).await.unwrap();
        let claim = claimed(&over_tcp, "n").await;
        assert_eq!(over_tcp.commit(&claim, &commit(0, 2, vec![])).await.unwrap(), Committed::Yes);
        assert_eq!(replayed(&own, &claim).await.len(), 2);
        over_tcp.close().await;
        forwarding.abort();
    });
}

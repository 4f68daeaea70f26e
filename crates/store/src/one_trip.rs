//! Step 7: a small group's commit in one round trip. Its transaction is one compound statement:
//!
//! ```sql
//! BEGIN NOT ATOMIC
//!   UPDATE fence …;
//!   IF ROW_COUNT() <> 1 THEN SIGNAL SQLSTATE '45000'; END IF;
//!   INSERT INTO journal_1_1 …;
//!   INSERT INTO receipt_20423 …;
//!   COMMIT;
//! END
//! ```
//!
//! Bytes stand in it as hex. Where it fails, nothing is committed, and the same statements one by one show why.

use crate::claim::Claim;
use crate::journal::{self, Commit};
use crate::receipts::{self, StoredReceipt};
use crate::sql;
use sqlx::mysql::MySqlDatabaseError;
use sqlx::{Executor, MySqlConnection};
use std::collections::BTreeMap;
use std::fmt::Write;

/// Bytes of batches and answers up to which a commit is made so: hex is twice as long, and the database reads the text.
const MOST_BYTES: usize = 32 << 10;
/// Rows of journal and receipts up to which it is.
const MOST_ROWS: usize = 256;
/// `ER_SIGNAL_EXCEPTION`, `ER_DUP_ENTRY`: the fence does not stand where the commit begins, or a receipt is there.
const FAILED: [u16; 2] = [1644, 1062];

/// Commits in one trip where the commit is small, and returns whether it is committed. It is not where it is too large, where
/// the fence stood elsewhere, or where a receipt was there; no transaction is open then.
///
/// # Errors
/// Where the database fails; what the statement left open goes with the connection.
pub(crate) async fn commit(
    connection: &mut MySqlConnection,
    claim: &Claim,
    commit: &Commit,
    receipts: &BTreeMap<i32, Vec<&StoredReceipt>>,
) -> sqlx::Result<bool> {
    let Some(text) = text(claim, commit, receipts) else { return Ok(false) };
    let error = match connection.execute(sql::safe(text)).await {
        Ok(_) => return Ok(true),
        Err(error) => error,
    };
    let number = error.as_database_error().and_then(|e| e.try_downcast_ref::<MySqlDatabaseError>()).map(|e| e.number());
    if number.is_none_or(|number| !FAILED.contains(&number)) {
        return Err(error);
    }
    connection.execute(sql::ROLLBACK).await?;
    Ok(false)
}

fn text(claim: &Claim, commit: &Commit, receipts: &BTreeMap<i32, Vec<&StoredReceipt>>) -> Option<String> {
    let kept = receipts.values().flatten();
    let bytes = commit.rows.iter().map(|row| row.batch.len()).sum::<usize>();
    let bytes = bytes + kept.clone().map(|receipt| receipt.answer.len()).sum::<usize>();
    if bytes > MOST_BYTES || commit.rows.len() + kept.count() > MOST_ROWS || commit.rows.is_empty() {
        return None;
    }
    let Claim { slot, epoch, .. } = claim;
    let count = commit.rows.len() as u64;
    let fence = filled(sql::FENCE_JOURNAL, [count, u64::from(*slot), u64::from(*epoch), commit.after_seq]);
    let mut text = format!(
        "BEGIN NOT ATOMIC {fence}; IF ROW_COUNT() <> 1 THEN SIGNAL SQLSTATE '45000'; END IF; INSERT INTO {} ({}) VALUES ",
        commit.table.name(),
        journal::COLUMNS,
    );
    for (n, row) in commit.rows.iter().enumerate() {
        let comma = if n == 0 { "" } else { ", " };
        let (seq, lane, day, late, rows) = (row.seq, row.lane, row.day, u8::from(row.late), row.rows as u32);
        let _ = write!(text, "{comma}({slot}, {epoch}, {seq}, {lane}, {day}, {late}, {rows}, ");
        push_hex(&mut text, &row.batch);
        text.push(')');
    }
    for (day, receipts) in receipts {
        let _ = write!(text, "; INSERT INTO {} ({}) VALUES ", receipts::table_of(*day), receipts::COLUMNS);
        for (n, receipt) in receipts.iter().enumerate() {
            let comma = if n == 0 { "" } else { ", " };
            let [name, body, answer] = receipts::columns_of(receipt);
            let _ = write!(text, "{comma}({}, ", receipt.key_id);
            for bytes in [name, body, answer] {
                push_hex(&mut text, bytes);
                text.push_str(", ");
            }
            let _ = write!(text, "{})", receipts::seconds(receipt.made_ns));
        }
    }
    text.push_str("; COMMIT; END");
    Some(text)
}

/// A statement with numbers in its places.
fn filled<const N: usize>(statement: &str, numbers: [u64; N]) -> String {
    let mut numbers = numbers.into_iter().map(|n| n.to_string());
    statement.split_inclusive('?').map(|part| part.replace('?', &numbers.next().unwrap_or_default())).collect()
}

/// Bytes as a literal of MariaDB: `x'00ff'`.
fn push_hex(text: &mut String, bytes: &[u8]) {
    const DIGITS: [char; 16] = ['0', '1', '2', '3', '4', '5', '6', '7', '8', '9', 'a', 'b', 'c', 'd', 'e', 'f'];
    let digit = |half: u8| DIGITS.get(usize::from(half)).copied().unwrap_or('0');
    text.reserve(bytes.len() * 2 + 3);
    text.push_str("x'");
    for byte in bytes {
        text.push(digit(byte >> 4));
        text.push(digit(byte & 15));
    }
    text.push('\'');
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::journal::{JournalEntry, JournalTable};

    fn claim() -> Claim {
        Claim { name: "node".into(), slot: 3, epoch: 7, first_chunk: 1 }
    }

    fn commit_of(batches: &[&[u8]]) -> Commit {
        let row = |(n, batch): (usize, &&[u8])| JournalEntry {
            seq: 11 + n as u64,
            lane: 2,
            day: -1,
            late: n == 1,
            rows: 5,
            batch: batch.to_vec(),
        };
        let rows = batches.iter().enumerate().map(row).collect();
        Commit { table: JournalTable { slot: 3, no: 4 }, after_seq: 10, rows, receipts: Vec::new() }
    }

    #[test]
    fn the_statement_has_every_row() {
        let receipt = StoredReceipt { key_id: 9, name: [0xab; 32], body: None, answer: b"{}".to_vec(), made_ns: 1 };
        let receipts = [(0, vec![&receipt, &receipt])].into();
        let text = text(&claim(), &commit_of(&[&[0, 255], b""]), &receipts).unwrap();
        let name = "ab".repeat(16);
        let expected = format!(
            "BEGIN NOT ATOMIC UPDATE fence SET n = n + 2 WHERE slot = 3 AND purpose = 'journal' AND epoch = 7 AND n = 10; \
             IF ROW_COUNT() <> 1 THEN SIGNAL SQLSTATE '45000'; END IF; \
             INSERT INTO journal_3_4 (node, epoch, seq, lane_id, day, late, row_count, batch) VALUES \
             (3, 7, 11, 2, -1, 0, 5, x'00ff'), (3, 7, 12, 2, -1, 1, 5, x''); \
             INSERT INTO receipt_0 (key_id, name, body, answer, made_s) VALUES \
             (9, x'{name}', x'', x'7b7d', 0), (9, x'{name}', x'', x'7b7d', 0); COMMIT; END"
        );
        assert_eq!(text, expected);
    }

    #[test]
    fn a_large_commit_goes_statement_by_statement() {
        let large = vec![0; MOST_BYTES + 1];
        assert!(text(&claim(), &commit_of(&[&large]), &BTreeMap::new()).is_none());
        let many = vec![&b""[..]; MOST_ROWS + 1];
        assert!(text(&claim(), &commit_of(&many), &BTreeMap::new()).is_none());
    }
}

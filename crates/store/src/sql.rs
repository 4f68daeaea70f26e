//! The statements that are shared or have a table name filled in. Each fixed one is prepared against the real schema
//! by a test (`tests::every_statement_fits_the_schema`).

use sqlx::{AssertSqlSafe, SqlSafeStr, SqlStr};

/// Marks a statement whose only filled-in parts are numbers or checked names.
pub(crate) fn safe(statement: String) -> SqlStr {
    AssertSqlSafe(statement).into_sql_str()
}

macro_rules! statements {
    ($($name:ident = $text:expr;)*) => {
        $(pub(crate) const $name: &str = $text;)*
        #[cfg(test)]
        pub(crate) const ALL: &[(&str, &str)] = &[$((stringify!($name), $text)),*];
    };
}

statements! {
    TABLE_BYTES = "SELECT CAST(SUM(FILE_SIZE) AS UNSIGNED) FROM information_schema.INNODB_SYS_TABLESPACES WHERE NAME LIKE CONCAT(DATABASE(), '/', ?)";
    READ_ONLY = "SELECT CAST(@@global.read_only AS SIGNED) <> 0";
    CLUSTER_STATUS = "SELECT VARIABLE_NAME, VARIABLE_VALUE FROM information_schema.GLOBAL_STATUS WHERE VARIABLE_NAME IN ('wsrep_ready', 'wsrep_cluster_status')";
    MAX_PACKET = "SELECT CAST(@@max_allowed_packet AS UNSIGNED)";
    NAME_WEIGHT = "SELECT HEX(WEIGHT_STRING(TRIM(TRAILING ' ' FROM CONVERT(? USING utf8mb4)) COLLATE utf8mb4_general_ci))";
    AUDIT_ADD = "INSERT INTO audit (at_ns, who, token, act, what) VALUES (?, ?, ?, ?, ?)";
    NODE_ALL = "SELECT slot, name, epoch, beat, alive, version FROM node ORDER BY slot";
    NODE_ALL_LOCKED = "SELECT slot, name, epoch, beat, alive, version FROM node ORDER BY slot FOR UPDATE";
    NODE_PUT = "INSERT INTO node (slot, name, epoch, alive, version) VALUES (?, ?, ?, TRUE, ?) ON DUPLICATE KEY UPDATE name = VALUES(name), epoch = VALUES(epoch), alive = TRUE, version = VALUES(version), beat = beat + 1";
    NODE_END = "UPDATE node SET epoch = ?, alive = FALSE WHERE slot = ?";
    NODE_BEAT = "UPDATE node SET beat = beat + 1 WHERE slot = ? AND epoch = ?";
    NODE_LEAVE = "UPDATE node SET alive = FALSE WHERE slot = ? AND epoch = ?";
    NODE_RETIRE = "UPDATE node SET name = NULL WHERE name = ? AND alive = FALSE";
    FENCE_PUT = "INSERT INTO fence (slot, purpose, epoch, n) VALUES (?, ?, ?, 0) ON DUPLICATE KEY UPDATE epoch = VALUES(epoch), n = 0";
    FENCE_JOURNAL = "UPDATE fence SET n = n + ? WHERE slot = ? AND purpose = 'journal' AND epoch = ? AND n = ?";
    FENCE_WORK = "UPDATE fence SET n = LAST_INSERT_ID(n + 1) WHERE slot = ? AND purpose = 'work' AND epoch = ?";
    JOURNAL_SEQ = "SELECT n FROM fence WHERE slot = ? AND purpose = 'journal' AND epoch = ? FOR UPDATE";
    OWNER_ADD = "INSERT IGNORE INTO journal_owner (slot, epoch, owner_slot, owner_epoch) VALUES (?, ?, ?, ?)";
    OWNER_ADOPT = "UPDATE journal_owner SET owner_slot = ?, owner_epoch = ?";
    OWNER_USE = "UPDATE journal_owner SET uses = uses + 1 WHERE slot = ? AND epoch = ? AND owner_slot = ? AND owner_epoch = ?";
    OWNER_FORGET = "DELETE FROM journal_owner WHERE slot = ? AND epoch = ? AND owner_slot = ? AND owner_epoch = ?";
    OWNER_ALL = "SELECT slot, epoch FROM journal_owner WHERE owner_slot = ? AND owner_epoch = ?";
    CHANGE_ADD = "INSERT INTO catalogue_change (slot, epoch, n, added, removed, sealed) VALUES (?, ?, ?, ?, ?, ?)";
    CHANGE_FORGET = "DELETE FROM catalogue_change WHERE slot = ? AND (epoch < ? OR n < ?) LIMIT 1000";
    ORIGIN_ADD = "INSERT INTO chunk_origin (chunk, slot, epoch, seq_min, seq_max) VALUES (?, ?, ?, ?, ?)";
    CHUNK_LAST = "SELECT MAX(id) FROM chunk WHERE id BETWEEN ? AND ?";
    BLOOM_SET_LAST = "SELECT MAX(id) FROM rollup WHERE id BETWEEN ? AND ?";
    TABLE_EXISTS = "SELECT COUNT(*) FROM information_schema.TABLES WHERE TABLE_SCHEMA = DATABASE() AND TABLE_NAME = ?";
    INSTALLATION_ADD = "INSERT IGNORE INTO installation (one, id) VALUES (1, ?)";
    INSTALLATION = "SELECT id FROM installation";
    JOURNAL_TABLES = "SELECT slot, no FROM journal_table ORDER BY slot, no";
    JOURNAL_TABLE_ADD = "INSERT IGNORE INTO journal_table (slot, no) VALUES (?, ?)";
    JOURNAL_TABLE_REMOVE = "DELETE FROM journal_table WHERE slot = ? AND no = ?";
    RECEIPT_ADD = "INSERT INTO receipt (key_id, idempotency, body, answer, made_ns) VALUES (?, ?, ?, ?, ?)";
    RECEIPT_FIND = "SELECT body, answer, made_ns FROM receipt WHERE key_id = ? AND idempotency = ?";
    RECEIPT_OF_BODY = "SELECT body, answer, made_ns FROM receipt WHERE key_id = ? AND body = ? AND made_ns >= ? ORDER BY made_ns DESC LIMIT 1";
    RECEIPT_EXPIRE = "DELETE FROM receipt WHERE made_ns < ? LIMIT 10000";
    BUCKET_ADD = "INSERT IGNORE INTO bucket (day) VALUES (?)";
    BUCKET_USE = "UPDATE bucket SET uses = uses + 1 WHERE day = ? AND closing = FALSE";
    BUCKET_CLOSE = "UPDATE bucket SET closing = TRUE WHERE day = ?";
    BUCKET_REOPEN = "UPDATE bucket SET closing = FALSE WHERE day = ?";
    BUCKET_DUE = "SELECT day FROM bucket WHERE day <= ? ORDER BY day";
    BUCKET_ALL = "SELECT day FROM bucket ORDER BY day";
    BUCKET_LIVE = "SELECT id FROM chunk WHERE bucket = ? AND visible_until_ns > ?";
    BUCKET_NAMED = "SELECT COUNT(*) FROM chunk WHERE bucket = ?";
    BUCKET_CLEAR = "DELETE FROM chunk WHERE bucket = ? AND visible_until_ns <= ?";
    BUCKET_REMOVE = "DELETE FROM bucket WHERE day = ?";
    CHUNK_ADD = "INSERT INTO chunk (id, lane_id, day, bucket, visible_until_ns, time_min, time_max, row_count, byte_count, part_count, version, late, checksum) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)";
    CHUNK_REMOVE_TERM = "SELECT COUNT(*) FROM chunk WHERE id = ? AND visible_until_ns = ? FOR UPDATE";
    CHUNK_REMOVE = "DELETE FROM chunk WHERE id = ?";
    CHUNK_EXISTS = "SELECT COUNT(*) FROM chunk WHERE id = ?";
    CHUNK_IS = "SELECT COUNT(*) FROM chunk WHERE id = ? AND row_count = ? AND byte_count = ? AND time_min = ? AND time_max = ? AND checksum = ?";
    CHUNK_MOVE = "UPDATE chunk SET bucket = ? WHERE id = ? AND bucket = ?";
    CHUNK_ALL = "SELECT c.id, c.lane_id, c.day, c.bucket, c.visible_until_ns, c.time_min, c.time_max, c.row_count, c.byte_count, c.part_count, c.late, r.id, p.place, r.bucket, c.checksum, r.checksum FROM chunk c LEFT JOIN rollup_chunk p ON p.chunk = c.id LEFT JOIN rollup r ON r.id = p.rollup_id";
    CHUNK_IN_BUCKET = "SELECT COUNT(*) FROM chunk WHERE id = ? AND bucket = ? FOR UPDATE";
    BLOOM_SET_EXISTS = "SELECT COUNT(*) FROM rollup WHERE id = ?";
    BLOOM_SET_ADD = "INSERT INTO rollup (id, lane_id, bucket, part_count, checksum) VALUES (?, ?, ?, ?, ?)";
    BLOOM_SET_CHUNK_ADD = "INSERT INTO rollup_chunk (chunk, rollup_id, place) VALUES (?, ?, ?)";
    BLOOM_SET_REMOVE = "DELETE FROM rollup WHERE bucket = ?";
    CHUNK_RETERM = "UPDATE chunk SET visible_until_ns = (day + 1 + ?) * 86400000000000 WHERE lane_id = ?";
    REFUSALS = "SELECT hour, sender, reason, refused, first_ns, last_ns, sample FROM refusal WHERE hour >= ? ORDER BY hour DESC LIMIT ?";
    ASIDES = "SELECT hour, sender, service, host, lane_id, cause, events, bytes, first_ns, last_ns FROM aside WHERE hour >= ? AND (? IS NULL OR service = ?) ORDER BY hour DESC LIMIT ?";
    DUTY = "SELECT n FROM duty WHERE name = ?";
    DUTY_PUT = "INSERT INTO duty (name, n) VALUES (?, ?) ON DUPLICATE KEY UPDATE n = VALUES(n)";
    NOW = "SELECT CAST(UNIX_TIMESTAMP(SYSDATE(6)) * 1000000 AS SIGNED)";
    ASIDE_EXPIRE = "DELETE FROM aside WHERE hour < ?";
    ARRIVED_SINCE = "SELECT sender, lane_id, CAST(SUM(stored) AS UNSIGNED), CAST(SUM(bytes) AS UNSIGNED) FROM arrival WHERE hour >= ? GROUP BY sender, lane_id";
    ARRIVAL_EXPIRE = "DELETE FROM arrival WHERE hour < ?";
    REFUSAL_EXPIRE = "DELETE FROM refusal WHERE hour < ?";
    LANE_ALL = "SELECT id, name, retention_days, listed, is_default, day_events, day_bytes FROM lane ORDER BY id";
}

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
    RULE_ADD = "INSERT INTO rule (name, query, window_s, above, hold_s, delay_s, late_s, webhook, webhook_secret, mail, owner_id, since_ns, note) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, '')";
    RULE_ALL = "SELECT r.id, r.name, r.query, r.window_s, r.above, r.hold_s, r.delay_s, r.late_s, r.webhook, r.webhook_secret, r.mail, r.owner_id, u.name, u.role, r.state, r.since_ns, r.judged_ns, r.count, r.note FROM rule r JOIN user u ON u.id = r.owner_id ORDER BY r.name";
    RULE_REMOVE = "DELETE FROM rule WHERE id = ?";
    ALERTS_OF_RULE = "SELECT id, rule_id, raised_ns, ended_ns, peak, late, taken_by FROM alert WHERE rule_id = ? AND (ended_ns IS NULL OR ended_ns >= ?) ORDER BY raised_ns";
    ALERTS_LATEST = "SELECT id, rule_id, raised_ns, ended_ns, peak, late, taken_by FROM alert ORDER BY raised_ns DESC, id DESC LIMIT ?";
    ALERT_TAKE = "UPDATE alert SET taken_by = ? WHERE id = ?";
    RULE_JUDGED = "SELECT judged_ns FROM rule WHERE id = ? FOR UPDATE";
    RULE_JUDGE = "UPDATE rule SET state = ?, since_ns = ?, judged_ns = ?, count = ?, note = ? WHERE id = ?";
    ALERT_ADD = "INSERT INTO alert (rule_id, raised_ns, ended_ns, peak, late) VALUES (?, ?, ?, ?, ?)";
    ALERT_UPDATE = "UPDATE alert SET raised_ns = ?, ended_ns = ?, peak = ? WHERE id = ?";
    OUTBOX_ADD = "INSERT INTO outbox (alert_id, kind, what, target, secret, payload, next_ns, error) VALUES (?, ?, ?, ?, ?, ?, ?, '')";
    OUTBOX_DUE = "SELECT id, alert_id, kind, what, target, secret, payload, tries, done_ns, error FROM outbox WHERE done_ns IS NULL AND next_ns <= ? ORDER BY id LIMIT 100";
    OUTBOX_OF_ALERT = "SELECT id, alert_id, kind, what, target, secret, payload, tries, done_ns, error FROM outbox WHERE alert_id = ? ORDER BY id";
    OUTBOX_DONE = "UPDATE outbox SET done_ns = ?, tries = tries + 1, error = '' WHERE id = ?";
    OUTBOX_RETRY = "UPDATE outbox SET tries = tries + 1, error = ?, next_ns = ? WHERE id = ?";
    KEY_ADD = "INSERT INTO sender_key (name, fixed, created_ns) VALUES (?, ?, ?)";
    KEY_SECRETS_END = "UPDATE key_secret SET ends_ns = LEAST(COALESCE(ends_ns, ?), ?) WHERE key_id = ?";
    KEY_REMOVE = "DELETE FROM sender_key WHERE name = ?";
    KEY_REVOKED = "SELECT revoked_ns FROM sender_key WHERE name = ? AND revoked_ns IS NOT NULL";
    KEY_SERVICES = "SELECT service FROM key_service WHERE key_id = ? ORDER BY service";
    KEY_LANES = "SELECT lane_id FROM key_lane WHERE key_id = ? ORDER BY lane_id";
    KEY_SECRETS = "SELECT prefix, created_ns, ends_ns FROM key_secret WHERE key_id = ? ORDER BY created_ns DESC";
    KEY_LAST = "UPDATE sender_key SET last_ns = GREATEST(COALESCE(last_ns, 0), ?) WHERE name = ?";
    KEY_IN_USE = "SELECT id FROM sender_key WHERE name = ? AND revoked_ns IS NULL FOR UPDATE";
    KEY_SECRET_ADD = "INSERT INTO key_secret (hash, key_id, prefix, created_ns) VALUES (?, ?, ?, ?)";
    KEY_LIMITS = "UPDATE sender_key SET rate = ?, day_events = ?, day_bytes = ?, ends_ns = ? WHERE id = ?";
    KEY_SERVICES_CLEAR = "DELETE FROM key_service WHERE key_id = ?";
    KEY_LANES_CLEAR = "DELETE FROM key_lane WHERE key_id = ?";
    KEY_SERVICE_ADD = "INSERT IGNORE INTO key_service (key_id, service) VALUES (?, ?)";
    KEY_LANE_ADD = "INSERT IGNORE INTO key_lane (key_id, lane_id) VALUES (?, ?)";
    USER_COUNT = "SELECT COUNT(*) FROM user";
    USER_ADD = "INSERT INTO user (name, password_hash, role, created_ns) VALUES (?, ?, ?, ?)";
    USER_LANE_ADD = "INSERT INTO user_lane (user_id, lane_id) VALUES (?, ?)";
    USER_BY_NAME = "SELECT id, name, password_hash, role FROM user WHERE name = ?";
    SESSION_ADD = "INSERT INTO session (hash, user_id, expires_ns) VALUES (?, ?, ?)";
    SESSION_END = "DELETE FROM session WHERE hash = ?";
    SESSION_EXPIRE = "DELETE FROM session WHERE expires_ns < ?";
    SESSION_USER = "SELECT u.id, u.name, u.role FROM session s JOIN user u ON u.id = s.user_id WHERE s.hash = ? AND s.expires_ns > ?";
    TOKEN_USER = "SELECT u.id, u.name, u.role, t.id, t.all_lanes, t.name, t.purpose FROM token t JOIN user u ON u.id = t.user_id WHERE t.hash = ? AND t.revoked_ns IS NULL";
    TOKEN_LANES = "SELECT lane_id FROM token_lane WHERE token_id = ?";
    USER_LANES = "SELECT lane_id FROM user_lane WHERE user_id = ?";
    TOKEN_ADD = "INSERT INTO token (name, hash, prefix, user_id, all_lanes, purpose, created_ns) VALUES (?, ?, ?, ?, ?, ?, ?)";
    TOKEN_LANE_ADD = "INSERT INTO token_lane (token_id, lane_id) VALUES (?, ?)";
    TOKEN_ALL = "SELECT name, prefix, purpose, created_ns, revoked_ns FROM token ORDER BY name";
    LANE_PUT = "INSERT INTO lane (name, retention_days, listed, day_events, day_bytes) VALUES (?, ?, ?, ?, ?) ON DUPLICATE KEY UPDATE retention_days = VALUES(retention_days), listed = VALUES(listed), day_events = VALUES(day_events), day_bytes = VALUES(day_bytes)";
    LANE_ID = "SELECT id FROM lane WHERE name = ?";
    ROUTE_ALL = "SELECT filter, lane_id FROM route ORDER BY place";
    ROUTE_CLEAR = "DELETE FROM route";
    ROUTE_ADD = "INSERT INTO route (place, filter, lane_id) VALUES (?, ?, ?)";
    TRANSFORM_ALL = "SELECT id, name, filter, act, held, last_ns, changed_ns FROM transform_rule ORDER BY place, id";
    TRANSFORM_NAMES = "SELECT name FROM transform_rule FOR UPDATE";
    TRANSFORM_REMOVE = "DELETE FROM transform_rule WHERE name = ?";
    TRANSFORM_PUT = "INSERT INTO transform_rule (place, name, filter, act, changed_ns) VALUES (?, ?, ?, ?, ?) ON DUPLICATE KEY UPDATE place = VALUES(place), changed_ns = IF(filter = VALUES(filter) AND act = VALUES(act), changed_ns, VALUES(changed_ns)), filter = VALUES(filter), act = VALUES(act)";
    TRANSFORM_HELD = "UPDATE transform_rule SET held = held + ?, last_ns = GREATEST(COALESCE(last_ns, 0), ?) WHERE name = ?";
    DIAL_ALL = "SELECT id, filter, least, until_ns, why, who, set_ns FROM dial ORDER BY id DESC";
    DIAL_ADD = "INSERT INTO dial (filter, least, until_ns, why, who, set_ns) VALUES (?, ?, ?, ?, ?, ?)";
    DIAL_REMOVE = "DELETE FROM dial WHERE id = ?";
    DIAL_EXPIRE = "DELETE FROM dial WHERE until_ns < ?";
    TIE_ALL = "SELECT name, spelling FROM tie LEFT JOIN tie_spelling ON tie = name ORDER BY name, spelling";
    TIE_ADD = "INSERT IGNORE INTO tie (name) VALUES (?)";
    TIE_SPELLINGS_CLEAR = "DELETE FROM tie_spelling WHERE tie = ?";
    TIE_SPELLING_ADD = "INSERT IGNORE INTO tie_spelling (tie, spelling) VALUES (?, ?)";
    TIE_REMOVE = "DELETE FROM tie WHERE name = ?";
    OWN_SECRET_ADD = "INSERT IGNORE INTO own_secret (name, value) VALUES (?, ?)";
    OWN_SECRET = "SELECT value FROM own_secret WHERE name = ?";
    ERROR_GROUP_ALL = "SELECT id, said, said_ns, said_by, in_release, failed_releases, note, returned_ns FROM error_group";
    ERROR_GROUP_PUT = "INSERT INTO error_group (id, said, said_ns, said_by, in_release, failed_releases, note) VALUES (?, ?, ?, ?, ?, ?, ?) ON DUPLICATE KEY UPDATE said = VALUES(said), said_ns = VALUES(said_ns), said_by = VALUES(said_by), in_release = VALUES(in_release), failed_releases = VALUES(failed_releases), note = VALUES(note), returned_ns = NULL";
    ERROR_GROUP_REMOVE = "DELETE FROM error_group WHERE id = ?";
    ERROR_GROUP_RETURNED = "UPDATE error_group SET returned_ns = ? WHERE id = ? AND said = 'resolved' AND returned_ns IS NULL AND said_ns < ?";
    ERROR_GROUP_SEEN_OF = "SELECT id, lane_id, first_ns, last_ns FROM error_group_seen WHERE FIND_IN_SET(id, ?)";
    ERROR_GROUP_SEEN_LAST = "SELECT MAX(last_ns) FROM error_group_seen";
    ERROR_GROUP_SEEN_PUT = "INSERT INTO error_group_seen (id, lane_id, first_ns, last_ns) VALUES (?, ?, ?, ?) ON DUPLICATE KEY UPDATE first_ns = LEAST(first_ns, VALUES(first_ns)), last_ns = GREATEST(last_ns, VALUES(last_ns))";
    ERROR_GROUP_SEEN_COUNT = "SELECT CAST(COUNT(*) AS UNSIGNED) FROM error_group_seen";
    ERROR_GROUP_SEEN_FORGET = "DELETE FROM error_group_seen WHERE id NOT IN (SELECT id FROM error_group) ORDER BY last_ns LIMIT ?";
    SAVED_ALL = "SELECT s.name, s.owner_id, u.name, s.query, s.from_text, s.to_text, s.columns_text, s.note, s.changed_ns FROM saved_search s JOIN user u ON u.id = s.owner_id ORDER BY s.name";
    SAVED_OWNER = "SELECT owner_id FROM saved_search WHERE name = ? FOR UPDATE";
    SAVED_PUT = "INSERT INTO saved_search (name, owner_id, query, from_text, to_text, columns_text, note, changed_ns) VALUES (?, ?, ?, ?, ?, ?, ?, ?) ON DUPLICATE KEY UPDATE query = VALUES(query), from_text = VALUES(from_text), to_text = VALUES(to_text), columns_text = VALUES(columns_text), note = VALUES(note), changed_ns = VALUES(changed_ns)";
    SAVED_REMOVE = "DELETE FROM saved_search WHERE name = ? AND (? IS NULL OR owner_id = ?)";
    FLUSH_LOG = "SELECT CAST(@@innodb_flush_log_at_trx_commit AS SIGNED)";
    KEY_BY_SECRET = "SELECT k.id, k.name, k.fixed, k.rate, k.day_events, k.day_bytes, k.ends_ns, s.ends_ns FROM key_secret s JOIN sender_key k ON k.id = s.key_id WHERE s.hash = ? AND k.revoked_ns IS NULL";
    KEY_BY_NAME = "SELECT k.id, k.name, k.fixed, k.rate, k.day_events, k.day_bytes, k.ends_ns FROM sender_key k WHERE k.name = ? AND k.revoked_ns IS NULL";
    KEY_ALL = "SELECT k.id, k.name, k.fixed, k.rate, k.day_events, k.day_bytes, k.ends_ns, k.created_ns, k.revoked_ns, k.last_ns FROM sender_key k ORDER BY k.name";
    KEY_REVOKE = "UPDATE sender_key SET revoked_ns = ? WHERE name = ? AND revoked_ns IS NULL";
    TOKEN_REVOKE = "UPDATE token SET revoked_ns = ? WHERE name = ? AND revoked_ns IS NULL";
}

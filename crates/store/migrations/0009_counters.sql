-- Counters are kept by the claim that counts, as totals that are written over: a write tried again counts nothing twice.
-- Names are told apart as they were sent, whatever their case or blanks.
ALTER TABLE arrival
    ADD COLUMN slot SMALLINT UNSIGNED NOT NULL DEFAULT 0,
    ADD COLUMN epoch INT UNSIGNED NOT NULL DEFAULT 0,
    MODIFY sender VARCHAR(64) CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin NOT NULL,
    MODIFY service VARCHAR(128) CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin NOT NULL,
    MODIFY host VARCHAR(128) CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin NOT NULL,
    DROP PRIMARY KEY,
    ADD PRIMARY KEY (hour, sender, service, host, lane_id, slot, epoch);
ALTER TABLE refusal
    ADD COLUMN slot SMALLINT UNSIGNED NOT NULL DEFAULT 0,
    ADD COLUMN epoch INT UNSIGNED NOT NULL DEFAULT 0,
    MODIFY sender VARCHAR(64) CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin NOT NULL,
    DROP PRIMARY KEY,
    ADD PRIMARY KEY (hour, sender, reason, slot, epoch);
ALTER TABLE aside
    ADD COLUMN slot SMALLINT UNSIGNED NOT NULL DEFAULT 0,
    ADD COLUMN epoch INT UNSIGNED NOT NULL DEFAULT 0,
    MODIFY sender VARCHAR(64) CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin NOT NULL,
    MODIFY service VARCHAR(128) CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin NOT NULL,
    MODIFY host VARCHAR(128) CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin NOT NULL,
    MODIFY cause VARCHAR(96) CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin NOT NULL,
    DROP PRIMARY KEY,
    ADD PRIMARY KEY (hour, sender, service, host, lane_id, cause, slot, epoch);

-- What a duty remembers between its turns.
CREATE TABLE duty (
    name VARCHAR(32) NOT NULL PRIMARY KEY,
    n BIGINT NOT NULL
) ENGINE=InnoDB;

-- A key's secret is a record of its own, so that one can take the place of another while both still work.
CREATE TABLE key_secret (
    hash BINARY(32) NOT NULL PRIMARY KEY,
    key_id INT UNSIGNED NOT NULL,
    prefix VARCHAR(32) NOT NULL,
    created_ns BIGINT NOT NULL,
    ends_ns BIGINT NULL COMMENT 'no longer good from then on',
    FOREIGN KEY (key_id) REFERENCES sender_key (id) ON DELETE CASCADE
) ENGINE=InnoDB;
INSERT INTO key_secret (hash, key_id, prefix, created_ns) SELECT hash, id, prefix, created_ns FROM sender_key;
ALTER TABLE sender_key
    DROP COLUMN hash,
    DROP COLUMN prefix,
    ADD COLUMN ends_ns BIGINT NULL COMMENT 'no longer good from then on',
    ADD COLUMN rate INT UNSIGNED NULL COMMENT 'events a second',
    ADD COLUMN day_events BIGINT UNSIGNED NULL COMMENT 'daily quota',
    ADD COLUMN day_bytes BIGINT UNSIGNED NULL COMMENT 'daily quota',
    ADD COLUMN last_ns BIGINT NULL COMMENT 'when it was last used';

-- What a key may send for and to; anything where it has none.
CREATE TABLE key_service (
    key_id INT UNSIGNED NOT NULL,
    service VARCHAR(128) NOT NULL,
    PRIMARY KEY (key_id, service),
    FOREIGN KEY (key_id) REFERENCES sender_key (id) ON DELETE CASCADE
) ENGINE=InnoDB;
CREATE TABLE key_lane (
    key_id INT UNSIGNED NOT NULL,
    lane_id INT UNSIGNED NOT NULL,
    PRIMARY KEY (key_id, lane_id),
    FOREIGN KEY (key_id) REFERENCES sender_key (id) ON DELETE CASCADE,
    FOREIGN KEY (lane_id) REFERENCES lane (id) ON DELETE CASCADE
) ENGINE=InnoDB;

ALTER TABLE lane
    ADD COLUMN day_events BIGINT UNSIGNED NULL COMMENT 'daily quota',
    ADD COLUMN day_bytes BIGINT UNSIGNED NULL COMMENT 'daily quota';

CREATE TABLE shaping_rule (
    id INT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
    place INT UNSIGNED NOT NULL COMMENT 'rules are applied in this order',
    name VARCHAR(64) NOT NULL UNIQUE,
    filter TEXT NOT NULL,
    act TEXT NOT NULL COMMENT 'JSON',
    held BIGINT UNSIGNED NOT NULL DEFAULT 0 COMMENT 'events it was applied to',
    last_ns BIGINT NULL COMMENT 'when it was last applied',
    changed_ns BIGINT NOT NULL
) ENGINE=InnoDB;

CREATE TABLE dial (
    id INT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
    filter TEXT NOT NULL,
    least TINYINT UNSIGNED NOT NULL,
    until_ns BIGINT NULL,
    why VARCHAR(256) NOT NULL,
    who VARCHAR(64) NOT NULL,
    set_ns BIGINT NOT NULL
) ENGINE=InnoDB;

CREATE TABLE tie (
    name VARCHAR(64) NOT NULL PRIMARY KEY
) ENGINE=InnoDB;
CREATE TABLE tie_spelling (
    tie VARCHAR(64) NOT NULL,
    spelling VARCHAR(256) NOT NULL,
    PRIMARY KEY (tie, spelling),
    FOREIGN KEY (tie) REFERENCES tie (name) ON DELETE CASCADE
) ENGINE=InnoDB;
INSERT INTO tie (name) VALUES ('trace'), ('request');
INSERT INTO tie_spelling (tie, spelling) VALUES ('request', 'request_id'), ('request', 'req_id');

-- What was not stored on purpose, an hour a row.
CREATE TABLE aside (
    hour INT UNSIGNED NOT NULL COMMENT 'from 1970',
    sender VARCHAR(64) NOT NULL,
    service VARCHAR(128) NOT NULL,
    host VARCHAR(128) NOT NULL,
    lane_id INT UNSIGNED NOT NULL COMMENT 'where it would have gone',
    cause VARCHAR(96) NOT NULL COMMENT 'which rule, dial or quota',
    events BIGINT UNSIGNED NOT NULL,
    bytes BIGINT UNSIGNED NOT NULL,
    first_ns BIGINT NOT NULL,
    last_ns BIGINT NOT NULL,
    PRIMARY KEY (hour, sender, service, host, lane_id, cause)
) ENGINE=InnoDB;

-- Secrets of this installation that never leave it.
CREATE TABLE own_secret (
    name VARCHAR(32) NOT NULL PRIMARY KEY,
    value BINARY(32) NOT NULL
) ENGINE=InnoDB;

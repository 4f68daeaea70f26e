-- Nodes and their fences: every write of a node begins by moving one of its counters.
CREATE TABLE node (
    id SMALLINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
    name VARCHAR(64) NOT NULL UNIQUE,
    epoch INT UNSIGNED NOT NULL DEFAULT 0,
    seq BIGINT UNSIGNED NOT NULL DEFAULT 0 COMMENT 'last journal row of this epoch, without gaps',
    work BIGINT UNSIGNED NOT NULL DEFAULT 0 COMMENT 'moved by seals and duties'
) ENGINE=InnoDB;

CREATE TABLE lane (
    id INT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
    name VARCHAR(64) NOT NULL UNIQUE,
    retention_days INT UNSIGNED NOT NULL,
    told BOOLEAN NOT NULL DEFAULT TRUE COMMENT 'may its existence be told to those who cannot read it',
    is_default BOOLEAN NOT NULL DEFAULT FALSE
) ENGINE=InnoDB;
INSERT INTO lane (name, retention_days, is_default) VALUES ('main', 30, TRUE);

CREATE TABLE route (
    place INT UNSIGNED NOT NULL PRIMARY KEY,
    filter TEXT NOT NULL,
    lane_id INT UNSIGNED NOT NULL,
    FOREIGN KEY (lane_id) REFERENCES lane (id)
) ENGINE=InnoDB;

CREATE TABLE user (
    id INT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
    name VARCHAR(64) NOT NULL UNIQUE,
    password_hash VARCHAR(255) NOT NULL,
    role VARCHAR(16) NOT NULL COMMENT 'admin reads every lane; a reader those granted',
    created_ns BIGINT NOT NULL
) ENGINE=InnoDB;

CREATE TABLE user_lane (
    user_id INT UNSIGNED NOT NULL,
    lane_id INT UNSIGNED NOT NULL,
    PRIMARY KEY (user_id, lane_id),
    FOREIGN KEY (user_id) REFERENCES user (id) ON DELETE CASCADE,
    FOREIGN KEY (lane_id) REFERENCES lane (id) ON DELETE CASCADE
) ENGINE=InnoDB;

CREATE TABLE session (
    hash BINARY(32) NOT NULL PRIMARY KEY,
    user_id INT UNSIGNED NOT NULL,
    expires_ns BIGINT NOT NULL,
    FOREIGN KEY (user_id) REFERENCES user (id) ON DELETE CASCADE
) ENGINE=InnoDB;

CREATE TABLE token (
    id INT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
    name VARCHAR(64) NOT NULL UNIQUE,
    hash BINARY(32) NOT NULL UNIQUE,
    prefix VARCHAR(32) NOT NULL,
    user_id INT UNSIGNED NOT NULL,
    all_lanes BOOLEAN NOT NULL COMMENT 'all that its owner may read',
    created_ns BIGINT NOT NULL,
    revoked_ns BIGINT NULL,
    FOREIGN KEY (user_id) REFERENCES user (id) ON DELETE CASCADE
) ENGINE=InnoDB;

CREATE TABLE token_lane (
    token_id INT UNSIGNED NOT NULL,
    lane_id INT UNSIGNED NOT NULL,
    PRIMARY KEY (token_id, lane_id),
    FOREIGN KEY (token_id) REFERENCES token (id) ON DELETE CASCADE,
    FOREIGN KEY (lane_id) REFERENCES lane (id) ON DELETE CASCADE
) ENGINE=InnoDB;

CREATE TABLE sender_key (
    id INT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
    name VARCHAR(64) NOT NULL UNIQUE,
    hash BINARY(32) NOT NULL UNIQUE,
    prefix VARCHAR(32) NOT NULL,
    fixed TEXT NOT NULL COMMENT 'a JSON object of the fields it stamps',
    created_ns BIGINT NOT NULL,
    revoked_ns BIGINT NULL
) ENGINE=InnoDB;

-- The journal rotates: rows go to the newest table; an older one is dropped once it is empty.
CREATE TABLE journal_table (
    no INT UNSIGNED NOT NULL PRIMARY KEY
) ENGINE=InnoDB;

CREATE TABLE receipt (
    key_id INT UNSIGNED NOT NULL,
    idempotency BINARY(32) NOT NULL COMMENT 'hash of the key sent, or of the body',
    body BINARY(32) NOT NULL,
    answer BLOB NOT NULL,
    made_ns BIGINT NOT NULL,
    PRIMARY KEY (key_id, idempotency),
    KEY by_age (made_ns)
) ENGINE=InnoDB;

-- One table of parts each; dropped whole.
CREATE TABLE bucket (
    day INT NOT NULL PRIMARY KEY COMMENT 'may be dropped when this day from 1970 begins',
    closing BOOLEAN NOT NULL DEFAULT FALSE COMMENT 'takes no more chunks',
    uses BIGINT UNSIGNED NOT NULL DEFAULT 0 COMMENT 'moved by each seal into it'
) ENGINE=InnoDB;

CREATE TABLE chunk (
    id BIGINT UNSIGNED NOT NULL PRIMARY KEY COMMENT 'node, epoch and number',
    lane_id INT UNSIGNED NOT NULL,
    day INT NOT NULL COMMENT 'of its events',
    bucket INT NOT NULL,
    visible_until_ns BIGINT NOT NULL,
    time_min BIGINT NOT NULL,
    time_max BIGINT NOT NULL,
    row_count INT UNSIGNED NOT NULL,
    byte_count BIGINT UNSIGNED NOT NULL,
    part_count SMALLINT UNSIGNED NOT NULL,
    version SMALLINT UNSIGNED NOT NULL,
    late BOOLEAN NOT NULL,
    FOREIGN KEY (lane_id) REFERENCES lane (id),
    FOREIGN KEY (bucket) REFERENCES bucket (day),
    KEY by_bucket (bucket, visible_until_ns)
) ENGINE=InnoDB;

CREATE TABLE rule (
    id INT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
    name VARCHAR(128) NOT NULL UNIQUE,
    query TEXT NOT NULL,
    window_s INT UNSIGNED NOT NULL,
    above BIGINT UNSIGNED NOT NULL,
    hold_s INT UNSIGNED NOT NULL,
    delay_s INT UNSIGNED NOT NULL,
    late_s INT UNSIGNED NOT NULL,
    webhook VARCHAR(512) NULL,
    webhook_secret VARCHAR(128) NULL,
    mail VARCHAR(256) NULL,
    owner_id INT UNSIGNED NOT NULL,
    state VARCHAR(16) NOT NULL DEFAULT 'quiet',
    since_ns BIGINT NOT NULL,
    judged_ns BIGINT NULL,
    count BIGINT UNSIGNED NOT NULL DEFAULT 0,
    note TEXT NOT NULL,
    FOREIGN KEY (owner_id) REFERENCES user (id)
) ENGINE=InnoDB;

CREATE TABLE alert (
    id INT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
    rule_id INT UNSIGNED NOT NULL,
    raised_ns BIGINT NOT NULL,
    ended_ns BIGINT NULL,
    peak BIGINT UNSIGNED NOT NULL,
    late BOOLEAN NOT NULL,
    taken_by VARCHAR(64) NULL,
    FOREIGN KEY (rule_id) REFERENCES rule (id) ON DELETE CASCADE,
    KEY by_rule (rule_id, raised_ns)
) ENGINE=InnoDB;

CREATE TABLE outbox (
    id BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
    alert_id INT UNSIGNED NOT NULL,
    kind VARCHAR(16) NOT NULL COMMENT 'webhook or mail',
    what VARCHAR(16) NOT NULL COMMENT 'raised or ended',
    target VARCHAR(512) NOT NULL,
    secret VARCHAR(128) NULL,
    payload TEXT NOT NULL,
    tries INT UNSIGNED NOT NULL DEFAULT 0,
    next_ns BIGINT NOT NULL,
    done_ns BIGINT NULL,
    error TEXT NOT NULL,
    FOREIGN KEY (alert_id) REFERENCES alert (id) ON DELETE CASCADE,
    KEY due (done_ns, next_ns)
) ENGINE=InnoDB;

CREATE TABLE audit (
    id BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
    at_ns BIGINT NOT NULL,
    who VARCHAR(64) NOT NULL,
    act VARCHAR(64) NOT NULL,
    what TEXT NOT NULL
) ENGINE=InnoDB;

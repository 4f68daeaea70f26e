-- A rule is one document; of its groups, those that are not quiet; an alert has the groups that were raised in it.
ALTER TABLE rule
    ADD COLUMN document TEXT NULL COMMENT 'JSON',
    ADD COLUMN revision INT UNSIGNED NOT NULL DEFAULT 1 COMMENT 'of the document',
    ADD COLUMN value DOUBLE NULL COMMENT 'the one furthest beyond the bound, at the last judgement',
    ADD COLUMN muted_until_ns BIGINT NULL COMMENT 'nobody is notified until then',
    ADD COLUMN muted_by VARCHAR(64) NULL,
    ADD COLUMN muted_why VARCHAR(256) NULL;
UPDATE rule SET document = JSON_OBJECT(
    'name', name,
    'for', CONCAT(hold_s, 's'),
    'delay', CONCAT(delay_s, 's'),
    'late', CONCAT(late_s, 's'),
    'threshold', JSON_OBJECT('events', query, 'over', CONCAT(window_s, 's'), 'above', above));
ALTER TABLE rule
    MODIFY COLUMN document TEXT NOT NULL COMMENT 'JSON',
    DROP COLUMN query, DROP COLUMN window_s, DROP COLUMN above, DROP COLUMN hold_s, DROP COLUMN delay_s,
    DROP COLUMN late_s, DROP COLUMN count;

CREATE TABLE rule_group (
    rule_id INT UNSIGNED NOT NULL,
    group_hash BIGINT UNSIGNED NOT NULL,
    name VARCHAR(512) NOT NULL,
    state VARCHAR(16) NOT NULL,
    since_ns BIGINT NOT NULL,
    value DOUBLE NULL,
    PRIMARY KEY (rule_id, group_hash),
    FOREIGN KEY (rule_id) REFERENCES rule (id) ON DELETE CASCADE
) ENGINE=InnoDB;

ALTER TABLE alert
    MODIFY COLUMN peak DOUBLE NULL COMMENT 'the value furthest beyond the bound',
    ADD COLUMN revision INT UNSIGNED NOT NULL DEFAULT 1 COMMENT 'of the rule that raised it',
    ADD COLUMN withdrawn BOOLEAN NOT NULL DEFAULT FALSE COMMENT 'late events undid it',
    ADD COLUMN muted BOOLEAN NOT NULL DEFAULT FALSE COMMENT 'raised while the rule was muted, and nobody was notified yet',
    ADD COLUMN explanation TEXT NULL COMMENT 'JSON: what was different when it was raised';

CREATE TABLE alert_group (
    alert_id INT UNSIGNED NOT NULL,
    group_hash BIGINT UNSIGNED NOT NULL,
    raised_ns BIGINT NOT NULL,
    name VARCHAR(512) NOT NULL,
    ended_ns BIGINT NULL,
    peak DOUBLE NULL,
    withdrawn BOOLEAN NOT NULL DEFAULT FALSE,
    PRIMARY KEY (alert_id, group_hash, raised_ns),
    FOREIGN KEY (alert_id) REFERENCES alert (id) ON DELETE CASCADE
) ENGINE=InnoDB;
INSERT INTO alert_group (alert_id, group_hash, raised_ns, name, ended_ns, peak)
    SELECT id, 0, raised_ns, '', ended_ns, peak FROM alert;

CREATE TABLE contact (
    name VARCHAR(64) NOT NULL PRIMARY KEY,
    webhook VARCHAR(512) NULL,
    webhook_secret VARCHAR(128) NULL,
    mail VARCHAR(256) NULL,
    changed_ns BIGINT NOT NULL
) ENGINE=InnoDB;

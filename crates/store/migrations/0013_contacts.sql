-- Every version of a rule; mutes of a part of a rule; contacts with hours, a next one, repeats and limits; each try of a
-- message; notes on alerts.
CREATE TABLE rule_version (
    rule_id INT UNSIGNED NOT NULL,
    revision INT UNSIGNED NOT NULL,
    document TEXT NOT NULL COMMENT 'JSON',
    changed_by VARCHAR(64) NOT NULL,
    changed_ns BIGINT NOT NULL,
    PRIMARY KEY (rule_id, revision),
    FOREIGN KEY (rule_id) REFERENCES rule (id) ON DELETE CASCADE
) ENGINE=InnoDB;
INSERT INTO rule_version (rule_id, revision, document, changed_by, changed_ns)
    SELECT r.id, r.revision, r.document, u.name, 0 FROM rule r JOIN user u ON u.id = r.owner_id;

CREATE TABLE rule_mute (
    id INT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
    rule_id INT UNSIGNED NOT NULL,
    filter VARCHAR(512) NOT NULL COMMENT 'over what the rule judges apart; empty: all of it',
    until_ns BIGINT NOT NULL,
    muted_by VARCHAR(64) NOT NULL,
    why VARCHAR(256) NOT NULL,
    FOREIGN KEY (rule_id) REFERENCES rule (id) ON DELETE CASCADE
) ENGINE=InnoDB;
INSERT INTO rule_mute (rule_id, filter, until_ns, muted_by, why)
    SELECT id, '', muted_until_ns, COALESCE(muted_by, ''), COALESCE(muted_why, '') FROM rule
    WHERE muted_until_ns IS NOT NULL;
ALTER TABLE rule
    DROP COLUMN muted_until_ns, DROP COLUMN muted_by, DROP COLUMN muted_why,
    ADD COLUMN rule_condition VARCHAR(16) NOT NULL DEFAULT '' COMMENT 'blind, failing or learning, beside the state';
UPDATE rule SET state = 'quiet', rule_condition = 'failing' WHERE state = 'failing';

ALTER TABLE alert
    ADD COLUMN closed VARCHAR(16) NOT NULL DEFAULT '' COMMENT 'why it ended, where not by its values',
    MODIFY COLUMN explanation MEDIUMTEXT NULL COMMENT 'JSON: what was different when it was raised',
    ADD KEY by_end (ended_ns);
ALTER TABLE alert_group ADD COLUMN muted BOOLEAN NOT NULL DEFAULT FALSE COMMENT 'nobody is notified of this group';
UPDATE alert_group g JOIN alert a ON a.id = g.alert_id SET g.muted = TRUE WHERE a.muted;

CREATE TABLE alert_note (
    id INT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
    alert_id INT UNSIGNED NOT NULL,
    noted_by VARCHAR(64) NOT NULL,
    noted_ns BIGINT NOT NULL,
    text VARCHAR(2000) NOT NULL,
    FOREIGN KEY (alert_id) REFERENCES alert (id) ON DELETE CASCADE
) ENGINE=InnoDB;

ALTER TABLE contact
    ADD COLUMN old_secret VARCHAR(128) NULL COMMENT 'signs beside the new one for a while',
    ADD COLUMN old_secret_until_ns BIGINT NOT NULL DEFAULT 0,
    ADD COLUMN hours VARCHAR(256) NOT NULL DEFAULT '' COMMENT 'as mon-fri 08:00-18:00; empty: always',
    ADD COLUMN zone VARCHAR(64) NOT NULL DEFAULT 'UTC',
    ADD COLUMN next_contact VARCHAR(64) NULL,
    ADD COLUMN next_after_s INT UNSIGNED NOT NULL DEFAULT 900,
    ADD COLUMN repeat_s INT UNSIGNED NOT NULL DEFAULT 0 COMMENT '0: no repeat',
    ADD COLUMN hourly INT UNSIGNED NOT NULL DEFAULT 60 COMMENT 'messages an hour at most',
    ADD COLUMN heartbeat_s INT UNSIGNED NOT NULL DEFAULT 0 COMMENT '0: none',
    ADD COLUMN beat_ns BIGINT NOT NULL DEFAULT 0,
    ADD COLUMN beat_error VARCHAR(512) NOT NULL DEFAULT '',
    ADD COLUMN failing_since_ns BIGINT NULL COMMENT 'its messages do not arrive since then';

-- A message outlives its alert, where a rule is removed: whoever was woken is notified that it ended.
ALTER TABLE outbox DROP FOREIGN KEY outbox_ibfk_1;
ALTER TABLE outbox
    MODIFY COLUMN alert_id INT UNSIGNED NULL,
    MODIFY COLUMN payload MEDIUMTEXT NOT NULL,
    MODIFY COLUMN secret VARCHAR(128) NULL COMMENT 'of a way that a rule has of its own',
    ADD COLUMN contact VARCHAR(64) NOT NULL DEFAULT '' COMMENT 'empty: a way that the rule has of its own',
    ADD COLUMN round INT UNSIGNED NOT NULL DEFAULT 0,
    ADD COLUMN made_ns BIGINT NOT NULL DEFAULT 0,
    ADD COLUMN due_ns BIGINT NOT NULL DEFAULT 0 COMMENT 'when it was to be sent first: later than it was made, for a contact with hours',
    ADD COLUMN dropped VARCHAR(32) NOT NULL DEFAULT '' COMMENT 'why it was never sent',
    ADD FOREIGN KEY (alert_id) REFERENCES alert (id) ON DELETE SET NULL,
    ADD KEY of_contact (contact, done_ns);
UPDATE outbox SET made_ns = next_ns, due_ns = next_ns, round = id;
ALTER TABLE outbox ADD UNIQUE KEY once (alert_id, what, contact, kind, round);

CREATE TABLE delivery_try (
    outbox_id BIGINT UNSIGNED NOT NULL,
    at_ns BIGINT NOT NULL,
    error VARCHAR(512) NOT NULL COMMENT 'empty: it arrived',
    PRIMARY KEY (outbox_id, at_ns),
    FOREIGN KEY (outbox_id) REFERENCES outbox (id) ON DELETE CASCADE
) ENGINE=InnoDB;

-- What deviations measured on their own past days, kept beyond the lanes' retention.
CREATE TABLE rule_usual (
    rule_id INT UNSIGNED NOT NULL,
    figures_key BIGINT UNSIGNED NOT NULL COMMENT 'of what decides the figures',
    day INT NOT NULL COMMENT 'from 1970',
    step_ns BIGINT NOT NULL,
    figures MEDIUMBLOB NOT NULL COMMENT 'zstd',
    PRIMARY KEY (rule_id, figures_key, day),
    FOREIGN KEY (rule_id) REFERENCES rule (id) ON DELETE CASCADE
) ENGINE=InnoDB;

-- The audit trail in chains, one for each node and epoch: see `domain/trail.rs`. What was recorded before stands in none.
ALTER TABLE audit
    ADD COLUMN before_what TEXT NULL,
    ADD COLUMN slot SMALLINT UNSIGNED NULL,
    ADD COLUMN epoch INT UNSIGNED NULL,
    ADD COLUMN n BIGINT UNSIGNED NULL,
    ADD COLUMN hash BINARY(32) NULL,
    ADD UNIQUE KEY by_chain (slot, epoch, n),
    ADD KEY by_time (at_ns),
    ADD KEY by_who (who, at_ns);

CREATE TABLE audit_chain (
    slot SMALLINT UNSIGNED NOT NULL,
    epoch INT UNSIGNED NOT NULL,
    n BIGINT UNSIGNED NOT NULL COMMENT 'entries in it',
    hash BINARY(32) NOT NULL COMMENT 'of the last',
    PRIMARY KEY (slot, epoch)
) ENGINE=InnoDB;
-- Of what is done through the data directory, by no node.
INSERT INTO audit_chain (slot, epoch, n, hash) VALUES (0, 0, 0, UNHEX(REPEAT('00', 32)));

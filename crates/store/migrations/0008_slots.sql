-- A node is a slot, given out explicitly: event ids and chunk ids hold it in twelve bits. Its epoch never starts again.
ALTER TABLE node
    CHANGE id slot SMALLINT UNSIGNED NOT NULL COMMENT '1 to 4095, given out explicitly',
    MODIFY name VARCHAR(64) NULL COMMENT 'none once retired',
    ADD COLUMN beat BIGINT UNSIGNED NOT NULL DEFAULT 0 COMMENT 'moved every second while the node lives',
    ADD COLUMN alive BOOLEAN NOT NULL DEFAULT FALSE COMMENT 'until it stops in order or is adopted',
    ADD COLUMN version VARCHAR(32) NOT NULL DEFAULT '';

-- Every write of a node begins by moving one of its counters; commits and other work apart, so that neither waits for
-- the other.
CREATE TABLE fence (
    slot SMALLINT UNSIGNED NOT NULL,
    purpose VARCHAR(8) NOT NULL COMMENT 'journal or work',
    epoch INT UNSIGNED NOT NULL,
    n BIGINT UNSIGNED NOT NULL COMMENT 'of the journal: its last row of this epoch, without gaps',
    PRIMARY KEY (slot, purpose)
) ENGINE=InnoDB;
INSERT INTO fence (slot, purpose, epoch, n) SELECT slot, 'journal', epoch, seq FROM node;
INSERT INTO fence (slot, purpose, epoch, n) SELECT slot, 'work', epoch, work FROM node;
ALTER TABLE node DROP COLUMN seq, DROP COLUMN work;

-- Who seals the journal rows of an epoch. A seal moves `uses`, so that a node that lost them cannot seal.
CREATE TABLE journal_owner (
    slot SMALLINT UNSIGNED NOT NULL,
    epoch INT UNSIGNED NOT NULL,
    owner_slot SMALLINT UNSIGNED NOT NULL,
    owner_epoch INT UNSIGNED NOT NULL,
    uses BIGINT UNSIGNED NOT NULL DEFAULT 0,
    PRIMARY KEY (slot, epoch),
    KEY by_owner (owner_slot, owner_epoch)
) ENGINE=InnoDB;

-- Journal tables belong to a slot, `journal_SLOT_NO`; those of slot 0 are from before and are called `journal_NO`.
ALTER TABLE journal_table
    ADD COLUMN slot SMALLINT UNSIGNED NOT NULL DEFAULT 0 FIRST,
    DROP PRIMARY KEY,
    ADD PRIMARY KEY (slot, no);

-- What each fenced work transaction did to the catalogue, for nodes that follow.
CREATE TABLE catalogue_change (
    slot SMALLINT UNSIGNED NOT NULL,
    epoch INT UNSIGNED NOT NULL,
    n BIGINT UNSIGNED NOT NULL COMMENT 'of the work fence',
    added TEXT NOT NULL COMMENT 'ids of chunks, JSON',
    removed TEXT NOT NULL COMMENT 'ids of chunks, JSON',
    sealed MEDIUMTEXT NOT NULL COMMENT 'journal rows that went, JSON: slot, epoch, first and last seq',
    PRIMARY KEY (slot, epoch, n)
) ENGINE=InnoDB;

-- Which journal rows a sealed chunk was made of.
CREATE TABLE chunk_origin (
    chunk BIGINT UNSIGNED NOT NULL,
    slot SMALLINT UNSIGNED NOT NULL,
    epoch INT UNSIGNED NOT NULL,
    seq_min BIGINT UNSIGNED NOT NULL,
    seq_max BIGINT UNSIGNED NOT NULL,
    PRIMARY KEY (chunk, slot, epoch),
    FOREIGN KEY (chunk) REFERENCES chunk (id) ON DELETE CASCADE
) ENGINE=InnoDB;

-- A checksum of all parts, so that a part kept elsewhere under the same id is known to be another one. Chunks of before
-- have none.
ALTER TABLE chunk ADD COLUMN checksum INT UNSIGNED NOT NULL DEFAULT 0;
ALTER TABLE rollup ADD COLUMN checksum INT UNSIGNED NOT NULL DEFAULT 0;

-- Which installation this database is; another one after each restore.
CREATE TABLE installation (
    one TINYINT UNSIGNED NOT NULL PRIMARY KEY DEFAULT 1,
    id BINARY(16) NOT NULL
) ENGINE=InnoDB;

-- Nodes that work together on one database.
ALTER TABLE node
    ADD COLUMN draining BOOLEAN NOT NULL DEFAULT FALSE COMMENT 'takes no events and no duties',
    ADD COLUMN looked_ms INT UNSIGNED NOT NULL DEFAULT 0 COMMENT 'at its last beat: the age of its last look at the others',
    ADD COLUMN server VARCHAR(128) NOT NULL DEFAULT '' COMMENT 'the database server that took its last beat';

-- A change names the one before it, so that one who follows finds out that one is missing. Changes of before have no
-- rows that they could name, and are read past by reading everything.
DELETE FROM catalogue_change;
ALTER TABLE catalogue_change
    ADD COLUMN n_before BIGINT UNSIGNED NOT NULL DEFAULT 0 COMMENT 'the change before it in this epoch, 0 for the first',
    MODIFY sealed MEDIUMTEXT NOT NULL COMMENT 'journal rows that went, JSON: slot, epoch, first and last seq, lane, day, late';

-- Up to which change of another node a node has read.
CREATE TABLE node_read (
    slot SMALLINT UNSIGNED NOT NULL,
    of_slot SMALLINT UNSIGNED NOT NULL,
    of_epoch INT UNSIGNED NOT NULL,
    n BIGINT UNSIGNED NOT NULL,
    PRIMARY KEY (slot, of_slot)
) ENGINE=InnoDB;

-- Who does what one node does for all.
CREATE TABLE duty_owner (
    name VARCHAR(32) NOT NULL PRIMARY KEY,
    slot SMALLINT UNSIGNED NOT NULL,
    epoch INT UNSIGNED NOT NULL
) ENGINE=InnoDB;

-- Each slot holds a bucket open by a row of its own, so that seals of two nodes do not write the same row. A row is added
-- in a transaction that moves the bucket's, and closing writes all of them.
CREATE TABLE bucket_use (
    day INT NOT NULL,
    slot SMALLINT UNSIGNED NOT NULL,
    uses BIGINT UNSIGNED NOT NULL DEFAULT 0,
    closing BOOLEAN NOT NULL DEFAULT FALSE,
    PRIMARY KEY (day, slot)
) ENGINE=InnoDB;

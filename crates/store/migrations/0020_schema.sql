-- Which versions may work on this schema: those that know the steps up to `needs`. A step beyond it that a version does
-- not know adds what that version can leave alone.
CREATE TABLE schema_state (
    one TINYINT UNSIGNED NOT NULL PRIMARY KEY,
    needs BIGINT NOT NULL COMMENT 'the newest step that versions without it cannot work beside'
) ENGINE=InnoDB;
INSERT INTO schema_state (one, needs) VALUES (1, 20);

ALTER TABLE node
    ADD COLUMN url VARCHAR(255) NOT NULL DEFAULT '' COMMENT 'where browsers reach it; empty where nobody named that';

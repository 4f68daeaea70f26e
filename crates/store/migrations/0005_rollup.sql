-- Membership filters of many chunks side by side; their parts stand in the bucket's table, under the roll-up's id.
CREATE TABLE rollup (
    id BIGINT UNSIGNED NOT NULL PRIMARY KEY COMMENT 'from the same numbers as chunks',
    lane_id INT UNSIGNED NOT NULL,
    bucket INT NOT NULL,
    part_count SMALLINT UNSIGNED NOT NULL,
    FOREIGN KEY (lane_id) REFERENCES lane (id),
    FOREIGN KEY (bucket) REFERENCES bucket (day)
) ENGINE=InnoDB;

CREATE TABLE rollup_chunk (
    chunk BIGINT UNSIGNED NOT NULL PRIMARY KEY COMMENT 'may be gone: what is left of it is not asked any more',
    rollup_id BIGINT UNSIGNED NOT NULL,
    place SMALLINT UNSIGNED NOT NULL,
    FOREIGN KEY (rollup_id) REFERENCES rollup (id) ON DELETE CASCADE
) ENGINE=InnoDB;

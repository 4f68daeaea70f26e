-- Error groups: what people have said about them, and when each was seen in each lane. What failed stands in the events.
CREATE TABLE error_group (
    id CHAR(16) CHARACTER SET ascii COLLATE ascii_bin NOT NULL PRIMARY KEY,
    said VARCHAR(16) NOT NULL COMMENT 'known or resolved',
    said_ns BIGINT NOT NULL,
    said_by VARCHAR(128) NOT NULL,
    in_release VARCHAR(128) NULL,
    failed_releases TEXT NOT NULL COMMENT 'a JSON list',
    note VARCHAR(512) NOT NULL DEFAULT '',
    returned_ns BIGINT NULL
) ENGINE=InnoDB;
CREATE TABLE error_group_seen (
    id CHAR(16) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
    lane_id INT UNSIGNED NOT NULL,
    first_ns BIGINT NOT NULL,
    last_ns BIGINT NOT NULL,
    PRIMARY KEY (id, lane_id),
    KEY (last_ns)
) ENGINE=InnoDB;

-- Searches worth keeping. Every name is one search of the whole service, so that a name means the same to everybody.
CREATE TABLE saved_search (
    id INT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
    name VARCHAR(128) NOT NULL UNIQUE,
    owner_id INT UNSIGNED NOT NULL,
    query TEXT NOT NULL,
    from_text VARCHAR(64) NULL COMMENT 'as typed; the range one is in where there is none',
    to_text VARCHAR(64) NULL,
    columns_text VARCHAR(1024) NULL,
    note VARCHAR(512) NOT NULL DEFAULT '',
    changed_ns BIGINT NOT NULL,
    FOREIGN KEY (owner_id) REFERENCES user (id) ON DELETE CASCADE
) ENGINE=InnoDB;

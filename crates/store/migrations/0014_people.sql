-- People who may not sign in any more; sessions that are listed, and end where nobody uses them; one-time codes by which
-- somebody sets a password.
ALTER TABLE user ADD COLUMN disabled_ns BIGINT NULL COMMENT 'may not sign in since then';

ALTER TABLE session
    ADD COLUMN id BIGINT UNSIGNED NOT NULL AUTO_INCREMENT UNIQUE,
    ADD COLUMN begun_ns BIGINT NOT NULL DEFAULT 0,
    ADD COLUMN seen_ns BIGINT NOT NULL DEFAULT 0,
    ADD COLUMN address VARCHAR(45) NOT NULL DEFAULT '' COMMENT 'from which it was begun';
-- Those that are open go on.
UPDATE session SET begun_ns = expires_ns - 43200000000000, seen_ns = UNIX_TIMESTAMP() * 1000000000;

CREATE TABLE password_code (
    user_id INT UNSIGNED NOT NULL PRIMARY KEY,
    hash BINARY(32) NOT NULL UNIQUE,
    ends_ns BIGINT NOT NULL,
    FOREIGN KEY (user_id) REFERENCES user (id) ON DELETE CASCADE
) ENGINE=InnoDB;

-- Teams; grants on lanes in the place of lists of lanes; what belongs to whom; tokens of teams, with an end; reads of lanes
-- that are recorded; people who sign in by a provider.
CREATE TABLE team (
    id INT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
    name VARCHAR(64) NOT NULL UNIQUE,
    claim VARCHAR(128) NULL UNIQUE COMMENT 'group of the sign-on provider',
    on_call BOOLEAN NOT NULL DEFAULT FALSE,
    contact VARCHAR(64) NULL,
    created_ns BIGINT NOT NULL
) ENGINE=InnoDB;

CREATE TABLE team_member (
    team_id INT UNSIGNED NOT NULL,
    user_id INT UNSIGNED NOT NULL,
    by_claim BOOLEAN NOT NULL DEFAULT FALSE COMMENT 'comes and goes with the claim',
    PRIMARY KEY (team_id, user_id),
    FOREIGN KEY (team_id) REFERENCES team (id) ON DELETE CASCADE,
    FOREIGN KEY (user_id) REFERENCES user (id) ON DELETE CASCADE
) ENGINE=InnoDB;

ALTER TABLE lane
    ADD COLUMN owner_team_id INT UNSIGNED NULL,
    ADD COLUMN audited BOOLEAN NOT NULL DEFAULT FALSE COMMENT 'its reads are recorded',
    ADD FOREIGN KEY (owner_team_id) REFERENCES team (id) ON DELETE SET NULL;

CREATE TABLE lane_grant (
    id BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
    lane_id INT UNSIGNED NOT NULL,
    team_id INT UNSIGNED NULL,
    user_id INT UNSIGNED NULL,
    may VARCHAR(16) NOT NULL COMMENT 'read, configure or manage',
    rows_filter TEXT NOT NULL COMMENT 'in the query language; all where empty',
    language INT UNSIGNED NOT NULL DEFAULT 1 COMMENT 'version of the query language',
    hidden TEXT NOT NULL COMMENT 'names of hidden fields, a line each',
    given_by VARCHAR(64) NOT NULL,
    given_ns BIGINT NOT NULL,
    ends_ns BIGINT NULL,
    why VARCHAR(512) NOT NULL DEFAULT '',
    break_glass BOOLEAN NOT NULL DEFAULT FALSE,
    ended_ns BIGINT NULL COMMENT 'somebody ended it',
    KEY by_user (user_id, ended_ns),
    KEY by_team (team_id, ended_ns),
    KEY by_lane (lane_id, ended_ns),
    FOREIGN KEY (lane_id) REFERENCES lane (id) ON DELETE CASCADE,
    FOREIGN KEY (team_id) REFERENCES team (id) ON DELETE CASCADE,
    FOREIGN KEY (user_id) REFERENCES user (id) ON DELETE CASCADE
) ENGINE=InnoDB;

-- Whoever could read a lane can go on doing so.
INSERT INTO lane_grant (lane_id, user_id, may, rows_filter, hidden, given_by, given_ns, why)
    SELECT l.lane_id, l.user_id, 'read', '', '', 'calvex', u.created_ns, 'read it before there were grants'
    FROM user_lane l JOIN user u ON u.id = l.user_id WHERE u.role <> 'admin';
INSERT INTO lane_grant (lane_id, user_id, may, rows_filter, hidden, given_by, given_ns, why)
    SELECT l.id, u.id, 'manage', '', '', 'calvex', u.created_ns, 'administered it before there were grants'
    FROM lane l JOIN user u ON u.role = 'admin';
DROP TABLE user_lane;

ALTER TABLE token
    ADD COLUMN team_id INT UNSIGNED NULL,
    ADD COLUMN ends_ns BIGINT NULL,
    ADD FOREIGN KEY (team_id) REFERENCES team (id) ON DELETE CASCADE;
ALTER TABLE sender_key ADD COLUMN team_id INT UNSIGNED NULL, ADD FOREIGN KEY (team_id) REFERENCES team (id) ON DELETE SET NULL;
ALTER TABLE rule ADD COLUMN team_id INT UNSIGNED NULL, ADD FOREIGN KEY (team_id) REFERENCES team (id) ON DELETE SET NULL;
ALTER TABLE contact ADD COLUMN team_id INT UNSIGNED NULL, ADD FOREIGN KEY (team_id) REFERENCES team (id) ON DELETE SET NULL;
ALTER TABLE saved_search ADD COLUMN team_id INT UNSIGNED NULL, ADD FOREIGN KEY (team_id) REFERENCES team (id) ON DELETE SET NULL;

-- Somebody whom the provider knows by this.
ALTER TABLE user ADD COLUMN subject VARCHAR(255) NULL UNIQUE COMMENT 'issuer and subject of the provider';

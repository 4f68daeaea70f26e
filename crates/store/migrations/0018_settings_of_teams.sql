-- Transform rules, routes and dials of a team, beside those of the service: they hold for what its keys send.
ALTER TABLE transform_rule
    ADD COLUMN team_id INT UNSIGNED NULL,
    ADD FOREIGN KEY (team_id) REFERENCES team (id) ON DELETE CASCADE;
ALTER TABLE dial
    ADD COLUMN team_id INT UNSIGNED NULL,
    ADD FOREIGN KEY (team_id) REFERENCES team (id) ON DELETE CASCADE;
ALTER TABLE route
    DROP PRIMARY KEY,
    ADD COLUMN id INT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY FIRST,
    ADD COLUMN team_id INT UNSIGNED NULL,
    ADD FOREIGN KEY (team_id) REFERENCES team (id) ON DELETE CASCADE;

-- The account of what came, an hour a row: cheap to add to, dropped by age.
CREATE TABLE arrival (
    hour INT UNSIGNED NOT NULL COMMENT 'from 1970',
    sender VARCHAR(64) NOT NULL,
    service VARCHAR(128) NOT NULL,
    host VARCHAR(128) NOT NULL,
    lane_id INT UNSIGNED NOT NULL,
    stored BIGINT UNSIGNED NOT NULL,
    late BIGINT UNSIGNED NOT NULL,
    bytes BIGINT UNSIGNED NOT NULL,
    untimed BIGINT UNSIGNED NOT NULL COMMENT 'events of batches in which some told no time',
    first_ns BIGINT NOT NULL COMMENT 'when the first of the hour arrived',
    last_ns BIGINT NOT NULL COMMENT 'when the last of the hour arrived',
    delay_ns BIGINT NOT NULL COMMENT 'the least that arrival lay behind an event',
    PRIMARY KEY (hour, sender, service, host, lane_id),
    KEY by_service (service, hour)
) ENGINE=InnoDB;

CREATE TABLE refusal (
    hour INT UNSIGNED NOT NULL COMMENT 'from 1970',
    sender VARCHAR(64) NOT NULL COMMENT 'the key by name, by how it begins where it is unknown, or the way in',
    reason VARCHAR(32) NOT NULL,
    refused BIGINT UNSIGNED NOT NULL,
    first_ns BIGINT NOT NULL,
    last_ns BIGINT NOT NULL,
    sample TEXT NOT NULL COMMENT 'the latest, secrets masked',
    PRIMARY KEY (hour, sender, reason)
) ENGINE=InnoDB;

-- Secrets that are given back are kept encrypted (`sealed.rs`), which is longer. What stands there is sealed by the next start.
ALTER TABLE rule MODIFY COLUMN webhook_secret VARCHAR(512) NULL;
ALTER TABLE contact
    MODIFY COLUMN webhook_secret VARCHAR(512) NULL,
    MODIFY COLUMN old_secret VARCHAR(512) NULL COMMENT 'signs beside the new one for a while';
ALTER TABLE outbox MODIFY COLUMN secret VARCHAR(512) NULL COMMENT 'of a way that a rule has of its own';

-- A token says what it is for; those that were made before go on doing what they did.
ALTER TABLE token ADD COLUMN purpose VARCHAR(16) NOT NULL DEFAULT 'read' COMMENT 'read or administer';
UPDATE token SET purpose = 'administer' WHERE all_lanes;

-- The trail names the token by which something was done.
ALTER TABLE audit ADD COLUMN token VARCHAR(64) NULL;

-- Sign-ins are limited by name as the database compares names, so the comparison is fixed here.
ALTER TABLE user MODIFY name VARCHAR(64) CHARACTER SET utf8mb4 COLLATE utf8mb4_general_ci NOT NULL;

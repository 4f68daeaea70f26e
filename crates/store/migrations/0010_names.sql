-- The words of the code: rules that change events are transform rules.
RENAME TABLE shaping_rule TO transform_rule;
ALTER TABLE lane RENAME COLUMN told TO listed;

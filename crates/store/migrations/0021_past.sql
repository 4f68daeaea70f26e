-- Whether what a key sends is a past that is moved in: then old events do not count as late.
ALTER TABLE sender_key ADD COLUMN past BOOLEAN NOT NULL DEFAULT FALSE;

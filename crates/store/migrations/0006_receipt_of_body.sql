-- A body sent again without an idempotency key is looked up by its hash.
ALTER TABLE receipt ADD KEY by_body (key_id, body, made_ns);

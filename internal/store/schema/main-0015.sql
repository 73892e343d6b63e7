-- What was last answered to a call that waits.
ALTER TABLE outbox_rows ADD COLUMN answer text NOT NULL DEFAULT '';

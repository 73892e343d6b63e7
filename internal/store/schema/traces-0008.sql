-- What one turn left of a trace, its steps and what it was decided on: packed together, and sealed. Those of before
-- stand in rows of their own still, until their traces go.
CREATE TABLE part_rows (id integer PRIMARY KEY, trace text NOT NULL, sealed blob NOT NULL);
CREATE INDEX part_of_trace ON part_rows(trace);
-- Heads are read through, or looked for by what they wait for.
DROP INDEX IF EXISTS idx_trace_rows_verified;
DROP INDEX IF EXISTS idx_trace_rows_result;
CREATE INDEX IF NOT EXISTS trace_waiting ON trace_rows(started) WHERE result = 'waiting';

-- What one turn left of a trace, its steps and what it was decided on: packed together, and sealed. Those of before
-- stand in rows of their own still, until their traces go.
CREATE TABLE part_rows (id integer PRIMARY KEY AUTOINCREMENT, trace text NOT NULL, sealed blob NOT NULL);
CREATE INDEX part_of_trace ON part_rows(trace);

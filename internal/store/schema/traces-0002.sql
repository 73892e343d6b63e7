-- What decisions rested on; the bounds of traces. The column person is sealed and dropped afterwards.
ALTER TABLE trace_rows ADD COLUMN named blob;
ALTER TABLE trace_rows ADD COLUMN verified numeric;
ALTER TABLE trace_rows ADD COLUMN octets integer;
ALTER TABLE trace_rows ADD COLUMN steps integer;
CREATE TABLE entry_rows (id integer PRIMARY KEY AUTOINCREMENT,trace text,sealed blob);
CREATE INDEX idx_entry_rows_trace ON entry_rows(trace);
CREATE INDEX idx_trace_rows_verified ON trace_rows(verified);

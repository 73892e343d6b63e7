-- Of which run of a rehearsal a trace is, '' for a real sign-in.
ALTER TABLE trace_rows ADD COLUMN run text NOT NULL DEFAULT '';

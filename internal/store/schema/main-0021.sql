-- Runs of rehearsals, whom they made accounts of, and their sessions.
CREATE TABLE rehearsal_run_rows (id integer PRIMARY KEY AUTOINCREMENT, rehearsal text NOT NULL, application text NOT NULL,
	began datetime NOT NULL, ends datetime NOT NULL, ended datetime, state text NOT NULL, link blob NOT NULL,
	mark blob NOT NULL, session text NOT NULL, sealed blob NOT NULL);
CREATE INDEX idx_rehearsal_run_rows_rehearsal ON rehearsal_run_rows (rehearsal, id);
CREATE INDEX idx_rehearsal_run_rows_application ON rehearsal_run_rows (application, id);
CREATE TABLE rehearsal_made_rows (person integer PRIMARY KEY, run integer NOT NULL, at datetime NOT NULL);
ALTER TABLE session_rows ADD COLUMN run text NOT NULL DEFAULT '';

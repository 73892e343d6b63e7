-- Rehearsals that run by themselves: test accounts, how long runs took, and when one turned.
CREATE TABLE test_account_rows (provider text NOT NULL, username text NOT NULL, hosts text NOT NULL, given datetime NOT NULL,
	giver text NOT NULL, refused datetime, finding text NOT NULL DEFAULT '', sealed blob NOT NULL,
	PRIMARY KEY (provider, username));
CREATE TABLE rehearsal_turn_rows (id integer PRIMARY KEY AUTOINCREMENT, at datetime NOT NULL, rehearsal text NOT NULL,
	application text NOT NULL, state text NOT NULL, run integer NOT NULL, finding text NOT NULL, mailed boolean NOT NULL);
CREATE INDEX idx_rehearsal_turn_rows_rehearsal ON rehearsal_turn_rows (rehearsal, id);
ALTER TABLE rehearsal_run_rows ADD COLUMN unattended boolean NOT NULL DEFAULT false;
ALTER TABLE rehearsal_run_rows ADD COLUMN took integer NOT NULL DEFAULT 0;
CREATE INDEX idx_rehearsal_run_rows_ended ON rehearsal_run_rows (ended);

ALTER TABLE person_rows ADD COLUMN revision integer NOT NULL DEFAULT 1;
CREATE TABLE person_event_rows (id integer PRIMARY KEY AUTOINCREMENT, at datetime NOT NULL, person integer NOT NULL,
	via text NOT NULL, who text NOT NULL, did blob NOT NULL);
CREATE INDEX idx_person_event_rows_person ON person_event_rows (person, id);
CREATE INDEX idx_person_event_rows_at ON person_event_rows (at);
CREATE TABLE recipient_rows (name text PRIMARY KEY, added datetime NOT NULL, heard integer NOT NULL, heard_at datetime,
	tries integer NOT NULL, due datetime NOT NULL, answer text NOT NULL);

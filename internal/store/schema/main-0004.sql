-- IDs of records in the history, names in links.
ALTER TABLE history_rows ADD COLUMN object text;
ALTER TABLE link_rows ADD COLUMN added datetime;
ALTER TABLE link_rows ADD COLUMN sealed blob;

-- Rows that every sign-in writes stand in as few trees as they are looked for by.
CREATE TABLE used_anew ("key" blob NOT NULL PRIMARY KEY, "until" datetime) WITHOUT ROWID;
INSERT INTO used_anew SELECT "key", "until" FROM "used_rows";
DROP TABLE "used_rows";
ALTER TABLE used_anew RENAME TO "used_rows";
CREATE INDEX "idx_used_rows_until" ON "used_rows"("until");
CREATE TABLE issued_anew ("id" integer PRIMARY KEY,"session" blob,"application" text,"session_index" text,"sealed" blob,"at" datetime,"expires" datetime);
INSERT INTO issued_anew SELECT "id", "session", "application", "session_index", "sealed", "at", "expires" FROM "issued_rows";
DROP TABLE "issued_rows";
ALTER TABLE issued_anew RENAME TO "issued_rows";
CREATE INDEX "idx_issued_rows_expires" ON "issued_rows"("expires");
CREATE INDEX "idx_issued_rows_session" ON "issued_rows"("session");
DROP INDEX IF EXISTS "idx_session_rows_provider";

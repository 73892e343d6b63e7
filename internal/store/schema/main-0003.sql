-- Protocols, the outbox and credentials. Crossings of before are in another form; none is older than ten minutes.
ALTER TABLE history_rows ADD COLUMN protocol text;
ALTER TABLE crossing_rows ADD COLUMN turns integer;
CREATE TABLE "credential_rows" ("name" text,"sealed" blob,PRIMARY KEY ("name"));
CREATE TABLE "outbox_rows" ("id" integer PRIMARY KEY AUTOINCREMENT,"due" datetime,"until" datetime,"tries" integer,"sealed" blob);
CREATE INDEX "idx_outbox_rows_due" ON "outbox_rows"("due");
DROP INDEX IF EXISTS provider_entity_id;
DELETE FROM crossing_rows;
CREATE UNIQUE INDEX provider_identity ON provider_rows(protocol, entity_id) WHERE entity_id <> '';

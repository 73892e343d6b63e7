-- Documents, what is kept fresh, aggregates; providers without an entity ID.
ALTER TABLE history_rows ADD COLUMN why text;
CREATE TABLE "aggregate_rows" ("name" text,"revision" integer,"added" datetime,"data" blob,"edition" integer,PRIMARY KEY ("name"));
CREATE TABLE "document_rows" ("hash" text,"octets" blob,PRIMARY KEY ("hash"));
CREATE TABLE "entity_rows" ("id" integer PRIMARY KEY AUTOINCREMENT,"aggregate" text,"edition" integer,"entity_id" text,"title" text,"roles" text,"problem" blob,"sum" integer,"from" integer,"until" integer,"wrap" text);
CREATE TABLE "fresh_rows" ("kind" text,"name" text,"next" datetime,"data" blob,PRIMARY KEY ("kind","name"));
CREATE TABLE "pending_rows" ("kind" text,"name" text,"at" datetime,"data" blob,PRIMARY KEY ("kind","name"));
CREATE INDEX "entity_edition" ON "entity_rows"("aggregate","edition");
CREATE INDEX "idx_fresh_rows_next" ON "fresh_rows"("next");
DROP INDEX IF EXISTS idx_provider_rows_entity_id;
CREATE UNIQUE INDEX provider_entity_id ON provider_rows(entity_id) WHERE entity_id <> '';

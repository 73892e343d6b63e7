-- Entities are found by their ID; findings can be acknowledged; tokens can end; changes made together share a number.
CREATE INDEX "entity_by_id" ON "entity_rows"("aggregate","edition","entity_id");
CREATE TABLE "acknowledged_rows" ("object" text,"mark" text,"code" text,"remark" text,"who" text,"at" datetime,"until" datetime,PRIMARY KEY ("object","mark"));
ALTER TABLE "token_rows" ADD COLUMN "expires" datetime;
ALTER TABLE "history_rows" ADD COLUMN "batch" integer;
CREATE INDEX "history_batch" ON "history_rows"("batch");

-- What providers gave beside sessions; what changed in copies of documents.
CREATE TABLE "upstream_rows" ("session" text,"provider" text,"their_session" blob,"their_subject" blob,"sealed" blob,"expires" datetime,PRIMARY KEY ("session","provider"));
CREATE INDEX "upstream_by_their_session" ON "upstream_rows"("provider","their_session");
CREATE INDEX "upstream_by_their_subject" ON "upstream_rows"("provider","their_subject");
CREATE INDEX "upstream_expires" ON "upstream_rows"("expires");
ALTER TABLE "key_set_rows" ADD COLUMN "changed" blob;

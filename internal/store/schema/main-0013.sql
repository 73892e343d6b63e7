-- Values by which people are matched, and whether they are proved; sessions have a revision, and what hangs on them names them by what lasts.
CREATE TABLE "match_rows" ("attribute" text NOT NULL,"value" blob NOT NULL,"person" integer NOT NULL,"source" text NOT NULL,"proved" numeric NOT NULL,PRIMARY KEY ("attribute","value","person")) WITHOUT ROWID;
CREATE INDEX "match_by_person" ON "match_rows"("person");
CREATE INDEX "match_unproved" ON "match_rows"("source","attribute","person") WHERE "proved" = 0;
ALTER TABLE "session_rows" ADD COLUMN "revision" integer NOT NULL DEFAULT 1;
ALTER TABLE "crossing_rows" ADD COLUMN "session" text NOT NULL DEFAULT '';
DELETE FROM "issued_rows" WHERE "session" NOT IN (SELECT "hash" FROM "session_rows");
UPDATE "issued_rows" SET "session" = (SELECT CAST(s."lasting" AS BLOB) FROM "session_rows" s WHERE s."hash" = "issued_rows"."session"), "expires" = (SELECT s."expires" FROM "session_rows" s WHERE s."hash" = "issued_rows"."session");
ALTER TABLE "subject_rows" ADD COLUMN "name" blob;
CREATE INDEX "subject_by_name" ON "subject_rows"("name");

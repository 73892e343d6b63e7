ALTER TABLE "outbox_rows" ADD COLUMN "host" text NOT NULL DEFAULT '';
CREATE INDEX "outbox_by_host" ON "outbox_rows"("host", "due");
ALTER TABLE "grant_rows" ADD COLUMN "used" datetime;
UPDATE "grant_rows" SET "used" = "began";
CREATE INDEX "grant_of_person" ON "grant_rows"("app", "person");
CREATE TABLE "mailed_rows" ("id" integer PRIMARY KEY AUTOINCREMENT, "key" blob NOT NULL, "at" datetime NOT NULL);
CREATE INDEX "mailed_by_key" ON "mailed_rows"("key", "at");
CREATE INDEX "mailed_by_time" ON "mailed_rows"("at");

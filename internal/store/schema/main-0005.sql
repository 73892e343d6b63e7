-- Subjects: the lasting names by which applications know people.
CREATE TABLE "subject_rows" ("app" text,"person" integer,"hash" blob,"source" text,"added" datetime,"sealed" blob,PRIMARY KEY ("app","person"));
CREATE UNIQUE INDEX "subject_hash" ON "subject_rows"("hash");
CREATE INDEX "idx_subject_rows_person" ON "subject_rows"("person");

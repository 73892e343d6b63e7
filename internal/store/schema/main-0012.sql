-- What people are looked for by; groups and organisations, and who belongs to them; comparisons with the accounts of applications.
CREATE TABLE "term_rows" ("term" text NOT NULL,"attribute" text NOT NULL,"person" integer NOT NULL,PRIMARY KEY ("term","attribute","person")) WITHOUT ROWID;
CREATE INDEX "term_by_person" ON "term_rows"("person","term");
CREATE TABLE "unit_rows" ("kind" text,"name" text,"revision" integer,"added" datetime,"data" blob,PRIMARY KEY ("kind","name"));
CREATE TABLE "member_rows" ("person" integer NOT NULL,"kind" text NOT NULL,"name" text NOT NULL,"source" text NOT NULL,"added" datetime,PRIMARY KEY ("person","kind","name","source")) WITHOUT ROWID;
CREATE INDEX "member_by_unit" ON "member_rows"("kind","name","person");
CREATE TABLE "comparison_rows" ("id" integer PRIMARY KEY AUTOINCREMENT,"app" text,"at" datetime,"who" text,"summary" blob,"sealed" blob);
CREATE INDEX "comparison_by_app" ON "comparison_rows"("app","id");

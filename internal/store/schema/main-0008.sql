-- What sign-ins gave applications, what people agreed to, identifiers that are never used again, fetched key sets; sessions have a name that lasts.
CREATE TABLE "grant_rows" ("id" text,"revision" integer,"app" text,"person" integer,"session" text,"offline" numeric,"began" datetime,"expires" datetime,"ended" text,"sealed" blob,PRIMARY KEY ("id"));
CREATE INDEX "grant_by_session" ON "grant_rows"("session");
CREATE INDEX "grant_by_person" ON "grant_rows"("person","app");
CREATE INDEX "grant_by_app" ON "grant_rows"("app");
CREATE INDEX "grant_expires" ON "grant_rows"("expires");
CREATE TABLE "consent_rows" ("app" text,"person" integer,"scopes" text,"at" datetime,PRIMARY KEY ("app","person"));
CREATE INDEX "consent_by_person" ON "consent_rows"("person");
CREATE TABLE "identifier_rows" ("protocol" text,"identifier" text,"record" text,"since" datetime,PRIMARY KEY ("protocol","identifier"));
CREATE TABLE "key_set_rows" ("record" text,"address" text,"octets" blob,"at" datetime,"tried" datetime,"problem" text,PRIMARY KEY ("record"));
ALTER TABLE "session_rows" ADD COLUMN "lasting" text;
ALTER TABLE "session_rows" ADD COLUMN "used" datetime;
CREATE INDEX "session_by_lasting" ON "session_rows"("lasting");
UPDATE "session_rows" SET "lasting" = lower(hex("hash"));

-- Admissions that wait until an owner decides on them.
CREATE TABLE "request_rows" (
  "id" integer PRIMARY KEY AUTOINCREMENT,
  "app" text NOT NULL,
  "person" integer NOT NULL,
  "author" text NOT NULL,
  "owner" text NOT NULL,
  "why" text NOT NULL,
  "entry" blob NOT NULL,
  "asked" datetime NOT NULL,
  "ends" datetime NOT NULL,
  "state" text NOT NULL,
  "decided" datetime,
  "by" text NOT NULL,
  "remark" text NOT NULL
);
CREATE UNIQUE INDEX "request_waiting" ON "request_rows" ("app", "person") WHERE "state" = 'waiting' AND "person" <> 0;
CREATE INDEX "request_state" ON "request_rows" ("state", "id");
CREATE INDEX "request_person" ON "request_rows" ("person");

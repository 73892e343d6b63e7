-- People who were admitted to an application by name.
CREATE TABLE "admission_rows" (
  "person" integer NOT NULL,
  "app" text NOT NULL,
  "source" text NOT NULL,
  "author" text NOT NULL,
  "added" datetime NOT NULL,
  "until" datetime,
  PRIMARY KEY ("person", "app")
);
CREATE INDEX "admission_of_app" ON "admission_rows"("app", "person");

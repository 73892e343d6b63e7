-- How often rules and admissions decided at sign-ins, by day.
CREATE TABLE "decision_rows" (
  "ground" text NOT NULL,
  "application" text NOT NULL,
  "day" text NOT NULL,
  "count" integer NOT NULL,
  "last" datetime NOT NULL,
  PRIMARY KEY ("ground", "application", "day")
);

-- How often somebody entered an application, and what it was told of them last.
CREATE TABLE "use_rows" (
  "person" integer NOT NULL,
  "app" text NOT NULL,
  "count" integer NOT NULL,
  "last" datetime NOT NULL,
  "sealed" blob NOT NULL,
  PRIMARY KEY ("person", "app")
);

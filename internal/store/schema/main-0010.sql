-- Named mappings that several records share; values that are kept with people.
CREATE TABLE "set_rows" ("name" text,"revision" integer,"added" datetime,"data" blob,PRIMARY KEY ("name"));
ALTER TABLE "person_rows" ADD COLUMN "sealed" blob;

-- Named mappings that several records share.
CREATE TABLE "set_rows" ("name" text,"revision" integer,"added" datetime,"data" blob,PRIMARY KEY ("name"));

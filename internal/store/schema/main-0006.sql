-- An application's own keys belong to its ID, which unlike its name is never used again.
UPDATE "key_rows" SET "purpose" = 'app/' || coalesce(
  (SELECT nullif(json_extract(CAST("data" AS TEXT), '$.id'), '') FROM "application_rows" WHERE "name" = substr("key_rows"."purpose", 5)),
  (SELECT nullif("object", '') FROM "history_rows" WHERE "kind" = 'application' AND "what" = 'removed' AND "name" = substr("key_rows"."purpose", 5) ORDER BY "id" DESC LIMIT 1),
  substr("purpose", 5)) WHERE "purpose" LIKE 'app/%';

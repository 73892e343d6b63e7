-- Objects of the configuration without a table of their own share one.
ALTER TABLE "unit_rows" RENAME TO "object_rows";
INSERT INTO "object_rows" SELECT 'set', "name", "revision", "added", "data" FROM "set_rows";
DROP TABLE "set_rows";
INSERT INTO "object_rows" SELECT 'ranking', "key", json_extract("value", '$.revision'), strftime('%Y-%m-%d %H:%M:%S+00:00', 'now'), CAST("value" AS blob) FROM "setting_rows" WHERE "key" = 'contexts';
DELETE FROM "setting_rows" WHERE "key" = 'contexts';

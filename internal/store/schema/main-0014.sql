ALTER TABLE "outbox_rows" ADD COLUMN "host" text NOT NULL DEFAULT '';
CREATE INDEX "outbox_by_host" ON "outbox_rows"("host", "due");

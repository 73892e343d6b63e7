-- Whose trace it is, by the number of their account, and of which they are found by the name they have here.
ALTER TABLE trace_rows ADD COLUMN account integer NOT NULL DEFAULT 0;
CREATE INDEX "trace_of_account" ON "trace_rows"("account");

-- The last sign-in of an application or provider is found at once.
CREATE INDEX "trace_of_application" ON "trace_rows"("application","started");
CREATE INDEX "trace_of_provider" ON "trace_rows"("provider","started");
DROP INDEX "idx_trace_rows_application";
DROP INDEX "idx_trace_rows_provider";

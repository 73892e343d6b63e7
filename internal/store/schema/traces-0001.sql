-- Traces and their steps.
CREATE TABLE "step_rows" ("id" integer PRIMARY KEY AUTOINCREMENT,"trace" text,"sealed" blob);
CREATE TABLE "trace_rows" ("id" text,"started" datetime,"application" text,"provider" text,"person" text,"started_by" text,"result" text,"finding" text,"millis" integer,PRIMARY KEY ("id"));
CREATE INDEX "idx_step_rows_trace" ON "step_rows"("trace");
CREATE INDEX "idx_trace_rows_application" ON "trace_rows"("application");
CREATE INDEX "idx_trace_rows_provider" ON "trace_rows"("provider");
CREATE INDEX "idx_trace_rows_result" ON "trace_rows"("result");
CREATE INDEX "idx_trace_rows_started" ON "trace_rows"("started");

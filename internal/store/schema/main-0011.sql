-- People who are not let in for now.
ALTER TABLE "person_rows" ADD COLUMN "disabled" datetime;

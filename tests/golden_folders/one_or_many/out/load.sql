-- 2 tables for postgresql, each behind those that it refers to.
-- Run it where the files are: psql -1 -v ON_ERROR_STOP=1 -f load.sql DATABASE
-- `tessaron load` does the same in one transaction, and checks what then stands there.

-- one_or_many: rows of $
CREATE TABLE "one_or_many" (
  "row_key" BIGINT NOT NULL,
  "call" BIGINT,
  PRIMARY KEY ("row_key")
);
COMMENT ON TABLE "one_or_many" IS 'rows of $';
COMMENT ON COLUMN "one_or_many"."call" IS '$.call';

-- one_or_many_pilot: rows of $.pilot[*]
CREATE TABLE "one_or_many_pilot" (
  "row_key" BIGINT NOT NULL,
  "parent_key" BIGINT NOT NULL,
  "ordinal" BIGINT NOT NULL,
  "name" TEXT,
  PRIMARY KEY ("row_key"),
  FOREIGN KEY ("parent_key") REFERENCES "one_or_many" ("row_key")
);
CREATE INDEX "one_or_many_pilot_parent_key_index" ON "one_or_many_pilot" ("parent_key");
COMMENT ON TABLE "one_or_many_pilot" IS 'rows of $.pilot[*]';
COMMENT ON COLUMN "one_or_many_pilot"."name" IS '$.pilot[*].name';

\copy "one_or_many" ("row_key", "call") FROM 'one_or_many.csv' WITH (FORMAT csv, HEADER true)
\copy "one_or_many_pilot" ("row_key", "parent_key", "ordinal", "name") FROM 'one_or_many_pilot.csv' WITH (FORMAT csv, HEADER true)

-- 1 table for postgresql, each behind those that it refers to.
-- Run it where the files are: psql -1 -v ON_ERROR_STOP=1 -f load.sql DATABASE
-- `tessaron load` does the same in one transaction, and checks what then stands there.

-- broken: rows of $
CREATE TABLE "broken" (
  "row_key" BIGINT NOT NULL,
  "call" BIGINT,
  "berth" TEXT,
  PRIMARY KEY ("row_key")
);
COMMENT ON TABLE "broken" IS 'rows of $';
COMMENT ON COLUMN "broken"."call" IS '$.call';
COMMENT ON COLUMN "broken"."berth" IS '$.berth';

\copy "broken" ("row_key", "call", "berth") FROM 'broken.csv' WITH (FORMAT csv, HEADER true)

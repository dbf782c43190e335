-- 1 table for postgresql, each behind those that it refers to.
-- Run it where the files are: psql -1 -v ON_ERROR_STOP=1 -f load.sql DATABASE
-- `tessaron load` does the same in one transaction, and checks what then stands there.

-- source_stays: rows of $.stays[*]
CREATE TABLE "source_stays" (
  "row_key" BIGINT NOT NULL,
  "call" BIGINT,
  "port" TEXT,
  "berth" TEXT,
  PRIMARY KEY ("row_key")
);
COMMENT ON TABLE "source_stays" IS 'rows of $.stays[*]';
COMMENT ON COLUMN "source_stays"."call" IS 'source.call';
COMMENT ON COLUMN "source_stays"."port" IS 'source.port';
COMMENT ON COLUMN "source_stays"."berth" IS '$.stays[*].berth';

\copy "source_stays" ("row_key", "call", "port", "berth") FROM 'source_stays.csv' WITH (FORMAT csv, HEADER true)

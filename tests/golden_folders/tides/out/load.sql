-- 2 tables for postgresql, each behind those that it refers to.
-- Run it where the files are: psql -1 -v ON_ERROR_STOP=1 -f load.sql DATABASE
-- `tessaron load` does the same in one transaction, and checks what then stands there.

-- tides: rows of $
CREATE TABLE "tides" (
  "row_key" BIGINT NOT NULL,
  "gauge" TEXT,
  PRIMARY KEY ("row_key")
);
COMMENT ON TABLE "tides" IS 'rows of $';
COMMENT ON COLUMN "tides"."gauge" IS '$.gauge';

-- tides_tides: rows of $.tides.*
CREATE TABLE "tides_tides" (
  "row_key" BIGINT NOT NULL,
  "parent_key" BIGINT NOT NULL,
  "ordinal" BIGINT NOT NULL,
  "key" DATE,
  "high" NUMERIC(2, 1),
  "low" NUMERIC(3, 2),
  PRIMARY KEY ("row_key"),
  FOREIGN KEY ("parent_key") REFERENCES "tides" ("row_key")
);
CREATE INDEX "tides_tides_parent_key_index" ON "tides_tides" ("parent_key");
COMMENT ON TABLE "tides_tides" IS 'rows of $.tides.*';
COMMENT ON COLUMN "tides_tides"."key" IS 'key of $.tides.*';
COMMENT ON COLUMN "tides_tides"."high" IS '$.tides.*.high';
COMMENT ON COLUMN "tides_tides"."low" IS '$.tides.*.low';

\copy "tides" ("row_key", "gauge") FROM 'tides.csv' WITH (FORMAT csv, HEADER true)
\copy "tides_tides" ("row_key", "parent_key", "ordinal", "key", "high", "low") FROM 'tides_tides.csv' WITH (FORMAT csv, HEADER true)

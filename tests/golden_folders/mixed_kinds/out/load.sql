-- 1 table for postgresql, each behind those that it refers to.
-- Run it where the files are: psql -1 -v ON_ERROR_STOP=1 -f load.sql DATABASE
-- `tessaron load` does the same in one transaction, and checks what then stands there.

-- mixed_kinds: rows of $
CREATE TABLE "mixed_kinds" (
  "row_key" BIGINT NOT NULL,
  "no" NUMERIC(22, 0),
  "draft" TEXT,
  "ballast" BIGINT,
  "ballast_fore" BIGINT,
  "ballast_aft" BIGINT,
  "row_rest" TEXT,
  PRIMARY KEY ("row_key")
);
COMMENT ON TABLE "mixed_kinds" IS 'rows of $';
COMMENT ON COLUMN "mixed_kinds"."no" IS '$.no';
COMMENT ON COLUMN "mixed_kinds"."draft" IS '$.draft';
COMMENT ON COLUMN "mixed_kinds"."ballast" IS '$.ballast';
COMMENT ON COLUMN "mixed_kinds"."ballast_fore" IS '$.ballast.fore';
COMMENT ON COLUMN "mixed_kinds"."ballast_aft" IS '$.ballast.aft';
COMMENT ON COLUMN "mixed_kinds"."row_rest" IS 'row_rest of $';

\copy "mixed_kinds" ("row_key", "no", "draft", "ballast", "ballast_fore", "ballast_aft", "row_rest") FROM 'mixed_kinds.csv' WITH (FORMAT csv, HEADER true)

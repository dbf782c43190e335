-- 2 tables for postgresql, each behind those that it refers to.
-- Run it where the files are: psql -1 -v ON_ERROR_STOP=1 -f load.sql DATABASE
-- `tessaron load` does the same in one transaction, and checks what then stands there.

-- compartments: rows of $
CREATE TABLE "compartments" (
  "row_key" BIGINT NOT NULL,
  "hull" TEXT,
  PRIMARY KEY ("row_key")
);
COMMENT ON TABLE "compartments" IS 'rows of $';
COMMENT ON COLUMN "compartments"."hull" IS '$.hull';

-- compartments_compartments: rows of $.compartments[*]
CREATE TABLE "compartments_compartments" (
  "row_key" BIGINT NOT NULL,
  "parent_key" BIGINT NOT NULL,
  "within_key" BIGINT,
  "ordinal" BIGINT NOT NULL,
  "depth" BIGINT,
  "no" BIGINT,
  "dry" BOOLEAN,
  PRIMARY KEY ("row_key"),
  FOREIGN KEY ("parent_key") REFERENCES "compartments" ("row_key"),
  FOREIGN KEY ("within_key") REFERENCES "compartments_compartments" ("row_key")
);
CREATE INDEX "compartments_compartments_parent_key_index" ON "compartments_compartments" ("parent_key");
CREATE INDEX "compartments_compartments_within_key_index" ON "compartments_compartments" ("within_key");
COMMENT ON TABLE "compartments_compartments" IS 'rows of $.compartments[*]';
COMMENT ON COLUMN "compartments_compartments"."depth" IS 'depth of $.compartments[*]';
COMMENT ON COLUMN "compartments_compartments"."no" IS '$.compartments[*].no';
COMMENT ON COLUMN "compartments_compartments"."dry" IS '$.compartments[*].dry';

\copy "compartments" ("row_key", "hull") FROM 'compartments.csv' WITH (FORMAT csv, HEADER true)
\copy "compartments_compartments" ("row_key", "parent_key", "within_key", "ordinal", "depth", "no", "dry") FROM 'compartments_compartments.csv' WITH (FORMAT csv, HEADER true)

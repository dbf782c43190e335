-- 2 tables for postgresql, each behind those that it refers to.
-- Run it where the files are: psql -1 -v ON_ERROR_STOP=1 -f load.sql DATABASE
-- `tessaron load` does the same in one transaction, and checks what then stands there.

-- zones: rows of $
CREATE TABLE "zones" (
  "row_key" BIGINT NOT NULL,
  "port" TEXT,
  "plan_depth" BIGINT,
  PRIMARY KEY ("row_key")
);
COMMENT ON TABLE "zones" IS 'rows of $';
COMMENT ON COLUMN "zones"."port" IS '$.port';
COMMENT ON COLUMN "zones"."plan_depth" IS '$.plan.depth';

-- zones_plan: rows of $.plan.nodes.*
CREATE TABLE "zones_plan" (
  "row_key" BIGINT NOT NULL,
  "parent_key" BIGINT NOT NULL,
  "within_key" BIGINT,
  "ordinal" BIGINT NOT NULL,
  "key" TEXT,
  "zones_plan_depth" BIGINT,
  "depth" BIGINT,
  PRIMARY KEY ("row_key"),
  FOREIGN KEY ("parent_key") REFERENCES "zones" ("row_key"),
  FOREIGN KEY ("within_key") REFERENCES "zones_plan" ("row_key")
);
CREATE INDEX "zones_plan_parent_key_index" ON "zones_plan" ("parent_key");
CREATE INDEX "zones_plan_within_key_index" ON "zones_plan" ("within_key");
COMMENT ON TABLE "zones_plan" IS 'rows of $.plan.nodes.*';
COMMENT ON COLUMN "zones_plan"."key" IS 'key of $.plan.nodes.*';
COMMENT ON COLUMN "zones_plan"."zones_plan_depth" IS 'depth of $.plan.nodes.*';
COMMENT ON COLUMN "zones_plan"."depth" IS '$.plan.nodes.*.depth';

\copy "zones" ("row_key", "port", "plan_depth") FROM 'zones.csv' WITH (FORMAT csv, HEADER true)
\copy "zones_plan" ("row_key", "parent_key", "within_key", "ordinal", "key", "zones_plan_depth", "depth") FROM 'zones_plan.csv' WITH (FORMAT csv, HEADER true)

-- 4 tables for postgresql, each behind those that it refers to.
-- Run it where the files are: psql -1 -v ON_ERROR_STOP=1 -f load.sql DATABASE
-- `tessaron load` does the same in one transaction, and checks what then stands there.

-- kinds: rows of $
CREATE TABLE "kinds" (
  "row_key" BIGINT NOT NULL,
  "id" BIGINT,
  "kind" TEXT,
  "at" TIMESTAMP WITH TIME ZONE,
  PRIMARY KEY ("row_key")
);
COMMENT ON TABLE "kinds" IS 'rows of $';
COMMENT ON COLUMN "kinds"."id" IS '$.id';
COMMENT ON COLUMN "kinds"."kind" IS '$.kind';
COMMENT ON COLUMN "kinds"."at" IS '$.at';

-- kinds_crane: rows of $: 3 fields that only the 16 rows of kind = crane have
CREATE TABLE "kinds_crane" (
  "row_key" BIGINT NOT NULL,
  "parent_key" BIGINT NOT NULL,
  "lift_t" NUMERIC(3, 1),
  "hook" TEXT,
  "boom" BIGINT,
  PRIMARY KEY ("row_key"),
  FOREIGN KEY ("parent_key") REFERENCES "kinds" ("row_key")
);
CREATE INDEX "kinds_crane_parent_key_index" ON "kinds_crane" ("parent_key");
COMMENT ON TABLE "kinds_crane" IS 'rows of $: 3 fields that only the 16 rows of kind = crane have';
COMMENT ON COLUMN "kinds_crane"."lift_t" IS '$.lift_t';
COMMENT ON COLUMN "kinds_crane"."hook" IS '$.hook';
COMMENT ON COLUMN "kinds_crane"."boom" IS '$.boom';

-- kinds_gate: rows of $: 3 fields that only the 16 rows of kind = gate have
CREATE TABLE "kinds_gate" (
  "row_key" BIGINT NOT NULL,
  "parent_key" BIGINT NOT NULL,
  "open" BOOLEAN,
  "lane" BIGINT,
  "pass" TEXT,
  PRIMARY KEY ("row_key"),
  FOREIGN KEY ("parent_key") REFERENCES "kinds" ("row_key")
);
CREATE INDEX "kinds_gate_parent_key_index" ON "kinds_gate" ("parent_key");
COMMENT ON TABLE "kinds_gate" IS 'rows of $: 3 fields that only the 16 rows of kind = gate have';
COMMENT ON COLUMN "kinds_gate"."open" IS '$.open';
COMMENT ON COLUMN "kinds_gate"."lane" IS '$.lane';
COMMENT ON COLUMN "kinds_gate"."pass" IS '$.pass';

-- kinds_tug: rows of $: 3 fields that only the 16 rows of kind = tug have
CREATE TABLE "kinds_tug" (
  "row_key" BIGINT NOT NULL,
  "parent_key" BIGINT NOT NULL,
  "pull_t" BIGINT,
  "lines" BIGINT,
  "tow" TEXT,
  PRIMARY KEY ("row_key"),
  FOREIGN KEY ("parent_key") REFERENCES "kinds" ("row_key")
);
CREATE INDEX "kinds_tug_parent_key_index" ON "kinds_tug" ("parent_key");
COMMENT ON TABLE "kinds_tug" IS 'rows of $: 3 fields that only the 16 rows of kind = tug have';
COMMENT ON COLUMN "kinds_tug"."pull_t" IS '$.pull_t';
COMMENT ON COLUMN "kinds_tug"."lines" IS '$.lines';
COMMENT ON COLUMN "kinds_tug"."tow" IS '$.tow';

\copy "kinds" ("row_key", "id", "kind", "at") FROM 'kinds.csv' WITH (FORMAT csv, HEADER true)
\copy "kinds_crane" ("row_key", "parent_key", "lift_t", "hook", "boom") FROM 'kinds_crane.csv' WITH (FORMAT csv, HEADER true)
\copy "kinds_gate" ("row_key", "parent_key", "open", "lane", "pass") FROM 'kinds_gate.csv' WITH (FORMAT csv, HEADER true)
\copy "kinds_tug" ("row_key", "parent_key", "pull_t", "lines", "tow") FROM 'kinds_tug.csv' WITH (FORMAT csv, HEADER true)

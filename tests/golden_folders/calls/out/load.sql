-- 4 tables for postgresql, each behind those that it refers to.
-- Run it where the files are: psql -1 -v ON_ERROR_STOP=1 -f load.sql DATABASE
-- `tessaron load` does the same in one transaction, and checks what then stands there.

-- calls: rows of $
CREATE TABLE "calls" (
  "row_key" BIGINT NOT NULL,
  "call" BIGINT,
  "ship_name" TEXT,
  "ship_imo" TEXT,
  PRIMARY KEY ("row_key")
);
COMMENT ON TABLE "calls" IS 'rows of $';
COMMENT ON COLUMN "calls"."call" IS '$.call';
COMMENT ON COLUMN "calls"."ship_name" IS '$.ship.name';
COMMENT ON COLUMN "calls"."ship_imo" IS '$.ship.imo';

-- calls_stays: rows of $.stays[*]
CREATE TABLE "calls_stays" (
  "row_key" BIGINT NOT NULL,
  "parent_key" BIGINT NOT NULL,
  "ordinal" BIGINT NOT NULL,
  "berth" TEXT,
  PRIMARY KEY ("row_key"),
  FOREIGN KEY ("parent_key") REFERENCES "calls" ("row_key")
);
CREATE INDEX "calls_stays_parent_key_index" ON "calls_stays" ("parent_key");
COMMENT ON TABLE "calls_stays" IS 'rows of $.stays[*]';
COMMENT ON COLUMN "calls_stays"."berth" IS '$.stays[*].berth';

-- calls_stays_moves: rows of $.stays[*].moves[*]
CREATE TABLE "calls_stays_moves" (
  "row_key" BIGINT NOT NULL,
  "parent_key" BIGINT NOT NULL,
  "ordinal" BIGINT NOT NULL,
  "crane" TEXT,
  "teu" NUMERIC(2, 1),
  PRIMARY KEY ("row_key"),
  FOREIGN KEY ("parent_key") REFERENCES "calls_stays" ("row_key")
);
CREATE INDEX "calls_stays_moves_parent_key_index" ON "calls_stays_moves" ("parent_key");
COMMENT ON TABLE "calls_stays_moves" IS 'rows of $.stays[*].moves[*]';
COMMENT ON COLUMN "calls_stays_moves"."crane" IS '$.stays[*].moves[*].crane';
COMMENT ON COLUMN "calls_stays_moves"."teu" IS '$.stays[*].moves[*].teu';

-- calls_stays_moves_seals: rows of $.stays[*].moves[*].seals[*]
CREATE TABLE "calls_stays_moves_seals" (
  "row_key" BIGINT NOT NULL,
  "parent_key" BIGINT NOT NULL,
  "ordinal" BIGINT NOT NULL,
  "value" TEXT,
  PRIMARY KEY ("row_key"),
  FOREIGN KEY ("parent_key") REFERENCES "calls_stays_moves" ("row_key")
);
CREATE INDEX "calls_stays_moves_seals_parent_key_index" ON "calls_stays_moves_seals" ("parent_key");
COMMENT ON TABLE "calls_stays_moves_seals" IS 'rows of $.stays[*].moves[*].seals[*]';
COMMENT ON COLUMN "calls_stays_moves_seals"."value" IS '$.stays[*].moves[*].seals[*]';

\copy "calls" ("row_key", "call", "ship_name", "ship_imo") FROM 'calls.csv' WITH (FORMAT csv, HEADER true)
\copy "calls_stays" ("row_key", "parent_key", "ordinal", "berth") FROM 'calls_stays.csv' WITH (FORMAT csv, HEADER true)
\copy "calls_stays_moves" ("row_key", "parent_key", "ordinal", "crane", "teu") FROM 'calls_stays_moves.csv' WITH (FORMAT csv, HEADER true)
\copy "calls_stays_moves_seals" ("row_key", "parent_key", "ordinal", "value") FROM 'calls_stays_moves_seals.csv' WITH (FORMAT csv, HEADER true)

-- 2 tables for postgresql, each behind those that it refers to.
-- Run it where the files are: psql -1 -v ON_ERROR_STOP=1 -f load.sql DATABASE
-- `tessaron load` does the same in one transaction, and checks what then stands there.

-- agents: rows of $
CREATE TABLE "agents" (
  "row_key" BIGINT NOT NULL,
  "call" BIGINT,
  PRIMARY KEY ("row_key")
);
COMMENT ON TABLE "agents" IS 'rows of $';
COMMENT ON COLUMN "agents"."call" IS '$.call';

-- charterer: rows of $.owner[*]: the same structure at 6 places, 72 rows; more than 5 places have it
CREATE TABLE "charterer" (
  "row_key" BIGINT NOT NULL,
  "place" TEXT NOT NULL,
  "parent_key" BIGINT NOT NULL,
  "ordinal" BIGINT NOT NULL,
  "agent" TEXT,
  "phone" TEXT,
  "email" TEXT,
  PRIMARY KEY ("row_key"),
  FOREIGN KEY ("parent_key") REFERENCES "agents" ("row_key")
);
CREATE INDEX "charterer_parent_key_index" ON "charterer" ("parent_key");
COMMENT ON TABLE "charterer" IS 'rows of $.owner[*]: the same structure at 6 places, 72 rows; more than 5 places have it';
COMMENT ON COLUMN "charterer"."agent" IS '$.owner[*].agent';
COMMENT ON COLUMN "charterer"."phone" IS '$.owner[*].phone';
COMMENT ON COLUMN "charterer"."email" IS '$.owner[*].email';

\copy "agents" ("row_key", "call") FROM 'agents.csv' WITH (FORMAT csv, HEADER true)
\copy "charterer" ("row_key", "place", "parent_key", "ordinal", "agent", "phone", "email") FROM 'charterer.csv' WITH (FORMAT csv, HEADER true)

-- 4 tables for postgresql, each behind those that it refers to.
-- Run it where the files are: psql -1 -v ON_ERROR_STOP=1 -f load.sql DATABASE
-- `tessaron load` does the same in one transaction, and checks what then stands there.

-- dues: rows of $
CREATE TABLE "dues" (
  "row_key" VARCHAR(32) NOT NULL,
  "call" TEXT,
  "arrived" DATE,
  "total" NUMERIC(9, 2),
  "kinds" TEXT,
  "weekday" TEXT,
  PRIMARY KEY ("row_key")
);
COMMENT ON TABLE "dues" IS 'rows of $';
COMMENT ON COLUMN "dues"."call" IS '$.call';
COMMENT ON COLUMN "dues"."arrived" IS '$.arrived';
COMMENT ON COLUMN "dues"."total" IS '$.dues[*].eur';
COMMENT ON COLUMN "dues"."kinds" IS '$.dues[*].kind';
COMMENT ON COLUMN "dues"."weekday" IS 'weekday_name(arrived)';

-- dues_lines: rows of $.dues[*]
CREATE TABLE "dues_lines" (
  "row_key" VARCHAR(32) NOT NULL,
  "parent_key" VARCHAR(32) NOT NULL,
  "ordinal" BIGINT NOT NULL,
  "call" TEXT,
  "kind" TEXT,
  "eur" NUMERIC(9, 2),
  PRIMARY KEY ("row_key"),
  FOREIGN KEY ("parent_key") REFERENCES "dues" ("row_key")
);
CREATE INDEX "dues_lines_parent_key_index" ON "dues_lines" ("parent_key");
COMMENT ON TABLE "dues_lines" IS 'rows of $.dues[*]';
COMMENT ON COLUMN "dues_lines"."call" IS 'dues.call';
COMMENT ON COLUMN "dues_lines"."kind" IS '$.dues[*].kind';
COMMENT ON COLUMN "dues_lines"."eur" IS '$.dues[*].eur';

-- dues_tags: rows of $.tags[*]
CREATE TABLE "dues_tags" (
  "row_key" VARCHAR(32) NOT NULL,
  "parent_key" VARCHAR(32) NOT NULL,
  "ordinal" BIGINT NOT NULL,
  "tag" TEXT,
  PRIMARY KEY ("row_key"),
  FOREIGN KEY ("parent_key") REFERENCES "dues" ("row_key")
);
CREATE INDEX "dues_tags_parent_key_index" ON "dues_tags" ("parent_key");
COMMENT ON TABLE "dues_tags" IS 'rows of $.tags[*]';
COMMENT ON COLUMN "dues_tags"."tag" IS '$.tags[*]';

-- dues_crew: rows of $.note.crew[*]
CREATE TABLE "dues_crew" (
  "row_key" VARCHAR(32) NOT NULL,
  "parent_key" VARCHAR(32) NOT NULL,
  "ordinal" BIGINT NOT NULL,
  "crew" BIGINT,
  PRIMARY KEY ("row_key"),
  FOREIGN KEY ("parent_key") REFERENCES "dues" ("row_key")
);
CREATE INDEX "dues_crew_parent_key_index" ON "dues_crew" ("parent_key");
COMMENT ON TABLE "dues_crew" IS 'rows of $.note.crew[*]';
COMMENT ON COLUMN "dues_crew"."crew" IS '$.note.crew[*]';

\copy "dues" ("row_key", "call", "arrived", "total", "kinds", "weekday") FROM 'dues.csv' WITH (FORMAT csv, HEADER true)
\copy "dues_lines" ("row_key", "parent_key", "ordinal", "call", "kind", "eur") FROM 'dues_lines.csv' WITH (FORMAT csv, HEADER true)
\copy "dues_tags" ("row_key", "parent_key", "ordinal", "tag") FROM 'dues_tags.csv' WITH (FORMAT csv, HEADER true)
\copy "dues_crew" ("row_key", "parent_key", "ordinal", "crew") FROM 'dues_crew.csv' WITH (FORMAT csv, HEADER true)

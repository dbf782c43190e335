-- 5 tables for postgresql, each behind those that it refers to.
-- Run it where the files are: psql -1 -v ON_ERROR_STOP=1 -f load.sql DATABASE
-- `tessaron load` does the same in one transaction, and checks what then stands there.

-- in_each_other: rows of $
CREATE TABLE "in_each_other" (
  "row_key" BIGINT NOT NULL,
  "call" TEXT,
  PRIMARY KEY ("row_key")
);
COMMENT ON TABLE "in_each_other" IS 'rows of $';
COMMENT ON COLUMN "in_each_other"."call" IS '$.call';

-- in_each_other_crates: rows of $.crates[*]
CREATE TABLE "in_each_other_crates" (
  "row_key" BIGINT NOT NULL,
  "parent_key" BIGINT NOT NULL,
  "within_key" BIGINT,
  "through_key" BIGINT,
  "ordinal" BIGINT NOT NULL,
  "depth" BIGINT,
  "crate_number" BIGINT,
  "weight" NUMERIC(4, 1),
  PRIMARY KEY ("row_key"),
  FOREIGN KEY ("parent_key") REFERENCES "in_each_other" ("row_key"),
  FOREIGN KEY ("within_key") REFERENCES "in_each_other_crates" ("row_key")
);
CREATE INDEX "in_each_other_crates_parent_key_index" ON "in_each_other_crates" ("parent_key");
CREATE INDEX "in_each_other_crates_within_key_index" ON "in_each_other_crates" ("within_key");
CREATE INDEX "in_each_other_crates_through_key_index" ON "in_each_other_crates" ("through_key");
COMMENT ON TABLE "in_each_other_crates" IS 'rows of $.crates[*]';
COMMENT ON COLUMN "in_each_other_crates"."depth" IS 'depth of $.crates[*]';
COMMENT ON COLUMN "in_each_other_crates"."crate_number" IS '$.crates[*].crate_number';
COMMENT ON COLUMN "in_each_other_crates"."weight" IS '$.crates[*].weight';

-- in_each_other_crates_seals: rows of $.crates[*].seals[*]
CREATE TABLE "in_each_other_crates_seals" (
  "row_key" BIGINT NOT NULL,
  "parent_key" BIGINT NOT NULL,
  "ordinal" BIGINT NOT NULL,
  "seal_number" BIGINT,
  "officer" TEXT,
  PRIMARY KEY ("row_key"),
  FOREIGN KEY ("parent_key") REFERENCES "in_each_other_crates" ("row_key")
);
CREATE INDEX "in_each_other_crates_seals_parent_key_index" ON "in_each_other_crates_seals" ("parent_key");
COMMENT ON TABLE "in_each_other_crates_seals" IS 'rows of $.crates[*].seals[*]';
COMMENT ON COLUMN "in_each_other_crates_seals"."seal_number" IS '$.crates[*].seals[*].seal_number';
COMMENT ON COLUMN "in_each_other_crates_seals"."officer" IS '$.crates[*].seals[*].officer';

-- in_each_other_seals: rows of $.seals[*]
CREATE TABLE "in_each_other_seals" (
  "row_key" BIGINT NOT NULL,
  "parent_key" BIGINT NOT NULL,
  "within_key" BIGINT,
  "through_key" BIGINT,
  "ordinal" BIGINT NOT NULL,
  "depth" BIGINT,
  "seal_number" BIGINT,
  "officer" TEXT,
  PRIMARY KEY ("row_key"),
  FOREIGN KEY ("parent_key") REFERENCES "in_each_other" ("row_key"),
  FOREIGN KEY ("within_key") REFERENCES "in_each_other_seals" ("row_key")
);
CREATE INDEX "in_each_other_seals_parent_key_index" ON "in_each_other_seals" ("parent_key");
CREATE INDEX "in_each_other_seals_within_key_index" ON "in_each_other_seals" ("within_key");
CREATE INDEX "in_each_other_seals_through_key_index" ON "in_each_other_seals" ("through_key");
COMMENT ON TABLE "in_each_other_seals" IS 'rows of $.seals[*]';
COMMENT ON COLUMN "in_each_other_seals"."depth" IS 'depth of $.seals[*]';
COMMENT ON COLUMN "in_each_other_seals"."seal_number" IS '$.seals[*].seal_number';
COMMENT ON COLUMN "in_each_other_seals"."officer" IS '$.seals[*].officer';

-- in_each_other_seals_crates: rows of $.seals[*].crates[*]
CREATE TABLE "in_each_other_seals_crates" (
  "row_key" BIGINT NOT NULL,
  "parent_key" BIGINT NOT NULL,
  "ordinal" BIGINT NOT NULL,
  "crate_number" BIGINT,
  "weight" NUMERIC(5, 1),
  PRIMARY KEY ("row_key"),
  FOREIGN KEY ("parent_key") REFERENCES "in_each_other_seals" ("row_key")
);
CREATE INDEX "in_each_other_seals_crates_parent_key_index" ON "in_each_other_seals_crates" ("parent_key");
COMMENT ON TABLE "in_each_other_seals_crates" IS 'rows of $.seals[*].crates[*]';
COMMENT ON COLUMN "in_each_other_seals_crates"."crate_number" IS '$.seals[*].crates[*].crate_number';
COMMENT ON COLUMN "in_each_other_seals_crates"."weight" IS '$.seals[*].crates[*].weight';

\copy "in_each_other" ("row_key", "call") FROM 'in_each_other.csv' WITH (FORMAT csv, HEADER true)
\copy "in_each_other_crates" ("row_key", "parent_key", "within_key", "through_key", "ordinal", "depth", "crate_number", "weight") FROM 'in_each_other_crates.csv' WITH (FORMAT csv, HEADER true)
\copy "in_each_other_crates_seals" ("row_key", "parent_key", "ordinal", "seal_number", "officer") FROM 'in_each_other_crates_seals.csv' WITH (FORMAT csv, HEADER true)
\copy "in_each_other_seals" ("row_key", "parent_key", "within_key", "through_key", "ordinal", "depth", "seal_number", "officer") FROM 'in_each_other_seals.csv' WITH (FORMAT csv, HEADER true)
\copy "in_each_other_seals_crates" ("row_key", "parent_key", "ordinal", "crate_number", "weight") FROM 'in_each_other_seals_crates.csv' WITH (FORMAT csv, HEADER true)
ALTER TABLE "in_each_other_crates" ADD FOREIGN KEY ("through_key") REFERENCES "in_each_other_crates_seals" ("row_key") DEFERRABLE INITIALLY DEFERRED;
ALTER TABLE "in_each_other_seals" ADD FOREIGN KEY ("through_key") REFERENCES "in_each_other_seals_crates" ("row_key") DEFERRABLE INITIALLY DEFERRED;

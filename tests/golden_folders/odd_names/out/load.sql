-- 2 tables for postgresql, each behind those that it refers to.
-- Run it where the files are: psql -1 -v ON_ERROR_STOP=1 -f load.sql DATABASE
-- `tessaron load` does the same in one transaction, and checks what then stands there.

-- odd_names: rows of $
CREATE TABLE "odd_names" (
  "odd_names_row_key" BIGINT NOT NULL,
  "select" BIGINT,
  "order_no" BIGINT,
  "order_no_2" BIGINT,
  "über_größe" BIGINT,
  "field" BIGINT,
  "x_y" BIGINT,
  "aaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaa_0ca6bce1" BIGINT,
  "row_key" BIGINT,
  PRIMARY KEY ("odd_names_row_key")
);
COMMENT ON TABLE "odd_names" IS 'rows of $';
COMMENT ON COLUMN "odd_names"."select" IS '$.select';
COMMENT ON COLUMN "odd_names"."order_no" IS '$[''Order No'']';
COMMENT ON COLUMN "odd_names"."order_no_2" IS '$.order_no';
COMMENT ON COLUMN "odd_names"."über_größe" IS '$[''über-größe'']';
COMMENT ON COLUMN "odd_names"."field" IS '$['''']';
COMMENT ON COLUMN "odd_names"."x_y" IS '$[''x.y'']';
COMMENT ON COLUMN "odd_names"."aaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaa_0ca6bce1" IS '$.aaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaa';
COMMENT ON COLUMN "odd_names"."row_key" IS '$.row_key';

-- odd_names_values: rows of $.values[*]
CREATE TABLE "odd_names_values" (
  "row_key" BIGINT NOT NULL,
  "odd_names_values_parent_key" BIGINT NOT NULL,
  "odd_names_values_ordinal" BIGINT NOT NULL,
  "parent_key" TEXT,
  "ordinal" BIGINT,
  PRIMARY KEY ("row_key"),
  FOREIGN KEY ("odd_names_values_parent_key") REFERENCES "odd_names" ("odd_names_row_key")
);
CREATE INDEX "odd_names_values_odd_names_values_parent_key_index" ON "odd_names_values" ("odd_names_values_parent_key");
COMMENT ON TABLE "odd_names_values" IS 'rows of $.values[*]';
COMMENT ON COLUMN "odd_names_values"."parent_key" IS '$.values[*].parent_key';
COMMENT ON COLUMN "odd_names_values"."ordinal" IS '$.values[*].ordinal';

\copy "odd_names" ("odd_names_row_key", "select", "order_no", "order_no_2", "über_größe", "field", "x_y", "aaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaa_0ca6bce1", "row_key") FROM 'odd_names.csv' WITH (FORMAT csv, HEADER true)
\copy "odd_names_values" ("row_key", "odd_names_values_parent_key", "odd_names_values_ordinal", "parent_key", "ordinal") FROM 'odd_names_values.csv' WITH (FORMAT csv, HEADER true)

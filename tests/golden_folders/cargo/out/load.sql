-- 3 tables for postgresql, each behind those that it refers to.
-- Run it where the files are: psql -1 -v ON_ERROR_STOP=1 -f load.sql DATABASE
-- `tessaron load` does the same in one transaction, and checks what then stands there.

-- manifests: rows of $
CREATE TABLE "manifests" (
  "row_key" BIGINT NOT NULL,
  "port" TEXT,
  PRIMARY KEY ("row_key")
);
COMMENT ON TABLE "manifests" IS 'rows of $';
COMMENT ON COLUMN "manifests"."port" IS '@port';

-- cargo: rows of $
CREATE TABLE "cargo" (
  "row_key" BIGINT NOT NULL,
  "document_key" BIGINT,
  "no" BIGINT,
  "ship" TEXT,
  "cargo_unit" TEXT,
  "remark_b" TEXT,
  "remark" TEXT,
  PRIMARY KEY ("row_key"),
  FOREIGN KEY ("document_key") REFERENCES "manifests" ("row_key")
);
CREATE INDEX "cargo_document_key_index" ON "cargo" ("document_key");
COMMENT ON TABLE "cargo" IS 'rows of $';
COMMENT ON COLUMN "cargo"."document_key" IS 'document_key of $';
COMMENT ON COLUMN "cargo"."no" IS '@no';
COMMENT ON COLUMN "cargo"."ship" IS 'ship';
COMMENT ON COLUMN "cargo"."cargo_unit" IS 'cargo/@unit';
COMMENT ON COLUMN "cargo"."remark_b" IS 'remark/b';
COMMENT ON COLUMN "cargo"."remark" IS 'remark/text()';

-- cargo_cargo_item: rows of cargo/item
CREATE TABLE "cargo_cargo_item" (
  "row_key" BIGINT NOT NULL,
  "parent_key" BIGINT NOT NULL,
  "ordinal" BIGINT NOT NULL,
  "code" TEXT,
  "value" NUMERIC(4, 2),
  PRIMARY KEY ("row_key"),
  FOREIGN KEY ("parent_key") REFERENCES "cargo" ("row_key")
);
CREATE INDEX "cargo_cargo_item_parent_key_index" ON "cargo_cargo_item" ("parent_key");
COMMENT ON TABLE "cargo_cargo_item" IS 'rows of cargo/item';
COMMENT ON COLUMN "cargo_cargo_item"."code" IS 'cargo/item/@code';
COMMENT ON COLUMN "cargo_cargo_item"."value" IS 'cargo/item/text()';

\copy "manifests" ("row_key", "port") FROM 'manifests.csv' WITH (FORMAT csv, HEADER true)
\copy "cargo" ("row_key", "document_key", "no", "ship", "cargo_unit", "remark_b", "remark") FROM 'cargo.csv' WITH (FORMAT csv, HEADER true)
\copy "cargo_cargo_item" ("row_key", "parent_key", "ordinal", "code", "value") FROM 'cargo_cargo_item.csv' WITH (FORMAT csv, HEADER true)

-- 2 tables for postgresql, each behind those that it refers to.
-- Run it where the files are: psql -1 -v ON_ERROR_STOP=1 -f load.sql DATABASE
-- `tessaron load` does the same in one transaction, and checks what then stands there.

-- envelope_documents: rows of $
CREATE TABLE "envelope_documents" (
  "row_key" BIGINT NOT NULL,
  "page" BIGINT,
  "of" BIGINT,
  "taken" DATE,
  PRIMARY KEY ("row_key")
);
COMMENT ON TABLE "envelope_documents" IS 'rows of $';
COMMENT ON COLUMN "envelope_documents"."page" IS '$.page';
COMMENT ON COLUMN "envelope_documents"."of" IS '$.of';
COMMENT ON COLUMN "envelope_documents"."taken" IS '$.taken';

-- envelope: rows of $
CREATE TABLE "envelope" (
  "row_key" BIGINT NOT NULL,
  "document_key" BIGINT,
  "call" BIGINT,
  "due" NUMERIC(4, 2),
  PRIMARY KEY ("row_key"),
  FOREIGN KEY ("document_key") REFERENCES "envelope_documents" ("row_key")
);
CREATE INDEX "envelope_document_key_index" ON "envelope" ("document_key");
COMMENT ON TABLE "envelope" IS 'rows of $';
COMMENT ON COLUMN "envelope"."document_key" IS 'document_key of $';
COMMENT ON COLUMN "envelope"."call" IS '$.call';
COMMENT ON COLUMN "envelope"."due" IS '$.due';

\copy "envelope_documents" ("row_key", "page", "of", "taken") FROM 'envelope_documents.csv' WITH (FORMAT csv, HEADER true)
\copy "envelope" ("row_key", "document_key", "call", "due") FROM 'envelope.csv' WITH (FORMAT csv, HEADER true)

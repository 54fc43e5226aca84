-- +goose Up

-- Workbooks of owners that outputs fill, as they were sent. Their number is the SHA-256 of the bytes.
CREATE TABLE workbook_files (
  id      text PRIMARY KEY CHECK (id ~ '^[0-9a-f]{64}$'),
  name    text NOT NULL,
  size    bigint NOT NULL,
  facts   jsonb NOT NULL,
  data    bytea NOT NULL,
  kept_at timestamptz NOT NULL DEFAULT now() -- when it was last sent
);
ALTER TABLE workbook_files ALTER COLUMN data SET STORAGE EXTERNAL; -- it is packed already

-- Which versions of reports have which of them.
CREATE TABLE workbook_uses (
  report_id bigint NOT NULL,
  version   int NOT NULL,
  file_id   text NOT NULL REFERENCES workbook_files,
  PRIMARY KEY (report_id, version, file_id),
  FOREIGN KEY (report_id, version) REFERENCES report_versions ON DELETE CASCADE
);
CREATE INDEX ON workbook_uses (file_id);

-- +goose Down

DROP TABLE workbook_uses, workbook_files;

-- Version history
--   5  files, lists that are kept as files, rows that were checked

-- Bytes that are kept, by their SHA-256; they lie below `files/` in the data folder. A row is
-- written when its bytes are durable. A list is a file with one JSON value a line.
CREATE TABLE files (
  sha256      TEXT PRIMARY KEY,
  size        INTEGER NOT NULL,       -- bytes
  name        TEXT NOT NULL,          -- as it was first kept; a value that names it has its own
  media_type  TEXT NOT NULL,
  kept_by     TEXT NOT NULL,
  kept_at     INTEGER NOT NULL,
  idle_from   INTEGER,                -- since when no run uses it; null while one does
  count       INTEGER,                -- of a list: how many values
  marks       BLOB                    -- of a list: pairs of index and byte position, 8 bytes each
) STRICT, WITHOUT ROWID;
CREATE INDEX files_idle ON files (idle_from) WHERE idle_from IS NOT NULL;
CREATE INDEX files_by_time ON files (kept_at, sha256);

-- Which run has a file in its params, or in a step's input or output.
CREATE TABLE file_uses (
  run     INTEGER NOT NULL REFERENCES runs,
  sha256  TEXT NOT NULL REFERENCES files,
  PRIMARY KEY (run, sha256)
) STRICT, WITHOUT ROWID;
CREATE INDEX file_uses_by_file ON file_uses (sha256);

-- Files whose rows were checked, all without an error: as which rows, and the list that came of it.
CREATE TABLE row_checks (
  sha256  TEXT NOT NULL REFERENCES files,
  kind    TEXT NOT NULL,              -- hash of the rows' schema and of how the file was read
  list    TEXT NOT NULL REFERENCES files,
  PRIMARY KEY (sha256, kind)
) STRICT, WITHOUT ROWID;
CREATE INDEX row_checks_by_list ON row_checks (list);

-- What an each gives that is too long for a value: by kind (all, done, failures) a reference.
CREATE TABLE lists (
  part   INTEGER NOT NULL REFERENCES parts,
  kind   TEXT NOT NULL,
  value  TEXT NOT NULL,               -- JSON object: list, count, size
  PRIMARY KEY (part, kind)
) STRICT, WITHOUT ROWID;

-- Of an each: the chore in a helper process that it waits for: read (its list), gather (its
-- outputs); null if none.
ALTER TABLE parts ADD COLUMN awaits TEXT;
CREATE INDEX parts_awaiting ON parts (id) WHERE awaits IS NOT NULL;

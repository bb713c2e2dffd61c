-- Version history
--  15  saved filters of the list of runs

-- `wanted` is a JSON object: the query of the list, by the names of its fields.
CREATE TABLE filters (
  name      TEXT PRIMARY KEY,
  wanted    TEXT NOT NULL,
  saved_at  INTEGER NOT NULL,          -- microseconds since 1970 UTC
  saved_by  TEXT NOT NULL
) STRICT, WITHOUT ROWID;

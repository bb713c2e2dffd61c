-- Version history
--  13  how much flows through what an each repeats, and how long it took

-- Of each node inside an each: how many of its steps, over all items, are how. Of an each inside it
-- how many of its items are, and 'total' of them. `left_cancelled` and `left_skipped` count steps
-- that have no row, since a part around them ended first.
CREATE TABLE flows (
  each    INTEGER NOT NULL REFERENCES parts,
  node    INTEGER NOT NULL,
  state   TEXT NOT NULL,
  number  INTEGER NOT NULL,
  PRIMARY KEY (each, node, state)
) STRICT, WITHOUT ROWID;

-- How long attempts took that are done or failed: how many of them by bucket. Bucket n is from
-- 1.1^n microseconds to 1.1^(n+1).
CREATE TABLE flow_times (
  each     INTEGER NOT NULL REFERENCES parts,
  node     INTEGER NOT NULL,
  bucket   INTEGER NOT NULL,
  number   INTEGER NOT NULL,
  longest  INTEGER NOT NULL,          -- microseconds
  PRIMARY KEY (each, node, bucket)
) STRICT, WITHOUT ROWID;

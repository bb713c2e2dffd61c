-- Version history
--  17  relays: steps that a worker runs one behind the other

-- Steps of a sequence that a worker was given together with one that has rows: it runs them behind
-- that, each with what those before it gave. They get rows when they end, or when their turn comes.
CREATE TABLE relays (
  attempt    INTEGER PRIMARY KEY,     -- of the first
  count      INTEGER NOT NULL,
  run        INTEGER NOT NULL REFERENCES runs,
  part       INTEGER NOT NULL REFERENCES parts,  -- the sequence
  position   INTEGER NOT NULL,        -- of the first in it
  worker     TEXT NOT NULL REFERENCES workers,
  code       TEXT NOT NULL            -- JSON: of each the hash of its code, as the worker has it
) STRICT;

-- The highest number of an attempt that was given out and never got a row: no other gets it.
INSERT INTO service (key, value) VALUES ('never_begun', '0');

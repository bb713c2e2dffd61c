-- Version history
--  14  ended runs and attempts by hour, workflow and step

-- `hour` is in hours since 1970 UTC. `address` is that of a step, without the keys of items; empty
-- for whole runs. `outcome` is that of a run or attempt.
CREATE TABLE hours (
  workflow  TEXT NOT NULL,
  hour      INTEGER NOT NULL,
  address   TEXT NOT NULL,
  outcome   TEXT NOT NULL,
  number    INTEGER NOT NULL,
  waited    INTEGER NOT NULL,          -- microseconds until they began, together
  PRIMARY KEY (workflow, hour, address, outcome)
) STRICT, WITHOUT ROWID;

-- How long they took: how many by bucket, as in `flow_times`.
CREATE TABLE hour_times (
  workflow  TEXT NOT NULL,
  hour      INTEGER NOT NULL,
  address   TEXT NOT NULL,
  bucket    INTEGER NOT NULL,
  number    INTEGER NOT NULL,
  PRIMARY KEY (workflow, hour, address, bucket)
) STRICT, WITHOUT ROWID;

-- Version history
--   3  pools, deadlines, retries, runs that wait for others of their workflow

-- Pools that were declared by a loom or made by hand. Several declarations may differ.
CREATE TABLE pools (
  name        TEXT PRIMARY KEY,
  by_hand     TEXT NOT NULL,          -- JSON object: limit, rate, note as they were set by hand
  paused      TEXT,                   -- JSON object while it is paused: who, at, reason
  created_at  INTEGER NOT NULL,
  created_by  TEXT NOT NULL
) STRICT, WITHOUT ROWID;

CREATE TABLE pool_declarations (
  pool         TEXT NOT NULL REFERENCES pools,
  loom         TEXT NOT NULL,
  facts        TEXT NOT NULL,         -- JSON object: limit, rate, note
  declared_at  INTEGER NOT NULL,
  PRIMARY KEY (pool, loom)
) STRICT, WITHOUT ROWID;

ALTER TABLE runs ADD COLUMN deadline_at INTEGER;    -- it must have ended by then
ALTER TABLE runs ADD COLUMN entered INTEGER NOT NULL DEFAULT 1;  -- 0 waits for runs of its workflow
CREATE INDEX runs_under_way ON runs (workflow, entered, priority, number) WHERE ended_at IS NULL;
CREATE INDEX runs_deadline ON runs (deadline_at)
  WHERE deadline_at IS NOT NULL AND ended_at IS NULL AND stop IS NULL;

ALTER TABLE steps ADD COLUMN deadline_at INTEGER;   -- as of runs
CREATE INDEX steps_deadline ON steps (deadline_at)
  WHERE deadline_at IS NOT NULL AND ended_at IS NULL AND stop IS NULL;

-- What in it backs off or rests: of an item steps and eaches, of an each items.
ALTER TABLE parts ADD COLUMN asleep INTEGER NOT NULL DEFAULT 0;

ALTER TABLE attempts ADD COLUMN pool TEXT NOT NULL DEFAULT '';  -- with its value: gauge-link[north]
-- An attempt of a shared process that was given up while it ran: 1 until that process has ended.
ALTER TABLE attempts ADD COLUMN abandoned INTEGER NOT NULL DEFAULT 0;
CREATE INDEX attempts_of_pools ON attempts (begun_at) WHERE pool <> '';
CREATE INDEX attempts_abandoned ON attempts (worker) WHERE abandoned = 1;

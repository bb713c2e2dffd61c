-- Version history
--   6  runs that start later, schedules, functions that are called at a run's end

ALTER TABLE runs ADD COLUMN start_by INTEGER;       -- it is not begun after that
ALTER TABLE runs ADD COLUMN planned_at TEXT;        -- for when it was planned, RFC 3339 with zone
ALTER TABLE runs ADD COLUMN schedule TEXT;          -- the schedule that started it
ALTER TABLE runs ADD COLUMN after INTEGER;          -- the run of whose end it tells
-- `entered` is -1 while a run's start time is ahead, or it waits for its turn to be opened.
CREATE INDEX runs_ahead ON runs (coalesce(start_at, 0), number)
  WHERE entered = -1 AND state <> 'paused' AND ended_at IS NULL;
CREATE INDEX runs_start_by ON runs (start_by)
  WHERE start_by IS NOT NULL AND started_at IS NULL AND ended_at IS NULL AND stop IS NULL;
CREATE INDEX runs_of_schedule ON runs (schedule, number) WHERE schedule IS NOT NULL;
CREATE INDEX runs_of_schedule_open ON runs (schedule)
  WHERE schedule IS NOT NULL AND ended_at IS NULL;
CREATE INDEX start_keys_by_key ON start_keys (key);
CREATE INDEX runs_after ON runs (after) WHERE after IS NOT NULL;

-- What starts a workflow again and again by the clock.
CREATE TABLE schedules (
  name        TEXT PRIMARY KEY,
  loom        TEXT,                   -- that declares it; null where it was made by hand
  declared    TEXT NOT NULL,          -- JSON object: as the loom declares it, or as it was made
  by_hand     TEXT NOT NULL,          -- JSON object: what was changed of that by hand
  paused      TEXT,                   -- JSON object while it is paused: by, at, reason
  next_at     INTEGER,                -- the next planned time; null while it is paused, or none
  waiting_at  INTEGER,                -- a planned time that waits for the end of an earlier run
  last        TEXT,                   -- JSON object: what came of the newest planned time
  passed_over INTEGER NOT NULL,       -- planned times at which it started nothing
  created_at  INTEGER NOT NULL,
  created_by  TEXT NOT NULL
) STRICT, WITHOUT ROWID;
CREATE INDEX schedules_next ON schedules (next_at) WHERE next_at IS NOT NULL;

-- Tasks that are started at the end of each run of their loom, or of some.
CREATE TABLE listeners (
  loom      TEXT NOT NULL,
  task      TEXT NOT NULL,            -- loom/task
  states    TEXT NOT NULL,            -- JSON list of RunState; empty for all
  workflows TEXT NOT NULL,            -- JSON list of loom/workflow; empty for all
  PRIMARY KEY (loom, task)
) STRICT, WITHOUT ROWID;

-- Version history
--   4  pause, what long steps saved, what was decided by hand, the ledger, rounds

ALTER TABLE runs ADD COLUMN paused_at INTEGER;      -- while paused: since when nothing of it executes
ALTER TABLE runs ADD COLUMN hands INTEGER NOT NULL DEFAULT 0;    -- 1 where `hands` has rows of it
ALTER TABLE runs ADD COLUMN renewed INTEGER NOT NULL DEFAULT 0;  -- 1 where rows were made to wait again
DROP INDEX runs_deadline;
CREATE INDEX runs_deadline ON runs (deadline_at)
  WHERE deadline_at IS NOT NULL AND ended_at IS NULL AND stop IS NULL AND paused_at IS NULL;
CREATE INDEX runs_held ON runs (number) WHERE state IN ('pausing', 'paused');

-- Rows of parts and steps in state `waiting` have been run before and are to be again; they keep
-- their end time until they begin.
ALTER TABLE parts ADD COLUMN again INTEGER NOT NULL DEFAULT 0;   -- of an each: items that wait so
CREATE INDEX parts_to_redo ON parts (id) WHERE again > 0;
CREATE INDEX parts_again ON parts (parent, item) WHERE state = 'waiting' AND value IS NOT NULL;

ALTER TABLE steps ADD COLUMN saved TEXT;            -- JSON object: progress, places, what was kept
ALTER TABLE steps ADD COLUMN held TEXT;             -- paused by hand: the StepState to go back to
ALTER TABLE steps ADD COLUMN held_at INTEGER;       -- and since when
ALTER TABLE steps ADD COLUMN spared INTEGER NOT NULL DEFAULT 0;  -- time paused, for a retry's within
ALTER TABLE steps ADD COLUMN counts_from INTEGER NOT NULL DEFAULT 0;  -- attempts that count no more
ALTER TABLE steps ADD COLUMN supplied INTEGER NOT NULL DEFAULT 0;     -- 1: output given by hand
DROP INDEX steps_due;
CREATE INDEX steps_due ON steps (due_at) WHERE due_at IS NOT NULL AND state <> 'paused';
DROP INDEX steps_deadline;
CREATE INDEX steps_deadline ON steps (deadline_at)
  WHERE deadline_at IS NOT NULL AND ended_at IS NULL AND state <> 'paused';

ALTER TABLE attempts ADD COLUMN round INTEGER NOT NULL DEFAULT 1;

-- What people decided about a step, also before it begins; it stays when the run is mended.
CREATE TABLE hands (
  run      INTEGER NOT NULL REFERENCES runs,
  address  TEXT NOT NULL,             -- within the run, without attempt
  facts    TEXT NOT NULL,             -- JSON object: inputs, pool, priority, fate, output, by, reason
  PRIMARY KEY (run, address)
) STRICT, WITHOUT ROWID;

-- Side effects that attempts have begun and done. One begun by an attempt that has ended is unsure.
CREATE TABLE ledger (
  run       INTEGER NOT NULL REFERENCES runs,
  scope     TEXT NOT NULL,            -- the step's address without attempt; '' is the whole run
  what      TEXT NOT NULL,            -- the task's name for the effect
  state     TEXT NOT NULL,            -- begun, done
  attempt   INTEGER NOT NULL REFERENCES attempts,  -- that began it
  call      INTEGER NOT NULL,         -- which of its calls, so that a request sent twice counts once
  token     TEXT NOT NULL,            -- for outsides that know idempotency keys
  value     TEXT,                     -- of a done one, JSON
  begun_at  INTEGER NOT NULL,
  done_at   INTEGER,
  by        TEXT,                     -- who said so, where someone did by hand
  PRIMARY KEY (run, scope, what)
) STRICT, WITHOUT ROWID;
CREATE INDEX ledger_begun ON ledger (run) WHERE state = 'begun';

CREATE INDEX commands_by_who ON commands (who, id);
CREATE INDEX commands_by_what ON commands (what, id);

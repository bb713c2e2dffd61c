-- Version history
--   2  parallels, eaches and their items, follow-ups, conditions; runs of a single task; code kept

ALTER TABLE runs ADD COLUMN task TEXT;              -- of a run of a single task: its full name
ALTER TABLE runs ADD COLUMN cancels INTEGER NOT NULL DEFAULT 0;  -- 2 stops the follow-ups too
ALTER TABLE runs ADD COLUMN failures_allowed INTEGER NOT NULL DEFAULT 0;  -- items, of eaches done

ALTER TABLE parts ADD COLUMN inside INTEGER REFERENCES parts;  -- the item that it stands in
ALTER TABLE parts ADD COLUMN item INTEGER NOT NULL DEFAULT 0;  -- of an item: its index
ALTER TABLE parts ADD COLUMN name TEXT;             -- of an item: its name, where it has one
ALTER TABLE parts ADD COLUMN value TEXT;            -- of an item: what it stands for
ALTER TABLE parts ADD COLUMN outcome TEXT;          -- PartState, decided before its follow-ups end
ALTER TABLE parts ADD COLUMN closed TEXT;           -- OneFails: nothing more begins in it
ALTER TABLE parts ADD COLUMN following INTEGER NOT NULL DEFAULT 0;  -- decided, not yet settled
ALTER TABLE parts ADD COLUMN unmade INTEGER NOT NULL DEFAULT 0;  -- of an each: items without a row
ALTER TABLE parts ADD COLUMN skip_reason TEXT;      -- SkipReason, the gravest of what is in it
ALTER TABLE parts ADD COLUMN fault TEXT;            -- why it failed of itself
ALTER TABLE parts ADD COLUMN error TEXT;            -- what failed first in it
ALTER TABLE parts ADD COLUMN size INTEGER NOT NULL DEFAULT 0;  -- of its output, bytes
ALTER TABLE steps ADD COLUMN inside INTEGER REFERENCES parts;  -- the item that it stands in

-- What a worker must fit to run a step: loom/task, @ and a hash of the types that the plan knows.
ALTER TABLE steps RENAME COLUMN task TO contract;

DROP INDEX parts_by_place;
CREATE UNIQUE INDEX parts_by_place ON parts (parent, node, item);
CREATE UNIQUE INDEX parts_root ON parts (run) WHERE parent IS NULL;
CREATE INDEX parts_inside ON parts (run, inside, rank) WHERE value IS NULL;
CREATE INDEX parts_by_state ON parts (parent, coalesce(outcome, state), item)
  WHERE value IS NOT NULL;
CREATE INDEX parts_by_name ON parts (parent, name) WHERE name IS NOT NULL;
CREATE INDEX parts_unmade ON parts (id) WHERE unmade > 0 AND outcome IS NULL;
CREATE INDEX parts_faulty ON parts (run, rank) WHERE fault IS NOT NULL;
DROP INDEX steps_by_run;
CREATE INDEX steps_inside ON steps (run, inside, rank);
CREATE INDEX steps_open ON steps (run, rank) WHERE ended_at IS NULL;
CREATE INDEX steps_failed ON steps (run, rank) WHERE state = 'failed';

-- The list that an each goes through, as it was read once; its items are made from it in windows.
CREATE TABLE sources (
  part   INTEGER PRIMARY KEY REFERENCES parts,
  items  TEXT NOT NULL                -- JSON list; with batch= still one by one
) STRICT;

-- Code that was ever published or brought by a worker.
CREATE TABLE codes (
  task       TEXT NOT NULL,           -- loom/task
  code_hash  TEXT NOT NULL,
  source     TEXT NOT NULL,
  seen_at    INTEGER NOT NULL,        -- first
  PRIMARY KEY (task, code_hash)
) STRICT, WITHOUT ROWID;

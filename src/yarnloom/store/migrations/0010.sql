-- Version history
--  10  how far parts and steps are, how much of the time each takes, which items only wait, and which
--      follow-ups failed

ALTER TABLE steps ADD COLUMN fraction REAL NOT NULL DEFAULT 0;       -- how far it is, from 0 to 1

ALTER TABLE parts ADD COLUMN fraction REAL NOT NULL DEFAULT 0;       -- the same of all that is in it
ALTER TABLE parts ADD COLUMN fraction_then REAL NOT NULL DEFAULT 0;  -- and as its pace is counted from
ALTER TABLE parts ADD COLUMN since INTEGER NOT NULL DEFAULT 0;       -- that time; pauses move it on
ALTER TABLE parts ADD COLUMN moved_at INTEGER;                       -- when that changed last
ALTER TABLE parts ADD COLUMN covers INTEGER NOT NULL DEFAULT 0;      -- of an each: values in its list
ALTER TABLE parts ADD COLUMN covered INTEGER NOT NULL DEFAULT 0;     -- those whose items count whole
ALTER TABLE parts ADD COLUMN begun_at INTEGER;                       -- of an item: its first attempt
ALTER TABLE parts ADD COLUMN idle INTEGER NOT NULL DEFAULT 0;        -- of an each: items that only wait

-- How long the nodes of a workflow took in its newest done runs. A run keeps the row that was the
-- newest when it started, so that its shares of the time never change.
CREATE TABLE weights (
  id        INTEGER PRIMARY KEY,
  workflow  TEXT NOT NULL,             -- loom/workflow
  seconds   REAL NOT NULL,             -- of a whole run
  nodes     TEXT NOT NULL,             -- JSON object: by address in the plan, seconds
  made_at   INTEGER NOT NULL
) STRICT;
CREATE INDEX weights_by_workflow ON weights (workflow, id);

ALTER TABLE runs ADD COLUMN weights INTEGER REFERENCES weights;      -- null: nothing was known
ALTER TABLE runs ADD COLUMN spared INTEGER NOT NULL DEFAULT 0;       -- paused within this round
ALTER TABLE runs ADD COLUMN followups_failed INTEGER NOT NULL DEFAULT 0;  -- as things stand now
CREATE INDEX runs_followups_failed ON runs (number) WHERE followups_failed > 0;

-- Runs that have not ended, in order: the oldest are asked what they wait for.
CREATE INDEX runs_not_ended ON runs (number) WHERE ended_at IS NULL;

-- Version history
--   1  tasks, plans, workflows, runs, parts, steps, attempts, start keys, workers, command log
--
-- Times are microseconds since 1970-01-01 UTC, as integers. Values are JSON text.
-- Ids are given out by the one writer, ascending; they are never used again.

-- What the service knows of itself: id (random, once), started (how often it was started).
CREATE TABLE service (
  key   TEXT PRIMARY KEY,
  value TEXT NOT NULL
) STRICT, WITHOUT ROWID;

-- The tasks of the looms that were published.
CREATE TABLE tasks (
  name          TEXT PRIMARY KEY,     -- loom/task
  facts         TEXT NOT NULL,        -- input and output schema, code hash, source, summary, grace
  published_at  INTEGER NOT NULL
) STRICT, WITHOUT ROWID;

-- Every plan that was ever published; runs keep the one they started with.
CREATE TABLE plans (
  id            INTEGER PRIMARY KEY,
  workflow      TEXT NOT NULL,        -- loom/workflow
  version       TEXT NOT NULL,        -- twelve hex digits, by content
  document      TEXT NOT NULL,        -- the JSON plan
  published_at  INTEGER NOT NULL,
  UNIQUE (workflow, version)
) STRICT;

-- The current version of each workflow.
CREATE TABLE workflows (
  name          TEXT PRIMARY KEY,     -- loom/workflow
  plan          INTEGER NOT NULL REFERENCES plans,
  published_at  INTEGER NOT NULL,
  published_by  TEXT NOT NULL
) STRICT, WITHOUT ROWID;

-- One execution of a workflow.
CREATE TABLE runs (
  number      INTEGER PRIMARY KEY AUTOINCREMENT,  -- never given out twice
  plan        INTEGER NOT NULL REFERENCES plans,
  workflow    TEXT NOT NULL,          -- loom/workflow, as in plans
  version     TEXT NOT NULL,
  state       TEXT NOT NULL,          -- RunState
  stop        TEXT,                   -- why it is told to stop: cancel
  params      TEXT NOT NULL,          -- as given, defaults filled in
  output      TEXT,                   -- when done
  error       TEXT,                   -- when failed or cancelled: {"message", "step", ...}
  priority    INTEGER NOT NULL,       -- higher first
  share       TEXT NOT NULL,          -- whom fair turns are counted for; '' is the run itself
  tags        TEXT NOT NULL,          -- JSON list of text
  start_key   TEXT NOT NULL,
  started_by  TEXT NOT NULL,          -- who gave the start command
  round       INTEGER NOT NULL,       -- 1, and one more for each mend
  created_at  INTEGER NOT NULL,
  start_at    INTEGER,                -- not before, where one was given
  started_at  INTEGER,                -- when its first attempt began
  ended_at    INTEGER
) STRICT;
CREATE INDEX runs_by_state ON runs (state, number);
CREATE INDEX runs_by_workflow ON runs (workflow, number);

-- A start key belongs to a workflow and names the run that it made.
CREATE TABLE start_keys (
  workflow     TEXT NOT NULL,
  key          TEXT NOT NULL,
  run          INTEGER NOT NULL,      -- kept even when the run is removed
  params_hash  TEXT NOT NULL,         -- of the params as given
  created_at   INTEGER NOT NULL,
  PRIMARY KEY (workflow, key)
) STRICT, WITHOUT ROWID;

-- Parts that hold others and have begun: a sequence, later also parallel, each and its items.
-- Children not yet begun have no row: they are total minus the counters.
CREATE TABLE parts (
  id           INTEGER PRIMARY KEY,
  run          INTEGER NOT NULL REFERENCES runs,
  parent       INTEGER REFERENCES parts,  -- null for the root
  node         INTEGER NOT NULL,      -- index in the plan
  rank         BLOB NOT NULL,         -- positions from outside in; bytes compare as plan order
  state        TEXT NOT NULL,         -- PartState
  rest_state   TEXT,                  -- what became of the children that never began
  rest_reason  TEXT,                  -- and why: SkipReason
  total        INTEGER NOT NULL,      -- children
  ready        INTEGER NOT NULL,      -- children by state; the others wait
  running      INTEGER NOT NULL,
  backing_off  INTEGER NOT NULL,
  resting      INTEGER NOT NULL,
  paused       INTEGER NOT NULL,
  done         INTEGER NOT NULL,
  failed       INTEGER NOT NULL,
  cancelled    INTEGER NOT NULL,
  skipped      INTEGER NOT NULL,
  output       TEXT,
  started_at   INTEGER NOT NULL,
  ended_at     INTEGER
) STRICT;
CREATE UNIQUE INDEX parts_by_place ON parts (run, parent, node);

-- Uses of a task that could begin, or did. Steps that still wait have no row.
CREATE TABLE steps (
  id           INTEGER PRIMARY KEY,
  run          INTEGER NOT NULL REFERENCES runs,
  part         INTEGER NOT NULL REFERENCES parts,  -- the part around it
  node         INTEGER NOT NULL,      -- index in the plan
  rank         BLOB NOT NULL,         -- as in parts
  task         TEXT NOT NULL,         -- loom/task
  pool         TEXT NOT NULL,         -- '' is no pool
  priority     INTEGER NOT NULL,
  share        TEXT NOT NULL,         -- for fair turns; never empty
  state        TEXT NOT NULL,         -- StepState
  stop         TEXT,                  -- why a running attempt is told to stop
  skip_reason  TEXT,                  -- SkipReason
  open         INTEGER,               -- id of the attempt that is handed out or running
  attempts     INTEGER NOT NULL,      -- number of the newest attempt
  tries        INTEGER NOT NULL,      -- attempts that count for the retry rule
  losses       INTEGER NOT NULL,      -- attempts whose worker or process died
  due_at       INTEGER,               -- of one backing off or resting: until when
  input        TEXT NOT NULL,         -- with every reference replaced by its value
  output       TEXT,
  error        TEXT,                  -- {"type", "message", "traceback", ...}
  ready_at     INTEGER NOT NULL,
  started_at   INTEGER,               -- when its first attempt began
  ended_at     INTEGER
) STRICT;
CREATE UNIQUE INDEX steps_by_place ON steps (part, node);
CREATE INDEX steps_by_run ON steps (run, rank);
CREATE INDEX steps_to_start ON steps (pool, priority, share, task, run, rank)
  WHERE state = 'ready' AND open IS NULL;
CREATE INDEX steps_due ON steps (due_at) WHERE due_at IS NOT NULL;

-- Tries of a step. One without an outcome is open: handed out, or running.
CREATE TABLE attempts (
  id         INTEGER PRIMARY KEY,
  step       INTEGER NOT NULL REFERENCES steps,
  run        INTEGER NOT NULL,
  number     INTEGER NOT NULL,        -- within its step, from 1
  try        INTEGER NOT NULL,        -- ctx.tries
  worker     TEXT NOT NULL REFERENCES workers,
  code_hash  TEXT NOT NULL,           -- of the task, as the worker has it
  outcome    TEXT,                    -- Outcome; null while open
  error      TEXT,
  pid        INTEGER,                 -- of the process that ran it
  cpu        INTEGER,                 -- processor time, microseconds; null in a shared process
  memory     INTEGER,                 -- its process's peak so far, bytes; null in a shared process
  ready_at   INTEGER NOT NULL,        -- since when the step could have begun
  handed_at  INTEGER NOT NULL,
  begun_at   INTEGER,
  ended_at   INTEGER
) STRICT;
CREATE INDEX attempts_by_step ON attempts (step, number);
CREATE INDEX attempts_open ON attempts (worker) WHERE outcome IS NULL;

-- Every worker that ever registered. Its lease is in memory only.
CREATE TABLE workers (
  id             TEXT PRIMARY KEY,    -- the worker's own choice, unique
  name           TEXT NOT NULL,       -- for people
  facts          TEXT NOT NULL,       -- host, pid, places, tasks with code hashes
  registered_at  INTEGER NOT NULL,
  gone_at        INTEGER              -- left, or was given up as lost
) STRICT, WITHOUT ROWID;

-- Who gave which command, when and why.
CREATE TABLE commands (
  id      INTEGER PRIMARY KEY,
  at      INTEGER NOT NULL,
  who     TEXT NOT NULL,
  what    TEXT NOT NULL,              -- start, cancel, publish, lose_worker, ...
  run     INTEGER,
  reason  TEXT NOT NULL,              -- '' where none was given
  detail  TEXT NOT NULL               -- JSON object
) STRICT;
CREATE INDEX commands_by_run ON commands (run, id);

-- All tables of the records. Times are microseconds since 1970 UTC, names are loom/name.
--
-- Version history
--   22  progress of runs; works of weights; where time went
--   21  batched_eaches: what readers need to show items without rows
--   19  lost_legs: attempts that ran ahead of their step's turn, and were lost; position in the
--       ledger

PRAGMA application_id = 1499558510;  -- "Yarn" in ASCII

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

-- Code that was ever published or brought by a worker.
CREATE TABLE codes (
  task       TEXT NOT NULL,           -- loom/task
  code_hash  TEXT NOT NULL,
  source     TEXT NOT NULL,
  seen_at    INTEGER NOT NULL,        -- first
  PRIMARY KEY (task, code_hash)
) STRICT, WITHOUT ROWID;

-- Tasks that are started at the end of each run of their loom, or of some.
CREATE TABLE listeners (
  loom      TEXT NOT NULL,
  task      TEXT NOT NULL,            -- loom/task
  at        TEXT NOT NULL,            -- begin | end
  states    TEXT NOT NULL,            -- JSON list of RunState; empty for all
  targets   TEXT NOT NULL,            -- JSON list of loom/workflow and loom/task; empty for all
  PRIMARY KEY (loom, task)
) STRICT, WITHOUT ROWID;

-- How long the nodes of a workflow took in its newest done runs. A run keeps the row that was the
-- newest when it started, so that its shares of the time never change.
CREATE TABLE weights (
  id        INTEGER PRIMARY KEY,
  workflow  TEXT NOT NULL,             -- loom/workflow
  seconds   REAL NOT NULL,             -- of a whole run
  nodes     TEXT NOT NULL,             -- JSON object: by address in the plan, seconds
  works     TEXT NOT NULL,             -- the same of steps: seconds of an attempt; of eaches: of all
  made_at   INTEGER NOT NULL
) STRICT;

CREATE INDEX weights_by_workflow ON weights (workflow, id);

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
  ended_at    INTEGER,
  task TEXT,                          -- of a run of a single task: its full name
  cancels INTEGER NOT NULL DEFAULT 0,  -- 2 stops the follow-ups too
  failures_allowed INTEGER NOT NULL DEFAULT 0,  -- items, of eaches done
  deadline_at INTEGER,                -- it must have ended by then
  admission INTEGER NOT NULL DEFAULT 1,  -- 0 waits for runs of its workflow
  queue TEXT NOT NULL DEFAULT '',     -- its value of `per`, for each of which `at_once` holds
  put_off INTEGER NOT NULL DEFAULT 0,  -- 1: moved to a later time when its steps were ready already
  paused_at INTEGER,                  -- while paused: since when nothing of it executes
  step_actions INTEGER NOT NULL DEFAULT 0,   -- 1 where `step_actions` has rows of it
  renewed INTEGER NOT NULL DEFAULT 0,  -- 1 where rows were made to wait again
  reopened_from INTEGER,  -- its ended_at, while a follow-up is tried again: it keeps that
  start_by INTEGER,                   -- it is not begun after that
  planned_at TEXT,                    -- for when it was planned, RFC 3339 with zone
  schedule TEXT,                      -- the schedule that started it
  after INTEGER,                      -- the run of whose end it tells
  attempts INTEGER NOT NULL DEFAULT 0,  -- handed out so far
  weights INTEGER REFERENCES weights,  -- null: nothing was known
  paused_micros INTEGER NOT NULL DEFAULT 0,  -- paused within this round
  followups_failed INTEGER NOT NULL DEFAULT 0,  -- as things stand now
  -- The newest sample of its progress in this round: how far it was, from 0 to 1 (null until that is
  -- known), how many microseconds it had left (null where that is not known), and when that was.
  progress REAL,
  left_micros INTEGER,
  sampled_at INTEGER,
  at_least INTEGER NOT NULL DEFAULT 0,  -- 1: some of what it has left was never measured
  -- Whether `start_at` was given as a duration: then it is no time of day.
  after_a_while INTEGER NOT NULL DEFAULT 0
) STRICT;

CREATE INDEX runs_by_state ON runs (state, number);

CREATE INDEX runs_by_workflow ON runs (workflow, number);

CREATE INDEX runs_under_way ON runs (workflow, queue, admission, priority, number)
  WHERE ended_at IS NULL;

CREATE INDEX runs_deadline ON runs (deadline_at)
  WHERE deadline_at IS NOT NULL AND ended_at IS NULL AND stop IS NULL AND paused_at IS NULL;

CREATE INDEX runs_held ON runs (number) WHERE state IN ('pausing', 'paused');

CREATE INDEX runs_put_off ON runs (number) WHERE put_off = 1;

-- `admission` is -1 while a run's start time is ahead, or it waits for its turn to be opened.
CREATE INDEX runs_ahead ON runs (coalesce(start_at, 0), number)
  WHERE admission = -1 AND state <> 'paused' AND ended_at IS NULL;

CREATE INDEX runs_start_by ON runs (start_by)
  WHERE start_by IS NOT NULL AND started_at IS NULL AND ended_at IS NULL AND stop IS NULL;

CREATE INDEX runs_of_schedule ON runs (schedule, number) WHERE schedule IS NOT NULL;

CREATE INDEX runs_of_schedule_open ON runs (schedule)
  WHERE schedule IS NOT NULL AND ended_at IS NULL;

CREATE INDEX runs_after ON runs (after) WHERE after IS NOT NULL;

CREATE INDEX runs_by_time ON runs (created_at);

CREATE INDEX runs_by_starter ON runs (started_by, number);

CREATE INDEX runs_followups_failed ON runs (number) WHERE followups_failed > 0;

-- Runs that have not ended, in order: the oldest are asked what they wait for.
CREATE INDEX runs_not_ended ON runs (number) WHERE ended_at IS NULL;

CREATE TRIGGER tags_of_new_run AFTER INSERT ON runs
  WHEN new.tags <> '[]' AND json_valid(new.tags) BEGIN
  INSERT OR IGNORE INTO run_tags SELECT value, new.number FROM json_each(new.tags);
END;

CREATE TRIGGER tags_of_changed_run AFTER UPDATE OF tags ON runs BEGIN
  DELETE FROM run_tags WHERE run = old.number
    AND tag IN (SELECT value FROM json_each(iif(json_valid(old.tags), old.tags, '[]')));
  INSERT OR IGNORE INTO run_tags
    SELECT value, new.number FROM json_each(iif(json_valid(new.tags), new.tags, '[]'));
END;

CREATE TRIGGER tags_of_removed_run AFTER DELETE ON runs WHEN json_valid(old.tags) BEGIN
  DELETE FROM run_tags WHERE run = old.number
    AND tag IN (SELECT value FROM json_each(old.tags));
END;

-- A start key belongs to a workflow and names the run that it made.
CREATE TABLE start_keys (
  workflow     TEXT NOT NULL,
  key          TEXT NOT NULL,
  run          INTEGER NOT NULL,      -- kept even when the run is removed
  params_hash  TEXT NOT NULL,         -- of the params as given
  created_at   INTEGER NOT NULL,
  PRIMARY KEY (workflow, key)
) STRICT, WITHOUT ROWID;

CREATE INDEX start_keys_by_key ON start_keys (key);

-- Which runs have a tag: as the arrays in `runs.tags` say, kept up by the triggers below.
CREATE TABLE run_tags (
  tag  TEXT NOT NULL,
  run  INTEGER NOT NULL,
  PRIMARY KEY (tag, run)
) STRICT, WITHOUT ROWID;

-- What people decided about a step, also before it begins; it stays when the run is mended.
CREATE TABLE step_actions (
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
  -- `state` can also be `not_done`: someone said so, and no attempt has begun it since.
  is_used INTEGER NOT NULL DEFAULT 1,  -- 1: the task looks at what it gave
  used_at INTEGER,                    -- when an attempt used what someone said
  position  TEXT NOT NULL DEFAULT '', -- of the tracked loop: its name and the item's index; '' is none
  PRIMARY KEY (run, scope, what)
) STRICT, WITHOUT ROWID;

CREATE INDEX ledger_begun ON ledger (run) WHERE state = 'begun';

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
  ended_at     INTEGER,
  item_part INTEGER REFERENCES parts,    -- the item that it stands in
  item INTEGER NOT NULL DEFAULT 0,    -- of an item: its index
  name TEXT,                          -- of an item: its name, where it has one
  value TEXT,                         -- of an item: what it stands for
  outcome TEXT,                       -- PartState, decided before its follow-ups end
  closed TEXT,                        -- OneFails: nothing more begins in it
  following INTEGER NOT NULL DEFAULT 0,  -- decided, not yet settled
  unmade INTEGER NOT NULL DEFAULT 0,  -- of an each: items without a row
  skip_reason TEXT,                   -- SkipReason, the gravest of what is in it
  fault TEXT,                         -- why it failed of itself
  error TEXT,                         -- what failed first in it
  size INTEGER NOT NULL DEFAULT 0,    -- of its output, bytes
  -- What in it backs off or rests: of an item steps and eaches, of an each items.
  sleeping_children INTEGER NOT NULL DEFAULT 0,
  -- Rows of parts and steps in state `waiting` have been run before and are to be again; they keep
  -- their end time until they begin.
  items_to_rerun INTEGER NOT NULL DEFAULT 0,   -- of an each: items that wait so
  -- Of an each: the chore in a helper process that it waits for: read (its list), gather (its
  -- outputs); null if none.
  awaits TEXT,
  fraction REAL NOT NULL DEFAULT 0,   -- the same of all that is in it
  fraction_then REAL NOT NULL DEFAULT 0,  -- and as its pace is counted from
  since INTEGER NOT NULL DEFAULT 0,   -- that time; pauses move it on
  moved_at INTEGER,                   -- when that changed last
  covers INTEGER NOT NULL DEFAULT 0,  -- of an each: values in its list
  covered INTEGER NOT NULL DEFAULT 0,  -- those whose items count whole
  begun_at INTEGER,                   -- of an item: its first attempt
  idle INTEGER NOT NULL DEFAULT 0     -- of an each: items that only wait
) STRICT;

CREATE UNIQUE INDEX parts_by_place ON parts (parent, node, item);

CREATE UNIQUE INDEX parts_root ON parts (run) WHERE parent IS NULL;

CREATE INDEX parts_inside ON parts (run, item_part, rank) WHERE value IS NULL;

CREATE INDEX parts_by_state ON parts (parent, coalesce(outcome, state), item)
  WHERE value IS NOT NULL;

CREATE INDEX parts_by_name ON parts (parent, name) WHERE name IS NOT NULL;

CREATE INDEX parts_unmade ON parts (id) WHERE unmade > 0 AND outcome IS NULL;

CREATE INDEX parts_faulty ON parts (run, rank) WHERE fault IS NOT NULL;

CREATE INDEX parts_to_redo ON parts (id) WHERE items_to_rerun > 0;

CREATE INDEX parts_again ON parts (parent, item) WHERE state = 'waiting' AND value IS NOT NULL;

CREATE INDEX parts_awaiting ON parts (id) WHERE awaits IS NOT NULL;

-- The list that an each goes through, as it was read once; its items are made from it in windows.
CREATE TABLE sources (
  part   INTEGER PRIMARY KEY REFERENCES parts,
  items  TEXT NOT NULL                -- JSON list; with batch= still one by one
) STRICT;

-- What an each gives that is too long for a value: by kind (all, done, failures) a reference.
CREATE TABLE lists (
  part   INTEGER NOT NULL REFERENCES parts,
  kind   TEXT NOT NULL,
  value  TEXT NOT NULL,               -- JSON object: list, count, size
  PRIMARY KEY (part, kind)
) STRICT, WITHOUT ROWID;

-- Uses of a task that could begin, or did. Steps that still wait have no row.
CREATE TABLE steps (
  id           INTEGER PRIMARY KEY,
  run          INTEGER NOT NULL REFERENCES runs,
  part         INTEGER NOT NULL REFERENCES parts,  -- the part around it
  node         INTEGER NOT NULL,      -- index in the plan
  rank         BLOB NOT NULL,         -- as in parts
  contract     TEXT NOT NULL,         -- loom/task, @ and a hash of the types that the plan knows
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
  ended_at     INTEGER,
  item_part INTEGER REFERENCES parts,    -- the item that it stands in
  deadline_at INTEGER,                -- as of runs
  saved TEXT,                         -- JSON object: progress, places, what was kept
  held TEXT,                          -- paused by hand: the StepState to go back to
  held_at INTEGER,                    -- and since when
  paused_micros INTEGER NOT NULL DEFAULT 0,  -- time paused, for a retry's within
  retry_from_attempt INTEGER NOT NULL DEFAULT 0,  -- attempts that count no more
  supplied INTEGER NOT NULL DEFAULT 0,  -- 1: output given by hand
  fraction REAL NOT NULL DEFAULT 0    -- how far it is, from 0 to 1
) STRICT;

CREATE UNIQUE INDEX steps_by_place ON steps (part, node);

CREATE INDEX steps_to_start ON steps (pool, priority, share, contract, run, rank)
  WHERE state = 'ready' AND open IS NULL;

CREATE INDEX steps_inside ON steps (run, item_part, rank);

CREATE INDEX steps_open ON steps (run, rank) WHERE ended_at IS NULL;

CREATE INDEX steps_failed ON steps (run, rank) WHERE state = 'failed';

CREATE INDEX steps_due ON steps (due_at) WHERE due_at IS NOT NULL AND state <> 'paused';

CREATE INDEX steps_deadline ON steps (deadline_at)
  WHERE deadline_at IS NOT NULL AND ended_at IS NULL AND state <> 'paused';

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
  ended_at   INTEGER,
  pool TEXT NOT NULL DEFAULT '',      -- with its value: gauge-link[north]
  -- An attempt of a shared process that was given up while it ran: 1 until that process has ended.
  abandoned INTEGER NOT NULL DEFAULT 0,
  round INTEGER NOT NULL DEFAULT 1,
  pool_until INTEGER                  -- until then its pool let nothing begin; null: it did
) STRICT;

CREATE INDEX attempts_by_step ON attempts (step, number);

CREATE INDEX attempts_open ON attempts (worker) WHERE outcome IS NULL;

CREATE INDEX attempts_of_pools ON attempts (begun_at) WHERE pool <> '';

CREATE INDEX attempts_abandoned ON attempts (worker) WHERE abandoned = 1;

CREATE INDEX attempts_by_run ON attempts (run);

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

CREATE INDEX commands_by_who ON commands (who, id);

CREATE INDEX commands_by_what ON commands (what, id);

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

CREATE TABLE links (
  id INTEGER PRIMARY KEY,
  run INTEGER NOT NULL,              -- whoever has the link may watch this run
  details INTEGER NOT NULL,          -- 1: also its output, errors, and what its steps are called
  made_at INTEGER NOT NULL,          -- microseconds since 1970 UTC, as all times
  made_by TEXT NOT NULL,
  expires_at INTEGER NOT NULL,
  revoked_at INTEGER,                -- null: it was not
  revoked_by TEXT
) STRICT;

CREATE INDEX links_by_run ON links (run, id);

CREATE INDEX links_by_end ON links (expires_at);

-- Who may use the service from elsewhere. Of a token only the hash is kept.
CREATE TABLE tokens (
  id         INTEGER PRIMARY KEY,
  name       TEXT NOT NULL,
  digest     TEXT NOT NULL UNIQUE,   -- SHA-256 of the token, in hexadecimal
  may        TEXT NOT NULL,          -- JSON array: its roles
  workflows  TEXT NOT NULL,          -- JSON array: patterns of what it may operate; empty for all
  made_at    INTEGER NOT NULL,
  made_by    TEXT NOT NULL,
  ends_at    INTEGER NOT NULL,
  revoked_at INTEGER,                -- null: it was not
  revoked_by TEXT
) STRICT;

CREATE INDEX tokens_by_name ON tokens (name);

CREATE INDEX tokens_by_end ON tokens (ends_at);

-- Browsers that were signed in to the console.
CREATE TABLE sessions (
  digest  TEXT PRIMARY KEY,          -- SHA-256 of its two secrets
  token   INTEGER,                   -- it ends with; null: of the service's own user
  name    TEXT NOT NULL,             -- its owner
  made_at INTEGER NOT NULL,
  used_at INTEGER NOT NULL,          -- when it was last used, to some minutes
  ends_at INTEGER NOT NULL
) STRICT, WITHOUT ROWID;

CREATE INDEX sessions_by_end ON sessions (ends_at);

CREATE INDEX sessions_by_token ON sessions (token);

-- `wanted` is a JSON object: the query of the list, by the names of its fields.
CREATE TABLE filters (
  name      TEXT PRIMARY KEY,
  wanted    TEXT NOT NULL,
  saved_at  INTEGER NOT NULL,          -- microseconds since 1970 UTC
  saved_by  TEXT NOT NULL
) STRICT, WITHOUT ROWID;

-- Bytes that are kept, by their SHA-256; they lie below `files/` in the data folder. A row is
-- written when its bytes are durable. A list is a file with one JSON value a line.
CREATE TABLE files (
  sha256      TEXT PRIMARY KEY,
  size        INTEGER NOT NULL,       -- bytes
  name        TEXT NOT NULL,          -- as it was first kept; a value that names it has its own
  media_type  TEXT NOT NULL,
  kept_by     TEXT NOT NULL,
  kept_at     INTEGER NOT NULL,
  idle_from   INTEGER,                -- since when no run uses it; null while one does
  count       INTEGER,                -- of a list: how many values
  marks       BLOB                    -- of a list: pairs of index and byte position, 8 bytes each
) STRICT, WITHOUT ROWID;

CREATE INDEX files_idle ON files (idle_from) WHERE idle_from IS NOT NULL;

CREATE INDEX files_by_time ON files (kept_at, sha256);

-- Which run has a file in its params, or in a step's input or output.
CREATE TABLE file_uses (
  run     INTEGER NOT NULL REFERENCES runs,
  sha256  TEXT NOT NULL REFERENCES files,
  PRIMARY KEY (run, sha256)
) STRICT, WITHOUT ROWID;

CREATE INDEX file_uses_by_file ON file_uses (sha256);

-- Files whose rows were checked: as which rows, and the list that came of the good ones.
CREATE TABLE row_checks (
  sha256  TEXT NOT NULL REFERENCES files,
  kind    TEXT NOT NULL,              -- hash of the rows' schema and of how the file was read
  list    TEXT NOT NULL REFERENCES files,
  facts   TEXT NOT NULL,              -- JSON object: first_line or lines, bad_rows, bad_count, remark
  PRIMARY KEY (sha256, kind)
) STRICT, WITHOUT ROWID;

CREATE INDEX row_checks_by_list ON row_checks (list);

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

-- How far runs were, for looking back: as in runs, so many of each round at most.
CREATE TABLE progress_samples (
  run         INTEGER NOT NULL REFERENCES runs,
  at          INTEGER NOT NULL,
  progress    REAL,
  left_micros INTEGER,
  at_least    INTEGER NOT NULL,
  PRIMARY KEY (run, at)
) STRICT, WITHOUT ROWID;

-- How the time of the items of a run is divided into slices, so that there are at most about a
-- thousand.
CREATE TABLE time_axes (
  run    INTEGER PRIMARY KEY REFERENCES runs,
  first  INTEGER NOT NULL,            -- when slice 0 begins; there can be slices before it
  width  INTEGER NOT NULL,            -- of each slice, microseconds
  low    INTEGER NOT NULL,            -- the first slice with anything in it
  high   INTEGER NOT NULL,            -- the last one
  last   INTEGER NOT NULL             -- when the last attempt ended
) STRICT;

-- What the attempts of a step in items did in a slice, over all items. Of each kind of time (they
-- ran, or waited for one of these): the microseconds that those which began in it lasted until its
-- end, less those that were left of it when some ended; and how many more go on in later slices.
CREATE TABLE time_slices (
  run             INTEGER NOT NULL REFERENCES runs,
  node            INTEGER NOT NULL,
  slice           INTEGER NOT NULL,
  attempts        INTEGER NOT NULL,   -- that ended in it
  begun           INTEGER NOT NULL,   -- those that had begun
  failed          INTEGER NOT NULL,   -- and of those that failed
  longest         INTEGER NOT NULL,   -- of those
  ran             INTEGER NOT NULL,
  ran_more        INTEGER NOT NULL,
  pool            INTEGER NOT NULL,
  pool_more       INTEGER NOT NULL,
  worker          INTEGER NOT NULL,
  worker_more     INTEGER NOT NULL,
  back_off        INTEGER NOT NULL,
  back_off_more   INTEGER NOT NULL,
  rest            INTEGER NOT NULL,
  rest_more       INTEGER NOT NULL,
  PRIMARY KEY (run, node, slice)
) STRICT, WITHOUT ROWID;

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

-- Items of an each that were given to a worker without rows, to be begun at once. They get their
-- rows when they have ended, or as soon as anything about them is unusual. Items, parts, steps and
-- attempts of a grant have numbers in a row, from the first one on.
CREATE TABLE grants (
  attempt    INTEGER PRIMARY KEY,     -- the first
  each       INTEGER NOT NULL REFERENCES parts,
  item       INTEGER NOT NULL,        -- index of the first item
  count      INTEGER NOT NULL,
  part       INTEGER NOT NULL,        -- id of the first item's part
  step       INTEGER NOT NULL,        -- and of its step
  worker     TEXT NOT NULL REFERENCES workers,
  code_hash  TEXT NOT NULL,
  handed_at  INTEGER NOT NULL
) STRICT;

-- Items of an each that were done at their first try, and were reported together: parts, steps and
-- attempts without rows of their own. They get these when somebody asks for them, or something about
-- them is to change. Numbers and indexes are of the first item; those of another are greater by how
-- far it is behind the first, as in the grant with which they were handed out.
CREATE TABLE segments (
  attempt    INTEGER PRIMARY KEY,
  run        INTEGER NOT NULL REFERENCES runs,
  each       INTEGER NOT NULL REFERENCES parts,
  node       INTEGER NOT NULL,        -- of the step in each item
  item       INTEGER NOT NULL,
  span       INTEGER NOT NULL,        -- how far the last item is behind the first
  part       INTEGER NOT NULL,
  step       INTEGER NOT NULL,
  pool       TEXT NOT NULL,           -- in which they counted; empty for none
  worker     TEXT NOT NULL REFERENCES workers,
  code_hash  TEXT NOT NULL,
  round      INTEGER NOT NULL,        -- of the run
  handed_at  INTEGER NOT NULL,
  told_at    INTEGER NOT NULL,        -- when their ends were reported
  items      TEXT NOT NULL            -- JSON: of each how far it is behind the first, microseconds
                                      -- until it began and from there to its end, pid, cpu, memory
                                      -- and output
) STRICT;

CREATE INDEX segments_by_item ON segments (run, each, item);

CREATE INDEX segments_by_attempt ON segments (run, attempt);

-- What the items of an each share that are in segments, so that rows can be shown of them.
CREATE TABLE batched_eaches (
  each      INTEGER PRIMARY KEY REFERENCES parts,
  pool      TEXT NOT NULL,            -- of the step in each item; empty for none
  priority  INTEGER NOT NULL,
  share     TEXT NOT NULL,
  contract  TEXT NOT NULL,
  fields    TEXT NOT NULL             -- JSON: of each input its name, the JSON text of a value that
                                      -- all items share or null, and the path in an item
) STRICT;

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

-- Attempts of steps that ran ahead in a relay on a worker that was lost before it reported them.
-- Each becomes a lost attempt of its step as soon as the step has a row.
CREATE TABLE lost_legs (
  attempt    INTEGER PRIMARY KEY,
  part       INTEGER NOT NULL REFERENCES parts,  -- the sequence
  node       INTEGER NOT NULL,        -- of the step in the plan
  worker     TEXT NOT NULL REFERENCES workers,
  code_hash  TEXT NOT NULL,           -- of the task, as the worker had it
  begun_at   INTEGER NOT NULL,        -- microseconds since 1970 UTC
  lost_at    INTEGER NOT NULL
) STRICT;

-- The items of segments, a row an item.
CREATE VIEW folded AS SELECT
  s.attempt AS segment, s.item AS first, s.item + s.span AS last, s.run, s.each, s.node, s.pool, s.worker, s.code_hash, s.round, s.handed_at,
  s.told_at,
  s.item + (i.value ->> 0) AS item,
  s.part + (i.value ->> 0) AS part,
  s.step + (i.value ->> 0) AS step,
  s.attempt + (i.value ->> 0) AS attempt,
  s.handed_at + (i.value ->> 1) AS begun_at,
  s.handed_at + (i.value ->> 1) + (i.value ->> 2) AS ended_at,
  i.value ->> 3 AS pid,
  i.value ->> 4 AS cpu,
  i.value ->> 5 AS memory,
  i.value -> 6 AS output
FROM segments s, json_each(s.items) i;

INSERT INTO service VALUES ('epoch', lower(hex(randomblob(6)))), ('epochs', '[]'), ('commits', '0'),
  ('latest', '0'), ('runs_from', '0'), ('attempts_from', '0'), ('never_begun', '0');

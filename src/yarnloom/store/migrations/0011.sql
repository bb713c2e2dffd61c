-- Version history
--  11  whose file this is; the epoch of the records, how many commits there were, and when the last
--      was; which start times were given as a duration

PRAGMA application_id = 1499558510;  -- "Yarn" in ASCII

-- What the service knows of itself, besides `id` and `starts`:
--   epoch        changes whenever the records went back: a restored copy, a lost log
--   epochs       JSON array: the epochs before
--   commits      how often something was changed
--   latest       when that was last
--   runs_from    numbers of runs go on above it; of attempts, `attempts_from`
INSERT INTO service VALUES ('epoch', lower(hex(randomblob(6)))), ('epochs', '[]'), ('commits', '0'),
  ('latest', '0'),
  ('runs_from', '0'), ('attempts_from', '0');

-- Whether `start_at` was given as a duration: then it is no time of day.
ALTER TABLE runs ADD COLUMN after_a_while INTEGER NOT NULL DEFAULT 0;

-- Version history
--  11  whose file this is; the epoch of the records, and how many commits there were

PRAGMA application_id = 1499558510;  -- "Yarn" in ASCII

-- What the service knows of itself, besides `id` and `starts`:
--   epoch        changes whenever the records went back: a restored copy, a lost log
--   epochs       JSON array: the epochs before
--   commits      how often something was changed
--   runs_from    numbers of runs go on above it; of attempts, `attempts_from`
INSERT INTO service VALUES ('epoch', lower(hex(randomblob(6)))), ('epochs', '[]'), ('commits', '0'),
  ('runs_from', '0'), ('attempts_from', '0');

-- Version history
--   7  runs count their attempts and are found by time and starter; why an attempt waited

ALTER TABLE attempts ADD COLUMN pool_until INTEGER;  -- until then its pool let nothing begin; null: it did
CREATE INDEX attempts_by_run ON attempts (run);

ALTER TABLE runs ADD COLUMN attempts INTEGER NOT NULL DEFAULT 0;  -- handed out so far
UPDATE runs SET attempts = (SELECT count(*) FROM attempts WHERE run = runs.number);
CREATE INDEX runs_by_time ON runs (created_at);
CREATE INDEX runs_by_starter ON runs (started_by, number);

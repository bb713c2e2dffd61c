-- Version history
--   9  of a side effect whether its value is looked at, and whether a decision about it was used

-- `state` can also be `not_done`: someone said so, and no attempt has begun it since.
ALTER TABLE ledger ADD COLUMN is_used INTEGER NOT NULL DEFAULT 1;  -- 1: the task looks at what it gave
ALTER TABLE ledger ADD COLUMN used_at INTEGER;                  -- when an attempt used what someone said

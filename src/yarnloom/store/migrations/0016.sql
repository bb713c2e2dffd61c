-- Version history
--  16  items of an each that are done, many in one row

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

-- The same, a row an item.
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

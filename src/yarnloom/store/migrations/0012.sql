-- Version history
--  12  items of an each that workers have in hand and that have no rows yet; runs by tag

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

-- Which runs have a tag: as the arrays in `runs.tags` say, kept up by the triggers below.
CREATE TABLE run_tags (
  tag  TEXT NOT NULL,
  run  INTEGER NOT NULL,
  PRIMARY KEY (tag, run)
) STRICT, WITHOUT ROWID;
INSERT OR IGNORE INTO run_tags SELECT value, number FROM runs, json_each(runs.tags)
  WHERE json_valid(runs.tags);

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

"""What must hold in the records and cannot be said in SQL constraints.

Tests and the simulator call `audit` after every change; it reads everything, so a service does not.
"""

from __future__ import annotations

import sqlite3

# Each query gives the rows that break its rule.
_RULES = {
    "a part's counters equal its children by state": """
        WITH rows AS (
          SELECT part, state FROM steps
          UNION ALL SELECT each, 'done' FROM folded
          UNION ALL SELECT parent, coalesce(outcome, state) FROM parts
          WHERE parent IS NOT NULL AND NOT {follow_up}),
        children AS (SELECT part, state FROM rows WHERE state <> 'waiting'),
        counted (part, state, number) AS (
          SELECT id, 'ready', ready FROM parts UNION ALL
          SELECT id, 'running', running FROM parts UNION ALL
          SELECT id, 'backing_off', backing_off FROM parts UNION ALL
          SELECT id, 'resting', resting FROM parts UNION ALL
          SELECT id, 'paused', paused FROM parts UNION ALL
          SELECT id, 'done', done FROM parts UNION ALL
          SELECT id, 'failed', failed FROM parts UNION ALL
          SELECT id, 'cancelled', cancelled FROM parts UNION ALL
          SELECT id, 'skipped', skipped FROM parts)
        SELECT c.part FROM counted c JOIN parts p ON p.id = c.part
        WHERE c.number <> (
            SELECT count(*) FROM children WHERE part = c.part AND state = c.state
          ) + CASE WHEN p.rest_state = c.state THEN p.total - (
            SELECT count(*) FROM children WHERE part = c.part) ELSE 0 END""",
    "a decided part has only decided children": """
        SELECT id FROM parts WHERE outcome IS NOT NULL
          AND done + failed + cancelled + skipped <> total""",
    "an ended part is as it was decided, and nothing of it follows": """
        SELECT id FROM parts WHERE ended_at IS NOT NULL AND state <> 'waiting'
          AND (outcome IS NULL OR outcome <> state OR following <> 0)""",
    "a part that goes on is running": """
        SELECT id FROM parts WHERE ended_at IS NULL AND state <> 'running'""",
    "what waits to run again has ended before": """
        SELECT id FROM parts WHERE state = 'waiting'
          AND (ended_at IS NULL OR outcome IS NOT NULL OR following <> 0)
        UNION ALL SELECT id FROM steps WHERE state = 'waiting'
          AND (ended_at IS NULL OR open IS NOT NULL)""",
    "what flows through an each is what the steps in its items are": """
        WITH RECURSIVE around (item, each) AS (
          SELECT id, parent FROM parts WHERE value IS NOT NULL UNION
          SELECT a.item, o.parent FROM around a JOIN parts e ON e.id = a.each
            JOIN parts o ON o.id = e.item_part),
        found AS (
          SELECT each, node, state, count(*) FROM (
            SELECT a.each, s.node, s.state FROM steps s JOIN around a ON a.item = s.item_part
            WHERE s.state <> 'waiting' UNION ALL SELECT each, node, 'done' FROM folded)
          GROUP BY 1, 2, 3),
        counted AS (
          SELECT f.each, f.node, f.state, f.number FROM flows f JOIN parts p ON p.id = f.each
          WHERE f.number <> 0 AND f.state NOT LIKE 'left%'
            AND f.node IN (SELECT node FROM steps WHERE run = p.run
              UNION ALL SELECT node FROM segments WHERE run = p.run))
        SELECT each FROM (SELECT * FROM found EXCEPT SELECT * FROM counted)
        UNION SELECT each FROM (SELECT * FROM counted EXCEPT SELECT * FROM found)""",
    "how long attempts took is known of those that came to an end in items": """
        SELECT each FROM flow_times t JOIN parts p ON p.id = t.each WHERE p.item_part IS NULL
          GROUP BY each HAVING sum(number) <> (
          SELECT count(*) FROM folded f WHERE f.run = p.run AND f.each = p.id) + (
          SELECT count(*) FROM attempts a JOIN steps s ON s.id = a.step
          WHERE s.run = p.run AND s.item_part IS NOT NULL
            AND a.outcome IN ('done', 'failed', 'refused')
            AND a.begun_at IS NOT NULL
            AND substr(s.rank, 1, length(p.rank)) = p.rank)""",
    "an each counts the items that wait to run again": """
        SELECT p.id FROM parts p WHERE p.items_to_rerun <> (
          SELECT count(*) FROM parts i WHERE i.parent = p.id AND i.value IS NOT NULL
            AND i.state = 'waiting')""",
    "in an ended run nothing waits to run again but follow-ups": """
        SELECT s.id FROM steps s JOIN parts p ON p.id = s.part JOIN runs r ON r.number = s.run
          WHERE r.ended_at IS NOT NULL AND s.state = 'waiting' AND p.state <> 'waiting'""",
    "a run that is paused has nothing in hand, and knows since when": """
        SELECT r.number FROM runs r WHERE (r.state = 'paused') <> (r.paused_at IS NOT NULL)
          OR (r.state = 'paused' AND EXISTS (
            SELECT 1 FROM attempts a WHERE a.run = r.number AND a.outcome IS NULL))""",
    "a run counts its attempts": """
        SELECT number FROM runs WHERE attempts <> (
          SELECT count(*) FROM attempts a WHERE a.run = runs.number)
          + (SELECT count(*) FROM folded f WHERE f.run = runs.number)""",
    "where time went is counted of each attempt in an item that has ended": """
        SELECT number FROM runs WHERE (
          SELECT coalesce(sum(attempts), 0) FROM time_slices t WHERE t.run = runs.number) <> (
          SELECT count(*) FROM attempts a JOIN steps s ON s.id = a.step
            WHERE a.run = runs.number AND a.outcome IS NOT NULL AND s.item_part > 0)
          + (SELECT count(*) FROM folded f WHERE f.run = runs.number)""",
    "how long attempts in items ran is counted": """
        SELECT number FROM runs WHERE (
          SELECT coalesce(sum(ran - ran_more * slice * width), 0) FROM time_slices t
            JOIN time_axes USING (run) WHERE t.run = runs.number) <> (
          SELECT coalesce(sum(a.ended_at - a.begun_at), 0) FROM attempts a JOIN steps s
            ON s.id = a.step
            WHERE a.run = runs.number AND a.outcome IS NOT NULL AND s.item_part > 0)
          + (SELECT coalesce(sum(ended_at - begun_at), 0) FROM folded f
            WHERE f.run = runs.number)""",
    "what is paused was paused by hand, or its run is held": """
        SELECT s.id FROM steps s JOIN runs r ON r.number = s.run WHERE s.state = 'paused'
          AND s.held IS NULL AND r.state NOT IN ('pausing', 'paused')""",
    "only an open attempt, or a person, leaves a side effect begun": """
        SELECT l.run FROM ledger l WHERE l.state NOT IN ('begun', 'done', 'not_done')
          OR (l.state = 'done') <> (l.done_at IS NOT NULL)""",
    "what follows is what is decided and not settled": """
        SELECT p.id FROM parts p WHERE p.following <> (
            SELECT count(*) FROM parts c WHERE c.parent = p.id AND c.ended_at IS NULL
              AND (c.outcome IS NOT NULL OR {follow_up_c}))""",
    "items have different names": """
        SELECT parent FROM parts WHERE name IS NOT NULL GROUP BY parent, name
          HAVING count(*) > 1""",
    "an ended run has only ended parts and steps": """
        SELECT r.number FROM parts p JOIN runs r ON r.number = p.run
          WHERE p.ended_at IS NULL AND r.ended_at IS NOT NULL
        UNION SELECT r.number FROM steps s JOIN runs r ON r.number = s.run
          WHERE s.ended_at IS NULL AND r.ended_at IS NOT NULL""",
    "a run that has not ended has something left to do": """
        SELECT r.number FROM runs r WHERE r.ended_at IS NULL AND r.admission = 1
          AND NOT EXISTS (SELECT 1 FROM steps WHERE run = r.number AND ended_at IS NULL)
          AND r.number NOT IN (SELECT run FROM parts WHERE ended_at IS NULL
            AND outcome IS NULL AND (unmade > 0 OR awaits IS NOT NULL))""",
    "only a running each that is not decided waits for a list job": """
        SELECT id FROM parts WHERE awaits IS NOT NULL
          AND (outcome IS NOT NULL OR state <> 'running')""",
    "a file is idle where no run uses it": """
        SELECT sha256 FROM files WHERE idle_from IS NULL
          AND sha256 NOT IN (SELECT sha256 FROM file_uses)
        UNION ALL SELECT f.sha256 FROM files f JOIN file_uses USING (sha256)
          WHERE f.idle_from IS NOT NULL""",
    "a run waits only while others of its workflow are under way, and has begun nothing": """
        SELECT r.number FROM runs r WHERE r.ended_at IS NULL AND r.admission = 0 AND (
          NOT EXISTS (SELECT 1 FROM runs o WHERE o.workflow = r.workflow
            AND o.ended_at IS NULL AND o.admission = 1)
          OR EXISTS (SELECT 1 FROM steps WHERE run = r.number))""",
    "what backs off or rests has a time; else only what is paused by hand": """
        SELECT id FROM steps WHERE (due_at IS NOT NULL) <> (state IN ('backing_off', 'resting'))
          AND (state <> 'paused' OR held IS NULL)""",
    "items and eaches count what is asleep in them": """
        SELECT p.id FROM parts p WHERE p.sleeping_children <> CASE WHEN p.value IS NOT NULL THEN
            (SELECT count(*) FROM steps WHERE run = p.run AND item_part = p.id
              AND state IN ('backing_off', 'resting'))
            + (SELECT count(*) FROM parts e
              WHERE e.run = p.run AND e.item_part = p.id AND e.value IS NULL
                AND e.sleeping_children)
          ELSE (SELECT count(*) FROM parts i
            WHERE i.parent = p.id AND i.value IS NOT NULL AND i.sleeping_children) END""",
    "an open attempt's pool is its step's": """
        SELECT a.id FROM attempts a JOIN steps s ON s.id = a.step
          WHERE a.outcome IS NULL AND a.pool <> s.pool""",
    "a step's open attempt is its only one without an outcome": """
        SELECT s.id FROM steps s WHERE
          coalesce(s.open, 0) <> coalesce(
            (SELECT sum(id) FROM attempts WHERE step = s.id AND outcome IS NULL), 0)""",
    "a running step has an attempt that has begun": """
        SELECT s.id FROM steps s WHERE (s.state = 'running') <> EXISTS (
          SELECT 1 FROM attempts a WHERE a.id = s.open AND a.begun_at IS NOT NULL)""",
    "a step has exactly one done attempt if it is done and not by hand, else none": """
        SELECT s.id FROM steps s WHERE (s.state = 'done' AND NOT s.supplied) <>
          (SELECT count(*) FROM attempts
            WHERE step = s.id AND outcome = 'done' AND number > s.retry_from_attempt)""",
    "an ended step has an end time, and one that is to run again; others have none": """
        SELECT id FROM steps WHERE (ended_at IS NOT NULL)
          <> (state IN ('done', 'failed', 'cancelled', 'skipped', 'waiting'))""",
    "a grant is of an each that is not decided, and has items without rows": """
        SELECT g.attempt FROM grants g LEFT JOIN parts p ON p.id = g.each
          WHERE p.id IS NULL OR p.outcome IS NOT NULL OR g.item + g.count > p.total
            OR g.count <= (SELECT count(*) FROM parts i WHERE i.parent = g.each
              AND i.value IS NOT NULL AND i.item >= g.item AND i.item < g.item + g.count)
            + (SELECT count(*) FROM folded f WHERE f.run = p.run AND f.each = g.each
              AND f.last >= g.item AND f.item >= g.item AND f.item < g.item + g.count)""",
    "a relay has a step without rows": """
        SELECT attempt FROM relays r WHERE
          count <= (SELECT count(*) FROM attempts a
            WHERE a.id >= r.attempt AND a.id < r.attempt + r.count)""",
    "an item that is done without a row has none, and its numbers are nobody else's": """
        SELECT f.segment FROM folded f JOIN parts p ON p.parent = f.each AND p.item = f.item
          AND p.value IS NOT NULL
        UNION ALL SELECT f.segment FROM folded f JOIN parts p ON p.id = f.part
        UNION ALL SELECT f.segment FROM folded f JOIN steps s ON s.id = f.step
        UNION ALL SELECT f.segment FROM folded f JOIN attempts a ON a.id = f.attempt
        UNION ALL SELECT max(segment) FROM folded GROUP BY each, item HAVING count(*) > 1""",
    "a run is found by its tags, and by no others": """
        SELECT r.number FROM runs r, json_each(r.tags) j WHERE NOT EXISTS (
            SELECT 1 FROM run_tags WHERE tag = j.value AND run = r.number)
        UNION ALL SELECT run FROM run_tags t WHERE NOT EXISTS (SELECT 1 FROM runs r,
            json_each(r.tags) j WHERE r.number = t.run AND j.value = t.tag)""",
    "a step began when one of its attempts did, since it was to run again": """
        SELECT s.id FROM steps s WHERE CASE WHEN s.started_at IS NULL
          THEN EXISTS (SELECT 1 FROM attempts WHERE step = s.id AND begun_at IS NOT NULL
            AND number > s.retry_from_attempt)
          ELSE NOT EXISTS (SELECT 1 FROM attempts WHERE step = s.id AND begun_at = s.started_at)
          END""",
    "losses and tries are what the attempts say that count": """
        SELECT s.id FROM steps s WHERE
          s.losses <> (SELECT count(*) FROM attempts
            WHERE step = s.id AND outcome = 'lost' AND number > s.retry_from_attempt)
          OR s.tries <> (SELECT count(*) FROM attempts
            WHERE step = s.id AND outcome = 'failed' AND number > s.retry_from_attempt)
          OR s.attempts <> (SELECT count(*) FROM attempts WHERE step = s.id)""",
}


# A follow-up's last position stands behind all others'; it is not counted as a child.
_FOLLOW_UP = {
    "follow_up": "(hex(substr(rank, -4)) >= 'FFFFFFFE')",
    "follow_up_c": "(hex(substr(c.rank, -4)) >= 'FFFFFFFE')",
}


def rules() -> dict[str, str]:
    """Return each rule with the query that gives what breaks it."""
    return {rule: query.format(**_FOLLOW_UP) for rule, query in _RULES.items()}


def audit(connection: sqlite3.Connection) -> list[str]:
    """Every broken rule, with the ids that break it; empty when all is well."""
    found = []
    for rule, query in rules().items():
        broken = [row[0] for row in connection.execute(query)]
        if broken:
            found.append(f"broken: {rule}: {broken[:10]}")
    wrong = connection.execute("PRAGMA foreign_key_check").fetchall()
    if wrong:
        found.append(f"broken: foreign keys: {wrong[:10]}")
    return found

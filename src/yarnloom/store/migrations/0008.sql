-- Version history
--   8  links to runs are kept, so that they can be listed and revoked

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

-- Registries that are asked for versions of images.
CREATE TABLE registries (
  name TEXT PRIMARY KEY,
  host TEXT NOT NULL,
  more TEXT NOT NULL DEFAULT '{}',  -- JSON of what is not secret
  secrets BLOB                      -- JSON, encrypted
) WITHOUT ROWID;
-- What is remembered of follows; what they follow is declared in git.
CREATE TABLE follows (
  name TEXT PRIMARY KEY,
  state TEXT NOT NULL               -- JSON
) WITHOUT ROWID;

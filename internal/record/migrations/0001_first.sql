CREATE TABLE settings (name TEXT PRIMARY KEY, value TEXT NOT NULL);
CREATE TABLE tokens (
  hash TEXT PRIMARY KEY,          -- SHA-256 of the token, hex
  name TEXT NOT NULL UNIQUE,
  role TEXT NOT NULL,
  made INTEGER NOT NULL           -- times are Unix milliseconds throughout
);
CREATE TABLE repos (
  name TEXT PRIMARY KEY,
  url TEXT NOT NULL,
  user TEXT NOT NULL DEFAULT '',
  password BLOB                   -- encrypted with age
);
CREATE TABLE clusters (
  name TEXT PRIMARY KEY,
  kubeconfig TEXT NOT NULL,
  context TEXT NOT NULL,
  labels TEXT NOT NULL            -- JSON
);
CREATE TABLE wards (
  name TEXT PRIMARY KEY,
  file TEXT NOT NULL,             -- the ward's own document, as written
  made INTEGER NOT NULL
);
CREATE TABLE placements (
  id TEXT PRIMARY KEY,            -- name@cluster
  ward TEXT NOT NULL REFERENCES wards(name) ON DELETE CASCADE,
  cluster TEXT NOT NULL REFERENCES clusters(name),
  applied TEXT NOT NULL DEFAULT '',   -- JSON of the revision applied last
  snapshot TEXT NOT NULL DEFAULT '',  -- of what was applied last
  hold TEXT NOT NULL DEFAULT ''       -- JSON, empty when not held
);
CREATE TABLE blobs (hash TEXT PRIMARY KEY, body BLOB NOT NULL); -- gzip; of Secrets encrypted with age
CREATE TABLE snapshots (
  id TEXT NOT NULL,               -- SHA-256 over its objects
  ref TEXT NOT NULL,
  blob TEXT NOT NULL REFERENCES blobs(hash),
  version TEXT NOT NULL,
  declared TEXT NOT NULL,         -- hash of the declared object
  step INTEGER NOT NULL,
  file TEXT NOT NULL,
  line INTEGER NOT NULL,
  PRIMARY KEY (id, ref)
) WITHOUT ROWID;
CREATE TABLE entries (
  placement TEXT NOT NULL REFERENCES placements(id) ON DELETE CASCADE,
  number INTEGER NOT NULL,
  kind TEXT NOT NULL,
  outcome TEXT NOT NULL,
  by TEXT NOT NULL,
  why TEXT NOT NULL,
  reason TEXT NOT NULL DEFAULT '',
  revision TEXT NOT NULL DEFAULT '',  -- JSON
  to_entry INTEGER NOT NULL DEFAULT 0,
  started INTEGER NOT NULL,
  ended INTEGER NOT NULL DEFAULT 0,
  snapshot TEXT NOT NULL DEFAULT '',
  objects TEXT NOT NULL DEFAULT '[]', -- JSON of the outcome for each object
  PRIMARY KEY (placement, number)
);
CREATE INDEX entries_by_time ON entries (started);
CREATE TABLE baselines (
  placement TEXT NOT NULL REFERENCES placements(id) ON DELETE CASCADE,
  ref TEXT NOT NULL,
  version TEXT NOT NULL,
  declared TEXT NOT NULL,
  owned BLOB NOT NULL,            -- gzip of JSON
  fields BLOB NOT NULL,           -- gzip of JSON; secret values are keyed digests
  hash TEXT NOT NULL,
  uid TEXT NOT NULL,
  revision INTEGER NOT NULL,
  applied INTEGER NOT NULL,
  intent INTEGER NOT NULL DEFAULT 0,
  PRIMARY KEY (placement, ref)
) WITHOUT ROWID;
CREATE INDEX baselines_by_ref ON baselines (ref);
CREATE TABLE rejections (
  placement TEXT NOT NULL REFERENCES placements(id) ON DELETE CASCADE,
  revision TEXT NOT NULL,
  why TEXT NOT NULL,
  by TEXT NOT NULL,
  at INTEGER NOT NULL,
  PRIMARY KEY (placement, revision)
);
CREATE TABLE standings (
  placement TEXT NOT NULL REFERENCES placements(id) ON DELETE CASCADE,
  at INTEGER NOT NULL,
  standing TEXT NOT NULL,
  health TEXT NOT NULL
);
CREATE INDEX standings_by_time ON standings (placement, at);
CREATE TABLE restores (
  placement TEXT NOT NULL REFERENCES placements(id) ON DELETE CASCADE,
  ref TEXT NOT NULL,
  path TEXT NOT NULL,
  who TEXT NOT NULL,              -- whose change was put back
  at INTEGER NOT NULL
);
CREATE INDEX restores_by_placement ON restores (placement);

-- Everything that is not secret of a repository beside its address, JSON; and what is, JSON encrypted with age.
ALTER TABLE repos ADD COLUMN more TEXT NOT NULL DEFAULT '{}';
ALTER TABLE repos ADD COLUMN secrets BLOB;
ALTER TABLE clusters ADD COLUMN more TEXT NOT NULL DEFAULT '{}';
ALTER TABLE clusters ADD COLUMN token BLOB;             -- of a service account, encrypted with age
ALTER TABLE wards ADD COLUMN roster TEXT NOT NULL DEFAULT '';  -- that declares the ward; '' when a person registered it
ALTER TABLE wards ADD COLUMN source TEXT NOT NULL DEFAULT '';  -- the file in the roster's repository
ALTER TABLE wards ADD COLUMN home TEXT NOT NULL DEFAULT '{}';  -- repository and ref that the file lives in, JSON
CREATE TABLE rosters (
  name TEXT PRIMARY KEY,
  repo TEXT NOT NULL,
  ref TEXT NOT NULL,
  path TEXT NOT NULL,
  parent TEXT NOT NULL DEFAULT '',  -- the roster that declares it
  limits TEXT NOT NULL DEFAULT '{}',
  rules TEXT NOT NULL DEFAULT '[]', -- health files that hold for every ward of it, JSON
  made INTEGER NOT NULL
) WITHOUT ROWID;
-- Objects that stayed in a cluster when their ward left its roster or the cluster.
CREATE TABLE left_behind (
  placement TEXT PRIMARY KEY,
  roster TEXT NOT NULL,
  at INTEGER NOT NULL,
  why TEXT NOT NULL,
  refs TEXT NOT NULL              -- JSON
) WITHOUT ROWID;
-- Rendered objects by everything that was asked for: an untouched tree is never rendered again.
CREATE TABLE rendered (
  key TEXT PRIMARY KEY,
  body BLOB NOT NULL,             -- gzip, encrypted with age: there may be Secrets among them
  used INTEGER NOT NULL
) WITHOUT ROWID;

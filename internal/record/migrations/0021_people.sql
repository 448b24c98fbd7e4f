-- Who signs in: the providers that say who somebody is, and the sessions of those who have signed in.
CREATE TABLE providers (
  name TEXT PRIMARY KEY,
  more TEXT NOT NULL,               -- JSON of what is not secret
  secrets BLOB                      -- JSON of the client's secret, encrypted
) WITHOUT ROWID;
CREATE TABLE sessions (
  hash TEXT PRIMARY KEY,            -- SHA-256 in hex of what the browser or the command line keeps
  made INTEGER NOT NULL,            -- ms
  used INTEGER NOT NULL,            -- ms, to the minute
  ends INTEGER NOT NULL,            -- ms, whether it is used or not
  provider TEXT NOT NULL,           -- '' for one that was opened with a token
  more TEXT NOT NULL                -- JSON of who it is, as the provider said, and from where
) WITHOUT ROWID;
CREATE INDEX sessions_ends ON sessions (ends);
CREATE TABLE teams (
  name TEXT PRIMARY KEY,
  team TEXT NOT NULL                -- JSON of core/grant.Team
) WITHOUT ROWID;
ALTER TABLE rosters ADD COLUMN teams INTEGER NOT NULL DEFAULT 0; -- whether its files may say which teams there are
ALTER TABLE tokens ADD COLUMN may TEXT NOT NULL DEFAULT ''; -- JSON of what it may beside its role; '' for nothing

-- Who is told of what: how messages get to people, what alerts remember, and what is on its way.
CREATE TABLE ways (
  name TEXT PRIMARY KEY,
  more TEXT NOT NULL,               -- JSON of what is not secret
  secrets BLOB                      -- JSON of the address and the key, encrypted
) WITHOUT ROWID;
CREATE TABLE alerts (
  name TEXT PRIMARY KEY,
  state TEXT NOT NULL               -- JSON of core/alert.State
) WITHOUT ROWID;
CREATE TABLE outbox (
  number INTEGER PRIMARY KEY AUTOINCREMENT,
  id TEXT NOT NULL UNIQUE,          -- of the delivery: the same at every try
  alert TEXT NOT NULL,
  way TEXT NOT NULL,
  made INTEGER NOT NULL,            -- ms
  next INTEGER NOT NULL,            -- ms, when it is tried; 0 once it is delivered or given up
  tries INTEGER NOT NULL DEFAULT 0,
  done INTEGER NOT NULL DEFAULT 0,  -- ms, when it was delivered
  problem TEXT NOT NULL DEFAULT '', -- of the last try
  message TEXT NOT NULL             -- JSON of core/alert.Message and whom it goes to
);
CREATE INDEX outbox_due ON outbox (next) WHERE next > 0;
CREATE TABLE mutes (
  subject TEXT PRIMARY KEY,
  until INTEGER NOT NULL,           -- ms
  more TEXT NOT NULL                -- JSON of who and why
) WITHOUT ROWID;

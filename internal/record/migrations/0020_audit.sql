-- What was done, by whom: a line an entry, each bound to the one before by its hash (core/audit). Lines are never changed; the oldest go with the retention.
CREATE TABLE audit (
  number INTEGER PRIMARY KEY,       -- from 1, without gaps
  at INTEGER NOT NULL,              -- ms
  asked INTEGER NOT NULL DEFAULT 0, -- the number of the entry with which this began
  text TEXT NOT NULL,               -- JSON of core/audit.Entry, byte for byte what the hash is over
  hash TEXT NOT NULL                -- SHA-256 in hex over the hash before, a line feed and the text
);
CREATE INDEX audit_asked ON audit (asked) WHERE asked > 0;
CREATE TABLE audit_base (           -- what the first line that is kept follows
  one INTEGER PRIMARY KEY CHECK (one = 1),
  number INTEGER NOT NULL,
  hash TEXT NOT NULL
);

-- Where secret values live: stores that wards refer to.
CREATE TABLE stores (
  name TEXT PRIMARY KEY,
  more TEXT NOT NULL,               -- JSON of what is not secret
  secrets BLOB,                     -- JSON, encrypted
  push_key BLOB                     -- that signs what it tells of changes, encrypted
) WITHOUT ROWID;

-- Where secret values live: stores that wards refer to.
CREATE TABLE secret_stores (
  name TEXT PRIMARY KEY,
  more TEXT NOT NULL,               -- JSON of what is not secret
  secrets BLOB                      -- JSON, encrypted
) WITHOUT ROWID;

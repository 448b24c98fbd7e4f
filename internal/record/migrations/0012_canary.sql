-- How far the canaries of runs are, or were. The newest of a placement that is active is gone on with after a crash.
CREATE TABLE canaries (
  placement TEXT NOT NULL,
  number INTEGER NOT NULL,          -- of the run's entry
  active INTEGER NOT NULL,
  state BLOB NOT NULL,              -- gzip of JSON; it holds no body of any object
  PRIMARY KEY (placement, number),
  FOREIGN KEY (placement, number) REFERENCES entries(placement, number) ON DELETE CASCADE
) WITHOUT ROWID;
-- Servers that speak the Prometheus HTTP API, which checks ask.
CREATE TABLE metrics_sources (
  name TEXT PRIMARY KEY,
  url TEXT NOT NULL,
  more TEXT NOT NULL DEFAULT '{}',  -- JSON of what is not secret
  secrets BLOB                      -- JSON, encrypted
) WITHOUT ROWID;

-- Code hosts of repositories: where requests to merge are reviewed.
CREATE TABLE hosts (
  repo TEXT PRIMARY KEY,
  more TEXT NOT NULL,               -- JSON of what is not secret
  secrets BLOB                      -- JSON, encrypted
) WITHOUT ROWID;

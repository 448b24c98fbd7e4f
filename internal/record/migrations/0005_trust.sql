-- The snapshot that an object was applied from, where that is not the one that the placement holds as a whole.
ALTER TABLE baselines ADD COLUMN snapshot TEXT NOT NULL DEFAULT '';
-- JSON of who removes the placement and how; empty when nobody does. Removing goes on after a crash.
ALTER TABLE placements ADD COLUMN leaving TEXT NOT NULL DEFAULT '';
-- What was rejected: a digest of what was declared, ward file included; empty when a person rejected the revision as such.
ALTER TABLE rejections ADD COLUMN declared TEXT NOT NULL DEFAULT '';
-- The logbooks of placements that were removed, as long as the retention says. Their numbers are not used again.
CREATE TABLE past_entries (
  placement TEXT NOT NULL,
  number INTEGER NOT NULL,
  kind TEXT NOT NULL,
  outcome TEXT NOT NULL,
  by TEXT NOT NULL,
  why TEXT NOT NULL,
  reason TEXT NOT NULL,
  revision TEXT NOT NULL,
  to_entry INTEGER NOT NULL,
  started INTEGER NOT NULL,
  ended INTEGER NOT NULL,
  snapshot TEXT NOT NULL,         -- always empty: what was removed can't be gone back to
  objects TEXT NOT NULL,
  PRIMARY KEY (placement, number)
);
CREATE INDEX past_entries_by_time ON past_entries (started);
CREATE TABLE past_logs (
  placement TEXT NOT NULL,
  number INTEGER NOT NULL,
  ref TEXT NOT NULL,
  body BLOB NOT NULL,             -- as in logs
  PRIMARY KEY (placement, number, ref),
  FOREIGN KEY (placement, number) REFERENCES past_entries(placement, number) ON DELETE CASCADE
) WITHOUT ROWID;
CREATE VIEW all_entries AS SELECT * FROM entries UNION ALL SELECT * FROM past_entries;

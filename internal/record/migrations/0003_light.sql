-- What every look needs of a baseline stands beside its packed detail. -1: written before, so the detail tells.
ALTER TABLE baselines ADD COLUMN size INTEGER NOT NULL DEFAULT -1;
ALTER TABLE baselines ADD COLUMN guards TEXT NOT NULL DEFAULT '';
-- What a run that goes on is about to apply: JSON {number, refs}; empty when none goes on. One small write, whatever its size.
ALTER TABLE placements ADD COLUMN intents TEXT NOT NULL DEFAULT '';
-- What a placement's repository declared when it was read last: a restart renders nothing that has not changed.
CREATE TABLE declarations (
  placement TEXT PRIMARY KEY REFERENCES placements(id) ON DELETE CASCADE,
  key TEXT NOT NULL,              -- of everything that went in
  body BLOB NOT NULL              -- gzip of JSON
) WITHOUT ROWID;
ALTER TABLE repos ADD COLUMN notice_key BLOB;  -- encrypted with age: signs push notices

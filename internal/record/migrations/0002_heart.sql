ALTER TABLE baselines ADD COLUMN found TEXT NOT NULL DEFAULT '';  -- field set that others owned at the first apply, JSON
ALTER TABLE placements ADD COLUMN tasks TEXT NOT NULL DEFAULT '{}';  -- JSON: the tasks of what was applied last, to their hashes
ALTER TABLE placements ADD COLUMN rules TEXT NOT NULL DEFAULT '';    -- JSON: the health files read last
ALTER TABLE rejections ADD COLUMN subject TEXT NOT NULL DEFAULT '';
CREATE TABLE task_objects (     -- objects of tasks that are, or may be, in the cluster
  placement TEXT NOT NULL REFERENCES placements(id) ON DELETE CASCADE,
  ref TEXT NOT NULL,
  version TEXT NOT NULL,
  uid TEXT NOT NULL,
  PRIMARY KEY (placement, ref)
) WITHOUT ROWID;
CREATE TABLE logs (             -- of tasks, by the entry of their run
  placement TEXT NOT NULL,
  number INTEGER NOT NULL,
  ref TEXT NOT NULL,
  body BLOB NOT NULL,           -- gzip, encrypted with age: a task may print what is secret
  PRIMARY KEY (placement, number, ref),
  FOREIGN KEY (placement, number) REFERENCES entries(placement, number) ON DELETE CASCADE
) WITHOUT ROWID;

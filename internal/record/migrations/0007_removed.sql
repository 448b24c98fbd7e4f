-- What a ward has removed, by uid: a cluster whose data are put back holds it again, and nobody else will take it away. A
-- ward that is removed with its objects and kept again later knows them still.
CREATE TABLE removed (
  placement TEXT NOT NULL,
  uid TEXT NOT NULL,
  at INTEGER NOT NULL,             -- Unix seconds
  PRIMARY KEY (placement, uid)
) WITHOUT ROWID;
-- When the ward came into the cluster, Unix milliseconds; 0: before this was noted.
ALTER TABLE placements ADD COLUMN made INTEGER NOT NULL DEFAULT 0;

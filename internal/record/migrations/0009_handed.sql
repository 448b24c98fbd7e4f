-- What a ward has handed over to another, until that one keeps it: should it never come, nobody else knows of the object.
CREATE TABLE handed (
  placement TEXT NOT NULL REFERENCES placements (id) ON DELETE CASCADE,
  ref TEXT NOT NULL,
  version TEXT NOT NULL,           -- apiVersion in which it was kept
  PRIMARY KEY (placement, ref)
) WITHOUT ROWID;

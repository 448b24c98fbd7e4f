-- What is remembered of lanes; the lanes are declared in git.
CREATE TABLE lanes (
  name TEXT PRIMARY KEY,
  stops TEXT NOT NULL               -- JSON: what is kept of each stop
) WITHOUT ROWID;
CREATE TABLE lane_lots (
  lane TEXT NOT NULL,
  number INTEGER NOT NULL,
  more TEXT NOT NULL,               -- JSON
  PRIMARY KEY (lane, number)
) WITHOUT ROWID;
CREATE TABLE lane_passages (
  lane TEXT NOT NULL,
  number INTEGER NOT NULL,
  more TEXT NOT NULL,               -- JSON
  PRIMARY KEY (lane, number)
) WITHOUT ROWID;

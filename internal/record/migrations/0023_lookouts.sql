CREATE TABLE lookouts (           -- the clusters that a lookout keeps
  cluster TEXT PRIMARY KEY REFERENCES clusters(name) ON DELETE CASCADE,
  token TEXT NOT NULL DEFAULT '', -- SHA-256 of the token that it joins with, hex; it is good once
  until INTEGER NOT NULL DEFAULT 0,
  used INTEGER NOT NULL DEFAULT 0,
  key TEXT NOT NULL DEFAULT '',   -- the name of its key; '' before it has joined
  seen INTEGER NOT NULL DEFAULT 0,  -- the last of its writes that is in this record
  told TEXT NOT NULL DEFAULT '{}' -- JSON of what it told of itself and of its cluster
);
ALTER TABLE placements ADD COLUMN before INTEGER NOT NULL DEFAULT 0; -- the number of the newest entry that the service had when its lookout began anew
CREATE TABLE outgoing (           -- of a lookout: writes that its service has not taken in yet
  n INTEGER PRIMARY KEY AUTOINCREMENT,
  placement TEXT NOT NULL,
  kind TEXT NOT NULL,
  body TEXT NOT NULL              -- JSON
);

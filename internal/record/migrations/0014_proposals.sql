-- Proposals: changes to repositories, with their review.
CREATE TABLE proposals (
  number INTEGER PRIMARY KEY AUTOINCREMENT,
  repo TEXT NOT NULL,
  base TEXT NOT NULL,
  branch TEXT NOT NULL,
  origin TEXT NOT NULL,             -- JSON: the wish it comes from
  wish TEXT NOT NULL,               -- its key
  standing TEXT NOT NULL,
  more TEXT NOT NULL,               -- JSON
  draft BLOB                        -- JSON, encrypted: what is to be pushed; none once it is
);
-- The same wish twice is one proposal.
CREATE UNIQUE INDEX proposals_live ON proposals (repo, base, wish) WHERE standing IN ('opening', 'open', 'stale');

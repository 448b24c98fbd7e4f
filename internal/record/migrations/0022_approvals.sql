-- How many approvals of whom the proposals of a repository need before they are merged.
CREATE TABLE approvals (
    repo   TEXT PRIMARY KEY,
    wanted TEXT NOT NULL
);
-- Who made a token: a person, as they were known then; nothing for one that is older, or that a token made.
ALTER TABLE tokens ADD COLUMN maker TEXT NOT NULL DEFAULT '';

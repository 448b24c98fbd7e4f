-- What a server tells of pushes is called a push.
ALTER TABLE repos RENAME COLUMN notice_key TO push_key;

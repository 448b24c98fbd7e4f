-- When a token ends, and when it was used last, Unix milliseconds; 0: never.
ALTER TABLE tokens ADD COLUMN expires INTEGER NOT NULL DEFAULT 0;
ALTER TABLE tokens ADD COLUMN used INTEGER NOT NULL DEFAULT 0;

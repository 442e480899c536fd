-- What the last comparison of each route came to: facts, for whoever asks later.
CREATE TABLE comparison (
    route_name TEXT PRIMARY KEY,
    at INTEGER NOT NULL,
    facts TEXT NOT NULL
) WITHOUT ROWID;

-- Runs that only carried a test entry are told apart from those that a person waits for.
ALTER TABLE run ADD COLUMN kind TEXT NOT NULL DEFAULT 'sync';
-- Test entries that stand, or may stand, until they were seen to be gone.
CREATE TABLE probe (
    route_name TEXT NOT NULL,
    calendar TEXT NOT NULL,
    href TEXT NOT NULL,
    since INTEGER NOT NULL,
    -- When it took place at first, in seconds since 1970.
    starts INTEGER NOT NULL,
    PRIMARY KEY (route_name, calendar, href)
) WITHOUT ROWID;

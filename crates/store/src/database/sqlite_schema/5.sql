-- What is wrong, or was lately. Moments are in seconds since 1970.
CREATE TABLE trouble (
    id INTEGER PRIMARY KEY AUTOINCREMENT,
    kind TEXT NOT NULL,
    about TEXT NOT NULL,
    since INTEGER NOT NULL,
    -- NULL: it is only suspected.
    began INTEGER,
    ended INTEGER,
    bad INTEGER NOT NULL,
    good INTEGER NOT NULL,
    came_back INTEGER NOT NULL,
    told INTEGER,
    facts TEXT NOT NULL
);
CREATE INDEX trouble_open ON trouble (kind, about) WHERE ended IS NULL;
CREATE INDEX trouble_ended ON trouble (ended) WHERE ended IS NOT NULL;
-- What is to be told of them, at least once each, in its order.
CREATE TABLE notice (
    id INTEGER PRIMARY KEY AUTOINCREMENT,
    trouble INTEGER NOT NULL REFERENCES trouble(id) ON DELETE CASCADE,
    event TEXT NOT NULL,
    at INTEGER NOT NULL,
    facts TEXT NOT NULL,
    -- How often it was begun to be told.
    attempt INTEGER NOT NULL DEFAULT 0,
    next INTEGER NOT NULL,
    -- 0 open, 1 told, 2 given up.
    outcome INTEGER NOT NULL DEFAULT 0,
    problem TEXT NOT NULL DEFAULT ''
);
CREATE INDEX notice_open ON notice (id) WHERE outcome <> 1;

-- Until when a route rests; NULL where it rests until somebody lets it go on.
ALTER TABLE route ADD COLUMN paused_until INTEGER;
-- Accounts that rest.
CREATE TABLE account_pause (account TEXT PRIMARY KEY, until INTEGER) WITHOUT ROWID;

-- What is known of the state as a whole.
CREATE TABLE meta (name TEXT PRIMARY KEY, value TEXT NOT NULL) WITHOUT ROWID;

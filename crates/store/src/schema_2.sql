-- What the last comparison of each route came to: facts, for whoever asks later.
CREATE TABLE comparison (
    route_name TEXT PRIMARY KEY,
    at INTEGER NOT NULL,
    facts TEXT NOT NULL
) WITHOUT ROWID;

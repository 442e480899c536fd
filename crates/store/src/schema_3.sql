-- One calendar's part in an entry of a two-way route.
CREATE TABLE replica (
    link INTEGER NOT NULL REFERENCES link(id) ON DELETE CASCADE,
    side INTEGER NOT NULL,
    uid TEXT NOT NULL,
    refused BLOB,
    let_go INTEGER NOT NULL DEFAULT 0,
    PRIMARY KEY (link, side)
) WITHOUT ROWID;
-- What was agreed, and how it stood in each calendar then, compressed together.
CREATE TABLE replica_texts (
    link INTEGER PRIMARY KEY REFERENCES link(id) ON DELETE CASCADE,
    texts BLOB NOT NULL
);
CREATE INDEX link_source_uid ON link (route, source_uid);
-- What waits for a person, and what they decided.
CREATE TABLE held (
    id INTEGER PRIMARY KEY AUTOINCREMENT,
    route INTEGER NOT NULL REFERENCES route(id) ON DELETE CASCADE,
    -- NULL for all deletions of a run together.
    link INTEGER REFERENCES link(id) ON DELETE CASCADE,
    since INTEGER NOT NULL,
    title TEXT NOT NULL,
    start TEXT NOT NULL,
    details TEXT NOT NULL,
    decision TEXT,
    UNIQUE (route, link)
);
ALTER TABLE route ADD COLUMN paused INTEGER NOT NULL DEFAULT 0;
-- How many links a route has: every run asks, and counting them takes longer the more there are.
ALTER TABLE route ADD COLUMN links INTEGER NOT NULL DEFAULT 0;
UPDATE route SET links = (SELECT count(*) FROM link WHERE link.route = route.id);
CREATE TRIGGER link_made AFTER INSERT ON link BEGIN
    UPDATE route SET links = links + 1 WHERE id = NEW.route;
END;
CREATE TRIGGER link_gone AFTER DELETE ON link BEGIN
    UPDATE route SET links = links - 1 WHERE id = OLD.route;
END;

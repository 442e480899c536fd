-- A route that has run, and the settings it last ran with.
CREATE TABLE route (
    id INTEGER PRIMARY KEY,
    name TEXT NOT NULL UNIQUE,
    settings TEXT NOT NULL DEFAULT '',
    endpoints TEXT NOT NULL DEFAULT ''
);
-- What is remembered of one calendar of a route. side: 0 the source, 1 the far side.
CREATE TABLE side (
    route INTEGER NOT NULL REFERENCES route(id) ON DELETE CASCADE,
    side INTEGER NOT NULL,
    state TEXT NOT NULL,
    PRIMARY KEY (route, side)
) WITHOUT ROWID;
-- Every entry that was seen in a calendar of a route.
CREATE TABLE known (
    route INTEGER NOT NULL REFERENCES route(id) ON DELETE CASCADE,
    side INTEGER NOT NULL,
    href TEXT NOT NULL,
    etag TEXT,
    uid TEXT,
    content BLOB,
    title TEXT NOT NULL DEFAULT '',
    left_out TEXT,
    again INTEGER NOT NULL DEFAULT 0,
    link INTEGER,
    PRIMARY KEY (route, side, href)
) WITHOUT ROWID;
CREATE INDEX known_uid ON known (route, side, uid);
CREATE INDEX known_content ON known (route, side, content) WHERE link IS NULL;
CREATE INDEX known_again ON known (route, side) WHERE again > 0;
CREATE INDEX known_left_out ON known (route, left_out) WHERE left_out IS NOT NULL;
CREATE INDEX known_link ON known (link) WHERE link IS NOT NULL;
-- This entry here is that entry there.
CREATE TABLE link (
    id INTEGER PRIMARY KEY,
    route INTEGER NOT NULL REFERENCES route(id) ON DELETE CASCADE,
    source_uid TEXT NOT NULL,
    target_uid TEXT NOT NULL,
    view BLOB NOT NULL,
    far BLOB,
    refused BLOB,
    words TEXT
);
CREATE INDEX link_route ON link (route);
CREATE INDEX link_words ON link (route) WHERE words IS NOT NULL;
-- The last agreed texts of both sides, compressed together: they are nearly the same.
CREATE TABLE agreed (
    link INTEGER PRIMARY KEY REFERENCES link(id) ON DELETE CASCADE,
    texts BLOB NOT NULL
);
CREATE TABLE run (
    id INTEGER PRIMARY KEY,
    route INTEGER NOT NULL REFERENCES route(id) ON DELETE CASCADE,
    started INTEGER NOT NULL,
    finished INTEGER,
    result TEXT,
    summary TEXT NOT NULL DEFAULT '{}'
);
CREATE INDEX run_route ON run (route, id);
-- What a run changed, or tried to, with the text that stood there before.
CREATE TABLE change (
    id INTEGER PRIMARY KEY,
    run INTEGER NOT NULL REFERENCES run(id) ON DELETE CASCADE,
    calendar TEXT NOT NULL,
    action TEXT NOT NULL,
    href TEXT NOT NULL,
    uid TEXT NOT NULL,
    title TEXT NOT NULL,
    start TEXT NOT NULL,
    words TEXT,
    before BLOB
);
CREATE INDEX change_run ON change (run);
-- Writes that were about to be sent; a row that is left over was perhaps sent.
CREATE TABLE journal (
    route INTEGER NOT NULL REFERENCES route(id) ON DELETE CASCADE,
    href TEXT NOT NULL,
    source_uid TEXT NOT NULL,
    PRIMARY KEY (route, href)
) WITHOUT ROWID;

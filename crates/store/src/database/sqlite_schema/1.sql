-- Who runs what: rows, so that several processes and machines agree.
CREATE TABLE lease (
    name TEXT PRIMARY KEY,
    holder TEXT NOT NULL,
    number INTEGER NOT NULL,
    -- Real time, in seconds since 1970.
    since INTEGER NOT NULL,
    until INTEGER NOT NULL
) WITHOUT ROWID;

-- Texts, compressed. Whoever names one holds it: triggers count, and take away what nobody names. No number is given
-- again, here nor to objects and links: whoever still knows an old one must not find another's.
CREATE TABLE body (id INTEGER PRIMARY KEY AUTOINCREMENT, refs INTEGER NOT NULL DEFAULT 0, bytes BLOB NOT NULL);
-- VTIMEZONEs, cut out of texts and kept once.
CREATE TABLE zone (id INTEGER PRIMARY KEY, digest BLOB NOT NULL UNIQUE, bytes BLOB NOT NULL);

-- A mirror: what is known of one calendar, however many routes use it.
CREATE TABLE calendar (
    id INTEGER PRIMARY KEY,
    place TEXT NOT NULL UNIQUE,
    -- The number of the last change that was noted here.
    seq INTEGER NOT NULL DEFAULT 0,
    facts TEXT NOT NULL DEFAULT '{}'
);
-- state: 0 present, 1 to fetch, 2 unread, 3 unreadable, 4 gone.
CREATE TABLE object (
    id INTEGER PRIMARY KEY AUTOINCREMENT,
    calendar INTEGER NOT NULL REFERENCES calendar(id) ON DELETE CASCADE,
    href TEXT NOT NULL,
    etag TEXT,
    state INTEGER NOT NULL,
    seq INTEGER NOT NULL,
    -- Of which token in hand it is: what was read since and has the same ETag is not read again.
    generation INTEGER NOT NULL,
    uid TEXT,
    content BLOB,
    body INTEGER,
    -- In a calendar that is made out of another: the object there.
    parent INTEGER
);
CREATE UNIQUE INDEX object_href ON object (calendar, href) WHERE state <> 4;
CREATE INDEX object_uid ON object (calendar, uid);
CREATE INDEX object_content ON object (calendar, content);
CREATE INDEX object_seq ON object (calendar, seq);
CREATE INDEX object_open ON object (calendar, state) WHERE state IN (1, 2, 4);
CREATE INDEX object_parent ON object (parent) WHERE parent IS NOT NULL;
-- In a calendar that is made out of another: what each object there came to.
CREATE TABLE part (
    calendar INTEGER NOT NULL REFERENCES calendar(id) ON DELETE CASCADE,
    parent INTEGER NOT NULL,
    reason TEXT NOT NULL DEFAULT '',
    due INTEGER,
    spans TEXT NOT NULL DEFAULT '[]',
    PRIMARY KEY (calendar, parent)
) WITHOUT ROWID;
CREATE INDEX part_parent ON part (parent);
CREATE INDEX part_due ON part (calendar, due) WHERE due IS NOT NULL;
CREATE INDEX part_reason ON part (calendar, reason) WHERE reason <> '';

CREATE TABLE route (
    id INTEGER PRIMARY KEY,
    name TEXT NOT NULL UNIQUE,
    rule TEXT NOT NULL DEFAULT '',
    ends TEXT NOT NULL DEFAULT '',
    paused INTEGER NOT NULL DEFAULT 0,
    -- When it last ran to its end, in seconds since 1970.
    ran_at INTEGER,
    -- Up to which change of each of its calendars its cases were decided: a JSON list.
    seen TEXT NOT NULL DEFAULT '[]'
);
-- One entry as one route sees it.
CREATE TABLE link (
    id INTEGER PRIMARY KEY AUTOINCREMENT,
    route INTEGER NOT NULL REFERENCES route(id) ON DELETE CASCADE,
    state INTEGER NOT NULL,
    reason TEXT NOT NULL DEFAULT '',
    agreed INTEGER,
    -- Which details the agreement covers, and in which form.
    carried INTEGER NOT NULL DEFAULT 0,
    form INTEGER NOT NULL DEFAULT 0,
    -- When it must be decided again, in seconds since 1970.
    due INTEGER,
    tries INTEGER NOT NULL DEFAULT 0,
    told TEXT,
    partly INTEGER NOT NULL DEFAULT 0
);
CREATE INDEX link_due ON link (route, due) WHERE due IS NOT NULL;
CREATE INDEX link_state ON link (route, state, reason);
CREATE TABLE place (
    link INTEGER NOT NULL REFERENCES link(id) ON DELETE CASCADE,
    side INTEGER NOT NULL,
    route INTEGER NOT NULL,
    object INTEGER,
    origin INTEGER NOT NULL,
    seq INTEGER NOT NULL DEFAULT 0,
    stood INTEGER,
    agreed INTEGER,
    refused BLOB,
    let_go INTEGER NOT NULL DEFAULT 0,
    PRIMARY KEY (link, side)
) WITHOUT ROWID;
CREATE UNIQUE INDEX place_object ON place (object, route) WHERE object IS NOT NULL;
-- How many links stand how: every run asks, and counting them takes longer the more there are.
CREATE TABLE tally (
    route INTEGER NOT NULL REFERENCES route(id) ON DELETE CASCADE,
    state INTEGER NOT NULL,
    reason TEXT NOT NULL,
    partly INTEGER NOT NULL,
    number INTEGER NOT NULL,
    PRIMARY KEY (route, state, reason, partly)
) WITHOUT ROWID;
CREATE TRIGGER link_made AFTER INSERT ON link BEGIN
    INSERT INTO tally VALUES (NEW.route, NEW.state, NEW.reason, NEW.partly, 1)
        ON CONFLICT DO UPDATE SET number = number + 1;
END;
CREATE TRIGGER link_other AFTER UPDATE OF state, reason, partly ON link
WHEN OLD.state <> NEW.state OR OLD.reason <> NEW.reason OR OLD.partly <> NEW.partly BEGIN
    UPDATE tally SET number = number - 1
        WHERE route = OLD.route AND state = OLD.state AND reason = OLD.reason AND partly = OLD.partly;
    INSERT INTO tally VALUES (NEW.route, NEW.state, NEW.reason, NEW.partly, 1)
        ON CONFLICT DO UPDATE SET number = number + 1;
END;
CREATE TRIGGER link_gone AFTER DELETE ON link BEGIN
    UPDATE tally SET number = number - 1
        WHERE route = OLD.route AND state = OLD.state AND reason = OLD.reason AND partly = OLD.partly;
END;
-- Writes that are about to be sent; what is left over was perhaps sent. `sent` is NULL for a deletion.
CREATE TABLE intent (
    link INTEGER NOT NULL REFERENCES link(id) ON DELETE CASCADE,
    side INTEGER NOT NULL,
    route INTEGER NOT NULL,
    href TEXT NOT NULL,
    sent INTEGER,
    stood INTEGER,
    agreed INTEGER,
    carried INTEGER NOT NULL,
    form INTEGER NOT NULL,
    PRIMARY KEY (link, side)
) WITHOUT ROWID;
CREATE INDEX intent_route ON intent (route);
-- What stood in the places of a case when its writes were decided: what they said is part of what was sent.
CREATE TABLE considered (
    link INTEGER NOT NULL REFERENCES link(id) ON DELETE CASCADE,
    side INTEGER NOT NULL,
    body INTEGER NOT NULL,
    PRIMARY KEY (link, side)
) WITHOUT ROWID;

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
-- History outlives routes.
CREATE TABLE run (
    id INTEGER PRIMARY KEY AUTOINCREMENT,
    route_name TEXT NOT NULL,
    started INTEGER NOT NULL,
    finished INTEGER,
    result TEXT,
    summary TEXT NOT NULL DEFAULT '{}'
);
CREATE INDEX run_route ON run (route_name, id);
CREATE INDEX run_started ON run (started);
CREATE TABLE change (
    id INTEGER PRIMARY KEY,
    run INTEGER NOT NULL REFERENCES run(id) ON DELETE CASCADE,
    calendar TEXT NOT NULL,
    action TEXT NOT NULL,
    href TEXT NOT NULL,
    uid TEXT NOT NULL,
    title TEXT NOT NULL,
    start TEXT NOT NULL,
    told TEXT,
    before INTEGER,
    after INTEGER
);
CREATE INDEX change_run ON change (run);

-- Who names a text.
CREATE TRIGGER object_body_made AFTER INSERT ON object WHEN NEW.body IS NOT NULL BEGIN
    UPDATE body SET refs = refs + 1 WHERE id = NEW.body;
END;
CREATE TRIGGER object_body_other AFTER UPDATE OF body ON object WHEN OLD.body IS NOT NEW.body BEGIN
    UPDATE body SET refs = refs + 1 WHERE id = NEW.body;
    UPDATE body SET refs = refs - 1 WHERE id = OLD.body;
    DELETE FROM body WHERE id = OLD.body AND refs <= 0;
END;
CREATE TRIGGER object_body_gone AFTER DELETE ON object WHEN OLD.body IS NOT NULL BEGIN
    UPDATE body SET refs = refs - 1 WHERE id = OLD.body;
    DELETE FROM body WHERE id = OLD.body AND refs <= 0;
END;
CREATE TRIGGER link_agreed_made AFTER INSERT ON link WHEN NEW.agreed IS NOT NULL BEGIN
    UPDATE body SET refs = refs + 1 WHERE id = NEW.agreed;
END;
CREATE TRIGGER link_agreed_other AFTER UPDATE OF agreed ON link WHEN OLD.agreed IS NOT NEW.agreed BEGIN
    UPDATE body SET refs = refs + 1 WHERE id = NEW.agreed;
    UPDATE body SET refs = refs - 1 WHERE id = OLD.agreed;
    DELETE FROM body WHERE id = OLD.agreed AND refs <= 0;
END;
CREATE TRIGGER link_agreed_gone AFTER DELETE ON link WHEN OLD.agreed IS NOT NULL BEGIN
    UPDATE body SET refs = refs - 1 WHERE id = OLD.agreed;
    DELETE FROM body WHERE id = OLD.agreed AND refs <= 0;
END;
CREATE TRIGGER place_stood_made AFTER INSERT ON place WHEN NEW.stood IS NOT NULL BEGIN
    UPDATE body SET refs = refs + 1 WHERE id = NEW.stood;
END;
CREATE TRIGGER place_stood_other AFTER UPDATE OF stood ON place WHEN OLD.stood IS NOT NEW.stood BEGIN
    UPDATE body SET refs = refs + 1 WHERE id = NEW.stood;
    UPDATE body SET refs = refs - 1 WHERE id = OLD.stood;
    DELETE FROM body WHERE id = OLD.stood AND refs <= 0;
END;
CREATE TRIGGER place_stood_gone AFTER DELETE ON place WHEN OLD.stood IS NOT NULL BEGIN
    UPDATE body SET refs = refs - 1 WHERE id = OLD.stood;
    DELETE FROM body WHERE id = OLD.stood AND refs <= 0;
END;
CREATE TRIGGER place_agreed_made AFTER INSERT ON place WHEN NEW.agreed IS NOT NULL BEGIN
    UPDATE body SET refs = refs + 1 WHERE id = NEW.agreed;
END;
CREATE TRIGGER place_agreed_other AFTER UPDATE OF agreed ON place WHEN OLD.agreed IS NOT NEW.agreed BEGIN
    UPDATE body SET refs = refs + 1 WHERE id = NEW.agreed;
    UPDATE body SET refs = refs - 1 WHERE id = OLD.agreed;
    DELETE FROM body WHERE id = OLD.agreed AND refs <= 0;
END;
CREATE TRIGGER place_agreed_gone AFTER DELETE ON place WHEN OLD.agreed IS NOT NULL BEGIN
    UPDATE body SET refs = refs - 1 WHERE id = OLD.agreed;
    DELETE FROM body WHERE id = OLD.agreed AND refs <= 0;
END;
CREATE TRIGGER intent_sent_made AFTER INSERT ON intent WHEN NEW.sent IS NOT NULL BEGIN
    UPDATE body SET refs = refs + 1 WHERE id = NEW.sent;
END;
CREATE TRIGGER intent_sent_other AFTER UPDATE OF sent ON intent WHEN OLD.sent IS NOT NEW.sent BEGIN
    UPDATE body SET refs = refs + 1 WHERE id = NEW.sent;
    UPDATE body SET refs = refs - 1 WHERE id = OLD.sent;
    DELETE FROM body WHERE id = OLD.sent AND refs <= 0;
END;
CREATE TRIGGER intent_sent_gone AFTER DELETE ON intent WHEN OLD.sent IS NOT NULL BEGIN
    UPDATE body SET refs = refs - 1 WHERE id = OLD.sent;
    DELETE FROM body WHERE id = OLD.sent AND refs <= 0;
END;
CREATE TRIGGER intent_stood_made AFTER INSERT ON intent WHEN NEW.stood IS NOT NULL BEGIN
    UPDATE body SET refs = refs + 1 WHERE id = NEW.stood;
END;
CREATE TRIGGER intent_stood_other AFTER UPDATE OF stood ON intent WHEN OLD.stood IS NOT NEW.stood BEGIN
    UPDATE body SET refs = refs + 1 WHERE id = NEW.stood;
    UPDATE body SET refs = refs - 1 WHERE id = OLD.stood;
    DELETE FROM body WHERE id = OLD.stood AND refs <= 0;
END;
CREATE TRIGGER intent_stood_gone AFTER DELETE ON intent WHEN OLD.stood IS NOT NULL BEGIN
    UPDATE body SET refs = refs - 1 WHERE id = OLD.stood;
    DELETE FROM body WHERE id = OLD.stood AND refs <= 0;
END;
CREATE TRIGGER intent_agreed_made AFTER INSERT ON intent WHEN NEW.agreed IS NOT NULL BEGIN
    UPDATE body SET refs = refs + 1 WHERE id = NEW.agreed;
END;
CREATE TRIGGER intent_agreed_other AFTER UPDATE OF agreed ON intent WHEN OLD.agreed IS NOT NEW.agreed BEGIN
    UPDATE body SET refs = refs + 1 WHERE id = NEW.agreed;
    UPDATE body SET refs = refs - 1 WHERE id = OLD.agreed;
    DELETE FROM body WHERE id = OLD.agreed AND refs <= 0;
END;
CREATE TRIGGER intent_agreed_gone AFTER DELETE ON intent WHEN OLD.agreed IS NOT NULL BEGIN
    UPDATE body SET refs = refs - 1 WHERE id = OLD.agreed;
    DELETE FROM body WHERE id = OLD.agreed AND refs <= 0;
END;
CREATE TRIGGER change_before_made AFTER INSERT ON change WHEN NEW.before IS NOT NULL BEGIN
    UPDATE body SET refs = refs + 1 WHERE id = NEW.before;
END;
CREATE TRIGGER change_before_other AFTER UPDATE OF before ON change WHEN OLD.before IS NOT NEW.before BEGIN
    UPDATE body SET refs = refs + 1 WHERE id = NEW.before;
    UPDATE body SET refs = refs - 1 WHERE id = OLD.before;
    DELETE FROM body WHERE id = OLD.before AND refs <= 0;
END;
CREATE TRIGGER change_before_gone AFTER DELETE ON change WHEN OLD.before IS NOT NULL BEGIN
    UPDATE body SET refs = refs - 1 WHERE id = OLD.before;
    DELETE FROM body WHERE id = OLD.before AND refs <= 0;
END;
CREATE TRIGGER change_after_made AFTER INSERT ON change WHEN NEW.after IS NOT NULL BEGIN
    UPDATE body SET refs = refs + 1 WHERE id = NEW.after;
END;
CREATE TRIGGER change_after_other AFTER UPDATE OF after ON change WHEN OLD.after IS NOT NEW.after BEGIN
    UPDATE body SET refs = refs + 1 WHERE id = NEW.after;
    UPDATE body SET refs = refs - 1 WHERE id = OLD.after;
    DELETE FROM body WHERE id = OLD.after AND refs <= 0;
END;
CREATE TRIGGER change_after_gone AFTER DELETE ON change WHEN OLD.after IS NOT NULL BEGIN
    UPDATE body SET refs = refs - 1 WHERE id = OLD.after;
    DELETE FROM body WHERE id = OLD.after AND refs <= 0;
END;
CREATE TRIGGER considered_body_made AFTER INSERT ON considered WHEN NEW.body IS NOT NULL BEGIN
    UPDATE body SET refs = refs + 1 WHERE id = NEW.body;
END;
CREATE TRIGGER considered_body_other AFTER UPDATE OF body ON considered WHEN OLD.body IS NOT NEW.body BEGIN
    UPDATE body SET refs = refs + 1 WHERE id = NEW.body;
    UPDATE body SET refs = refs - 1 WHERE id = OLD.body;
    DELETE FROM body WHERE id = OLD.body AND refs <= 0;
END;
CREATE TRIGGER considered_body_gone AFTER DELETE ON considered WHEN OLD.body IS NOT NULL BEGIN
    UPDATE body SET refs = refs - 1 WHERE id = OLD.body;
    DELETE FROM body WHERE id = OLD.body AND refs <= 0;
END;

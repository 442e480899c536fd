-- Which case a change was about, so that it can be taken back; it may be forgotten.
ALTER TABLE change ADD COLUMN link INTEGER;
-- When a run of a route last went well, in milliseconds since 1970: not every run leaves a row.
ALTER TABLE route ADD COLUMN well_at INTEGER;
UPDATE route SET well_at = (
    SELECT max(started) FROM run WHERE route_name = name AND kind = 'sync' AND result IN ('ok', 'held'));
-- When an entry takes place at the earliest and at the latest, in seconds since 1970, roughly: what looks at some days
-- need not read the others. NULL where nobody knows.
ALTER TABLE object ADD COLUMN first INTEGER;
ALTER TABLE object ADD COLUMN last INTEGER;

-- Calendars as they stood before a route first wrote there.
CREATE TABLE kept (
    id INTEGER PRIMARY KEY AUTOINCREMENT,
    route_name TEXT NOT NULL,
    calendar TEXT NOT NULL,
    -- In milliseconds since 1970.
    at INTEGER NOT NULL,
    -- The route was forgotten since: another of its name keeps its own.
    is_closed INTEGER NOT NULL DEFAULT 0
);
CREATE TABLE kept_entry (
    kept INTEGER NOT NULL REFERENCES kept(id) ON DELETE CASCADE,
    href TEXT NOT NULL,
    body INTEGER NOT NULL,
    PRIMARY KEY (kept, href)
) WITHOUT ROWID;
CREATE TRIGGER kept_body_made AFTER INSERT ON kept_entry BEGIN
    UPDATE body SET refs = refs + 1 WHERE id = NEW.body;
END;
CREATE TRIGGER kept_body_gone AFTER DELETE ON kept_entry BEGIN
    UPDATE body SET refs = refs - 1 WHERE id = OLD.body;
    DELETE FROM body WHERE id = OLD.body AND refs <= 0;
END;

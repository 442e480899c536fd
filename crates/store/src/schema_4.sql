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

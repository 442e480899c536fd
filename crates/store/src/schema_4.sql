-- Which case a change was about, so that it can be taken back; it may be forgotten.
ALTER TABLE change ADD COLUMN link INTEGER;
-- When a run of a route last went well, in milliseconds since 1970: not every run leaves a row.
ALTER TABLE route ADD COLUMN well_at INTEGER;
UPDATE route SET well_at = (
    SELECT max(started) FROM run WHERE route_name = name AND kind = 'sync' AND result IN ('ok', 'held'));

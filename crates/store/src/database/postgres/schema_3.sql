-- Hrefs are relative to their calendar, where they stand in it: as in the file.
CREATE TEMP TABLE folder ON COMMIT DROP AS
    SELECT id, substr(place, position(' /'::bytea IN place) + 1) AS path FROM calendar WHERE substr(place, 1, 4) = 'dav ';
CREATE FUNCTION pg_temp.within(href BYTEA) RETURNS BYTEA LANGUAGE sql AS $$
    SELECT coalesce((SELECT substr(href, length(path) + 1) FROM folder
        WHERE substr(href, 1, length(path)) = path AND substr(href, length(path) + 1, 1) NOT IN ('', '/')
        ORDER BY length(path) DESC LIMIT 1), href)
$$;
UPDATE object SET href = substr(href, length(path) + 1) FROM folder
    WHERE folder.id = calendar AND substr(href, 1, length(path)) = path
    AND substr(href, length(path) + 1, 1) NOT IN ('', '/');
UPDATE intent SET href = pg_temp.within(href);
UPDATE change SET href = pg_temp.within(href);
UPDATE probe SET href = pg_temp.within(href);
UPDATE kept_entry SET href = pg_temp.within(href);

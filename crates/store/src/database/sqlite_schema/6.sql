-- Hrefs are relative to their calendar, where they stand in it. Of most, the state says what they are called and not
-- which calendars they are: there it is the one that they stand in.
CREATE TEMP TABLE folder AS
    SELECT id, substr(place, instr(place, ' /') + 1) AS path FROM calendar WHERE place LIKE 'dav %';
UPDATE object SET href = substr(href, length(path) + 1) FROM folder
    WHERE folder.id = calendar AND substr(href, 1, length(path)) = path
    AND substr(href, length(path) + 1, 1) NOT IN ('', '/');
UPDATE intent SET href = coalesce((SELECT substr(href, length(path) + 1) FROM folder
    WHERE substr(href, 1, length(path)) = path AND substr(href, length(path) + 1, 1) NOT IN ('', '/')
    ORDER BY length(path) DESC LIMIT 1), href);
UPDATE change SET href = coalesce((SELECT substr(href, length(path) + 1) FROM folder
    WHERE substr(href, 1, length(path)) = path AND substr(href, length(path) + 1, 1) NOT IN ('', '/')
    ORDER BY length(path) DESC LIMIT 1), href);
UPDATE OR IGNORE probe SET href = coalesce((SELECT substr(href, length(path) + 1) FROM folder
    WHERE substr(href, 1, length(path)) = path AND substr(href, length(path) + 1, 1) NOT IN ('', '/')
    ORDER BY length(path) DESC LIMIT 1), href);
UPDATE OR IGNORE kept_entry SET href = coalesce((SELECT substr(href, length(path) + 1) FROM folder
    WHERE substr(href, 1, length(path)) = path AND substr(href, length(path) + 1, 1) NOT IN ('', '/')
    ORDER BY length(path) DESC LIMIT 1), href);
DROP TABLE folder;

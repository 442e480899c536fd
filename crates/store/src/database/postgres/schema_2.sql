-- What triggers count is counted for many rows at once, and in any order: statements come with lists of rows.
DROP TRIGGER link_counts ON link;
DROP TRIGGER object_text ON object;
DROP TRIGGER link_text ON link;
DROP TRIGGER place_text ON place;
DROP TRIGGER intent_text ON intent;
DROP TRIGGER change_text ON change;
DROP TRIGGER considered_text ON considered;
DROP TRIGGER kept_text ON kept_entry;
DROP FUNCTION count_links(), texts_of_object(), texts_of_link(), texts_of_place(), texts_of_intent(), texts_of_change();
DROP FUNCTION name_text(BIGINT, BIGINT);

-- How many links stand how. What a route's end takes away with it is not counted again.
CREATE FUNCTION links_come() RETURNS TRIGGER LANGUAGE plpgsql AS $$ BEGIN
    INSERT INTO tally AS t SELECT route, state, reason, partly, count(*) FROM come GROUP BY 1, 2, 3, 4
        ON CONFLICT (route, state, reason, partly) DO UPDATE SET number = t.number + excluded.number;
    RETURN NULL;
END $$;
CREATE FUNCTION links_go() RETURNS TRIGGER LANGUAGE plpgsql AS $$ BEGIN
    UPDATE tally t SET number = t.number - gone.number
        FROM (SELECT route, state, reason, partly, count(*) AS number FROM gone GROUP BY 1, 2, 3, 4) gone
        WHERE t.route = gone.route AND t.state = gone.state AND t.reason = gone.reason AND t.partly = gone.partly;
    RETURN NULL;
END $$;
CREATE FUNCTION links_change() RETURNS TRIGGER LANGUAGE plpgsql AS $$ BEGIN
    INSERT INTO tally AS t SELECT route, state, reason, partly, sum(number) FROM (
            SELECT route, state, reason, partly, 1 AS number FROM come
            UNION ALL SELECT route, state, reason, partly, -1 FROM gone) moved
        GROUP BY 1, 2, 3, 4 HAVING sum(number) <> 0
        ON CONFLICT (route, state, reason, partly) DO UPDATE SET number = t.number + excluded.number;
    RETURN NULL;
END $$;
CREATE TRIGGER link_come AFTER INSERT ON link REFERENCING NEW TABLE AS come
    FOR EACH STATEMENT EXECUTE FUNCTION links_come();
CREATE TRIGGER link_go AFTER DELETE ON link REFERENCING OLD TABLE AS gone
    FOR EACH STATEMENT EXECUTE FUNCTION links_go();
CREATE TRIGGER link_change AFTER UPDATE ON link REFERENCING OLD TABLE AS gone NEW TABLE AS come
    FOR EACH STATEMENT EXECUTE FUNCTION links_change();

-- Who names a text. What nobody names goes at the end of its transaction: until then somebody may name it again.
CREATE FUNCTION forget_text() RETURNS TRIGGER LANGUAGE plpgsql AS $$ BEGIN
    DELETE FROM body WHERE id = NEW.id AND refs <= 0;
    RETURN NULL;
END $$;
CREATE CONSTRAINT TRIGGER nobody_names AFTER UPDATE OF refs ON body DEFERRABLE INITIALLY DEFERRED
    FOR EACH ROW WHEN (NEW.refs <= 0) EXECUTE FUNCTION forget_text();

DO $do$
DECLARE
    naming RECORD;
    event RECORD;
    come TEXT;
    gone TEXT;
BEGIN
    FOR naming IN SELECT * FROM (VALUES
        ('object', ARRAY['body']), ('link', ARRAY['agreed']), ('place', ARRAY['stood', 'agreed']),
        ('intent', ARRAY['sent', 'stood', 'agreed']), ('change', ARRAY['before', 'after']),
        ('considered', ARRAY['body']), ('kept_entry', ARRAY['body'])) tables (name, columns)
    LOOP
        SELECT string_agg(format('SELECT %I AS text, 1 AS number FROM come', named), ' UNION ALL '),
               string_agg(format('SELECT %I AS text, -1 AS number FROM gone', named), ' UNION ALL ')
            INTO come, gone FROM unnest(naming.columns) named;
        FOR event IN SELECT * FROM (VALUES
            ('INSERT', '_texts_come', come, 'NEW TABLE AS come'),
            ('DELETE', '_texts_go', gone, 'OLD TABLE AS gone'),
            ('UPDATE', '_texts_change', come || ' UNION ALL ' || gone, 'OLD TABLE AS gone NEW TABLE AS come')
        ) events (name, does, moved, tables)
        LOOP
            EXECUTE format('CREATE FUNCTION %I() RETURNS TRIGGER LANGUAGE plpgsql AS $fn$ BEGIN
                    UPDATE body b SET refs = b.refs + named.number
                        FROM (SELECT text, sum(number) AS number FROM (%s) moved
                            WHERE text IS NOT NULL GROUP BY 1 HAVING sum(number) <> 0) named
                        WHERE b.id = named.text;
                    RETURN NULL;
                END $fn$', naming.name || event.does, event.moved);
            EXECUTE format('CREATE TRIGGER %I AFTER %s ON %I REFERENCING %s FOR EACH STATEMENT EXECUTE FUNCTION %I()',
                naming.name || event.does, event.name, naming.name, event.tables, naming.name || event.does);
        END LOOP;
    END LOOP;
END $do$;

-- A text's row is written again whenever it is named, or not any more: there is room for that beside it.
ALTER TABLE body SET (fillfactor = 50);

-- Each question has one index that answers it: a plan that is made while the tables are empty must not take another.
DROP INDEX object_href;
DROP INDEX object_uid;
DROP INDEX object_calendar;
CREATE INDEX object_open ON object (calendar, state) WHERE state IN (1, 2, 4);
DROP INDEX place_route;

-- What belongs to a row goes with it. That it belongs to one is not looked up for each row that is added.
ALTER TABLE object DROP CONSTRAINT object_calendar_fkey;
ALTER TABLE part DROP CONSTRAINT part_calendar_fkey;
ALTER TABLE link DROP CONSTRAINT link_route_fkey;
ALTER TABLE place DROP CONSTRAINT place_link_fkey;
ALTER TABLE intent DROP CONSTRAINT intent_link_fkey;
ALTER TABLE considered DROP CONSTRAINT considered_link_fkey;
ALTER TABLE change DROP CONSTRAINT change_run_fkey;
CREATE FUNCTION calendars_go() RETURNS TRIGGER LANGUAGE plpgsql AS $$ BEGIN
    DELETE FROM object USING gone WHERE object.calendar = gone.id;
    DELETE FROM part USING gone WHERE part.calendar = gone.id;
    RETURN NULL;
END $$;
CREATE FUNCTION routes_go() RETURNS TRIGGER LANGUAGE plpgsql AS $$ BEGIN
    DELETE FROM link USING gone WHERE link.route = gone.id;
    RETURN NULL;
END $$;
CREATE FUNCTION cases_go() RETURNS TRIGGER LANGUAGE plpgsql AS $$ BEGIN
    DELETE FROM place USING gone WHERE place.link = gone.id;
    DELETE FROM intent USING gone WHERE intent.link = gone.id;
    DELETE FROM considered USING gone WHERE considered.link = gone.id;
    RETURN NULL;
END $$;
CREATE FUNCTION runs_go() RETURNS TRIGGER LANGUAGE plpgsql AS $$ BEGIN
    DELETE FROM change USING gone WHERE change.run = gone.id;
    RETURN NULL;
END $$;
CREATE TRIGGER calendar_goes AFTER DELETE ON calendar REFERENCING OLD TABLE AS gone
    FOR EACH STATEMENT EXECUTE FUNCTION calendars_go();
CREATE TRIGGER route_goes AFTER DELETE ON route REFERENCING OLD TABLE AS gone
    FOR EACH STATEMENT EXECUTE FUNCTION routes_go();
CREATE TRIGGER case_goes AFTER DELETE ON link REFERENCING OLD TABLE AS gone
    FOR EACH STATEMENT EXECUTE FUNCTION cases_go();
CREATE TRIGGER run_goes AFTER DELETE ON run REFERENCING OLD TABLE AS gone
    FOR EACH STATEMENT EXECUTE FUNCTION runs_go();

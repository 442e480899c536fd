-- The state in PostgreSQL: the tables and columns of the file, in its present format. What they mean is said there.
-- Text is BYTEA: calendars may say anything, and it is compared byte by byte whatever the database's locale. Numbers of
-- rows come from sequences, which give none twice. Long hrefs and UIDs do not fit into an index: it holds less of them.
CREATE TABLE lease (name BYTEA PRIMARY KEY, holder BYTEA NOT NULL, number BIGINT NOT NULL, since BIGINT NOT NULL, until BIGINT NOT NULL);

CREATE SEQUENCE body_id;
CREATE TABLE body (id BIGINT PRIMARY KEY, refs BIGINT NOT NULL DEFAULT 0, bytes BYTEA NOT NULL);
CREATE SEQUENCE zone_id;
CREATE TABLE zone (id BIGINT PRIMARY KEY, digest BYTEA NOT NULL UNIQUE, bytes BYTEA NOT NULL);

CREATE SEQUENCE calendar_id;
CREATE TABLE calendar (
    id BIGINT PRIMARY KEY,
    place BYTEA NOT NULL UNIQUE,
    seq BIGINT NOT NULL DEFAULT 0,
    facts BYTEA NOT NULL DEFAULT '{}'
);
CREATE SEQUENCE object_id;
CREATE TABLE object (
    id BIGINT PRIMARY KEY,
    calendar BIGINT NOT NULL REFERENCES calendar(id) ON DELETE CASCADE,
    href BYTEA NOT NULL,
    etag BYTEA,
    state BIGINT NOT NULL,
    seq BIGINT NOT NULL,
    generation BIGINT NOT NULL,
    uid BYTEA,
    content BYTEA,
    body BIGINT,
    parent BIGINT,
    first BIGINT,
    last BIGINT
);
CREATE UNIQUE INDEX object_one_href ON object (calendar, sha256(href)) WHERE state <> 4;
CREATE INDEX object_href ON object USING hash (href);
CREATE INDEX object_calendar ON object (calendar, state);
CREATE INDEX object_uid ON object USING hash (uid);
CREATE INDEX object_uid_begins ON object (calendar, substr(uid, 1, 200));
CREATE INDEX object_content ON object (calendar, content);
CREATE INDEX object_seq ON object (calendar, seq);
CREATE INDEX object_parent ON object (parent) WHERE parent IS NOT NULL;
CREATE TABLE part (
    calendar BIGINT NOT NULL REFERENCES calendar(id) ON DELETE CASCADE,
    parent BIGINT NOT NULL,
    reason BYTEA NOT NULL DEFAULT '',
    due BIGINT,
    spans BYTEA NOT NULL DEFAULT '[]',
    PRIMARY KEY (calendar, parent)
);
CREATE INDEX part_parent ON part (parent);
CREATE INDEX part_due ON part (calendar, due) WHERE due IS NOT NULL;
CREATE INDEX part_reason ON part (calendar, reason) WHERE reason <> '';

CREATE SEQUENCE route_id;
CREATE TABLE route (
    id BIGINT PRIMARY KEY,
    name BYTEA NOT NULL UNIQUE,
    rule BYTEA NOT NULL DEFAULT '',
    ends BYTEA NOT NULL DEFAULT '',
    paused BIGINT NOT NULL DEFAULT 0,
    ran_at BIGINT,
    seen BYTEA NOT NULL DEFAULT '[]',
    well_at BIGINT,
    paused_until BIGINT
);
CREATE SEQUENCE link_id;
CREATE TABLE link (
    id BIGINT PRIMARY KEY,
    route BIGINT NOT NULL REFERENCES route(id) ON DELETE CASCADE,
    state BIGINT NOT NULL,
    reason BYTEA NOT NULL DEFAULT '',
    agreed BIGINT,
    carried BIGINT NOT NULL DEFAULT 0,
    form BIGINT NOT NULL DEFAULT 0,
    due BIGINT,
    tries BIGINT NOT NULL DEFAULT 0,
    told BYTEA,
    partly BIGINT NOT NULL DEFAULT 0
);
CREATE INDEX link_due ON link (route, due) WHERE due IS NOT NULL;
CREATE INDEX link_state ON link (route, state, id);
CREATE INDEX link_route ON link (route, id);
CREATE TABLE place (
    link BIGINT NOT NULL REFERENCES link(id) ON DELETE CASCADE,
    side BIGINT NOT NULL,
    route BIGINT NOT NULL,
    object BIGINT,
    origin BIGINT NOT NULL,
    seq BIGINT NOT NULL DEFAULT 0,
    stood BIGINT,
    agreed BIGINT,
    refused BYTEA,
    let_go BIGINT NOT NULL DEFAULT 0,
    PRIMARY KEY (link, side)
);
CREATE UNIQUE INDEX place_object ON place (object, route) WHERE object IS NOT NULL;
CREATE INDEX place_route ON place (route);
CREATE TABLE tally (
    route BIGINT NOT NULL REFERENCES route(id) ON DELETE CASCADE,
    state BIGINT NOT NULL,
    reason BYTEA NOT NULL,
    partly BIGINT NOT NULL,
    number BIGINT NOT NULL,
    PRIMARY KEY (route, state, reason, partly)
);
CREATE TABLE intent (
    link BIGINT NOT NULL REFERENCES link(id) ON DELETE CASCADE,
    side BIGINT NOT NULL,
    route BIGINT NOT NULL,
    href BYTEA NOT NULL,
    sent BIGINT,
    stood BIGINT,
    agreed BIGINT,
    carried BIGINT NOT NULL,
    form BIGINT NOT NULL,
    PRIMARY KEY (link, side)
);
CREATE INDEX intent_route ON intent (route);
CREATE TABLE considered (
    link BIGINT NOT NULL REFERENCES link(id) ON DELETE CASCADE,
    side BIGINT NOT NULL,
    body BIGINT NOT NULL,
    PRIMARY KEY (link, side)
);

CREATE SEQUENCE held_id;
CREATE TABLE held (
    id BIGINT PRIMARY KEY,
    route BIGINT NOT NULL REFERENCES route(id) ON DELETE CASCADE,
    link BIGINT REFERENCES link(id) ON DELETE CASCADE,
    since BIGINT NOT NULL,
    title BYTEA NOT NULL,
    start BYTEA NOT NULL,
    details BYTEA NOT NULL,
    decision BYTEA,
    UNIQUE (route, link)
);
CREATE INDEX held_link ON held (link);
CREATE SEQUENCE run_id;
CREATE TABLE run (
    id BIGINT PRIMARY KEY,
    route_name BYTEA NOT NULL,
    started BIGINT NOT NULL,
    finished BIGINT,
    result BYTEA,
    summary BYTEA NOT NULL DEFAULT '{}',
    kind BYTEA NOT NULL DEFAULT 'sync'
);
CREATE INDEX run_route ON run (route_name, id);
CREATE INDEX run_started ON run (started);
CREATE SEQUENCE change_id;
CREATE TABLE change (
    id BIGINT PRIMARY KEY,
    run BIGINT NOT NULL REFERENCES run(id) ON DELETE CASCADE,
    calendar BYTEA NOT NULL,
    action BYTEA NOT NULL,
    href BYTEA NOT NULL,
    uid BYTEA NOT NULL,
    title BYTEA NOT NULL,
    start BYTEA NOT NULL,
    told BYTEA,
    before BIGINT,
    after BIGINT,
    link BIGINT
);
CREATE INDEX change_run ON change (run, id);
CREATE TABLE comparison (route_name BYTEA PRIMARY KEY, at BIGINT NOT NULL, facts BYTEA NOT NULL);
CREATE TABLE probe (
    route_name BYTEA NOT NULL,
    calendar BYTEA NOT NULL,
    href BYTEA NOT NULL,
    since BIGINT NOT NULL,
    starts BIGINT NOT NULL,
    PRIMARY KEY (route_name, calendar, href)
);
CREATE TABLE address (
    account BYTEA NOT NULL,
    name BYTEA NOT NULL,
    url BYTEA NOT NULL,
    found BIGINT NOT NULL,
    PRIMARY KEY (account, name)
);
CREATE SEQUENCE kept_id;
CREATE TABLE kept (
    id BIGINT PRIMARY KEY,
    route_name BYTEA NOT NULL,
    calendar BYTEA NOT NULL,
    at BIGINT NOT NULL,
    is_closed BIGINT NOT NULL DEFAULT 0
);
CREATE TABLE kept_entry (
    kept BIGINT NOT NULL REFERENCES kept(id) ON DELETE CASCADE,
    href BYTEA NOT NULL,
    body BIGINT NOT NULL
);
CREATE UNIQUE INDEX kept_one_href ON kept_entry (kept, sha256(href));
CREATE SEQUENCE trouble_id;
CREATE TABLE trouble (
    id BIGINT PRIMARY KEY,
    kind BYTEA NOT NULL,
    about BYTEA NOT NULL,
    since BIGINT NOT NULL,
    began BIGINT,
    ended BIGINT,
    bad BIGINT NOT NULL,
    good BIGINT NOT NULL,
    came_back BIGINT NOT NULL,
    told BIGINT,
    facts BYTEA NOT NULL
);
CREATE INDEX trouble_open ON trouble (id) WHERE ended IS NULL;
CREATE INDEX trouble_ended ON trouble (ended) WHERE ended IS NOT NULL;
CREATE SEQUENCE notice_id;
CREATE TABLE notice (
    id BIGINT PRIMARY KEY,
    trouble BIGINT NOT NULL REFERENCES trouble(id) ON DELETE CASCADE,
    event BYTEA NOT NULL,
    at BIGINT NOT NULL,
    facts BYTEA NOT NULL,
    attempt BIGINT NOT NULL DEFAULT 0,
    next BIGINT NOT NULL,
    outcome BIGINT NOT NULL DEFAULT 0,
    problem BYTEA NOT NULL DEFAULT ''
);
CREATE INDEX notice_open ON notice (id) WHERE outcome <> 1;
CREATE INDEX notice_trouble ON notice (trouble);
CREATE TABLE account_pause (account BYTEA PRIMARY KEY, until BIGINT);
CREATE TABLE meta (name BYTEA PRIMARY KEY, value BYTEA NOT NULL);

-- Nothing is written on the strength of a lease that another has taken since.
CREATE FUNCTION must_hold(held BYTEA, its_number BIGINT) RETURNS VOID LANGUAGE plpgsql AS $$ BEGIN
    IF NOT EXISTS (SELECT FROM lease WHERE name = held AND number = its_number) THEN
        RAISE EXCEPTION 'lost' USING ERRCODE = 'CH001', DETAIL = convert_from(held, 'UTF8');
    END IF;
END $$;

CREATE FUNCTION count_links() RETURNS TRIGGER LANGUAGE plpgsql AS $$ BEGIN
    IF OLD.id IS NOT NULL AND NEW.id IS NOT NULL AND OLD.state = NEW.state AND OLD.reason = NEW.reason
        AND OLD.partly = NEW.partly THEN
        RETURN NULL;
    END IF;
    IF OLD.id IS NOT NULL THEN
        UPDATE tally SET number = number - 1
            WHERE route = OLD.route AND state = OLD.state AND reason = OLD.reason AND partly = OLD.partly;
    END IF;
    IF NEW.id IS NOT NULL THEN
        INSERT INTO tally AS t VALUES (NEW.route, NEW.state, NEW.reason, NEW.partly, 1)
            ON CONFLICT (route, state, reason, partly) DO UPDATE SET number = t.number + 1;
    END IF;
    RETURN NULL;
END $$;
CREATE TRIGGER link_counts AFTER INSERT OR DELETE OR UPDATE OF state, reason, partly ON link
    FOR EACH ROW EXECUTE FUNCTION count_links();

-- Who names a text.
CREATE FUNCTION name_text(was BIGINT, is_now BIGINT) RETURNS VOID LANGUAGE plpgsql AS $$ BEGIN
    IF was IS NOT DISTINCT FROM is_now THEN
        RETURN;
    END IF;
    IF is_now IS NOT NULL THEN
        UPDATE body SET refs = refs + 1 WHERE id = is_now;
    END IF;
    IF was IS NOT NULL THEN
        UPDATE body SET refs = refs - 1 WHERE id = was;
        DELETE FROM body WHERE id = was AND refs <= 0;
    END IF;
END $$;
CREATE FUNCTION texts_of_object() RETURNS TRIGGER LANGUAGE plpgsql AS $$ BEGIN
    PERFORM name_text(OLD.body, NEW.body);
    RETURN NULL;
END $$;
CREATE FUNCTION texts_of_link() RETURNS TRIGGER LANGUAGE plpgsql AS $$ BEGIN
    PERFORM name_text(OLD.agreed, NEW.agreed);
    RETURN NULL;
END $$;
CREATE FUNCTION texts_of_place() RETURNS TRIGGER LANGUAGE plpgsql AS $$ BEGIN
    PERFORM name_text(OLD.stood, NEW.stood), name_text(OLD.agreed, NEW.agreed);
    RETURN NULL;
END $$;
CREATE FUNCTION texts_of_intent() RETURNS TRIGGER LANGUAGE plpgsql AS $$ BEGIN
    PERFORM name_text(OLD.sent, NEW.sent), name_text(OLD.stood, NEW.stood), name_text(OLD.agreed, NEW.agreed);
    RETURN NULL;
END $$;
CREATE FUNCTION texts_of_change() RETURNS TRIGGER LANGUAGE plpgsql AS $$ BEGIN
    PERFORM name_text(OLD.before, NEW.before), name_text(OLD.after, NEW.after);
    RETURN NULL;
END $$;
CREATE TRIGGER object_text AFTER INSERT OR DELETE OR UPDATE OF body ON object
    FOR EACH ROW EXECUTE FUNCTION texts_of_object();
CREATE TRIGGER link_text AFTER INSERT OR DELETE OR UPDATE OF agreed ON link
    FOR EACH ROW EXECUTE FUNCTION texts_of_link();
CREATE TRIGGER place_text AFTER INSERT OR DELETE OR UPDATE OF stood, agreed ON place
    FOR EACH ROW EXECUTE FUNCTION texts_of_place();
CREATE TRIGGER intent_text AFTER INSERT OR DELETE OR UPDATE OF sent, stood, agreed ON intent
    FOR EACH ROW EXECUTE FUNCTION texts_of_intent();
CREATE TRIGGER change_text AFTER INSERT OR DELETE OR UPDATE OF before, after ON change
    FOR EACH ROW EXECUTE FUNCTION texts_of_change();
CREATE TRIGGER considered_text AFTER INSERT OR DELETE OR UPDATE OF body ON considered
    FOR EACH ROW EXECUTE FUNCTION texts_of_object();
CREATE TRIGGER kept_text AFTER INSERT OR DELETE ON kept_entry
    FOR EACH ROW EXECUTE FUNCTION texts_of_object();

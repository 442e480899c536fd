-- When an entry outside the window begins next, and when a carried one is over for good: seconds since 1970.
ALTER TABLE known ADD COLUMN next INTEGER;
ALTER TABLE known ADD COLUMN over INTEGER;
CREATE INDEX known_next ON known (route, side, next) WHERE next IS NOT NULL;
CREATE INDEX known_over ON known (route, side, over) WHERE over IS NOT NULL;
-- What a copy does not bring along: 1 people, 2 attachments, 3 both.
ALTER TABLE link ADD COLUMN partly INTEGER NOT NULL DEFAULT 0;
CREATE INDEX link_partly ON link (route, partly) WHERE partly > 0;

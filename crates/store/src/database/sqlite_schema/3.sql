-- Where calendars were found that the configuration names by what they are called: sought again once a day.
CREATE TABLE address (
    -- Whose: the account's server and user.
    account TEXT NOT NULL,
    name TEXT NOT NULL,
    url TEXT NOT NULL,
    found INTEGER NOT NULL,
    PRIMARY KEY (account, name)
) WITHOUT ROWID;

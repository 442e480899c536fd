//! The keys of the configuration: what is said of one anywhere is said here. Parsing, `route show`, the reference and
//! `chestnut init` are made of it.

/// A key, and what it means.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Key {
    pub(crate) name: &'static str,
    /// Markdown, for a cell of a table.
    pub(crate) means: &'static str,
    pub(crate) default: Default,
    /// A value, as it is written.
    #[cfg_attr(not(test), expect(dead_code, reason = "the reference alone has examples"))]
    pub(crate) example: Option<&'static str>,
    pub(crate) ways: Ways,
    /// It says something only where copies show when, and nothing else.
    pub(crate) is_of_busy: bool,
    /// Another value changes what a run decides: it is owed to every entry.
    #[cfg_attr(not(test), expect(dead_code, reason = "held against what the engine compares"))]
    pub(crate) is_compared: bool,
    /// In a new configuration: a value, and a remark on it.
    pub(crate) start: Option<(&'static str, &'static str)>,
}

/// What holds where nothing is said.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Default {
    /// The key is needed, or needed where others are not there.
    Needed,
    /// A value, as it is written.
    Value(&'static str),
    /// Not a value.
    Words(&'static str),
    /// Nothing to say.
    Nothing,
}

/// The routes to which a key belongs.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Ways {
    All,
    OneWay,
    TwoWay,
}

const fn key(name: &'static str, means: &'static str) -> Key {
    Key {
        name,
        means,
        default: Default::Nothing,
        example: None,
        ways: Ways::All,
        is_of_busy: false,
        is_compared: true,
        start: None,
    }
}

impl Key {
    /// What it means, for a terminal: without links.
    pub(crate) fn plain(&self) -> String {
        let mut out = String::new();
        for (at, piece) in self.means.split("](").enumerate() {
            let rest = if at == 0 { piece } else { piece.split_once(')').map_or("", |(_, rest)| rest) };
            out += &rest.replace('[', "");
        }
        out
    }

    const fn needed(self) -> Self {
        Self { default: Default::Needed, ..self }
    }

    const fn default(self, value: &'static str) -> Self {
        Self { default: Default::Value(value), ..self }
    }

    const fn otherwise(self, words: &'static str) -> Self {
        Self { default: Default::Words(words), ..self }
    }

    const fn example(self, value: &'static str) -> Self {
        Self { example: Some(value), ..self }
    }

    const fn one_way(self) -> Self {
        Self { ways: Ways::OneWay, ..self }
    }

    const fn of_busy(self) -> Self {
        Self { is_of_busy: true, ..self }
    }

    const fn of_no_entry(self) -> Self {
        Self { is_compared: false, ..self }
    }

    const fn two_way(self) -> Self {
        Self { ways: Ways::TwoWay, ..self }
    }

    const fn start(self, value: &'static str, remark: &'static str) -> Self {
        Self { start: Some((value, remark)), ..self }
    }
}

/// What stands outside of all tables.
pub(crate) const TOP: &[Key] = &[
    key("timezone", "the zone in which times are shown")
        .otherwise("the system's")
        .example(r#""Europe/Ljubljana""#)
        .start(r#""Europe/Ljubljana""#, ""),
    key("week-starts", "the first day of a week: `\"monday\"`, `\"sunday\"` or `\"saturday\"`")
        .default(r#""monday""#)
        .example(r#""sunday""#),
    key("include", "other files with accounts, calendars and routes, read from the folder of this one; `*` stands for any name")
        .otherwise("none")
        .example(r#"["routes/*.toml"]"#),
    key("on-trouble", "a program that is told when a [trouble](../guide/left-running.md#troubles) begins and ends, with its words: no shell")
        .otherwise("nobody is told")
        .example(r#"["/usr/local/bin/tell-the-office"]"#),
    key("heartbeat-url", "an address that is asked after a round in which no route is behind, at most once a minute; or a [secret](#secrets) that holds it")
        .otherwise("none")
        .example(r#""https://alive.packhouse.example/chestnut""#),
    key("listen", "where `watch` answers `/healthz`, `/metrics` and `/status`")
        .otherwise("nowhere")
        .example(r#""127.0.0.1:8086""#),
    key("listen-hosts", "names by which that may be asked, besides the address itself")
        .default("[]")
        .example(r#"["calendars.packhouse.example"]"#),
    key("listen-token", "a [secret](#secrets) that whoever asks must send (`Authorization: Bearer …`); needed where `listen` can be reached from other machines")
        .otherwise("none")
        .example(r#"{ file = "listen.token" }"#),
    key("state", "where the state is kept: a path, or a [table](#state) that names a database for several machines")
        .otherwise("a file beside the configuration, named after it")
        .example(r#""/var/lib/chestnut/state""#),
    key("key", "the file with the key by which copies are known; it is made where there is none, and is kept apart from the state")
        .otherwise("a file beside the configuration, named after it")
        .example(r#""/var/lib/chestnut/key""#),
    key("watch", "how `watch` works: see [below](#watch)"),
    key("defaults", "what holds for all accounts and routes that do not say it themselves: `[defaults.account]`, `[defaults.route]`"),
    key("account", "the logins at servers, each a table of its own"),
    key("calendar", "the calendars, each a table of its own"),
    key("route", "the routes, each a table of its own"),
    key("keep-history", "how long runs and replaced texts are kept")
        .default(r#""90 days""#)
        .example(r#""1 year""#),
];

/// `[state]`
pub(crate) const STATE: &[Key] = &[
    key("url", "a database of PostgreSQL 13 or later that belongs to Chestnut: `postgres://user@host/database`, without a password")
        .needed()
        .example(r#""postgres://chestnut@db.packhouse.example/chestnut""#),
    key("password", "a [secret](#secrets)")
        .otherwise("none")
        .example(r#"{ file = "db.password" }"#),
    key("ca", "a file of certificates (PEM): the only authorities that may vouch for the server")
        .otherwise("the system's")
        .example(r#""ca.pem""#),
    key("lease", "after how long without a word of a machine another may go on with its routes")
        .default(r#""60s""#)
        .example(r#""2min""#),
];

/// `[watch]`
pub(crate) const WATCH: &[Key] = &[
    key("eager", "allow `every` to be shorter than a minute, for servers that are all your own")
        .default("false")
        .example("true"),
    key("titles", "show on `/status` what entries are called").default("false").example("true"),
];

/// `[account.NAME]`
pub(crate) const ACCOUNT: &[Key] = &[
    key("url", "any address of the server: a bare host or domain, the web address, a principal, a home, a calendar. For a bare one the name service is asked where the calendars are (RFC 6764)").needed().example(r#""https://dav.packhouse.example/""#).start(r#""https://dav.packhouse.example/""#, ""),
    key("user", "the user name").otherwise("none: no sign-in").example(r#""office""#).start(r#""office""#, ""),
    key("password", "where the password is kept: a [secret](#secrets)").otherwise("needed with `user`").example(r#"{ env = "PACKHOUSE_PASSWORD" }"#).start(r#"{ file = "packhouse.password" }"#, r#"or { env = "…" }, { command = ["…"] }, { keyring = "…" }"#),
    key("token", "where a token is kept that takes the place of user and password: a [secret](#secrets)").otherwise("none").example(r#"{ file = "cloud.token" }"#),
    key("oauth", "a sign-in by OAuth 2.0: see [below](#oauth)").otherwise("none").example(r#"{ client-id = "…", … }"#),
    key("ca", "a file with a certificate authority to trust besides the system's").otherwise("none").example(r#""ca.pem""#),
    key("certificate", "a file with a certificate of your own (PEM), for servers that ask for one").otherwise("none").example(r#""office.pem""#),
    key("certificate-key", "the file with its key, readable by you alone").otherwise("the same file").example(r#""office.key""#),
    key("proxy", r#"the proxy on the way: an address, `"none"`, or `{ url = "…", user = "…", password = { … } }`"#).otherwise("the variables `HTTPS_PROXY`, `HTTP_PROXY`, `ALL_PROXY`, `NO_PROXY`").example(r#""http://proxy.packhouse.example:3128""#),
    key("timeout", "how long the server may be silent: before an answer, and within one").default(r#""30s""#).example(r#""2 minutes""#),
    key("patience", "how long it may give no answer at all, or fail (500 and above), before a run gives it up").default(r#""60s""#).example(r#""5 minutes""#),
    key("warn-before", "how long before its end a certificate of the server is told of as a [trouble](../guide/left-running.md#troubles); one with a short life, when a third of it is left").default(r#""14 days""#).example(r#""30 days""#),
    key("max-download", "the largest answer that is taken, in megabytes, decompressed; a larger one is refused while it arrives").default("64").example("200"),
    key("at-once", "most requests in flight; below it the best number is found by itself").default("4").example("1"),
    key("sign-in-also-at", "other servers of the same service that get the sign-in, too: a server may send on to them. `https://*.cloud.example` stands for one label, whichever; `account test` asks when one is needed").otherwise("none").example(r#"["https://p42.cloud.example"]"#),
    key("plain-http", "allow the password over unencrypted HTTP to another machine").default("false").example("true"),
];

/// `oauth = { … }` of an account
pub(crate) const OAUTH: &[Key] = &[
    key("client-id", "the name under which the service knows Chestnut").needed(),
    key("client-secret", "the secret that belongs to it: a [secret](#secrets)").otherwise("none"),
    key("authorize-url", "where people say yes").needed(),
    key("token-url", "where codes become tokens").needed(),
    key("device-url", "where codes to type on another device come from")
        .otherwise("none: `account login --code` does not work"),
    key("scopes", "what is asked for").default("[]"),
    key("keep", r#"where tokens are kept: `{ file = "PATH" }` or `{ keyring = "NAME" }`"#)
        .otherwise("the file `NAME.tokens` beside the configuration, for you alone"),
];

/// The title of busy-only copies, where nothing else is said.
pub(crate) const BUSY: &str = "Busy";

/// `[calendar.NAME]`
pub(crate) const CALENDAR: &[Key] = &[
    key("account", "the account on whose server it is; with `feed` and `freebusy`, who signs in there").otherwise("none").example(r#""packhouse""#).start(r#""packhouse""#, ""),
    key("path", "its path, as `chestnut calendar list` prints it").example(r#""/office/calendars/presses/""#).start(r#""/office/presses/""#, r#"or name = "Press hall", where that is unique"#),
    key("name", "its name on the server, where that is unique").example(r#""Notice board""#),
    key("feed", "the address of an iCalendar feed (`https:`, `http:`, `webcal:`), or a [secret](#secrets) that holds it. It can only be read: as `to` it is refused").example(r#""https://markets.example/days.ics""#).start(r#""https://markets.example/days.ics""#, ""),
    key("freebusy", "the address of free-busy time that somebody publishes (VFREEBUSY), or a [secret](#secrets) that holds it; with `account`, the address of a calendar whose server tells when time is taken, and nothing else. It can only be read, and only with `carry = \"busy\"`; outside of its ends nothing is known").example(r#""https://depot.example/office.ifb""#),
    key("file", "an `.ics` file; one that receives copies need not be there yet").example(r#""kiosk.ics""#).start(r#""board.ics""#, ""),
    key("soon", "look there every minute for ten minutes after a change, then less and less often: for calendars in which people wait for each other").default("false").example("true"),
    key("note", "whatever people should know about it; shown with its troubles").otherwise("none").example(r#""Ask the press hall before changing it""#),
    key("quiet-after", "a calendar that can only be read and in which nothing changed for so long is an error for `probe`: perhaps nobody keeps it up").default(r#""30 days""#).example(r#""120 days""#),
    key("timeout", "of a feed without `account`: how long its server may be silent").otherwise("30 s").example(r#""2 minutes""#),
    key("max-download", "of a feed: the largest one that is taken, in megabytes, decompressed").otherwise("64").example("200"),
    key("folder", "a folder of `.ics` files, each with one entry; hidden files and folders inside do not belong to it").example(r#""kiosk/""#),
];

/// `[route.NAME]`
pub(crate) const ROUTE: &[Key] = &[
    key("from", "the calendar that is read").needed().example(r#""presses""#).one_way().start(r#""presses""#, ""),
    key("to", "the calendar that receives copies").needed().example(r#""board""#).one_way().start(r#""board""#, ""),
    key("between", "instead of `from` and `to`: two or more calendars that are kept alike: see [the guide](../guide/both-ways-and-deletions.md)").example(r#"["crews-office", "crews-phones"]"#).two_way().start(r#"["presses", "board"]"#, ""),
    key("disagree", r#"with `between`: whose word counts: `"newest"`, a calendar, `"hold"`"#).default(r#""newest""#).example(r#""hold""#).two_way().start(r#""newest""#, r#"or a calendar, or "hold": you decide"#),
    key("deletion-limit", "how much a run deletes unasked").default("{ entries = 10, percent = 20 }").example("5").of_no_entry(),
    key("matches", r#"entries that are on the far side already, by UID or by title, time and recurrence: `"follow"` lays the source's changes over them and never deletes or corrects them; `"own"` treats them as copies"#).default(r#""follow""#).example(r#""own""#).one_way(),
    key("strangers", r#"entries on the far side that are nobody's copies: `"leave"`, `"remove"`"#).default(r#""leave""#).example(r#""remove""#).one_way(),
    key("relay", "take copies of other routes like originals").default("false").example("true"),
    key("only", "which entries go along: all of this must be true. See [the guide](../guide/what-a-route-takes.md#which-entries)").default(r#"{ kinds = ["events"] }"#).example(r#"{ kinds = ["tasks"] }"#).start(r#"{ kinds = ["events"] }"#, r#"also "tasks" and "journals""#),
    key("skip", "which entries stay behind: none of this may be true").otherwise("nothing").example("{ declined = true }"),
    key("me", "addresses of the owner of `from`: what they declined or accepted with a perhaps").otherwise("the account's user where it is a mail address, and what its server tells").example(r#"["office@packhouse.example"]"#),
    key("window", "how far back and ahead it looks: see [the guide](../guide/what-a-route-takes.md#how-far-back-and-ahead)").otherwise("everything").example(r#"{ past = "7 days", ahead = "90 days" }"#).start(r#"{ past = "7 days", ahead = "3 months" }"#, ""),
    key("past-copies", r#"what becomes of copies that have fallen behind the window: `"keep"`, `"remove"`"#).default(r#""keep""#).example(r#""remove""#).one_way(),
    key("occurrences", r#"whether a series is one entry (`"series"`) or one for each occurrence (`"each"`)"#).default(r#""series""#).example(r#""each""#).one_way(),
    key("carry", r#"what a copy shows: `"everything"`, `"busy"`, or a table: see [the guide](../guide/what-a-route-takes.md#what-a-copy-shows)"#).default(r#""everything""#).example(r#""busy""#).start(r#""everything""#, r#""busy": the time alone"#),
    key("busy-title", "the title of busy-only copies").default(r#""Busy""#).of_busy().example(r#""Press hall taken""#),
    key("join-busy", "join overlapping and touching busy times into blocks").default("false").example("true").of_busy().one_way(),
    key("deletions", r#"what a deletion at the source does: `"carry"` deletes the copy, `"keep"` leaves it"#).default(r#""carry""#).example(r#""keep""#).start(r#""carry""#, r#""keep": a copy stays when its entry is deleted"#),
    key("far-edits", r#"what happens to a copy that somebody edited: `"correct"` puts it right, `"leave"` leaves it until the source changes"#).default(r#""correct""#).example(r#""leave""#).one_way(),
    key("like", "another route that says what this one does not say, its calendars too").otherwise("none").example(r#""bookings""#).of_no_entry(),
    key("was", "earlier names of this route, the oldest first; written by `chestnut route rename`: its copies bear the first, and what is remembered of it goes on").otherwise("none").example(r#"["hall-bookings"]"#).of_no_entry(),
    key("every", "how long it rests between two rounds of `watch` or `sync --only-due`").default(r#""15 minutes""#).example(r#""1 hour""#).of_no_entry(),
    key("note", "whatever people should know about it; shown by `status` and `held`").otherwise("none").example(r#""Ask the market office""#).of_no_entry(),
    key("stale-after", "without a run that went well for so long, `status` calls the route behind, with exit status 3").otherwise("twice `every` and 10 minutes under `watch`, else 26 hours").example(r#""6 hours""#).of_no_entry(),
    key("full-look-every", "how often the whole listing is compared, against servers that forget to tell changes").default(r#""24 hours""#).example(r#""6 hours""#).of_no_entry(),
];

/// `only = { … }`
pub(crate) const ONLY: &[Key] = &[
    key("kinds", "entries of these kinds: `events`, `tasks`, `journals`")
        .default(r#"["events"]"#)
        .example(r#"["tasks"]"#),
    key("categories", "with one of these categories, in any case").example(r#"["Town"]"#),
    key("words", "with one of these in title, place or notes, in any case; between slashes it is a pattern")
        .example(r#""press hall""#),
    key("all-day", "of whole days (`true`), or with times (`false`)").example("true"),
    key("declined", "to which the owner has said no").example("true"),
    key("cancelled", "that are called off").example("true"),
    key("tentative", "that are not certain yet").example("true"),
    key("free", "that do not block time").example("true"),
    key("private", "that are private or confidential").example("true"),
    key("organiser", "that one of these addresses has called").example(r#"["crews@packhouse.example"]"#),
];

/// `skip = { … }`: the same, but for the kinds.
pub(crate) fn skip() -> Vec<Key> {
    ONLY.iter().filter(|key| key.name != "kinds").copied().collect()
}

/// `window = { … }`
pub(crate) const WINDOW: &[Key] = &[
    key("past", "so far back from today: days, weeks, months or years")
        .otherwise("no end")
        .example(r#""7 days""#),
    key("ahead", "so far ahead of today").otherwise("no end").example(r#""3 months""#),
    key("from", "instead of `past`: from this day on").example(r#""2027-01-01""#),
    key("to", "instead of `ahead`: up to this day, which is inside").example(r#""2027-02-28""#),
];

/// `carry = { … }`
pub(crate) const CARRY: &[Key] = &[
    key("details", "which of `title`, `location`, `notes`, `people`, `reminders`, `categories`, `colour`, `link`, `attachments`, `other` go along").otherwise("all of them").example(r#"["title", "location"]"#),
    key("title", "a title for every copy").otherwise("its own").example(r#""Market""#),
    key("prefix", "stands before every title, once").otherwise("none").example(r#""[Stall] ""#),
    key("blocks-time", r#"whether copies block time: `"as-it-is"`, `"yes"` or `"no"`"#).default(r#""as-it-is""#).example(r#""no""#),
    key("privacy", r#"`"as-it-is"`, `"public"`, `"private"` or `"confidential"`"#).default(r#""as-it-is""#).example(r#""private""#),
    key("reminders", r#"`"as-they-are"`, `"none"`, or one so long before the start"#).default(r#""as-they-are""#).example(r#""30 minutes""#),
    key("people", r#"`"silent"`: they go along where the far server cannot write to them; `"listed"`: they become lines in the notes; `"none"`: they stay behind; `"invite"`: they go along in any case, and **the far server may write to them**"#).default(r#""silent""#).example(r#""listed""#),
    key("categories", "these, or a table that renames them; an empty name takes one out").otherwise("its own").example(r#"["Markets"]"#),
    key("colour", "a name that web pages use, or a table of colours by category").otherwise("its own").example(r#""orange""#),
];

/// `deletion-limit = { … }`
pub(crate) const DELETION_LIMIT: &[Key] = &[
    key("entries", "so many deletions in one run are always done").default("10").example("5"),
    key("percent", "so many of a hundred of the route's entries, too").default("20").example("0"),
];

/// Where a key of this name stands, as one says it to somebody who wrote it into a table.
pub(crate) fn homes(name: &str, table: &str) -> Vec<&'static str> {
    let of_all = [(ACCOUNT, "in [defaults.account]"), (ROUTE, "in [defaults.route]")];
    let tables = [
        (TOP, "at the top of the file, before the first [table]"),
        (ACCOUNT, "in an [account.NAME]"),
        (CALENDAR, "in a [calendar.NAME]"),
        (ROUTE, "in a [route.NAME]"),
        (WATCH, "in [watch]"),
        (ONLY, "in a route's `only = { … }`"),
        (WINDOW, "in a route's `window = { … }`"),
        (CARRY, "in a route's `carry = { … }`"),
        (DELETION_LIMIT, "in a route's `deletion-limit = { … }`"),
    ];
    let has = |keys: &[Key]| keys.iter().any(|key| key.name == name);
    let of_all = of_all.into_iter().filter(|(keys, _)| table == "defaults" && has(keys));
    let mut places: Vec<_> = of_all.map(|(_, place)| place).collect();
    if places.is_empty() {
        places.extend(tables.into_iter().filter(|(keys, _)| has(keys)).map(|(_, place)| place));
    }
    places
}

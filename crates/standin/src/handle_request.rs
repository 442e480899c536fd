//! From a request to a response: sign-in, methods, conditions.

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use chestnut_core::Entry;
use chestnut_core::ical::Limits;
use md5::{Digest as _, Md5};

use crate::exchange::{Access, Reply, ServerRequest};
use crate::failings::Failing;
use crate::faults::{FaultKind, take_fault};
use crate::habits::Habit;
use crate::names::is_odd_name;
use crate::object_store::{Collection, Server, Share};
use crate::{properties, reports};

impl Server {
    /// Answers a request.
    pub fn handle(&mut self, request: &ServerRequest) -> Reply {
        let path = request.decoded_path();
        self.log.push((request.method.clone(), path.clone()));
        let fault = take_fault(&mut self.faults, &request.method, &path);
        let mut reply = match fault {
            Some(FaultKind::Status { code, retry_after }) => {
                let reply = Reply::status(code).body("text/plain", "not now");
                match retry_after {
                    Some(seconds) => reply.with("Retry-After", seconds.to_string()),
                    None => reply,
                }
            }
            Some(FaultKind::Body { code, ref content_type, ref text }) => {
                Reply::status(code).body(content_type, text.clone())
            }
            _ => self.answer(request, &path),
        };
        match fault {
            Some(FaultKind::LoseAnswer) => reply.lost = true,
            Some(FaultKind::HalfBody) => reply.half = true,
            Some(FaultKind::Delay(ms)) => reply.delay_ms = ms,
            _ => {}
        }
        if self.has(Habit::SlowsDown) && matches!(request.method.as_str(), "PUT" | "DELETE") {
            let entries: usize = self.collections.values().map(|c| c.objects.len()).sum();
            reply.delay_ms += entries as u64 / 20;
        }
        let date = std::time::UNIX_EPOCH + std::time::Duration::from_millis(self.now_ms.unsigned_abs());
        reply.with("Date", httpdate::fmt_http_date(date))
    }

    fn answer(&mut self, request: &ServerRequest, path: &str) -> Reply {
        if let Some(feed) = self.feeds.get(path).cloned() {
            return feed_reply(self, request, &feed);
        }
        if let Some((new, name)) = self.moved_to(path) {
            return Reply::status(308).with("Location", format!("{new}{name}"));
        }
        if path.starts_with("/sign-in/") {
            let now_ms = self.now_ms;
            return match &mut self.sign_in {
                Some(service) => service.answer(request, path, now_ms),
                None => Reply::status(404),
            };
        }
        if path == "/.well-known/caldav" {
            return self.well_known(request);
        }
        let Some(user) = self.signed_in(request) else { return self.challenge() };
        match request.method.as_str() {
            "OPTIONS" => Reply::status(200)
                .with("Allow", "OPTIONS, GET, HEAD, PUT, DELETE, PROPFIND, PROPPATCH, REPORT, MKCALENDAR")
                .with("DAV", self.dav_header()),
            "PROPFIND" => properties::propfind(self, request, path, &user).with("DAV", self.dav_header()),
            "PROPPATCH" => properties::proppatch(self, request, path, &user),
            "MKCALENDAR" if self.has(Habit::NoMkcalendar) => Reply::status(405),
            "MKCALENDAR" | "MKCOL" => properties::make_calendar(self, request, path, &user),
            "REPORT" => reports::report(self, request, path, &user),
            "GET" | "HEAD" => self.get(request, path, &user),
            "PUT" => self.write(request, path, &user, Self::put),
            "DELETE" => self.write(request, path, &user, Self::remove),
            _ => Reply::status(405),
        }
    }

    /// Where something stands now whose calendar has moved: the calendar's new path, and the rest.
    fn moved_to<'a>(&'a self, path: &'a str) -> Option<(&'a str, &'a str)> {
        self.moved.iter().find_map(|(old, new)| Some((new.as_str(), path.strip_prefix(old.as_str())?)))
    }

    fn dav_header(&self) -> String {
        let schedules =
            if self.has(Habit::Schedules) { ", calendar-schedule, calendar-auto-schedule" } else { "" };
        format!("1, 3, calendar-access, extended-mkcol{schedules}")
    }

    fn well_known(&self, request: &ServerRequest) -> Reply {
        let host = request.header("host").unwrap_or("localhost");
        if self.has(Habit::NoWellKnown) {
            Reply::status(404)
        } else if self.has(Habit::WellKnownAbsolute) {
            Reply::status(301).with("Location", format!("http://{host}/"))
        } else {
            Reply::status(if self.has(Habit::WellKnown302) { 302 } else { 301 }).with("Location", "/")
        }
    }

    fn challenge(&self) -> Reply {
        let how = if self.sign_in.is_some() {
            r#"Bearer realm="orchard", error="invalid_token""#
        } else if self.has(Habit::DigestOnly) {
            r#"Digest realm="orchard", nonce="6b7a33", qop="auth", algorithm=MD5"#
        } else {
            r#"Basic realm="orchard""#
        };
        Reply::status(401).with("WWW-Authenticate", how).body("text/plain", "sign in first")
    }

    fn signed_in(&self, request: &ServerRequest) -> Option<String> {
        let (scheme, rest) = request.header("authorization")?.split_once(' ')?;
        if let Some(service) = &self.sign_in {
            let token = Some(rest).filter(|_| scheme == "Bearer")?;
            return service.user_of(token, self.now_ms).map(str::to_owned);
        }
        if scheme == "Digest" {
            return self.digest_user(request, rest);
        }
        if self.has(Habit::DigestOnly) {
            return None;
        }
        let pair = String::from_utf8(STANDARD.decode(rest).ok()?).ok()?;
        let (user, password) = pair.split_once(':')?;
        (self.users.get(user)? == password).then(|| user.to_owned())
    }

    fn digest_user(&self, request: &ServerRequest, header: &str) -> Option<String> {
        let field = |name: &str| {
            let parts = header.split(", ").filter_map(|part| part.split_once('='));
            parts.filter(|(key, _)| *key == name).map(|(_, value)| value.trim_matches('"').to_owned()).next()
        };
        let md5 = |text: String| Md5::digest(text).iter().map(|b| format!("{b:02x}")).collect::<String>();
        let user = field("username")?;
        let a1 = md5(format!("{user}:orchard:{}", self.users.get(&user)?));
        let a2 = md5(format!("{}:{}", request.method, field("uri")?));
        let expected = md5(format!("{a1}:6b7a33:{}:{}:auth:{a2}", field("nc")?, field("cnonce")?));
        (expected == field("response")?).then_some(user)
    }

    /// Splits a path into the calendar it stands in and the name there.
    pub(crate) fn locate(path: &str) -> Option<(&str, &str)> {
        let cut = path.trim_end_matches('/').rfind('/')? + 1;
        (!path.ends_with('/')).then(|| path.split_at(cut))
    }

    pub(crate) fn access(&self, path: &str, user: &str) -> Access {
        if path.starts_with(&format!("/{user}/")) {
            return Access::Write;
        }
        match self.collections.get(path).and_then(|c| c.shares.get(user)) {
            Some(Share::Write) => Access::Write,
            Some(Share::Read) => Access::Read,
            None => Access::None,
        }
    }

    pub(crate) fn foreign(&self) -> Reply {
        Reply::status(if self.has(Habit::Foreign500) { 500 } else { 403 })
    }

    fn get(&self, request: &ServerRequest, path: &str, user: &str) -> Reply {
        if path == "/" {
            return Reply::status(200)
                .body("text/html", "<!doctype html><html><title>Orchard</title></html>");
        }
        let Some((calendar, name)) = Self::locate(path) else { return Reply::status(405) };
        if self.access(calendar, user) < Access::Read {
            return self.foreign();
        }
        match self.collections.get(calendar).and_then(|c| c.objects.get(name)) {
            Some(object) => {
                let weak = self.has(Habit::WeakEtags) && accepts_gzip(request);
                let etag = if weak { format!("W/{}", object.etag) } else { object.etag.clone() };
                Reply::status(200)
                    .with("ETag", etag)
                    .body("text/calendar; charset=utf-8", object.text.clone())
            }
            None => Reply::status(404),
        }
    }

    fn write(
        &mut self,
        request: &ServerRequest,
        path: &str,
        user: &str,
        work: fn(&mut Self, &ServerRequest, &str, &str) -> Reply,
    ) -> Reply {
        let Some((calendar, name)) = Self::locate(path) else { return Reply::status(405) };
        if self.access(calendar, user) < Access::Write {
            return self.foreign();
        }
        if !self.collections.contains_key(calendar) {
            let says = [
                (Habit::MissingParent409, 409),
                (Habit::MissingParent403, 403),
                (Habit::MissingParent405, 405),
            ];
            return Reply::status(
                says.iter().find(|(habit, _)| self.has(*habit)).map_or(404, |(_, status)| *status),
            );
        }
        if self.writes_in_flight > 1 && self.has(Habit::LocksParallel) {
            return Reply::status(423);
        }
        if self.writes_in_flight > 1 && self.has(Habit::FailsParallel) {
            return Reply::status(500);
        }
        if self.has(Habit::RefusesChunked) && request.header("transfer-encoding").is_some() {
            return Reply::status(411);
        }
        let existing = self.collections[calendar].objects.get(name).map(|o| o.etag.clone());
        if request.header("if-none-match") == Some("*")
            && existing.is_some()
            && !self.has(Habit::IgnoresIfNoneMatch)
        {
            return Reply::status(412);
        }
        if let Some(wanted) = request.header("if-match").filter(|_| !self.has(Habit::IgnoresIfMatch)) {
            let holds = match &existing {
                Some(etag) => {
                    wanted == "*" || wanted.split(',').any(|w| w.trim().trim_start_matches("W/") == etag)
                }
                None => request.method == "PUT" && self.has(Habit::IfMatchCreates),
            };
            if !holds && existing.is_none() && request.method == "DELETE" {
                return Reply::status(404);
            }
            if !holds {
                return Reply::status(412);
            }
        }
        work(self, request, calendar, name)
    }

    fn remove(&mut self, request: &ServerRequest, calendar: &str, name: &str) -> Reply {
        let before = self.collections.get(calendar).and_then(|c| c.objects.get(name)).map(|o| o.text.clone());
        if !self.delete(calendar, name) {
            return Reply::status(404);
        }
        self.send_messages(request, calendar, before.as_deref(), None);
        Reply::status(if self.has(Habit::Delete200) { 200 } else { 204 })
    }

    fn put(&mut self, request: &ServerRequest, calendar: &str, name: &str) -> Reply {
        let Ok(text) = String::from_utf8(request.body.clone()) else { return Reply::status(415) };
        let Ok(entry) = Entry::parse(&text, &Limits::default()) else {
            return self.condition(403, "valid-calendar-data", None);
        };
        if let Some(refusal) = self.refuse(calendar, name, &text, &entry) {
            return refusal;
        }
        let before = self.collections[calendar].objects.get(name).map(|object| object.text.clone());
        let existed = before.is_some();
        let own_name = format!("own-{}.ics", crate::names::hash(entry.uid().as_str()));
        let name = if existed || !self.has(Habit::NamesItself) { name } else { &own_name };
        self.send_messages(request, calendar, before.as_deref(), Some(&text));
        if self.has(Habit::KeepsNothing) && crate::names::one_in(name, 4) {
            return Reply::status(201).with("ETag", "\"gone\"");
        }
        if self.failings.contains_key(&Failing::KeepsNoNews) {
            return Reply::status(201).with("ETag", "\"gone\"");
        }
        let etag = self.store(calendar, name, &text);
        let reply = Reply::status(if existed { 204 } else { 201 });
        let is_told = name == own_name && !existed && crate::names::one_in(name, 2);
        let reply = if is_told { reply.with("Location", format!("{calendar}{name}")) } else { reply };
        let tagged = self.has(Habit::SchedulesUnannounced) && text.contains("ORGANIZER");
        let reply = if tagged { reply.with("Schedule-Tag", etag.clone()) } else { reply };
        if self.has(Habit::NoEtagOnPut) { reply } else { reply.with("ETag", etag) }
    }

    fn refuse(&self, calendar: &str, name: &str, text: &str, entry: &Entry) -> Option<Reply> {
        let condition = |status, name: &str| Some(self.condition(status, name, None));
        let main = entry.main_component();
        let long = text.len() > 2000;
        let rule = main.value("RRULE").unwrap_or_default();
        let ordinal = rule.contains("BYSETPOS") || rule.contains("BYDAY=-") || rule.contains("BYDAY=1");
        let collection = &self.collections[calendar];
        let kind = entry.kind().component_name();
        let announced = self.kinds_of(collection);
        if !announced.contains(&kind) && !self.has(Habit::EventsOnlyInWord) {
            return condition(403, "supported-calendar-component");
        }
        if self.quota > 0 && self.bytes() + text.len() > self.quota {
            return Some(Reply::xml(507, r#"<d:error xmlns:d="DAV:"><d:quota-not-exceeded/></d:error>"#));
        }
        if self.has(Habit::RefusesNames) && is_odd_name(name) {
            return Some(Reply::status(400));
        }
        if self.has(Habit::RefusesZeroLength)
            && main.value("DTEND") == main.value("DTSTART")
            && kind == "VEVENT"
        {
            return Some(Reply::status(400).body("text/plain", "an event must not end when it starts"));
        }
        if self.has(Habit::RefusesEmptyX)
            && main.properties().any(|p| p.name().starts_with("X-") && p.value().is_empty())
        {
            return condition(403, "valid-calendar-object-resource");
        }
        if self.has(Habit::RefusesRules) && ordinal {
            return Some(Reply::status(500));
        }
        if self.has(Habit::RefusesMethod) && entry.object().property("METHOD").is_some() {
            return Some(Reply::status(415));
        }
        for (habit, status) in
            [(Habit::SizeLimit413, 413), (Habit::SizeLimit412, 412), (Habit::SizeLimit507, 507)]
        {
            if self.has(habit) && long {
                return condition(status, "max-resource-size");
            }
        }
        self.uid_conflict(calendar, name, entry)
    }

    fn uid_conflict(&self, calendar: &str, name: &str, entry: &Entry) -> Option<Reply> {
        const MINDS: &[Habit] = &[
            Habit::UidConflict409,
            Habit::UidConflict412,
            Habit::UidConflict403,
            Habit::UidConflictBare,
            Habit::OneUidPerUser,
        ];
        if !MINDS.iter().any(|habit| self.has(*habit)) {
            return None;
        }
        let line = format!("UID:{}", entry.uid());
        let stands_at = |collection: &Collection, but: &str| {
            let found =
                collection.objects.iter().find(|(n, o)| *n != but && o.text.lines().any(|l| l == line));
            found.map(|(n, _)| n.clone())
        };
        let here = stands_at(&self.collections[calendar], name).map(|n| format!("{calendar}{n}"));
        let home = calendar.split('/').nth(1).unwrap_or_default();
        let mut of_user =
            self.collections.iter().filter(|(p, _)| p.starts_with(&format!("/{home}/")) && *p != calendar);
        let elsewhere = of_user.find_map(|(p, c)| stands_at(c, "").map(|n| format!("{p}{n}")));
        let (at, named) = match (here, elsewhere.filter(|_| self.has(Habit::OneUidPerUser))) {
            (Some(at), _) => (at, true),
            (None, Some(at)) => (at, false),
            (None, None) => return None,
        };
        if self.has(Habit::UidConflict409) || !named {
            Some(self.condition(409, "no-uid-conflict", Some(&at)))
        } else if self.has(Habit::UidConflict412) {
            Some(self.condition(412, "no-uid-conflict", Some(&at)))
        } else if self.has(Habit::UidConflict403) {
            Some(self.condition(403, "no-uid-conflict", None))
        } else if self.has(Habit::UidConflictBare) {
            Some(Reply::status(409))
        } else {
            None
        }
    }

    pub(crate) fn kinds_of(&self, collection: &Collection) -> Vec<&'static str> {
        if self.has(Habit::EventsOnly) || self.has(Habit::EventsOnlyInWord) {
            return vec!["VEVENT"];
        }
        let all = ["VEVENT", "VTODO", "VJOURNAL"];
        all.into_iter()
            .filter(|k| collection.kinds.is_empty() || collection.kinds.iter().any(|c| c == k))
            .collect()
    }
}

/// A feed: conditional GET, no sign-in.
fn feed_reply(server: &Server, request: &ServerRequest, feed: &str) -> Reply {
    if !matches!(request.method.as_str(), "GET" | "HEAD") {
        return Reply::status(405).with("Allow", "GET, HEAD");
    }
    let feed =
        if server.has(Habit::RenewsUids) { with_new_uids(feed, server.log.len()) } else { feed.to_owned() };
    let digest = crate::names::hash(&feed);
    // Any moment will do that is another one when the text is another one.
    let second = u64::from_str_radix(&digest[..6], 16).unwrap_or_default();
    let changed = std::time::UNIX_EPOCH + std::time::Duration::from_secs(1_700_000_000 + second);
    let mark = if server.has(Habit::FeedsUnmarked) {
        None
    } else if server.has(Habit::FeedsByTime) {
        Some(("Last-Modified", "if-modified-since", httpdate::fmt_http_date(changed)))
    } else {
        Some(("ETag", "if-none-match", format!("\"{digest}\"")))
    };
    let Some((name, condition, value)) = mark else {
        return Reply::status(200).body("text/calendar; charset=utf-8", feed);
    };
    if request.header(condition) == Some(value.as_str()) {
        return Reply::status(304).with(name, value);
    }
    Reply::status(200).with(name, value).body("text/calendar; charset=utf-8", feed)
}

/// The same entries under UIDs that were never used before.
fn with_new_uids(feed: &str, number: usize) -> String {
    let line = |(at, line): (usize, &str)| match line.strip_prefix("UID:") {
        Some(_) => format!("UID:{number}-{at}\r\n"),
        None => format!("{line}\r\n"),
    };
    feed.lines().enumerate().map(line).collect()
}

pub(crate) fn accepts_gzip(request: &ServerRequest) -> bool {
    request.header("accept-encoding").is_some_and(|h| h.contains("gzip"))
}

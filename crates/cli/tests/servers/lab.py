#!/usr/bin/env python3
"""Real CalDAV servers for tests, and readers that share no code with Chestnut.

  lab.py install FOLDER                       makes FOLDER/venv with two servers and a client library
  lab.py serve radicale|xandikos PORT FOLDER  runs a server in the foreground (user office, password office-pw)
  lab.py mkcalendar|put|delete URL [FILE]     one request, as another client would send it
  lab.py fill URL FOLDER                      puts every file of a folder
  lab.py compare URL URL                      reads both calendars; prints, as JSON, the titles that differ
  lab.py library URL                          drives a server with the client library
"""
import base64, collections, http.client, json, os, re, subprocess, sys, urllib.parse
import xml.etree.ElementTree as ET

AUTH = "Basic " + base64.b64encode(b"office:office-pw").decode()
PACKAGES = ["radicale==3.9.0", "xandikos==0.4.10", "caldav==3.6.0"]


def install(folder):
    marker = os.path.join(folder, "installed")
    if os.path.exists(marker) and open(marker).read().split() == PACKAGES:
        return
    subprocess.run([sys.executable, "-m", "venv", os.path.join(folder, "venv")], check=True, stdout=sys.stderr)
    pip = os.path.join(folder, "venv", "bin", "pip")
    subprocess.run([pip, "-q", "install", *PACKAGES], check=True, stdout=sys.stderr)
    open(marker, "w").write("\n".join(PACKAGES))


def serve(kind, port, folder):
    os.makedirs(folder, exist_ok=True)
    if kind == "radicale":
        users = os.path.join(folder, "users")
        open(users, "w").write("office:office-pw\n")
        os.execv(sys.executable, [
            sys.executable, "-m", "radicale", "--server-hosts", f"127.0.0.1:{port}", "--auth-type", "htpasswd",
            "--auth-htpasswd-filename", users, "--auth-htpasswd-encryption", "plain", "--auth-delay", "0",
            "--storage-filesystem-folder", os.path.join(folder, "data"), "--web-type", "none",
            "--logging-level", "error", "--config", ""])
    program = os.path.join(os.path.dirname(sys.executable), "xandikos")
    os.execv(program, [
        program, "serve", "-d", os.path.join(folder, "data"), "-l", "127.0.0.1", "-p", str(port), "--defaults",
        "--current-user-principal", "/office/", "--no-detect-systemd"])


def ask(method, url, body=b"", headers=None):
    parts = urllib.parse.urlsplit(url)
    connection = http.client.HTTPConnection(parts.hostname, parts.port, timeout=60)
    connection.request(method, parts.path, body, {"Authorization": AUTH, **(headers or {})})
    answer = connection.getresponse()
    data = answer.read()
    if answer.status >= 300:
        sys.exit(f"{method} {url}: {answer.status} {data[:300]!r}")
    return data


def put(url, path):
    ask("PUT", url, open(path, "rb").read(), {"Content-Type": "text/calendar; charset=utf-8"})


def fill(url, folder):
    for name in sorted(os.listdir(folder)):
        put(url + name, os.path.join(folder, name))


def texts(url):
    body = '<propfind xmlns="DAV:"><prop><getetag/><resourcetype/></prop></propfind>'
    tree = ET.fromstring(ask("PROPFIND", url, body, {"Depth": "1", "Content-Type": "application/xml"}))
    for response in tree.findall("{DAV:}response"):
        href = response.findtext("{DAV:}href").strip()
        if response.find(".//{DAV:}collection") is None and not href.endswith("/"):
            yield ask("GET", urllib.parse.urljoin(url, href)).decode()


def components(text):
    """Every event and task as (title, set of normalised lines)."""
    stack, found = [[]], []
    for line in re.sub(r"\r?\n[ \t]", "", text).splitlines():
        name = line.split(":")[0].upper()
        if name == "BEGIN":
            stack.append([])
        elif name == "END":
            inner, kind = stack.pop(), line[4:].strip().upper()
            if kind == "VALARM":
                stack[-1].append("VALARM " + " | ".join(sorted(inner)))
            elif kind in ("VEVENT", "VTODO"):
                title = next((l[8:] for l in inner if l.startswith("SUMMARY:")), "")
                found.append((re.sub(r"\\(.)", r"\1", title), tuple(sorted(inner))))
        elif line.strip():
            stack[-1].extend(normal(line))
    return found


def normal(line):
    """One content line as servers may write it without changing what it says; a list gives several."""
    head, value, quoted = "", "", False
    for i, c in enumerate(line):
        quoted ^= c == '"'
        if c == ":" and not quoted:
            head, value = line[:i], line[i + 1:]
            break
    name, *params = re.split(r';(?=(?:[^"]*"[^"]*")*[^"]*$)', head)
    name = name.upper()
    params = sorted(p.replace('"', "") for p in params if p.upper() not in ("VALUE=DATE-TIME", "RSVP=FALSE"))
    if name in ("UID", "DTSTAMP") or value == "" or (name, value) in (("SEQUENCE", "0"), ("CLASS", "PUBLIC")):
        return []
    values = [value]
    if name in ("EXDATE", "RDATE"):
        values = value.split(",")
    elif name == "CATEGORIES":
        values = re.split(r"(?<!\\),", value)
    elif name == "RRULE":
        values = [";".join(sorted(p for p in value.split(";") if p != "INTERVAL=1"))]
    elif name == "GEO":
        values = [";".join(f"{float(n):.5f}" for n in re.split(r"\\?;", value))]
    elif name in ("SUMMARY", "DESCRIPTION", "LOCATION"):
        values = [value.rstrip()]
    return [";".join([name, *params]) + ":" + v for v in values]


def compare(first, second):
    a, b = (collections.Counter(c for t in texts(u) for c in components(t)) for u in (first, second))
    told = lambda left: sorted(title for title, _ in left.elements())
    print(json.dumps({"entries": sum(b.values()), "only_first": told(a - b), "only_second": told(b - a)}))


def dump(url):
    """All texts, in order, but for the ends of their lines."""
    print(json.dumps(sorted(text.replace("\r", "") for text in texts(url))))


def library(url):
    import datetime, caldav
    client = caldav.DAVClient(url, username="office", password="office-pw")
    principal = client.principal()
    calendar = principal.make_calendar(name="Library", cal_id="library")
    assert any("library" in str(c.url) for c in principal.calendars()), "the new calendar is not listed"
    event = calendar.save_event(
        "BEGIN:VCALENDAR\r\nVERSION:2.0\r\nPRODID:-//t//t\r\nBEGIN:VEVENT\r\nUID:library-1\r\nDTSTAMP:20260101T000000Z\r\n"
        "DTSTART:20261005T080000Z\r\nDTEND:20261005T090000Z\r\nSUMMARY:Grafting\r\nEND:VEVENT\r\nEND:VCALENDAR\r\n")
    assert "Grafting" in calendar.event_by_uid("library-1").data
    day = lambda d: datetime.datetime(2026, 10, d)
    assert len(calendar.search(start=day(5), end=day(6), event=True)) == 1
    assert len(calendar.search(start=day(7), end=day(8), event=True)) == 0
    known = calendar.objects_by_sync_token()
    assert len(list(known)) == 1
    event.data = event.data.replace("Grafting", "Late grafting")
    event.save()
    updated, deleted = known.sync()
    assert (len(list(updated)), len(list(deleted))) == (1, 0), "a change is not told"
    event.delete()
    updated, deleted = known.sync()
    assert (len(list(updated)), len(list(deleted))) == (0, 1), "a deletion is not told"
    calendar.set_properties([caldav.elements.dav.DisplayName("Renamed")])
    print("the library is content")


COMMANDS = {"install": install, "serve": serve, "mkcalendar": lambda url: ask("MKCALENDAR", url), "put": put,
            "delete": lambda url: ask("DELETE", url), "fill": fill, "compare": compare, "dump": dump,
            "library": library}

if __name__ == "__main__":
    if len(sys.argv) < 2 or sys.argv[1] not in COMMANDS:
        sys.exit(__doc__)
    COMMANDS[sys.argv[1]](*sys.argv[2:])

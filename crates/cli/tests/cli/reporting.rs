//! The page for others, and the text for a mail.

use std::collections::BTreeSet;
use std::path::Path;
use std::process::Command;

use base64::Engine as _;
use sha2::{Digest as _, Sha256};

use crate::set_up::{BOARD, PRESSES, SetUp};

/// What would do harm in a page, and in a terminal.
const HOSTILE: &str =
    "</title><script>alert(1)</script> <img src=x onerror=alert(2)> \x1b[31m\u{202e} &amp; \"'";

/// Routes of all sorts: in step, held, differing, failed, never run; and a hostile title everywhere.
fn set_up() -> SetUp {
    let set_up = SetUp::new(40);
    let more = format!(
        "{}\n[calendar.kiosk]\nfile = \"kiosk.ics\"\n[calendar.spare]\naccount = \"cloud\"\nname = \"Nowhere\"\n\
         [calendar.van]\nfile = \"van.ics\"\n[route.press-times]\nfrom = \"presses\"\nto = \"kiosk\"\ncarry = \"busy\"\n\
         busy-title = \"Presses taken\"\n[route.crew]\nbetween = [\"van\", \"board\"]\ndisagree = \"hold\"\n\
         [route.van-to-kiosk]\nfrom = \"van\"\nto = \"kiosk\"\n",
        set_up.standard()
    );
    set_up.configure(&more);
    set_up.edit("orchard-0002.ics", "SUMMARY:", &format!("SUMMARY:{HOSTILE}"));
    let entry = |title: &str| {
        format!(
            "BEGIN:VCALENDAR\r\nVERSION:2.0\r\nPRODID:-//orchard//EN\r\nBEGIN:VEVENT\r\nUID:van\r\nDTSTAMP:20261001T000000Z\r\n\
             DTSTART:20261006T080000Z\r\nDURATION:PT1H\r\nSUMMARY:{title}\r\nEND:VEVENT\r\nEND:VCALENDAR\r\n"
        )
    };
    std::fs::write(set_up.path("van.ics"), entry("Van")).expect("written");
    set_up.ok(&["sync", "presses-to-board"]);
    set_up.ok(&["sync", "crew"]);
    set_up.ok(&["sync", "press-times"]);
    // A disagreement, deletions that wait, and somebody on the notice board.
    std::fs::write(set_up.path("van.ics"), entry(HOSTILE)).expect("written");
    set_up.target.with(|server| {
        let texts = server.texts(BOARD);
        let (name, text) = texts.iter().find(|(_, text)| text.contains("UID:van")).expect("it is there");
        server.store(BOARD, name, &text.replace("SUMMARY:Van", "SUMMARY:Van, late"));
        let (name, _) = texts.iter().find(|(_, text)| text.contains("Crate washing")).expect("a copy");
        server.delete(BOARD, name);
    });
    set_up.source.with(|server| {
        for number in 15..40 {
            server.delete(PRESSES, &format!("orchard-{number:04}.ics"));
        }
    });
    set_up.run(&["sync", "crew"]);
    set_up.run(&["sync", "press-times"]);
    set_up
}

#[test]
fn the_page_shows_what_there_is_and_lets_nothing_in() {
    let set_up = set_up();
    let told = set_up.run(&["report", "page.html", "--compare"]);
    assert!(told.code == 0 && told.out.contains("4 of 4 routes need a person."), "{told:?}");
    let page = std::fs::read_to_string(set_up.path("page.html")).expect("a page");
    for words in [
        "Who feeds whom",
        "van-to-kiosk</strong>: it has not run yet",
        "chestnut decide 1 van|board|both|newest",
        "and 9 more",
        "Van, late",
        "deleted on the far side",
        "Not read for this page: calendar spare",
        "&lt;script&gt;alert(1)&lt;/script&gt;",
        "Presses taken",
        "1 calendar has no route",
    ] {
        assert!(page.contains(words), "{words}: {page}");
    }
    // Nothing of a calendar is a tag, and there is no tag that runs or loads anything.
    let tags: BTreeSet<&str> = page
        .split('<')
        .skip(1)
        .map(|tag| {
            tag.split(|c: char| !c.is_ascii_alphanumeric() && c != '!' && c != '/').next().expect("a name")
        })
        .map(|name| name.trim_start_matches('/'))
        .collect();
    let harmless = [
        "!DOCTYPE", "article", "body", "circle", "code", "details", "div", "footer", "g", "h1", "h2", "h3",
        "h4", "head", "header", "html", "li", "line", "main", "meta", "p", "path", "pre", "rect", "section",
        "span", "strong", "style", "summary", "svg", "table", "tbody", "td", "text", "th", "thead", "title",
        "tr", "ul",
    ];
    let harmless: BTreeSet<&str> = harmless.into_iter().collect();
    assert_eq!(tags.difference(&harmless).collect::<Vec<_>>(), Vec::<&&str>::new());
    assert!(!page.contains('\x1b') && !page.contains('\u{202e}'));
    let attributes = page.split('<').skip(1).filter_map(|tag| tag.split_once('>')).map(|(inside, _)| inside);
    let active =
        |inside: &&str| [" on", " src=", " href=", " style="].iter().any(|word| inside.contains(word));
    let meta_free = attributes.filter(|inside| !inside.starts_with("meta"));
    assert_eq!(meta_free.filter(active).collect::<Vec<_>>(), Vec::<&str>::new());
    // The only style that the policy lets in is the one that is there.
    let style =
        page.split_once("<style>").and_then(|(_, rest)| rest.split_once("</style>")).expect("a style").0;
    let hash = base64::engine::general_purpose::STANDARD.encode(Sha256::digest(style));
    assert!(page.contains(&format!("default-src 'none'; style-src 'sha256-{hash}'")), "{hash}");
    // An earlier report is replaced, and nothing else is.
    assert_eq!(set_up.run(&["report", "page.html"]).code, 0);
    std::fs::write(set_up.path("notes.html"), "<html>notes</html>").expect("written");
    let told = set_up.run(&["report", "notes.html"]);
    assert!(told.code == 2 && told.err.contains("is not a report by Chestnut"), "{told:?}");
    assert_eq!(std::fs::read_to_string(set_up.path("notes.html")).expect("notes"), "<html>notes</html>");
    assert_eq!(set_up.run(&["report"]).code, 2);
    in_a_browser(set_up.folder.path());
}

#[test]
fn a_route_in_step_may_need_a_person_all_the_same() {
    let set_up = SetUp::new(6);
    set_up.ok(&["sync"]);
    set_up.target.with(|server| {
        let name = server.texts(BOARD).into_keys().next().expect("a copy");
        server.delete(BOARD, &name);
    });
    set_up.run(&["compare"]);
    // It was put right; what was compared last is still what was compared last.
    set_up.ok(&["sync"]);
    let told = set_up.run(&["report", "--text"]);
    assert!(told.code == 0 && told.out.contains("1 of 1 route needs a person."), "{told:?}");
}

#[test]
fn the_text_fits_into_a_mail() {
    let set_up = set_up();
    set_up.run(&["compare"]);
    let told = set_up.run(&["report", "--since", "7 days", "--text"]);
    assert_eq!(told.code, 0, "{told:?}");
    assert!(told.out.lines().all(|line| line.chars().count() <= 80), "{}", told.out);
    insta::assert_snapshot!("report_text", told.out);
    // From another day on, nothing was done.
    let told = set_up.run(&["report", "--since", "2026-10-06", "--json"]).json();
    assert_eq!(told["did"], serde_json::json!({}));
}

/// As wide as a desk and as a telephone: no message in the console, nothing to scroll sideways, headings in order.
#[expect(clippy::print_stderr, reason = "a skipped test must say so")]
fn in_a_browser(folder: &Path) {
    let names = ["chromium", "chromium-browser", "google-chrome"];
    let is_there =
        |name: &&str| Command::new(name).arg("--version").output().is_ok_and(|o| o.status.success());
    let Some(browser) = names.into_iter().find(is_there) else {
        eprintln!("\n*** SKIPPED: no Chromium here: the page was not looked at in a browser ***\n");
        return;
    };
    let frames = "<iframe id=wide src=page.html width=1280 height=800></iframe><iframe id=thin src=page.html width=390 height=800></iframe>\
        <pre></pre><script>onload = () => { const told = ['wide', 'thin'].map(id => { const page = document.getElementById(id).contentDocument;\
        const levels = [...page.querySelectorAll('h1,h2,h3,h4')].map(h => +h.tagName[1]);\
        const jumps = levels.filter((level, at) => level > (at ? levels[at - 1] : 0) + 1).length;\
        const heads = [...page.querySelectorAll('table')].filter(t => !t.querySelector('thead th[scope=col]')).length;\
        return id + ' ' + (page.documentElement.scrollWidth - page.documentElement.clientWidth) + ' ' + jumps + ' ' + heads + ' ' + (levels.length > 9); });\
        document.querySelector('pre').textContent = 'seen ' + told.join(' ') + ' done'; }</script>";
    std::fs::write(folder.join("frames.html"), frames).expect("written");
    let look = |arguments: &[&str], page: &str| {
        let output = Command::new(browser)
            .args([
                "--headless",
                "--no-sandbox",
                "--disable-gpu",
                "--disable-dev-shm-usage",
                "--enable-logging=stderr",
                "--allow-file-access-from-files",
            ])
            .arg(format!("--user-data-dir={}", folder.join("browser").display()))
            .args(arguments)
            .arg(format!("file://{}", folder.join(page).display()))
            .output()
            .expect("the browser runs");
        if !output.status.success() {
            eprintln!(
                "\n*** SKIPPED: Chromium does not run here: the page was not looked at in a browser ***\n"
            );
            return None;
        }
        let told = String::from_utf8_lossy(&output.stderr).into_owned();
        let messages: Vec<_> = told.lines().filter(|line| line.contains("CONSOLE")).collect();
        assert!(messages.is_empty(), "{page}: {messages:#?}");
        Some(String::from_utf8_lossy(&output.stdout).into_owned())
    };
    let Some(seen) = look(&["--virtual-time-budget=5000", "--dump-dom"], "frames.html") else { return };
    assert!(seen.contains("seen wide 0 0 0 true thin 0 0 0 true done"), "{seen}");
    let printed = folder.join("page.pdf");
    look(&["--no-pdf-header-footer", &format!("--print-to-pdf={}", printed.display())], "page.html");
    assert!(std::fs::metadata(printed).is_ok_and(|file| file.len() > 10_000));
}

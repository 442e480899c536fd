#!/usr/bin/env bash
# Makes the pictures in this folder from the demonstration's data. Needs Debian's xvfb, xterm, imagemagick,
# fonts-dejavu, fonts-noto-cjk, chromium and curl; uses target/debug/chestnut.
set -euo pipefail
here=$(cd "$(dirname "$0")" && pwd)
PATH="$(cd "$here/../.." && pwd)/target/debug:$PATH"
work=$(mktemp -d)
export CHESTNUT_NOW=2026-10-05T08:00:00Z DISPLAY=:77 LANG=C.UTF-8

Xvfb :77 -screen 0 1280x800x24 >/dev/null 2>&1 &
xvfb=$!
chestnut demo "$work/orchard" --keep >"$work/demo.txt" &
demo=$!
trap 'kill $demo $xvfb 2>/dev/null || true; rm -rf "$work"' EXIT
until grep -q "Press Ctrl-C" "$work/demo.txt" 2>/dev/null; do sleep 0.2; done
chestnut route resume bookings --config "$work/orchard/chestnut.toml" >/dev/null

# picture NAME SHELL-COMMAND [dark]: types the command into a terminal and takes what shows.
picture() {
  local paper='#fbfaf7' ink='#202020'
  [ "${3:-}" != dark ] || { paper='#16181d' ink='#d8d8d8'; }
  printf 'cd %q; PS1="$ "; printf "\\033[1m$ %%s\\033[0m\\n" %q; %s; sleep 60\n' "$work/orchard" "$2" "$2" >"$work/typed"
  xterm -fa 'DejaVu Sans Mono:size=10.5' -bg "$paper" -fg "$ink" -geometry 142x44+0+0 -e bash "$work/typed" &
  local term=$!
  sleep 2.5
  # The terminal's frame and the empty rest are cut off.
  import -window root png:- | convert - -crop 1276x790+2+2 +repage -bordercolor "$paper" -border 1 -trim +repage \
    -border 14 "$here/$1.png"
  kill $term; wait $term 2>/dev/null || true
}

url=$(sed -n 's/^url *= *"\(.*\)"/\1/p' "$work/orchard/chestnut.toml" | head -1)
change() { # NAME SED-EXPRESSION: as another client would
  local at="${url}office/calendars/presses/$1"
  curl -sf -u office:office-pw "$at" | sed "$2" | curl -sf -u office:office-pw -T - -H 'Content-Type: text/calendar' "$at"
}

picture account-test "chestnut account test"
picture calendar-list "chestnut calendar list"
# A person at the questions of init: types an answer when a question shows.
cat >"$work/answers.py" <<'END'
import os, pty, sys, time
answers = [("time zone", "Europe/Ljubljana"), ("(1 to 3)", "1"), ("any link to it)", sys.argv[1]), ("User name", "office"), ("Password", "office-pw"),
           ("of this account", ""), ("(1 to 3)", "2"), ("of this calendar", "presses"), ("(1 to 3)", "1"),
           ("(1 to 4)", "1"), ("name on the server", ""), ("of this calendar", ""), ("may they see?", "1"),
           ("come back", ""), ("Which entries?", "2"), ("deleted in", ""), ("as well as events?", ""),
           ("of this route", "")]
pid, terminal = pty.fork()
if pid == 0:
    os.execvp("chestnut", ["chestnut", "init", "--ask", "new.toml"])
seen = b""
while True:
    try:
        part = os.read(terminal, 4096)
    except OSError:
        break
    sys.stdout.buffer.write(part); sys.stdout.flush()
    seen += part
    if answers and answers[0][0].encode() in seen:
        time.sleep(0.05); os.write(terminal, answers.pop(0)[1].encode() + b"\r"); seen = b""
END
picture init-ask "python3 ../answers.py $url"
change orchard-0002.ics 's/^SUMMARY:\(.*\)/SUMMARY:\1 (bring boots)/'
change orchard-0013.ics 's/^SUMMARY:\(.*\)/SUMMARY:\1 (cancelled?)/'
curl -sf -u office:office-pw -X DELETE "${url}office/calendars/presses/orchard-0018.ics"
picture preview "chestnut preview"
picture sync "chestnut sync -v"
picture probe "chestnut probe crew taken"
picture agenda "chestnut agenda presses market market-days board --week 2026-10-14"
picture agenda-month "chestnut agenda --month"
# Somebody has been at work on the notice board.
cloud=$(sed -n 's/^url *= *"\(.*\)"/\1/p' "$work/orchard/chestnut.toml" | sed -n 2p)
board=$(sed -n '/^\[calendar.board\]/,/^$/s/^path *= *"\(.*\)"/\1/p' "$work/orchard/chestnut.toml")
on_board() { # WORDS: the first copy whose title has them
  curl -sf -u board:board-pw -X PROPFIND -H 'Depth: 1' "${cloud%/}$board" | grep -o '/[^<> ]*\.ics' | while read -r href; do
    if curl -sf -u board:board-pw "${cloud%/}$href" | grep -q "^SUMMARY:$1"; then echo "${cloud%/}$href"; break; fi
  done
}
at=$(on_board "Crate washing")
curl -sf -u board:board-pw "$at" | sed 's/^SUMMARY:.*/SUMMARY:Crate painting\r/; s/^LOCATION:.*/LOCATION:Yard\r/' |
  curl -sf -u board:board-pw -T - -H 'Content-Type: text/calendar' "$at"
curl -sf -u board:board-pw -X DELETE "$(on_board "Delivery van")"
change orchard-0024.ics 's/^SUMMARY:\(.*\)/SUMMARY:\1 (moved)/'
picture compare "chestnut compare bookings crew"
picture why "chestnut why painting; echo; chestnut why van"
picture status "chestnut status"
chestnut compare bookings --then-sync >/dev/null --config "$work/orchard/chestnut.toml" || true
run=$(chestnut history --route bookings --last 1 --json --config "$work/orchard/chestnut.toml" | sed -n 's/^ *"run": \([0-9]*\),/\1/p')
picture history "chestnut history --last 12; echo; chestnut history $run"
picture undo "chestnut undo $run --yes; echo; chestnut status"
for i in $(seq -w 20 59); do
  curl -s -o /dev/null -u office:office-pw -X DELETE "${url}office/calendars/presses/orchard-00$i.ics"
done
# A process that keeps all of it running, while the notice board's password is a wrong one.
cp "$work/orchard/cloud.password" "$work/right"
echo wrong >"$work/orchard/cloud.password"
(sleep 1; pkill -USR1 -f "chestnut watch") &
picture watch "chestnut watch"
pkill -f "chestnut watch" || true
cp "$work/right" "$work/orchard/cloud.password"
# Somebody renames a stall at the packhouse, and somebody else on the phone.
rename() { # USER SERVER PATH WORDS: one booking
  curl -sf -u "$1" -X PROPFIND -H 'Depth: 1' "${2%/}$3" | grep -o '/[^<> ]*\.ics' | while read -r href; do
    if curl -sf -u "$1" "${2%/}$href" | grep -q "UID:orchard-0012@"; then
      curl -sf -u "$1" "${2%/}$href" | sed "s/^SUMMARY:.*/SUMMARY:$4\r/" |
        curl -sf -u "$1" -T - -H 'Content-Type: text/calendar' "${2%/}$href"
      break
    fi
  done
}
rename office:office-pw "$url" /office/calendars/market/ "Press hall: early apples, all hands"
rename board:board-pw "$cloud" /board/calendars/phones/ "Press hall: cider apples"
chestnut route resume bookings --config "$work/orchard/chestnut.toml" >/dev/null
picture held "chestnut sync >/dev/null; chestnut held" dark
# The page for others: in light, in dark, and on a telephone.
(cd "$work/orchard"; chestnut sync; chestnut report "$work/page.html" --compare --since "7 days") >/dev/null || true
browser() { chromium --headless --no-sandbox --disable-gpu --hide-scrollbars --allow-file-access-from-files "$@" >/dev/null 2>&1; }
browser --window-size=1280,1300 --screenshot="$here/report.png" "file://$work/page.html"
browser --window-size=1280,6000 --blink-settings=preferredColorScheme=0 --screenshot="$work/dark.png" "file://$work/page.html"
end=$(convert "$work/dark.png" -format '%@' info: | sed 's/.*x\([0-9]*\)+[0-9]*+\([0-9]*\)/\1 + \2/')
convert "$work/dark.png" -crop "1280x1300+0+$((end - 1270))" +repage "$here/report-dark.png"
echo "<body style='margin:0'><iframe src=page.html width=390 height=4000 style='border:0'></iframe>" >"$work/phone.html"
browser --window-size=390,4000 --screenshot="$work/phone.png" "file://$work/phone.html"
convert "$work/phone.png" -crop 390x900 +repage -delete 3--1 -bordercolor '#888' -border 1 +append "$here/report-phone.png"
picture demo "chestnut demo --color always | tail -62 | head -42"

#!/usr/bin/env bash
# Makes the pictures of the main commands from the demo data: a real terminal window under Xvfb.
set -euo pipefail
here="$(cd "$(dirname "$0")" && pwd)/screenshots"
program="$(cd "$here/../.." && pwd)/.venv/bin/amphora"
if ! command -v Xvfb >/dev/null || ! command -v xterm >/dev/null || ! command -v import >/dev/null; then
  apt-get update -qq
  apt-get install -y -qq xvfb xterm imagemagick fonts-dejavu-core >/dev/null
fi
command -v chromium >/dev/null || apt-get install -y -qq chromium >/dev/null
work="$(mktemp -d)"
trap 'kill "$screen" 2>/dev/null || true; rm -rf "$work"' EXIT
display=":$((90 + RANDOM % 900))"
Xvfb "$display" -screen 0 1280x800x24 >/dev/null 2>&1 &
screen=$!
sleep 1

# shot NAME COMMAND…: runs a command in the workspace and keeps what the terminal then shows.
shot() {
  local name="$1" done_file="$work/done"
  shift
  rm -f "$done_file"
  cat >"$work/scene.sh" <<SCENE
cd "$work/${place:-grove}"
export PATH="$(dirname "$program"):\$PATH"
printf '%s\n' "\$ amphora ${*//\"/\\\"}"
${asks:+(sleep $asks; touch "$done_file") &}
amphora $*
touch "$done_file"
sleep 60
SCENE
  DISPLAY="$display" xterm -fa "DejaVu Sans Mono" -fs 9 -geometry 158x52+0+0 -b 8 \
    -bg "#fbfaf5" -fg "#23281d" -tn xterm-256color -e bash "$work/scene.sh" &
  local window=$!
  for _ in $(seq 300); do [ -e "$done_file" ] && break; sleep 0.2; done
  sleep 0.6
  DISPLAY="$display" import -window root "$here/$name.png"
  kill "$window" 2>/dev/null || true
  wait "$window" 2>/dev/null || true
}

"$program" demo --keep "$work/grove" >/dev/null
cd "$work/grove"
quietly() { "$program" "$@" >/dev/null 2>&1 || true; }
shot survey survey grove-dev
"$program" uses grove-dev "Press log" --figure "$here/uses-figure.png" >/dev/null
shot peek peek olive-intake
quietly export grove-dev "Press Board" "Weighbridge feed" --as press-hall --leave-out "Press lines"
quietly map press-hall grove-live --set mill-db-dev=mill-main --set weighbridge-feed-every_minutes=often --accept
shot check check press-hall grove-south
shot map map press-hall grove-live
quietly practice edit grove-dev.practice "Weigh ticket" --set /steps/0/script='"rate = 2\nround = 10\ntotal = kilos * rate"' --set title="Weigh slip flow"
quietly practice edit grove-live.practice "Weigh ticket" --set /steps/1/copies=3 --set /steps/0/script='"rate = 3\ntotal = kilos * rate"'
quietly practice edit grove-live.practice "Weigh slip" --set /subject='"Halcyon Grove: {ticket}"'
quietly export grove-dev "Harvest Intake" --as olive-intake
shot compare compare olive-intake grove-live
asks=4 shot deciding compare olive-intake grove-live --decide
quietly map olive-intake grove-test --accept
shot import import olive-intake grove-test --yes --why "'Trial before the harvest'"
shot aftercare aftercare
quietly aftercare grove-test --tick all --by "Mara Lind" --note "told at the gate"
shot verify verify last
"$program" history last --html "$work/record.html" >/dev/null || true
shot overview overview
"$program" overview --figure "$here/overview-figure.png" >/dev/null || true
quietly practice edit grove-test.practice "Weigh slip flow" --set title="Scale ticket"
shot undo undo last --yes
"$program" compare olive-intake grove-live --html "$work/review.html" >/dev/null || true
page() {
  chromium --headless --no-sandbox --disable-gpu --disable-quic --no-first-run --disable-background-networking \
    --disable-component-update --disable-sync --user-data-dir="$work/chromium" --window-size=1280,800 \
    --hide-scrollbars --screenshot="$here/$1.png" "file://$work/$2.html" >/dev/null 2>&1
}
page review-page review
page record-page record

# A workspace in which nothing has been moved yet.
mkdir "$work/fresh"
cd "$work/fresh"
quietly init
quietly practice new .
for name in dev:build:north test:test:north live:live:north south:live:south; do
  IFS=: read -r short role region <<<"$name"
  quietly env add "grove-$short" "practice:grove-$short.practice" --role "$role" --region "$region"
done
printf '[groups]\nsites = ["grove-test", "grove-live", "grove-south"]\n' >>amphora.toml
place=fresh shot carry carry "'Olive varieties'" grove-dev grove-test --as varieties --accept --yes
quietly undo last --yes
quietly export grove-dev "Lab exchange" "Lab result intake" --as lab
quietly map lab grove-live --accept --made-from "lab-exchange-dev=Lab exchange" --set lab-exchange-every_minutes=5 \
  --set lab-result-intake-batch=20 --set mill-db-dev=mill-main --set office-db-dev=office-main
place=fresh shot pause import lab grove-live --yes
quietly practice connect grove-live.practice lab-exchange-live --type exchange
quietly resume --set lab-exchange-dev=lab-exchange-live
quietly export grove-dev "Olive varieties" "Fruit condition" "Olive" --as lists
place=fresh shot many-targets import lists sites --rounds one-then-rest --yes

# Many letters, so that there is something to be seen while they go in.
"$(dirname "$program")/python" - "$work/fresh" <<'LETTERS'
import sys
from contextlib import closing
from pathlib import Path
from amphora.practice.halcyon import KEEPER
from amphora.practice.platform import Platform

with closing(Platform(Path(sys.argv[1]) / "grove-dev.practice", KEEPER, lambda: "2026-06-01T08:00:00Z")) as there:
    for number in range(1, 2501):
        form = {"subject": f"Letter {number}", "body": "Dear grower, we have taken in {kilos} kg."}
        there.publish(there.create("letter-template", "post", f"letter-{number:04}", f"Letter {number}", form, None, f"l{number}"))
LETTERS
quietly export grove-dev "letter-template:post/*" --as post
place=fresh asks=14 shot running import post grove-test grove-live --yes

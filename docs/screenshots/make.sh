#!/usr/bin/env bash
# Makes the pictures of the main commands from the demo data: a real terminal window under Xvfb.
set -euo pipefail
here="$(cd "$(dirname "$0")" && pwd)"
program="$(cd "$here/../.." && pwd)/.venv/bin/amphora"
if ! command -v Xvfb >/dev/null || ! command -v xterm >/dev/null || ! command -v import >/dev/null; then
  apt-get update -qq
  apt-get install -y -qq xvfb xterm imagemagick fonts-dejavu-core >/dev/null
fi
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
cd "$work/grove" 2>/dev/null || cd "$work"
export PATH="$(dirname "$program"):\$PATH"
printf '%s\n' "\$ amphora ${*//\"/\\\"}"
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

shot demo-end demo --keep "$work/grove"
cd "$work/grove"
shot survey survey grove-dev
shot survey-tree survey grove-dev --tree
shot uses uses grove-dev "'Press log'"
"$program" uses grove-dev "Press log" --figure "$here/uses-figure.png" >/dev/null
shot peek peek olive-intake
shot export-preview export grove-dev "'Press Board'" --as press-hall --with access --preview
"$program" export grove-dev '"Press Board"' --as press-hall >/dev/null 2>&1 || "$program" export grove-dev "Press Board" --as press-hall >/dev/null
shot export export grove-dev "'Press Board'" --as press-hall --leave-out "'Press lines'"
shot check check press-hall grove-live grove-south || true
"$program" export grove-dev "Press Board" --as press-hall >/dev/null
shot map map press-hall grove-live
"$program" map press-hall grove-test --accept >/dev/null || true
"$program" practice edit grove-dev.practice "Weigh ticket" --set /steps/0/script='"rate = 2"' --set title="Weigh slip" >/dev/null
"$program" practice edit grove-live.practice "Weigh ticket" --set /steps/1/copies=2 --set /steps/0/script='"rate = 3"' >/dev/null
"$program" export grove-dev "Harvest Intake" --as olive-intake >/dev/null
shot compare compare olive-intake grove-live
"$program" map olive-intake grove-test --accept --set bruised-fruit-check-limit=14 --set weigh-ticket-batch=40 >/dev/null || true
shot import import olive-intake grove-test --yes
shot history history grove-test-1

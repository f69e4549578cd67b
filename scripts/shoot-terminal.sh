#!/bin/sh
# Takes a picture of a command in a terminal window:
#   shoot-terminal.sh FILE COMMAND [SECONDS]
# Needs xvfb, xterm and imagemagick. The command runs in brenna's checkout of
# the demonstration, which has to be running.
set -eu
file=$1 command=$2 seconds=${3:-4}
demo=${DEMO_DIR:-$(pwd)/.demo}
number=$((90 + $$ % 100))
Xvfb ":$number" -screen 0 1280x800x24 >/dev/null 2>&1 &
server=$!
script=$(mktemp)
trap 'kill $server 2>/dev/null || true; rm -f "$script"' EXIT
cat >"$script" <<INNER
export COLORFGBG="0;15" # the window is white
export PATH="$(pwd)/bin:\$PATH" GRAYLOFT_SERVICE=$(cat "$demo/ready") GRAYLOFT_PLACE=north-office
export GRAYLOFT_TOKEN=$(sed -n 's/.*"brenna": "\(.*\)".*/\1/p' "$demo/state.json") GRAYLOFT_CACHE=$demo/places/brenna/cache
cd "$demo/places/brenna/skerry"
printf '%s\n' '\$ $command'
$command
sleep 60
INNER
sleep 1
DISPLAY=":$number" xterm -tn xterm-256color -fa "DejaVu Sans Mono" -fs 11 -geometry 118x40+0+0 -bg '#ffffff' -fg '#1c2429' -e sh "$script" >/dev/null 2>&1 &
window=$!
sleep "$seconds"
DISPLAY=":$number" import -window root -crop 1060x720+0+0 "$file"
kill $window 2>/dev/null || true

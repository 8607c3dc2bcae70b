#!/bin/sh
# Takes one picture of a command's output: xterm in a virtual screen of 1280x800.
#   docs/take-screenshot.sh NAME.png SECONDS COMMAND...    (needs Xvfb, xterm and ImageMagick)
# SIZE and GRID set the font size in points and the columns and rows.
set -eu
out=$1 seconds=$2
shift 2
display=:$(($$ % 500 + 100))
Xvfb "$display" -screen 0 1280x800x24 >/dev/null 2>&1 &
screen=$!
trap 'kill $screen 2>/dev/null' EXIT
sleep 1
DISPLAY=$display xterm -fa 'DejaVu Sans Mono' -fs "${SIZE:-11}" -geometry "${GRID:-140x42}+0+0" -bg '#101418' -fg '#d8dee4' \
    -e sh -c 'clear; "$@"; sleep 600' sh "$@" &
terminal=$!
sleep "$seconds"
DISPLAY=$display import -window root "$out"
kill $terminal

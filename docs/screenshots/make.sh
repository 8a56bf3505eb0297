#!/usr/bin/env bash
# Takes the pictures of this folder anew, from the demo scenario, in a terminal window under Xvfb.
# Needs Debian's xvfb, xterm, imagemagick and fonts-dejavu-core; run it as: make screenshots
set -euo pipefail
cd "$(dirname "${BASH_SOURCE[0]}")"
nidalo=$(realpath ../../nidalo)
work=$(mktemp -d)
export NIDALO_HOME=$work/home DISPLAY=:87 PATH=$(dirname "$nidalo"):$PATH
Xvfb :87 -screen 0 1280x800x24 >/dev/null 2>&1 &
xvfb=$!
trap 'kill $xvfb ${serve:-} 2>/dev/null; rm -rf "$work"' EXIT
sleep 1
# shot NAME SECONDS COMMANDS: types the commands in a fresh terminal and takes a picture of it after a while
shot() {
  cat >"$work/run" <<END
export PS1='$ '
$3
sleep 60
END
  xterm -fa 'DejaVu Sans Mono' -fs 10 -geometry 157x48+0+0 -bg white -fg black -b 8 -e bash "$work/run" &
  local pid=$!
  sleep "$2"
  import -window root -crop 1280x800+0+0 "$1.png"
  kill $pid
  wait $pid 2>/dev/null || true
}
type='say() { echo "\$ nidalo $*"; nidalo "$@"; }'
nidalo lab new -bays 8 -size 256MiB >/dev/null
nidalo create -name tides -level 6 A1 A2 A3 A4 A5 A6 >/dev/null
nidalo create -name charts -level 1 A7 A8 >/dev/null
nidalo lab pull A8 >/dev/null && nidalo lab insert A8 >/dev/null
nidalo serve 2>/dev/null & serve=$!
sleep 1
head -c 500M /dev/urandom >"$work/sonar"
nbdcopy --flush "$work/sonar" "nbd+unix:///tides?socket=$NIDALO_HOME/nbd.sock"
shot disks 2 "$type; say disks"
shot status-healthy 2 "$type; say status tides"
nidalo lab pull A3 >/dev/null
nidalo lab insert A3 >/dev/null
shot status-degraded 2 "$type; say status"
nidalo lab damage A3 -rate 8MiB/s >/dev/null
nidalo replace tides QRN-0207 A3 >/dev/null 2>&1
sleep 2
shot status-rebuilding 4 "$type; say status tides; say help replace"
nidalo lab damage A3 -mend >/dev/null
shot demo 22 "nidalo demo | tail -46"

#!/usr/bin/env bash
# Takes the pictures of this folder anew, from the demo scenario, in a terminal window under Xvfb.
# Needs Debian's qemu-utils, libnbd-bin, xvfb, xterm, imagemagick, chromium, sqlite3 and fonts-dejavu-core; run it as: make screenshots
set -euo pipefail
cd "$(dirname "${BASH_SOURCE[0]}")"
nidalo=$(realpath ../../nidalo)
work=$(mktemp -d)
export NIDALO_HOST_DISKS=no NIDALO_HOME=$work/home DISPLAY=:87 PATH=$(dirname "$nidalo"):$PATH
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
type='say() { echo "\$ nidalo $*"; nidalo "$@"; echo; }'
nidalo lab new -bays 12 -size 256MiB >/dev/null
nidalo create -name tides -level 6 A1 A2 A3 A4 A5 A6 >/dev/null
nidalo create -name charts -level 1 A7 A8 >/dev/null
nidalo lab pull A8 >/dev/null && nidalo lab insert A8 >/dev/null
nidalo serve 2>/dev/null & serve=$!
sleep 1
head -c 500M /dev/urandom >"$work/sonar"
nbdcopy --flush "$work/sonar" "nbd+unix:///tides?socket=$NIDALO_HOME/nbd.sock"
head -c 50M /dev/urandom >"$work/sheets"
nbdcopy --flush "$work/sheets" "nbd+unix:///charts?socket=$NIDALO_HOME/nbd.sock"
shot disks 2 "$type; say disks"
# Of real disks, in the guest of the tests.
if (cd ../.. && NIDALO_VM_SHOW=$work/real go test -count 1 -timeout 20m ./test/vm -run ShowRealDisks >/dev/null); then
  shot real-disks 2 "echo '\$ nidalo disks; nidalo status'; cat $work/real"
fi
# A device of this host, and whether the host is fit.
shot attach 8 "$type; run() { echo \"\\$ \$*\"; \"\$@\"; echo; }; say attach charts; run mkfs.ext4 -q /dev/nidalo/charts; run mount /dev/nidalo/charts /mnt; say detach charts; say status charts | tail -4; say fit"
umount /mnt
nidalo detach charts >/dev/null
nidalo replace charts ORR-0242 A8 >/dev/null 2>&1
sleep 2
nidalo check -wait charts >/dev/null 2>&1
nidalo lab pull A3 >/dev/null
sleep 1.5
shot next 2 "$type; say next; say may-pull A5; say may-pull A5 B1; say locate -others tides"
nidalo lab insert A3 >/dev/null
sleep 1.5
shot status-degraded 2 "$type; say status"
nidalo lab damage A3 -rate 5MiB/s >/dev/null
nidalo replace tides QRN-0207 A3 >/dev/null 2>&1
nidalo pace tides 3MiB/s >/dev/null
sleep 1
nidalo pace all normal >/dev/null
shot status-rebuilding 3 "$type; say status tides; say may-pull A3; say next"
shot watch-rebuilding 4 "nidalo watch"
nidalo lab damage A3 -mend >/dev/null
sleep 3
nidalo check -wait tides >/dev/null 2>&1
nidalo retire -wait tides A2 B1 >/dev/null 2>&1
nidalo spare B4 >/dev/null 2>&1
nidalo pace all 40MiB/s >/dev/null
(sleep 3; nidalo lab pull A5; sleep 2; nidalo lab insert A5 -size 128MiB; sleep 2; nidalo lab pull A5; nidalo lab insert A5 -size 256MiB) >/dev/null 2>&1 &
shot exchange 16 "$type; say spare; say schedule; say exchange -yes tides A5 2>/dev/null; say next"
nidalo pace all normal >/dev/null
shot history 2 "$type; say history -array tides; say history -tasks"
shot plan 2 "$type; say plan -sizes 8x12TB -want capacity; say plan -level 6 -sizes 5x12TB -rows 5"
shot inspect 2 "$type; say plan -lose A1,A3 tides; say inspect A4"
shot map 2 "$type; say status -map tides"
nidalo lab damage A4 -unreadable 8388608:8192,200000000:12288 >/dev/null
nidalo vet -quick -wait B2 >/dev/null 2>&1
nidalo lab damage B3 -fail-writes >/dev/null
nidalo vet -quick -wait B3 >/dev/null 2>&1 || true
shot vet 8 "$type; say surface -wait A4 2>&1; say surface -wait -again -heal A4 2>&1; say vet"
# A month of made-up readings: the demo itself lasts minutes.
sqlite3 "$NIDALO_HOME/history.db" <<'SQL'
WITH RECURSIVE hour(n) AS (SELECT 1 UNION ALL SELECT n+1 FROM hour WHERE n < 720),
disk(serial, base, up) AS (VALUES ('TMK-0193',30,0),('QRN-0249',32,0),('TMK-0214',33,0),('ORR-0221',34,4),('QRN-0228',29,0),('TMK-0235',36,9))
INSERT INTO readings SELECT (strftime('%s','now') - n*3600)*1000000000, serial, 'temperature',
  round(base - up*n/720.0 + 2*sin((strftime('%s','now')/3600 - n)*0.2618) + (n*7919 % 13)/13.0, 1) FROM hour, disk;
SQL
nidalo lab damage A7 -pending 12 -temperature 36 >/dev/null
sleep 7
nidalo report -html "$work/report.html" >/dev/null
chromium --headless --no-sandbox --disable-gpu --hide-scrollbars --user-data-dir="$work/chromium" --window-size=1280,800 --screenshot="$PWD/report.png" "file://$work/report.html" >/dev/null 2>&1
nidalo spare -release B4 >/dev/null # it would stand in
nidalo fail -yes tides A5 >/dev/null
qemu-io -f raw "nbd+unix:///tides?socket=$NIDALO_HOME/nbd.sock" -c "write -P 7 20M 1M" -c flush >/dev/null
for bay in A1 B1; do nidalo lab pull $bay >/dev/null; sleep 1.5; done
shot rescue 4 "$type; say status tides; say rescue -in-place tides"
# An array that changes, in a lab of its own.
kill $serve; wait $serve 2>/dev/null || true
export NIDALO_HOME=$work/changes
nidalo lab new -bays 6 -size 512MiB >/dev/null
nidalo create -name tides -level 5 A1 A2 A3 A4 >/dev/null 2>&1
nidalo serve 2>/dev/null & serve=$!
sleep 1
nbdcopy --flush "$work/sonar" "nbd+unix:///tides?socket=$NIDALO_HOME/nbd.sock"
nidalo pace tides 30MiB/s >/dev/null
shot convert 10 "$type; say convert -yes tides -level 6 A5 A6; sleep 4; say status tides; say cancel tides conversion; sleep 1
echo '$ nidalo status tides | tail -4'; nidalo status tides | tail -4"
# A guarded set, in another.
kill $serve; wait $serve 2>/dev/null || true
export NIDALO_HOME=$work/set
nidalo lab new -bays 8 -size 256MiB >/dev/null
for x in A1=96MiB A3=160MiB; do nidalo lab pull ${x%=*} >/dev/null; nidalo lab insert ${x%=*} -size ${x#*=} >/dev/null; done
nidalo serve 2>/dev/null & serve=$!
sleep 1
head -c 70M /dev/urandom >"$work/books"
shot guarded 12 "$type; say plan -level guarded A1 A2 A3 A4 A5; say create -name archive -level guarded -parity A4 -spin-down 20m logbooks=A1 maps=A2 scans=A3 2>/dev/null | head -6; nbdcopy --flush $work/books 'nbd+unix:///archive/logbooks?socket=$NIDALO_HOME/nbd.sock'; nidalo lab pull A1 >/dev/null; nidalo lab pull A2 >/dev/null; sleep 2; say status archive"
# Three hosts, watched from one.
kill $serve; wait $serve 2>/dev/null || true
hosts=()
for i in 1 2 3; do
  name=$(echo gull heron plover | cut -d ' ' -f $i)
  mkdir "$work/$name"
  printf 'host_name = "%s"\n[fleet]\naddress = "127.0.0.1:1971%d"\n' "$name" "$i" >"$work/$name/nidalo.toml"
  nidalo lab new -home "$work/$name" -bays 6 -size 256MiB -serials ${i}93 >/dev/null
  nidalo serve -home "$work/$name" 2>/dev/null & hosts+=($!)
done
sleep 1
nidalo create -home "$work/gull" -yes -name tides -level 6 A1-A5 >/dev/null 2>&1
nidalo create -home "$work/heron" -yes -name vault -level 5 A1-A4 >/dev/null 2>&1
nidalo create -home "$work/heron" -yes -name charts -level 1 A5 A6 >/dev/null 2>&1
nidalo create -home "$work/plover" -yes -name scans -level 10 A1-A4 >/dev/null 2>&1
nbdcopy --flush "$work/sheets" "nbd+unix:///vault?socket=$work/heron/nbd.sock"
nbdcopy --flush "$work/sheets" "nbd+unix:///charts?socket=$work/heron/nbd.sock"
nbdcopy --flush "$work/sheets" "nbd+unix:///tides?socket=$work/gull/nbd.sock"
nidalo lab pull -home "$work/heron" A2 >/dev/null
nidalo lab insert -home "$work/heron" A2 >/dev/null
nidalo pace -home "$work/heron" vault 1MiB/s >/dev/null
sleep 1
nidalo replace -home "$work/heron" vault 1 A2 >/dev/null 2>&1
export NIDALO_HOME=$work/office
mkdir "$NIDALO_HOME"
printf '[fleet]\nhosts = ["http://127.0.0.1:19711", "http://127.0.0.1:19712", "http://127.0.0.1:19713"]\n' >"$NIDALO_HOME/nidalo.toml"
nidalo fleet status >/dev/null
kill "${hosts[2]}"
sleep 3
shot fleet 3 "$type; say fleet status; say fleet next; say fleet report -verdict"
kill "${hosts[0]}" "${hosts[1]}"
export NIDALO_HOME=$work/demo-home
nidalo demo >"$work/demo" 2>&1
shot demo 2 "tail -46 $work/demo"

#!/bin/bash
# Draws docs/screenshots from the demo's data: each in a real terminal window
# (or browser) of 1280x800 on a private X server.
set -eu
cd "$(dirname "$0")/.."
out=$PWD/docs/screenshots
work=$(mktemp -d /tmp/kestrelpoint-XXXXXX)
mkdir -p "$work/bin"
cp bin/revlet "$work/bin/"
export PATH="$work/bin:$PATH" HOME="$work" XDG_STATE_HOME="$work/xstate"
display=:$((90 + RANDOM % 100))
Xvfb $display -screen 0 1280x800x24 >/dev/null 2>&1 &
xvfb=$!
trap 'kill $xvfb ${site:-} 2>/dev/null; rm -rf "$work"' EXIT
export DISPLAY=$display
sleep 1

# A museum's site, served where its own database says it is.
cd "$work"
mkdir -p kestrelpoint && cd kestrelpoint
printf 'state: ./state\n' > revlet.yaml
revlet standin lampblack htdocs --new --listen 127.0.0.1:8871 >/dev/null &
site=$!
sleep 1

# shot NAME SCRIPT: runs the script in a terminal, takes the picture.
shot() {
    cat > "$work/run.sh" <<EOF
cd $work/${here:-kestrelpoint}
say() { printf '\033[1;33m$\033[0m \033[1m%s\033[0m\n' "\$*"; eval "\$@"; echo; }
$2
touch $work/done
sleep 20
EOF
    rm -f "$work/done"
    xterm -geometry 140x42+0+0 -fa 'DejaVu Sans Mono' -fs "${3:-11}" -bg '#101820' -fg '#e8e4da' -b 14 -e bash "$work/run.sh" &
    term=$!
    for _ in $(seq 100); do [ -e "$work/done" ] && break; sleep 0.2; done
    sleep 0.7
    import -window root "$out/$1.png"
    kill $term 2>/dev/null || true
    wait $term 2>/dev/null || true
}

# page NAME ADDRESS: takes the picture of a page in a browser.
page() {
    chromium --headless --no-sandbox --disable-gpu --disable-quic --no-first-run --disable-background-networking \
        --disable-component-update --disable-sync --hide-scrollbars --window-size=1280,800 \
        --user-data-dir="$work/chromium" --screenshot="$out/$1.png" "$2" >/dev/null 2>&1
}

shot backup 'say revlet adopt htdocs --name kestrelpoint --store ./archives
say revlet backup kestrelpoint --note \"before the redesign\"'
shot restore 'rm -r htdocs/themes/lantern
say revlet --quiet restore kestrelpoint --yes
say sqlite3 htdocs/data/museum.db \"DELETE FROM remarks WHERE page = 2\" \"DELETE FROM pages WHERE id = 2\"
say "revlet --quiet restore kestrelpoint --rows pages:id=2 --yes | tail -13"'
revlet --quiet settle kestrelpoint --yes >/dev/null; revlet --quiet restore kestrelpoint --yes >/dev/null
shot archives 'say revlet undo kestrelpoint --yes
say revlet --quiet restore kestrelpoint --yes \| tail -3
say revlet settle kestrelpoint --yes
revlet --quiet backup kestrelpoint --note "new opening hours" >/dev/null; revlet --quiet verify --quick >/dev/null
say revlet archives
say revlet show kestrelpoint \| head -14'
revlet browse kestrelpoint > browse.log & browse=$!
sleep 1
page browse "$(sed -n 's/.*in a browser *//p' browse.log)table/main/keepers_log?q=kestrel"
kill $browse
shot move 'say revlet --quiet move kestrelpoint --to lighthouse --root lighthouse/htdocs --address https://lighthouse.example/visit --copy --yes
echo "a lamp to try on" > new.pw
say revlet accounts lighthouse
say revlet accounts password lighthouse keeper --password-file new.pw --yes'
revlet --quiet undo lighthouse --yes >/dev/null; sed -i '/^  lighthouse:/,$d' revlet.yaml
shot guard 'printf "cd htdocs\\nrm themes/lantern/theme.html\\n" > update.sh
say revlet guard kestrelpoint --patience \"1 second\" -- sh update.sh
say revlet --quiet settle kestrelpoint --yes
say revlet --quiet rehearse kestrelpoint'
echo '<?php' > htdocs/uploads/2026/ornament.php; echo '<?php' > htdocs/themes/lantern/.cache.php; rm htdocs/uploads/2026/lens.svg
sed -i 's/Lampblack/lampblack/' htdocs/index.*
sqlite3 htdocs/data/museum.db "UPDATE opening_hours SET times = 'closed' WHERE position = 1; INSERT INTO users (name, role, secret) VALUES ('guest', 'administrator', 'x')"
shot compare 'say revlet compare kestrelpoint
say revlet compare kestrelpoint --table opening_hours'
shot breakin 'say revlet --quiet restore kestrelpoint --yes
say revlet aside export kestrelpoint evidence.tar.zst'
rm evidence.tar.zst; revlet --quiet settle kestrelpoint --unsaved --yes >/dev/null
# Stores, one of them far away and down for a while.
revlet standin sftp --keys sshkeys --listen 127.0.0.1:2222 far >/dev/null &
far=$!
trap 'kill $xvfb ${site:-} ${far:-} 2>/dev/null; rm -rf "$work"' EXIT
sleep 0.5
echo practice > harbour.pw && chmod 600 harbour.pw
shot stores 'say revlet stores add harbour sftp://keeper@127.0.0.1:2222/revlet --password-file harbour.pw --trust --for kestrelpoint
say revlet --quiet backup kestrelpoint --note \"two stores\" \| tail -6
kill '$far'; sleep 0.3
say REVLET_RETRY_PAUSE=5ms revlet --quiet backup kestrelpoint --note \"the harbour is down\" \| tail -5
setsid revlet standin sftp --keys sshkeys --listen 127.0.0.1:2222 far >/dev/null 2>&1 </dev/null & echo $! > far.pid; sleep 0.5
say revlet stores list
say revlet stores copy'
far=$(cat far.pid)
shot keys 'say revlet keys new kestrelpoint.key
echo "encrypt: {to: [$(sed -n "s/.*public key: //p" kestrelpoint.key)]}" >> revlet.yaml
say revlet --quiet backup kestrelpoint --note \"encrypted from now on\" \| tail -5
say revlet keys check kestrelpoint.key
say revlet keys signers
say revlet archives'
parts=$(ls -S far/revlet/kestrelpoint/parts/*/* | sed -n '2p;5p')
shot heal "for p in $(echo $parts); do printf '\\\\x55' | dd of=\$p bs=1 seek=9 conv=notrunc status=none; done
say 'revlet --quiet verify --digests | head -9'
say revlet stores heal harbour
say revlet export kestrelpoint museum.zip --split 500kB --key kestrelpoint.key"
cp revlet.yaml kept.yaml
shot discover 'rm -r htdocs archives state revlet.yaml; printf "state: ./state\n" > revlet.yaml
say ls
say revlet stores discover sftp://keeper@127.0.0.1:2222/revlet --name harbour --password-file harbour.pw --trust --key kestrelpoint.key
say "revlet --quiet restore kestrelpoint --root htdocs --yes --key kestrelpoint.key | tail -9"'

# The museum's shop lives with a host, another site with one that is down.
mkdir -p "$work/agency/sites" "$work/agency/archives"
cd "$work/agency"
revlet standin lampblack host/public_html --new --listen 127.0.0.1:8873 >/dev/null &
shop=$!
setsid revlet standin sftp --keys hostkeys --listen 127.0.0.1:2223 host >/dev/null 2>&1 </dev/null & echo $! > host.pid; sleep 1
host=$(cat host.pid)
trap 'kill $xvfb $site $far $shop $host 2>/dev/null; rm -rf "$work"' EXIT
echo practice > host.pw && chmod 600 host.pw
printf 'CREATE TABLE old (a);' > host/public_html/uploads/shop-2019.sql
cp -r "$work/kestrelpoint/htdocs" htdocs
cat > revlet.yaml <<'EOF2'
state: ./state
stores: {here: {folder: ./archives}}
include: sites/*.yaml
defaults: {stores: [here]}
sites:
  kestrelpoint: {root: ./htdocs}
EOF2
echo 'sites: {saltmarsh: {root: "sftp://keeper@127.0.0.1:2224/www", recipe: none, reach: {password_file: ../host.pw}}}' > sites/saltmarsh.yaml
here=agency
revlet adopt sftp://keeper@127.0.0.1:2223/public_html --name shop --store here --password-file host.pw --trust >/dev/null 2>&1
shot preflight 'say revlet preflight shop
export REVLET_RETRY_PAUSE=5ms
say revlet backup'
here=kestrelpoint
kill $shop $host 2>/dev/null || true

# The museum moves to a new host: its name servers are played, too.
mkdir -p "$work/house/store"
cd "$work/house"
cat > zones.txt <<'EOF3'
kestrelpoint.example.       86400 SOA ns1.kestrelpoint.example. keeper.kestrelpoint.example. 1 3600 600 86400 300
kestrelpoint.example.       86400 NS  ns1.kestrelpoint.example.
kestrelpoint.example.       3     A   127.0.0.4
kestrelpoint.example.       300   MX  10 kestrelpoint.example.
EOF3
revlet standin lampblack old --new --listen 127.0.0.4:8080 >/dev/null &
old=$!
revlet standin lampblack new --new --listen 127.0.0.9:8080 >/dev/null &
new=$!
revlet standin dns zones.txt --listen 127.0.0.1:5300 --resolver 127.0.0.1:5301 --lagging "127.0.0.1:5302=2 minutes" >/dev/null &
dns=$!
trap 'kill $xvfb $site $far $old $new $dns 2>/dev/null; rm -rf "$work"' EXIT
sleep 1
printf 'state: ./state\nstores: {here: {folder: ./store}}\nsites:\n  kestrelpoint: {root: ./old, address: "http://kestrelpoint.example:8080/", stores: [here]}\n' > revlet.yaml
here=house
shot cutover 'say revlet cutover plan kestrelpoint --to 127.0.0.9 --name-server 127.0.0.1:5300 --resolver 127.0.0.1:5302
sed -i "s/A   127.0.0.4/A   127.0.0.9/" zones.txt
say revlet cutover watch kestrelpoint --to 127.0.0.9 --name-server 127.0.0.1:5300 --resolver 127.0.0.1:5301 --resolver 127.0.0.1:5302 --limit \"1 second\"'
rm -r new/uploads/2026
sqlite3 new/data/museum.db "UPDATE pages SET body = 'Closed until spring.' WHERE slug = 'visit'"
sed -i 's|<main>|<main><b>Warning</b>: Undefined variable $lamp in <b>/srv/museum/core/page.php</b> on line <b>12</b><br>|' new/core/home.html new/core/layout.html
revlet cutover match kestrelpoint --at 127.0.0.9 --old 127.0.0.4 --page match.html >/dev/null || true
page match "file://$work/house/match.html"
here=kestrelpoint
kill $old $new $dns 2>/dev/null || true

# A month of duties on a clock that is set; somebody plants a file near its end.
mkdir "$work/month"
cd "$work/month"
revlet standin lampblack htdocs --new --listen 127.0.0.1:8872 >/dev/null &
month=$!
trap 'kill $xvfb $site $far $month 2>/dev/null; rm -rf "$work"' EXIT
sleep 3
printf 'state: ./state\n' > revlet.yaml
revlet adopt htdocs --name kestrelpoint --store ./archives >/dev/null
sed -i 's/stores: \[here\]/stores: [here, harbour]/; s|^stores:|stores:\n  harbour: {sftp: "sftp://keeper@127.0.0.1:2222/month", password_file: ../kestrelpoint/harbour.pw, keep: [newest 4, one per week for 6 months]}|' revlet.yaml
cat >> revlet.yaml <<'EOF'

    schedule: ["full, every day at 03:20", "database, every day at 15:00", "verify, every sunday at 05:00"]
    keep: [newest 4, one per day for 1 week, one per week for 1 month]
EOF
revlet stores test harbour --trust >/dev/null
for day in $(seq -w 1 31); do
    head -c $((10#$day * 900)) /dev/urandom > htdocs/uploads/2026/day-$day.jpg
    [ $day = 30 ] && echo '<?php' > htdocs/uploads/2026/ornament.php
    for hour in 05 16; do REVLET_CLOCK=2026-10-${day}T$hour:00:00Z revlet --quiet due >/dev/null || true; done
done
export REVLET_CLOCK=2026-10-31T18:00:00Z
here=month
shot status 'say revlet status
say revlet status --accept kestrelpoint/planted --why \"removed, password changed\"
say revlet --quiet backup kestrelpoint --hold --note \"after the clean-up\"
say revlet status'
shot retention 'say revlet retention kestrelpoint --store here'
shot duties 'say revlet duties --ahead 2
say revlet history --most 6
say revlet history show \| head -18'
revlet report --to report.html >/dev/null
page report "file://$work/month/report.html"

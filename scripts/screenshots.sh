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
cd $work/kestrelpoint
say() { printf '\033[1;33m$\033[0m \033[1m%s\033[0m\n' "\$*"; eval "\$@"; echo; }
$2
touch $work/done
sleep 20
EOF
    rm -f "$work/done"
    xterm -geometry 200x60+0+0 -fa 'DejaVu Sans Mono' -fs "${3:-11}" -bg '#101820' -fg '#e8e4da' -b 14 -e bash "$work/run.sh" &
    term=$!
    for _ in $(seq 100); do [ -e "$work/done" ] && break; sleep 0.2; done
    sleep 0.7
    import -window root "$out/$1.png"
    kill $term 2>/dev/null || true
    wait $term 2>/dev/null || true
}

chromium --headless --no-sandbox --disable-gpu --disable-quic --no-first-run --disable-background-networking \
    --disable-component-update --disable-sync --hide-scrollbars --window-size=1280,800 \
    --user-data-dir="$work/chromium" --screenshot="$out/site.png" http://127.0.0.1:8871/ >/dev/null 2>&1

shot backup 'say revlet adopt htdocs --name kestrelpoint --store ./archives
say revlet backup kestrelpoint --note \"before the redesign\"'
printf 'CREATE TABLE old (a);' > htdocs/uploads/museum-2019.sql
shot preflight 'say revlet preflight kestrelpoint'
rm htdocs/uploads/museum-2019.sql
shot show 'say revlet show kestrelpoint'
shot restore 'rm -r htdocs/themes/lantern
say revlet restore kestrelpoint --yes'
shot archives 'say revlet undo kestrelpoint --yes
say revlet --quiet restore kestrelpoint --yes \| tail -3
say revlet settle kestrelpoint --yes
revlet --quiet backup kestrelpoint --note "new opening hours" >/dev/null; revlet --quiet verify --quick >/dev/null
say revlet archives'
part=$(ls -S archives/kestrelpoint/parts/*/* | head -1)
shot verify "say revlet verify
printf '\\\\x55' | dd of=$part bs=1 seek=5000 conv=notrunc status=none
say revlet verify kestrelpoint"

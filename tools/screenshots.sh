#!/usr/bin/env bash
# Pictures of the commands' output, each taken from a real terminal of 1280x800 on the demo's data.
# Usage: tools/screenshots.sh FOLDER   (keymallet has to be on the PATH)
set -euo pipefail

target=$(mkdir -p "$1" && cd "$1" && pwd)
tools=$(cd "$(dirname "$0")" && pwd)
at=2026-11-24T09:00Z
display=:97
work=$(mktemp -d)
trap 'kill %1 2>/dev/null || true; rm -rf "$work"' EXIT

packages="xvfb xterm xdotool imagemagick chromium libreoffice-calc libreoffice-gtk3 fonts-dejavu-core"
if ! dpkg -s $packages >/dev/null 2>&1; then
    [ "$(id -u)" = 0 ] || { echo "screenshots need the packages $packages" >&2; exit 2; }
    apt-get update -qq
    DEBIAN_FRONTEND=noninteractive apt-get install -y -qq $packages >/dev/null
fi

Xvfb "$display" -screen 0 1280x800x24 >/dev/null 2>&1 &
sleep 1
cd "$work"
keymallet demo railway >/dev/null
cd railway
mkdir typing
# A rulebook as it looks half way through an edit, for the picture of its faults.
sed -e 's/password-changed) <= limit.password-age/password-chnged) <= limit.pasword-age/' \
    -e 's/kind = emergency"/kind = emergncy"/' \
    -e 's/enabled and ends is known/enabled and ends-starts is known/' \
    -e '/^.rule.near-lockout/,/^$/s/severity = "low"/severity = "minor"/' rulebook.toml > typing/rulebook.toml

# shot NAME LINES COMMAND: the first LINES lines of what the command prints; `aside` can turn off what moves.
shot() {
    local name=$1 lines=$2
    shift 2
    local prompt
    prompt=$(printf %q "\$ $*")  # a question has quotes of its own
    cat > run.sh <<SCRIPT
clear
printf '\033[1;36m%s\033[0m\n' $prompt
script -qec "stty cols 104 rows 400; $* ${aside:-}" /dev/null | head -n $lines
touch done
sleep 20
SCRIPT
    rm -f done
    DISPLAY=$display TERM=xterm-256color xterm -geometry 141x42+0+0 -fa 'DejaVu Sans Mono' -fs 11 \
        -bg '#fbfaf7' -fg '#22272e' -xrm '*color1: #b3261e' -xrm '*color3: #9a6b00' -xrm '*color2: #2e7d32' \
        -xrm '*color6: #00687a' -xrm '*boldColors: false' -b 14 -e bash run.sh &
    local terminal=$!
    for _ in $(seq 600); do [ -e done ] && break; sleep 0.1; done
    [ -e done ] || { echo "$name: the terminal has nothing to show" >&2; exit 1; }
    sleep 0.6
    DISPLAY=$display import -window root -crop 1280x800+0+0 "$target/$name.png"
    kill "$terminal" 2>/dev/null || true
    wait "$terminal" 2>/dev/null || true
}

# page FILE PICTURE: a page as a browser shows it.
page() {
    chromium --headless --no-sandbox --disable-gpu --disable-quic --no-first-run --disable-background-networking \
        --disable-component-update --disable-sync --hide-scrollbars --user-data-dir="$(mktemp -d -p "$work")" \
        --window-size=1280,800 --screenshot="$2" "file://$1" 2>/dev/null
}

# book FILE PICTURE: the third sheet of a workbook as a spreadsheet shows it.
book() {
    DISPLAY=$display soffice --norestore --nologo "-env:UserInstallation=file://$work/office" --calc "$1" >/dev/null 2>&1 &
    local window
    for _ in $(seq 120); do
        window=$(DISPLAY=$display xdotool search --onlyvisible --name "$(basename "$1")" 2>/dev/null | head -1) && [ -n "$window" ] && break
        sleep 1
    done
    [ -n "$window" ] || { echo "the workbook has no window" >&2; exit 1; }
    sleep 5
    DISPLAY=$display xdotool windowmove "$window" 0 0 windowsize "$window" 1280 800 sleep 1 \
        key --clearmodifiers ctrl+Next ctrl+Next sleep 2
    DISPLAY=$display import -window root -crop 1280x800+0+0 "$2"
    pkill -f "$work/office" || true
}

cd "$work"
aside="2>/dev/null" shot demo 39 keymallet demo
cd railway
shot judge 39 keymallet judge --at $at
shot show 39 keymallet show ticketing/tix-1/i.schneetaler --at $at
shot fit 39 keymallet fit exports/accounts.csv
# The same exports as they lay in a folder on the first day.
cp -r exports first-day
cp -r hosts first-day/
shot start 39 keymallet start first-day --look
aside="2>/dev/null" shot read 39 keymallet read --at $at
shot ahead 39 keymallet ahead --at $at --capacity 40/week --spread --figure ahead.png
shot rehearse 39 keymallet rehearse --at $at --set limit.password-age=90d --at 2027-01-01
keymallet rehearse --at $at --sweep limit.password-age=30d..365d --figure sweep.png >/dev/null
shot who 39 keymallet who "'privileged and no factor (phishing-resistant)'" --at $at
shot view 39 keymallet view factors --at $at
shot exempt 39 keymallet exempt list --at $at
shot mend 39 keymallet mend --all --preview --rows 2 --at $at
shot vet 39 keymallet vet joiners.csv --map joiners.toml --at $at
for topic in factors passwords lockouts exemptions elevation temporary; do
    keymallet view $topic --at $at --figure $topic.png >/dev/null
done
montage factors.png passwords.png lockouts.png exemptions.png elevation.png temporary.png \
    -tile 2x3 -geometry 640x400+6+6 -background '#fbfaf7' "$target/topics.png"
keymallet report --output page.html >/dev/null
page "$PWD/page.html" "$target/report-page.png"
keymallet report --format workbook --output railway.xlsx >/dev/null
keymallet report --format letter --answerer 'Vera Arvbichler' --output letter.eml >/dev/null
python -c 'import email, email.policy, pathlib
letter = email.message_from_bytes(pathlib.Path("letter.eml").read_bytes(), policy=email.policy.default)
pathlib.Path("letter.html").write_text(letter.get_body(("html",)).get_content())'
book "$PWD/railway.xlsx" book.png
page "$PWD/letter.html" letter.png
montage book.png letter.png -tile 1x2 -geometry 1100x688+6+6 -background '#8a8f98' "$target/report-workbook-letter.png"
shot changes 39 keymallet changes --from 2026-11-17
keymallet trend --figure trend.png >/dev/null
montage ahead.png sweep.png trend.png -tile 1x3 -geometry 1100x688+6+6 -background '#fbfaf7' "$target/curves.png"
cd typing
shot rules-check 39 keymallet rules check rulebook.toml
cd ..
python "$tools/architecture.py" "$target/../architecture.png"

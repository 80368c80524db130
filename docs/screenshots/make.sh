#!/bin/sh
# Makes the pictures in this folder: each command, run on the demo data in a terminal window of 1280x800.
#
# Needs a built kladder (cargo build --release, or KLADDER=FILE), Xvfb, xterm, ImageMagick's `import`, xdotool, and the DejaVu Sans Mono font; on
# Debian: apt-get install xvfb xterm imagemagick xdotool fonts-dejavu-core; for the page
# chromium, too. Usage: docs/screenshots/make.sh [NAME...]
set -eu
here=$(cd "$(dirname "$0")" && pwd)
kladder=${KLADDER:-$here/../../target/release/kladder}
for needed in Xvfb xterm import xdotool "$kladder"; do
    command -v "$needed" >/dev/null || { echo "make.sh: $needed is missing" >&2; exit 1; }
done
work=$(mktemp -d)
display=:$((90 + $$ % 100))
Xvfb "$display" -screen 0 1280x800x24 >/dev/null 2>&1 &
server=$!
trap 'kill $server; chmod -R u+w "$work"; rm -rf "$work"' EXIT
export DISPLAY="$display" PATH="$(dirname "$kladder"):$PATH"

# A fresh desk: nothing pinned, nothing climbed.
fresh() {
    desk=$work/$1
    kladder demo --keep "$desk" --quiet
    chmod -R u+w "$desk/home" && rm -rf "$desk/home" "$desk/desk/ladder.pinned.toml"
    cp -r "$here/../../crates/core/tests/hosts" "$desk/hosts"
    export KLADDER_HOME="$desk/home" HOME="$desk/person" SHELL=/bin/bash
    mkdir "$HOME" && printf "alias skerroc='skerroc --calm'\n" >"$HOME/.bashrc"
    cd "$desk/desk"
}

# shot NAME COMMAND...: types the command in a terminal and takes the picture when it has ended.
shot() {
    name=$1; shift
    case " $wanted " in "  " | *" $name "*) ;; *) typed=; return 0 ;; esac
    rm -f "$work/done"
    printf '#!/bin/sh\nprintf "\\033[1;34mdesk $\\033[0m %%s\\n" "%s"\n%s\nprintf "\\033[1;34mdesk $\\033[0m "\ntouch "%s"\nsleep 60\n' \
        "$*" "$*" "$work/done" >"$work/script"
    xterm -geometry 142x41+0+0 -fa 'DejaVu Sans Mono' -fs 11 -bg '#10141a' -fg '#d7dde5' -xrm 'XTerm*color2: #6fbf73' \
        -xrm 'XTerm*color6: #5cc1cf' -xrm 'XTerm*color4: #7aa2f7' -xrm 'XTerm*color1: #ef6b73' -xrm 'XTerm*faintIsRelative: true' \
        -e sh "$work/script" &
    terminal=$!
    if [ -n "$typed" ]; then
        for key in $typed; do
            case $key in pause) sleep 4 ;; *) sleep 0.7; xdotool key "$key" ;; esac
        done
        typed=
        touch "$work/done"
    fi
    for _ in $(seq "$patience"); do [ -e "$work/done" ] && break; sleep 0.1; done
    sleep 0.7
    import -window root "$here/$name.png"
    kill $terminal
    wait $terminal 2>/dev/null || true
}

# page NAME FILE: a page in a browser, where there is one.
page() {
    case " $wanted " in "  " | *" $1 "*) ;; *) return 0 ;; esac
    command -v chromium >/dev/null || { echo "make.sh: chromium is missing, $1 is left out" >&2; return 0; }
    chromium --headless --no-sandbox --disable-gpu --no-first-run --disable-background-networking --hide-scrollbars \
        --user-data-dir="$work/browser" --window-size=1280,800 --screenshot="$here/$1.png" "file://$2" >/dev/null 2>&1
}

# keys STRING...: types into the terminal of the next shot, each after a moment; `pause` waits longer.
typed=
keys() { typed="$*"; }

# Tenths of a second until the picture is taken although the command runs on.
patience=300
wanted="$*"
fresh story
shot survey kladder survey --root ../hosts/graphics-desk
shot pin kladder pin
shot route kladder route
keys Return pause Return pause n Return
shot climb kladder climb --accept-licence neapstone-terms
# Verified with something wrong: what failed, why, and what helps is what one looks for.
program=$(find "$KLADDER_HOME/data/shelf" -name turnsedge -type f 2>/dev/null | head -1)
if [ -n "$program" ]; then chmod u+w "$program"; echo "x" >> "$program"; fi
shot verify kladder verify
[ -z "$program" ] || kladder verify --mend --quiet
keys Return
shot wire kladder wire
kladder climb --quiet --accept-licence neapstone-terms
kladder wire --quiet --yes
keys H a r b o u r space M o l e Return
shot rehearse kladder rehearse first-reading first
shot standing kladder
kladder report --quiet --name quay ../desk.html
page report "$desk/desk.html"
# Where the pictures above were not wanted, nothing is pinned or climbed yet.
kladder climb --quiet --accept-licence neapstone-terms
kladder services --quiet --start
(
    cd first-program
    kladder run -- wrackle install marrambit >/dev/null
    kladder run -- brinwright >/dev/null
    kladder run -- neapstone pack first.img first.fw
    kladder run -- seichebox install skerry-point first.fw
)
sleep 1
shot services kladder services skerry-point
kladder services --quiet --stop
for name in quay mole; do kladder report --quiet --name "$name" "../$name.json"; done
kladder pin --quiet --move skerroc=1.4.2
shot why kladder why skerroc
shot newer kladder newer
kladder drop --quiet whimbrow
kladder climb --quiet --accept-licence neapstone-terms
kladder report --quiet --name pier ../pier.json
shot compare kladder compare ../quay.json ../pier.json ../mole.json
shot landings kladder landings
shot log kladder log
kladder back --quiet
sed -i.old 's/^skerroc = .*/skerroc = "1.5"\noarweld = "<3"/' ladder.toml
shot clash kladder climb
fresh gated
printf '\n[[gates]]\nc-library = "gnu >=2.31"\nadvice = "a newer release of the system has it"\n' >>"$desk/catalog/tools/tombolet.toml"
printf '\n[[gates]]\nname = "flasher"\ngroup = "plugdev"\nadmin = ["usermod -aG plugdev keeper"]\n' >>"$desk/catalog/tools/neapstone.toml"
sed -i.old '/^c-compiler/d' ladder.toml
shot gates kladder climb --root ../hosts/old-debian
fresh begun
rm ladder.toml
keys Return Up Return Return space Return Return Return
shot start kladder start --catalog ../catalog
# In the middle of a climb: forty rungs over a slow line.
desk=$work/many
kladder demo --large --keep "$desk" --quiet
chmod -R u+w "$desk/home" && rm -rf "$desk/home" && mkdir -p "$desk/home/config"
export KLADDER_HOME="$desk/home"
kladder yard serve "$desk/yard" --listen 127.0.0.1:7396 >/dev/null 2>&1 &
yard=$!
trap 'kill $server $yard; chmod -R u+w "$work"; rm -rf "$work"' EXIT
printf '[network]\nrate = "3 MB/s"\n' >"$KLADDER_HOME/config/config.toml"
cd "$desk/desk"
patience=35
shot live kladder climb --yes --yard http://127.0.0.1:7396

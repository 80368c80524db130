#!/bin/sh
# Makes the pictures in this folder: each command, run on the demo data in a terminal window of 1280x800.
#
# Needs a built kladder (cargo build --release), Xvfb, xterm, ImageMagick's `import`, and the DejaVu Sans Mono font; on
# Debian: apt-get install xvfb xterm imagemagick fonts-dejavu-core. Usage: docs/screenshots/make.sh [NAME...]
set -eu
here=$(cd "$(dirname "$0")" && pwd)
kladder=${KLADDER:-$here/../../target/release/kladder}
for needed in Xvfb xterm import "$kladder"; do
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
    export KLADDER_HOME="$desk/home"
    cd "$desk/desk"
}

# shot NAME COMMAND...: types the command in a terminal and takes the picture when it has ended.
shot() {
    name=$1; shift
    case " $wanted " in "  " | *" $name "*) ;; *) return 0 ;; esac
    rm -f "$work/done"
    printf '#!/bin/sh\nprintf "\\033[1;34mdesk $\\033[0m %%s\\n" "%s"\n%s\nprintf "\\033[1;34mdesk $\\033[0m "\ntouch "%s"\nsleep 60\n' \
        "$*" "$*" "$work/done" >"$work/script"
    xterm -geometry 142x44+0+0 -fa 'DejaVu Sans Mono' -fs 11 -bg '#10141a' -fg '#d7dde5' -xrm 'XTerm*color2: #6fbf73' \
        -xrm 'XTerm*color6: #5cc1cf' -xrm 'XTerm*color4: #7aa2f7' -xrm 'XTerm*color1: #ef6b73' -xrm 'XTerm*faintIsRelative: true' \
        -e sh "$work/script" &
    terminal=$!
    for _ in $(seq 300); do [ -e "$work/done" ] && break; sleep 0.1; done
    sleep 0.7
    import -window root "$here/$name.png"
    kill $terminal
    wait $terminal 2>/dev/null || true
}

wanted="$*"
fresh story
shot help kladder --help
shot standing-first kladder
shot pin kladder pin
shot route kladder route
shot climb kladder climb
shot verify kladder verify
shot run kladder run -- tidlow --version
shot standing kladder
sed -i.old 's/^skerroc = .*/skerroc = "1.5"/; s/^whimbrow = .*/oarweld = "<3"/' ladder.toml
shot clash kladder climb
fresh damaged
printf 'more' | dd of="$desk/yard/skerroc-1.4.3-linux-x86_64.tar.xz" bs=1 seek=60 conv=notrunc 2>/dev/null
shot wrong-digest kladder climb

#!/bin/sh
# For a machine that has no Kite Ladder yet, out of a bale that carries it:
#     tar -xf FILE begin && sh begin FILE
set -eu
bale=${1:?usage: sh begin FILE [FOLDER]}
into=${2:-"$HOME/.local/bin"}
case $(uname -s) in
    Linux) system=linux ;;
    Darwin) system=macos ;;
    *) echo "no kladder for $(uname -s)" >&2; exit 1 ;;
esac
case $(uname -m) in
    x86_64 | amd64) processor=x86_64 ;;
    aarch64 | arm64) processor=aarch64 ;;
    *) processor=$(uname -m) ;;
esac
program=kladder/$system-$processor
mkdir -p "$into"
# The bale, or its volumes one after the other.
whole() {
    if [ -f "$bale" ]; then
        cat "$bale"
    else
        number=1
        while [ -f "$bale.$number" ]; do
            cat "$bale.$number"
            number=$((number + 1))
        done
    fi
}
whole | tar -xOf - "$program" > "$into/kladder.new" || true
if [ ! -s "$into/kladder.new" ]; then
    rm -f "$into/kladder.new"
    echo "there is no kladder for $system/$processor in $bale" >&2
    exit 1
fi
chmod 755 "$into/kladder.new"
mv -f "$into/kladder.new" "$into/kladder"
echo "kladder is at $into/kladder; it climbs in $(pwd)."
exec "$into/kladder" climb --from "$bale"

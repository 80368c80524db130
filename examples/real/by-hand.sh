#!/bin/sh
# Climbs a ladder of real tools (five of them, or those that are named), does the same by `report`'s plain script in an empty environment,
# whose checks must pass, and compares the folders file by file. Needs a network, curl or wget, tar, xz and unzip.
# Usage: examples/real/by-hand.sh [TOOL...]; KLADDER=FILE for another program than the one on PATH.
set -eu
here=$(cd "$(dirname "$0")" && pwd)
kladder=${KLADDER:-kladder}
[ $# -gt 0 ] || set -- jq make python ruff sqlite
work=$(mktemp -d)
trap 'chmod -R u+w "$work"; rm -rf "$work"' EXIT
mkdir -p "$work/kladder/config" "$work/desk" "$work/home"
sh "$here/indexes.sh" >"$work/kladder/config/config.toml"
printf '[ladder]\ncatalog = "%s"\n[rungs]\n' "$here/../../catalog" >"$work/desk/ladder.toml"
for tool; do printf '%s = "any"\n' "$tool" >>"$work/desk/ladder.toml"; done
cd "$work/desk"
export HOME="$work/home" KLADDER_HOME="$work/kladder"
"$kladder" climb --yes --quiet
"$kladder" report --quiet by-hand.sh
env -i PATH=/usr/bin:/bin HOME="$HOME" TOOLS="$work/by hand" sh by-hand.sh >"$work/log" 2>&1 || { cat "$work/log" >&2; exit 1; }
differs=0
for made in "$work/by hand"/*-*; do
    tool=$(basename "$made")
    tool=${tool%-*}
    set -- "$KLADDER_HOME/data/shelf/$tool"/*/files
    # Who installed what is ours to say; byte code comes with use; an empty folder is no file.
    lines=$(diff -rq --no-dereference "$1" "$made" | grep -v -e RECORD -e INSTALLER -e __pycache__ -e "^Only in $made.*/doc/" || true)
    if [ -z "$lines" ]; then echo "the same: $tool"; else echo "differs: $tool"; echo "$lines"; differs=1; fi
done
exit $differs

#!/bin/sh
# Climbs, verifies and rehearses every preset of the starter catalog from an empty home, and prints what came of it as
# Markdown. Needs indexes: their table is taken from indexes.sh, or from the file in INDEXES. What was fetched once stays in
# the folder CACHE, where that is set. The program is KLADDER, otherwise the one on PATH.
set -eu
here=$(cd "$(dirname "$0")" && pwd)
kladder=${KLADDER:-kladder}
work=$(mktemp -d)
trap 'chmod -R u+w "$work"; rm -rf "$work"' EXIT
if [ -n "${INDEXES:-}" ]; then indexes=$(cat "$INDEXES"); else indexes=$("$here/indexes.sh"); fi

echo "Made by \`examples/real/prove.sh\` on $(date -u +%Y-%m-%d), $(uname -s) on $(uname -m), $("$kladder" --version)."
echo "Each desk begins with an empty home; what it fetches comes from the indexes that this machine's own clients use."
echo
echo "| preset | tools | fetched | climb | checks and rehearsals | verify | outcome |"
echo "|---|---|---|---|---|---|---|"
failures=""
for preset in c-and-cpp web java go python-data shell-and-writing embedded editors; do
    home=$work/$preset
    mkdir -p "$home/config" "$home/person" "$home/desk"
    { if [ -n "${CACHE:-}" ]; then echo "cache = \"$CACHE\""; fi; echo "$indexes"; } > "$home/config/config.toml"
    export KLADDER_HOME="$home" HOME="$home/person"
    cd "$home/desk"
    "$kladder" start --preset "$preset" > /dev/null
    outcome="stands"
    fetched=$("$kladder" route | sed -n 's/^[0-9]* rungs*: \(.*\) to fetch.*/\1/p')
    begun=$(date +%s.%N)
    if ! "$kladder" climb --yes > "$home/climb.log" 2>&1; then
        outcome="the climb failed"
        failures="$failures
### $preset
\`\`\`text
$(tail -n 20 "$home/climb.log")
\`\`\`"
    fi
    climbed=$(date +%s.%N)
    if ! "$kladder" verify > "$home/verify.log" 2>&1; then
        outcome="$outcome; verify failed"
        failures="$failures
### $preset
\`\`\`text
$(tail -n 20 "$home/verify.log")
\`\`\`"
    fi
    ended=$(date +%s.%N)
    rungs=$(grep -c '^\[rungs\.' ladder.pinned.toml || true)
    told=$(sed -n "s/^All \([0-9]*\) passed.*/\1 passed/p; s/^\([0-9]* of [0-9]* failed\).*/\1/p" "$home/verify.log")
    seconds() { echo "$1 $2" | awk '{ printf "%.0f s", $2 - $1 }'; }
    echo "| $preset | $rungs | ${fetched:-nothing} | $(seconds "$begun" "$climbed") | ${told:-none} | $(seconds "$climbed" "$ended") | $outcome |"
done
if [ -n "$failures" ]; then
    echo
    echo "## What failed"
    echo "$failures"
fi

#!/bin/sh
# Breaks each rung of a climbed ladder, and sees that `verify` names it and that what it names brings it back.
#
#   sh examples/real/break.sh        in the ladder's folder, with KLADDER_HOME set; KLADDER is the program
#
# There are five ways, which the rungs take in turn; with ALL=1 each rung takes all.
# What is broken is the first file that may be run of each place on the shelf, or its first file.
set -u
kladder=${KLADDER:-kladder}
shelf=$KLADDER_HOME/data/shelf
ways=0 wrong=0 turn=0

# break_it WAY FILE
break_it() {
    chmod u+w "$2" "$(dirname "$2")"
    case $1 in
        delete) rm -f "$2" ;;
        empty) : > "$2.new"; chmod --reference="$2" "$2.new"; mv -f "$2.new" "$2" ;;
        truncate) head -c $(($(wc -c < "$2") / 2)) "$2" > "$2.new"; chmod --reference="$2" "$2.new"; mv -f "$2.new" "$2" ;;
        flip) cp -p "$2" "$2.new"; byte=$(od -An -tu1 -j16 -N1 "$2" | tr -d ' '); printf "\\$(printf %o $(((byte + 1) % 256)))" |
            dd of="$2.new" bs=1 seek=16 conv=notrunc 2>/dev/null; mv -f "$2.new" "$2" ;;
        run-bit) if [ -x "$2" ]; then chmod a-x "$2"; else chmod a+x "$2"; fi ;;
    esac
}

for tool in "$shelf"/*/; do
    name=$(basename "$tool")
    files=$(find "$tool" -mindepth 2 -maxdepth 2 -name files -type d | head -1)
    file=$(find "$files" -type f -perm -u+x -size +32c | sort | head -1)
    [ -n "$file" ] || file=$(find "$files" -type f -size +32c | sort | head -1)
    turn=$(((turn + 1) % 5))
    all="delete empty truncate flip run-bit"
    # shellcheck disable=SC2086
    [ -n "${ALL:-}" ] || all=$(set -- $all; shift "$turn"; echo "$1")
    for way in $all; do
        ways=$((ways + 1))
        break_it "$way" "$file"
        told=$("$kladder" verify --only "$name" 2>&1)
        if ! echo "$told" | grep -q "failed.* $name: its files are as they were unpacked"; then
            echo "$name, $way: not found"; echo "$told" | head -5; wrong=$((wrong + 1))
        fi
        if ! "$kladder" verify --only "$name" --mend > /dev/null 2>&1; then
            echo "$name, $way: not brought back"; wrong=$((wrong + 1))
        fi
    done
done
echo "$ways ways, $wrong wrong"
[ "$wrong" = 0 ]

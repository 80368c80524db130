//! How archives become folders, in commands that machines have: tar, unzip, and what tar calls.

use kladder_choose::catalog::{AbsoluteLinks, Layout, Unpacking};

use super::quoting::word;

/// Functions of the shell that some archives want, each after those that it calls.
const FUNCTIONS: [(&str, &str); 5] = [
    // FROM TO: a file or folder, if there is one, goes to what is there already.
    (
        "put",
        r#"put() {
    if [ -d "$1" ] && [ ! -L "$1" ]; then
        mkdir -p "$2"
        tar -cf - -C "$1" . | tar -xf - -C "$2"
        rm -rf "$1"
    elif [ -e "$1" ] || [ -L "$1" ]; then
        mkdir -p "$(dirname "$2")"
        mv -f "$1" "$2"
    fi
}"#,
    ),
    // FILE FOLDER: what a Debian package has, laid out as a folder of its own. It is an `ar` archive (deb(5)): after eight bytes,
    // members with heads of sixty, of which the name comes first and ten from the 49th on are the size; members begin at even
    // places. `usr` becomes the folder itself, what is for one processor goes to `libs` and its loader to `libs/ld.so`, documents are
    // left out but for licences.
    (
        "deb",
        r#"deb() {
    rm -rf "$2/.packed" "$2/.tar"
    mkdir -p "$2/.packed"
    at=9
    while head=$(tail -c +"$at" "$1" | head -c 58) && [ -n "$head" ]; do
        size=$(printf '%s' "$head" | cut -c 49-58 | tr -d ' ')
        case $head in data.tar*) tail -c +$((at + 60)) "$1" | head -c "$size" > "$2/.tar"; break ;; esac
        at=$((at + 60 + size + size % 2))
    done
    tar -xf "$2/.tar" -C "$2/.packed"
    (
        cd "$2/.packed"
        put usr .
        rm -rf lib64 share/man share/info share/lintian share/doc-base share/bug
        [ ! -d share/doc ] || find share/doc ! -type d ! -name copyright -exec rm -f {} +
        for from in lib/x86_64-linux-gnu lib/aarch64-linux-gnu; do
            for loader in "$from"/ld-*.so.*; do [ ! -f "$loader" ] || mv "$loader" "$from/ld.so"; done
            put "$from" libs
        done
    )
    put "$2/.packed" "$2"
    rm "$2/.tar"
}"#,
    ),
    // FOLDER HOW: links to absolute paths are left out, or lead into the folder.
    (
        "links",
        r#"links() {
    find "$1" -type l -exec sh -c 'own=$1 how=$2; shift 2
        for link; do
            to=$(readlink "$link")
            case $to in
                "$own"/*) ;;
                /*) rm "$link"; [ "$how" = leave-out ] || ln -s "$own$to" "$link" ;;
            esac
        done' sh "$1" "$2" {} +
}"#,
    ),
    // FOLDER: what the entry points of wheels name becomes scripts ("Entry points specification"), and scripts find their Python.
    (
        "points",
        r##"points() {
    mkdir -p "$1/bin"
    for script in "$1"/bin/*; do
        case $(head -n 1 "$script" 2> /dev/null) in
            "#!python"*) { echo "#!/usr/bin/env python3"; tail -n +2 "$script"; } > "$script.new" && mv "$script.new" "$script" ;;
        esac
    done
    for file in "$1"/site/*.dist-info/entry_points.txt; do [ ! -f "$file" ] || { cat "$file"; echo; }; done | tr -d ' \t\r' |
        awk '/^\[/ { on = $0 == "[console_scripts]" || $0 == "[gui_scripts]" }
            on && /^[A-Za-z0-9_][A-Za-z0-9_.-]*=[A-Za-z0-9_.]+:[A-Za-z0-9_.]+(\[.*\])?$/ {
                sub(/\[.*/, ""); sub(/=/, " "); sub(/:/, " "); print
            }' |
        while read -r name module object; do
            [ ! -e "$1/bin/$name" ] || continue
            printf '%s\n' '#!/usr/bin/env python3' 'import os' 'import sys' '' 'sys.dont_write_bytecode = True' \
                'sys.path.insert(1, os.path.join(os.path.dirname(os.path.dirname(os.path.abspath(__file__))), "site"))' \
                "from $module import ${object%%.*}" '' "sys.exit($object())" > "$1/bin/$name"
            chmod 755 "$1/bin/$name"
        done
}"##,
    ),
    // FOLDER: what `bin` of a package of Node names is found in `bin`.
    (
        "bins",
        r#"bins() {
    (cd "$1" && find . -name package.json | sed 's|^\./||' | grep -E '^(|.*node_modules/(@[^/]*/)?[^/@]*/)package.json$' | node -e '
        const fs = require("fs");
        for (const at of fs.readFileSync(0, "utf8").split("\n").filter((line) => line)) {
            const own = JSON.parse(fs.readFileSync(at, "utf8")), folder = at.slice(0, -"package.json".length);
            const all = typeof own.bin === "string" ? { [own.name.split("/").pop()]: own.bin } : own.bin || {};
            for (const [name, said] of Object.entries(all)) {
                const file = said.replace(/^\.\//, "");
                if (!/^\w[\w.-]*$/.test(name) || file.split("/").includes("..") || !fs.existsSync(folder + file)) continue;
                fs.chmodSync(folder + file, 0o755);
                if (folder || fs.existsSync("bin/" + name)) continue;
                fs.mkdirSync("bin", { recursive: true });
                fs.symlinkSync("../" + file, "bin/" + name);
            }
        }')
}"#,
    ),
];

/// The functions that an archive's commands call, by name.
pub(super) fn calls(unpack: &Unpacking, layout: Layout) -> Vec<&'static str> {
    let calls = |name: &str| match name {
        "put" => matches!(layout, Layout::Debian | Layout::Wheel) || !unpack.moves.is_empty(),
        "deb" => layout == Layout::Debian,
        "links" => unpack.absolute_links != AbsoluteLinks::Refuse,
        "points" => layout == Layout::Wheel,
        _ => layout == Layout::Npm,
    };
    FUNCTIONS.iter().map(|(name, _)| *name).filter(|name| calls(name)).collect()
}

/// The texts of functions.
pub(super) fn functions(names: &[&str]) -> Vec<String> {
    FUNCTIONS.iter().filter(|(name, _)| names.contains(name)).map(|(_, text)| (*text).to_owned()).collect()
}

/// A pattern of files, whose marks still count; `None` for one that leads out.
fn pattern(text: &str) -> Option<String> {
    if text.split('/').any(|part| part == "..") {
        return None;
    }
    let plain = |char: char| char.is_ascii_alphanumeric() || "._-/*?[]+@%:,".contains(char);
    Some(
        text.chars()
            .flat_map(|char| [(!plain(char)).then_some('\\'), Some(char)])
            .flatten()
            .filter(|char| *char != '\n')
            .collect(),
    )
}

/// The commands that unpack a file; `None` where the tools that machines have cannot. `file` is how a shell is told which.
pub(super) fn unpacked(unpack: &Unpacking, layout: Layout, name: &str, file: &str, into: &str) -> Option<Vec<String>> {
    let lower = name.to_ascii_lowercase();
    let ends = |ending: &str| lower.ends_with(ending);
    let is_tar = lower.contains(".tar") || [".tgz", ".txz", ".tbz", ".tbz2"].iter().any(|ending| ends(ending));
    let strip = if layout == Layout::Npm { unpack.strip.max(1) } else { unpack.strip };
    let first = if unpack.moves.is_empty() { into.to_owned() } else { format!("{into}/.first") };
    let at = |inner: &str| word(&format!("{first}{inner}"));
    let mut all = vec![format!("mkdir -p {}", at(""))];
    match layout {
        Layout::Debian => all.push(format!("deb {file} {}", at(""))),
        Layout::Whole => all.push(format!("cp {file} {}", at("/"))),
        Layout::Wheel => {
            all.push(format!("unzip -q -o {file} -d {}", at("/site")));
            let elsewhere = [
                ("scripts", "/bin"),
                ("headers", "/include"),
                ("purelib", "/site"),
                ("platlib", "/site"),
                ("data", ""),
            ];
            let put = |(kind, to): &(&str, &str)| format!("put \"$data/{kind}\" {}", at(to));
            let put: Vec<String> = elsewhere.iter().map(put).collect();
            let all_data = at("/site");
            all.push(format!("for data in {all_data}/*.data; do {}; rm -rf \"$data\"; done", put.join("; ")));
        }
        Layout::AsItIs | Layout::Npm if is_tar => {
            let strip = if strip > 0 { format!(" --strip-components={strip}") } else { String::new() };
            all.push(format!("tar -xf {file} -C {}{strip}", at("")));
        }
        Layout::AsItIs | Layout::Npm if ends(".zip") && strip == 0 => {
            all.push(format!("unzip -q -o {file} -d {}", at("")));
        }
        Layout::AsItIs | Layout::Npm if ends(".zip") => {
            let packed = at(".packed");
            all.push(format!("unzip -q -o {file} -d {packed}"));
            all.push(format!("cp -R {packed}{}/. {} && rm -rf {packed}", "/*".repeat(strip), at("/")));
        }
        Layout::AsItIs | Layout::Npm => {
            let known = [".7z", ".rpm", ".deb", ".dmg", ".pkg", ".run", ".appimage"];
            if known.iter().any(|ending| ends(ending)) {
                return None;
            }
            all.push(packed_alone(name, file, &first));
        }
    }
    let left_out = unpack.leave_out.iter().filter_map(|text| pattern(text));
    all.extend(left_out.map(|pattern| format!("rm -rf {}/{pattern}", at(""))));
    // The longest that fits applies.
    let mut moves: Vec<(&str, &str)> = unpack.moves.iter().map(|(from, to)| (from.as_str(), to.as_str())).collect();
    moves.sort_by_key(|(from, _)| std::cmp::Reverse(from.len()));
    let put = |(from, to): &(&str, &str)| format!("put {} {}", at(&format!("/{from}")), word(&format!("{into}/{to}")));
    all.extend(moves.iter().map(put));
    if first != into {
        all.push(format!("put {} {}", at(""), word(into)));
    }
    if unpack.absolute_links != AbsoluteLinks::Refuse {
        all.push(format!("links {} {}", word(into), unpack.absolute_links.as_str()));
    }
    Some(all)
}

/// A single file, compressed or as it is.
fn packed_alone(name: &str, file: &str, into: &str) -> String {
    let by = [(".gz", "gzip"), (".xz", "xz"), (".zst", "zstd"), (".bz2", "bzip2")];
    let known = by.iter().find_map(|(ending, program)| Some((name.strip_suffix(ending)?, program)));
    match known {
        Some((plain, program)) => format!("{program} -dc {file} > {}", word(&format!("{into}/{plain}"))),
        None => format!("cp {file} {}", word(&format!("{into}/"))),
    }
}

#[cfg(test)]
mod tests {
    use super::pattern;

    #[test]
    fn a_pattern_leads_nowhere_else_and_is_no_command() {
        assert_eq!(pattern("../../x"), None);
        assert_eq!(pattern("share/*; rm x").as_deref(), Some("share/*\\;\\ rm\\ x"));
    }
}

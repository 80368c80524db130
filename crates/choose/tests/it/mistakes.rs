//! Mistakes in files that people write: each is told in our own words, with its line and column and what would be right.

use kladder_choose::catalog::{About, CatalogError, Definition, Preset, Rehearsal};
use kladder_choose::document::{DocumentError, Source};
use kladder_choose::ladder::Ladder;
use kladder_choose::pins::{Pins, PinsFileError};
use snapbox::{assert_data_eq, str};

/// Words of the libraries that read TOML, which mean nothing to whoever wrote the file.
const FOREIGN: [&str; 9] = [
    "unknown field",
    "missing field",
    "unknown variant",
    "invalid type",
    "invalid value",
    "did not match any",
    "i64",
    "struct ",
    "Some(",
];

/// What went wrong: line, column and message.
fn told(error: &CatalogError) -> String {
    let place = match error {
        CatalogError::Document(
            DocumentError::Invalid { place, .. }
            | DocumentError::UnknownKey { place, .. }
            | DocumentError::MissingKey { place, .. }
            | DocumentError::UnknownWord { place, .. },
        ) => format!("{}:{}", place.line, place.column),
        _ => String::new(),
    };
    format!("{place:<6} {error}")
}

/// What is told of a text in which, one after the other, these parts are replaced.
fn each(whole: &str, cases: &[(&str, &str)], read: impl Fn(&Source) -> Result<(), CatalogError>) -> String {
    read(&Source::new("file.toml", whole)).unwrap();
    let lines = cases.iter().map(|(old, new)| {
        assert!(whole.contains(old), "`{old}` is not there");
        let error = read(&Source::new("file.toml", whole.replacen(old, new, 1))).expect_err(new);
        let text = told(&error);
        assert!(!FOREIGN.iter().any(|words| text.contains(words)), "{new}: {text}");
        format!("{}\n    {text}\n", new.replace('\n', "⏎"))
    });
    lines.collect()
}

const DEFINITION: &str = r#"tool = "skerroc"
kind = "compiler"
summary = "Compiler"
scheme = "common"
provides = ["skerrow-compiler"]
commands = { skerroc = "bin/skerroc", sk = { file = "bin/sk", arguments = ["{folder}"] } }
variables = { SKERROC_HOME = "{folder}" }
licence = "skerroc-terms"
after = "session"
corners = ["state"]
lends = [{ to = "tidlow", files = "lib", at = "lib/skerroc" }]
host = { command = "skerroc" }

[[gates]]
memory = ">= 2 GiB"

[[checks]]
run = ["skerroc", "--version"]
expect = { stdout = '(?<version>\S+)' }

[[releases]]
version = "1.4.2"
date = 2026-01-31
series = ["stable"]
needs = { tidlow = ">=4" }
one-of = [["oarweld", "brume"]]
artifacts = [{ for = ["linux/x86_64"], file = "s.zip", size = 12, sha256 = "0000000000000000000000000000000000000000000000000000000000000000" }]
"#;

/// What stands there, and what somebody wrote instead.
const IN_A_DEFINITION: &[(&str, &str)] = &[
    ("tool = \"skerroc\"", "tool = \"skeroc\""),
    ("tool = \"skerroc\"", "tool = \"Sker roc\""),
    ("summary = \"Compiler\"\n", ""),
    ("summary = \"Compiler\"", "sumary = \"Compiler\""),
    ("summary = \"Compiler\"", "summary = 3"),
    ("scheme = \"common\"", "scheme = \"comon\""),
    ("commands = { skerroc", "commands = { \"a/b\""),
    ("\"bin/skerroc\"", "\"/bin/skerroc\""),
    ("\"bin/skerroc\"", "\"../skerroc\""),
    ("\"bin/skerroc\"", "\"\""),
    ("file = \"bin/sk\"", "fil = \"bin/sk\""),
    ("[\"{folder}\"]", "[\"{foldr}\"]"),
    ("SKERROC_HOME", "PATH"),
    ("SKERROC_HOME", "\"3X\""),
    ("licence = \"skerroc-terms\"", "licence = \"../terms\""),
    ("after = \"session\"", "after = \"reboot\""),
    ("[\"state\"]", "[\"\"]"),
    ("[\"state\"]", "[\"state\", \"state/log\"]"),
    ("at = \"lib/skerroc\"", "at = \"\""),
    ("host = { command = \"skerroc\" }", "host = \"prefer\""),
    ("memory = \">= 2 GiB\"", "memory = \"2 gigs\""),
    ("memory = \">= 2 GiB\"", "memory = \">= 2 GiB\"\nport = 1"),
    ("run = [\"skerroc\", \"--version\"]", "run = []"),
    ("run = [\"skerroc\", \"--version\"]", "run = \"skerroc --version\""),
    ("'(?<version>\\S+)'", "'(?<version>'"),
    ("[[releases]]", "[releases]"),
    ("version = \"1.4.2\"", "version = 1.4"),
    ("date = 2026-01-31", "date = 2026-31-01"),
    ("series = [\"stable\"]", "series = \"stable\""),
    ("\">=4\"", "\"^4\""),
    ("needs = { tidlow = \">=4\" }", "needs = [\"tidlow\"]"),
    ("[[\"oarweld\", \"brume\"]]", "[[]]"),
    ("[\"linux/x86_64\"]", "[\"linux-x64\"]"),
    ("[\"linux/x86_64\"]", "[]"),
    ("\"s.zip\"", "\"https://yard.example/s.zip\""),
    ("\"s.zip\"", "\"../s.zip\""),
    ("size = 12", "size = -12"),
    ("size = 12", "size = \"12 kB\""),
    ("file = \"s.zip\", ", ""),
    ("\"0000", "\"sha256:0000"),
    ("size = 12", "size = 12, unpack = { strip = 1, leave-out = [\"[\"] }"),
    ("size = 12", "size = 12, unpack = { stripe = 1 }"),
    ("size = 12", "size = 12, unpack = { absolute-links = \"keep\" }"),
];

#[test]
fn mistakes_in_a_definition() {
    let read = |source: &Source| Definition::parse(source, "skerroc").map(|_| ());
    assert_data_eq!(
        each(DEFINITION, IN_A_DEFINITION, read),
        str![[r#"
tool = "skeroc"
           it defines the tool `skeroc`, so its name must be skeroc.toml
tool = "Sker roc"
    1:8    `Sker roc` cannot be the name of a tool: letters, digits and . _ + - can, a dot or hyphen not in front

    1:1    the key `summary` is missing
sumary = "Compiler"
    3:1    the key `sumary` means nothing here
summary = 3
    3:11   this is a whole number, 3; here stands a text in quotes
scheme = "comon"
    4:10   `comon` cannot stand here
commands = { "a/b"
    6:14   `a/b` cannot be the name of a command
"/bin/skerroc"
    6:24   `/bin/skerroc` does not stay below the folder it starts in
"../skerroc"
    6:24   `../skerroc` does not stay below the folder it starts in
""
           the command `skerroc` must be a file inside the tool's folder
fil = "bin/sk"
    6:44   here stands a file like "bin/tool", or a table with `file`, `arguments`, `by`, `variables` and `attaches`
["{foldr}"]
    6:44   `{foldr}` cannot be filled in; `{folder}` can
PATH
    7:15   PATH is put together from the commands of all rungs; name those under `commands`
"3X"
    7:15   `3X` cannot be the name of a variable: letters, digits and _ can
licence = "../terms"
           `../terms` cannot be the name of a licence
after = "reboot"
    9:9    `reboot` cannot stand here
[""]
    10:11  a corner is a folder below the tool's own, not all of it
["state", "state/log"]
    10:11  `state/log` lies in the corner `state` already; leave it out
at = ""
           what is lent to tidlow is seen at a path below its folder, not in the place of it
host = "prefer"
    12:8   this is a text, "prefer"; here stands a table
memory = "2 gigs"
    14:1   `2 gigs` is no amount: write one like `>= 2 GiB`
memory = ">= 2 GiB"⏎port = 1
    14:1   a gate demands one thing; write a gate for each
run = []
           a check, set-up or fit-out has nothing to run: `run` is an empty list
run = "skerroc --version"
    18:7   this is a text, "skerroc --version"; here stands a list
'(?<version>'
    19:21  `(?<version>` is not a pattern: unclosed group
[releases]
    21:1   this is a table; here stands a list; several are written with [[releases]]
version = 1.4
    22:11  this is a number, 1.4; here stands a text in quotes
date = 2026-31-01
    23:8   invalid date, expected month between 01 and 12
series = "stable"
    24:10  this is a text, "stable"; here stands a list
"^4"
    25:20  `^4` is no requirement: write `>=4, <5`
needs = ["tidlow"]
    25:9   this is a list; here stands a table
[[]]
    21:1   an empty list in `one-of` can never be met
["linux-x64"]
    27:22  `linux-x64` is not a platform; `linux/x86_64` is one
[]
    27:14  `s.zip` is for no platform: `for` is empty
"https://yard.example/s.zip"
    27:47  `https://yard.example/s.zip` is an address; what stands here is a path below a yard, which the address would be one of
"../s.zip"
    27:47  `../s.zip` does not stay below the folder it starts in
size = -12
    27:63  this is a whole number, -12; here stands a whole number, not below zero
size = "12 kB"
    27:63  this is a text, "12 kB"; here stands a whole number, not below zero

    21:1   an artifact of 1.4.2 has no `file`, and nothing says what files are called
"sha256:0000
    27:76  `sha256:0000000000000000000000000000000000000000000000000000000000000000` is not a SHA-256 digest: 64 hexadecimal digits are
size = 12, unpack = { strip = 1, leave-out = ["["] }
    27:101 `[` is not a pattern of files: unclosed character class; missing ']'
size = 12, unpack = { stripe = 1 }
    27:78  the key `stripe` means nothing here
size = 12, unpack = { absolute-links = "keep" }
    27:95  `keep` cannot stand here

"#]]
    );
}

const LADDER: &str = r#"[ladder]
title = "Desk"
catalog = "../catalog"

[machines]
desk = "linux/x86_64"

[rungs]
skerroc = "1.4"
tidlow = "long-term"
neapstone = { version = ">=7", pieces = ["manual"], host = "never" }

[answers]
sk = "skerroc"
"#;

#[test]
fn mistakes_in_a_ladder() {
    let cases = [
        ("[ladder]", "[lader]"),
        ("title = \"Desk\"", "titel = \"Desk\""),
        ("catalog = \"../catalog\"", "catalog = 3"),
        ("\"linux/x86_64\"", "\"linux_x86_64\""),
        ("\"linux/x86_64\"", "\"amiga/m68k\""),
        ("\"1.4\"", "1.4"),
        ("\"1.4\"", "\"==1.4\""),
        ("\"1.4\"", "\">=1.4 <2\""),
        ("\"1.4\"", "\"latest\""),
        ("\"1.4\"", "true"),
        ("\"1.4\"", "[\"1.4\"]"),
        ("skerroc = \"1.4\"", "\"skerroc@1.4\" = \"any\""),
        ("skerroc = \"1.4\"", "skerroc = \"1.4\"\nskerroc = \"1.5\""),
        ("skerroc = \"1.4\"", "skerroc = \"1.4"),
        ("skerroc = \"1.4\"", "skerroc \"1.4\""),
        ("version = \">=7\"", "verion = \">=7\""),
        ("[\"manual\"]", "\"manual\""),
        ("\"never\"", "\"nevr\""),
        ("sk = \"skerroc\"", "sk = \"Sker roc\""),
        ("[answers]", "[rungs]"),
    ];
    let read = |source: &Source| Ok(Ladder::parse(source).map(|_| ())?);
    assert_data_eq!(
        each(LADDER, &cases, read),
        str![[r#"
[lader]
    1:2    the key `lader` means nothing here
titel = "Desk"
    2:1    the key `titel` means nothing here
catalog = 3
    3:11   here stands a folder, or a list of folders
"linux_x86_64"
    6:8    `linux_x86_64` is not a platform; `linux/x86_64` is one
"amiga/m68k"
    6:8    `amiga/m68k` is not a platform: write one like `linux/x86_64`
1.4
    9:11   a version stands in quotes: "1.4"
"==1.4"
    9:13   `==1.4` is no requirement: one `=` is enough: `=1.4`
">=1.4 <2"
    9:14   `>=1.4 <2` is no requirement: clauses are separated by commas
"latest"
    9:12   `latest` is no requirement: write `any`; the newest that fits is taken
true
    9:11   this is yes or no, true; here stands a requirement like "1.4", a series, or a table with `version`, `series`, `pieces`, `host`, `prefer` and `optional`
["1.4"]
    9:11   this is a list; here stands a requirement like "1.4", a series, or a table with `version`, `series`, `pieces`, `host`, `prefer` and `optional`
"skerroc@1.4" = "any"
    9:1    `skerroc@1.4` cannot be the name of a tool: letters, digits and . _ + - can, a dot or hyphen not in front
the version stands behind it: skerroc = "1.4"
skerroc = "1.4"⏎skerroc = "1.5"
    10:1   this key stands here twice
skerroc = "1.4
    9:15   the closing quote of this text is missing
skerroc "1.4"
    9:9    key with no value, expected `=`
verion = ">=7"
    11:15  the key `verion` means nothing here
"manual"
    11:41  this is a text, "manual"; here stands a list
"nevr"
    11:60  `nevr` cannot stand here
sk = "Sker roc"
    14:6   `Sker roc` cannot be the name of a tool: letters, digits and . _ + - can, a dot or hyphen not in front
[rungs]
    13:2   this key stands here twice

"#]]
    );
}

const PINS: &str = r#"[pinned]
format = 2
ladder = "0000000000000000000000000000000000000000000000000000000000000000"
catalogs = [{ name = "t", digest = "0000000000000000000000000000000000000000000000000000000000000000" }]

[rungs.skerroc]
version = "1.4.2"
artifacts.any = { file = "s.zip", size = 12, sha256 = "0000000000000000000000000000000000000000000000000000000000000000" }
"#;

#[test]
fn pins_that_somebody_edited_into_nonsense() {
    let cases = [
        ("[pinned]", "<<<<<<< ours\n[pinned]"),
        ("format = 2", "format = 3"),
        ("format = 2", "format = \"2\""),
        ("format = 2\n", ""),
        ("ladder = \"0000", "ladder = \"000"),
        ("name = \"t\", ", ""),
        ("version = \"1.4.2\"", "version = \"\""),
        ("version = \"1.4.2\"", "verison = \"1.4.2\""),
        ("artifacts.any", "artifacts.\"linux/x86\""),
        ("\"s.zip\"", "\"/s.zip\""),
        ("size = 12", "size = 1e3"),
        ("[rungs.skerroc]", "[rungs.\"../skerroc\"]"),
    ];
    let read = |source: &Source| match Pins::parse(source) {
        Ok(_) => Ok(()),
        Err(PinsFileError::Document(error)) => Err(error.into()),
        Err(other) => Err(CatalogError::Wrong { path: source.path.clone(), message: other.to_string() }),
    };
    assert_data_eq!(
        each(PINS, &cases, read),
        str![[r#"
<<<<<<< ours⏎[pinned]
           file.toml holds the marks of an unfinished merge, at line 1
format = 3
           file.toml is written in format 3, and this kladder reads up to 2
format = "2"
    2:10   this is a text, "2"; here stands a whole number

    1:1    the key `format` is missing
ladder = "000
    3:10   `000000000000000000000000000000000000000000000000000000000000000` is not a SHA-256 digest: 64 hexadecimal digits are

    4:13   the key `name` is missing
version = ""
    7:11   `` is not a version: it needs a digit, and may hold letters, digits, spaces and . - _ + ~ : before its end
verison = "1.4.2"
    7:1    the key `verison` means nothing here
artifacts."linux/x86"
    8:11   `linux/x86` is not a platform; `linux/x86_64` is one
"/s.zip"
    8:26   `/s.zip` does not stay below the folder it starts in
size = 1e3
    8:42   this is a number, 1000.0; here stands a whole number, not below zero
[rungs."../skerroc"]
    6:8    `../skerroc` cannot be the name of a tool: letters, digits and . _ + - can, a dot or hyphen not in front

"#]]
    );
}

#[test]
fn mistakes_in_the_rest_of_a_catalog() {
    let about = "[catalog]\nformat = 2\nname = \"t\"\nyards = [\"../yard\"]\n";
    let cases = [
        ("format = 2", "format = 9"),
        ("format = 2", "format = true"),
        ("name = \"t\"\n", ""),
        ("[\"../yard\"]", "[\"ftp://yard.example\"]"),
        ("[\"../yard\"]", "[\"https://\"]"),
        ("yards", "yard"),
    ];
    let told = each(about, &cases, |source| About::parse(source, "/desk".as_ref()).map(|_| ()));
    let preset =
        "preset = \"p\"\ntitle = \"P\"\nsummary = \"s\"\nrungs = [{ tool = \"skerroc\", version = \"1.4\" }]\n";
    let cases = [("preset = \"p\"", "preset = \"q\""), ("rungs = [", "rungs = [3, "), ("\"1.4\"", "\"~1.4\"")];
    let told = told + &each(preset, &cases, |source| Preset::parse(source, "p").map(|_| ()));
    let rehearsal = "rehearsal = \"r\"\nsummary = \"s\"\ntools = [\"skerroc\"]\nfiles = { \"a/b\" = \"x\" }\nsteps = [{ run = [\"skerroc\"] }]\n";
    let cases = [
        ("rehearsal = \"r\"", "rehearsal = \"q\""),
        ("\"a/b\"", "\"../b\""),
        ("run = [\"skerroc\"]", "run = []"),
        ("run = [\"skerroc\"]", "run = [\"skerroc\"], limit = \"1 min\""),
        ("run = [\"skerroc\"]", "run = [\"skerroc\"], expect = { out = \"x\" }"),
    ];
    let told = told + &each(rehearsal, &cases, |source| Rehearsal::parse(source, "r").map(|_| ()));
    assert_data_eq!(
        told,
        str![[r#"
format = 9
           file.toml is written in format 9, and this kladder reads up to 2
format = true
    2:10   this is yes or no, true; here stands a whole number, not below zero

    1:1    the key `name` is missing
["ftp://yard.example"]
    4:10   `ftp://` is not spoken here: a yard is a folder, or an address with http, https, s3, gs, az or oci
["https://"]
    4:10   the address names no host
yard
    4:1    the key `yard` means nothing here
preset = "q"
           it holds the preset `q`; file and name must agree
rungs = [3, 
    4:10   this is a whole number, 3; here stands a table
"~1.4"
    4:40   `~1.4` is no requirement: write `>=1.4, <1.5`
rehearsal = "q"
           it holds the rehearsal `q`; file and name must agree
"../b"
    4:11   `../b` does not stay below the folder it starts in
run = []
           a step has nothing to run: `run` is an empty list
run = ["skerroc"], limit = "1 min"
    5:39   this is a text, "1 min"; here stands a whole number, not below zero
run = ["skerroc"], expect = { out = "x" }
    5:42   the key `out` means nothing here

"#]]
    );
}

/// Lines and columns are counted in characters, wherever lines end and whatever stands in them.
#[test]
fn places_are_where_an_editor_shows_them() {
    let mut random = fastrand::Rng::with_seed(7);
    let letters = ['a', 'ü', '語', '\u{1f30a}', '\n', '\n', ' ', '\t', '"', '='];
    for _ in 0..300 {
        let length = random.usize(0..80);
        let text: String = (0..length).map(|_| letters[random.usize(0..letters.len())]).collect();
        let source = Source::new("sea.toml", text.clone());
        let ends: Vec<usize> = text.char_indices().map(|(at, _)| at).chain([text.len()]).collect();
        let (one, other) = (ends[random.usize(0..ends.len())], ends[random.usize(0..ends.len())]);
        let (from, to) = (one.min(other), one.max(other));
        let place = source.place(from..to);
        let before = &text[..from];
        assert_eq!(place.line, before.split('\n').count(), "{text:?} {from}");
        let in_line = before.rsplit('\n').next().unwrap().chars().count();
        assert_eq!(place.column, in_line + 1, "{text:?} {from}");
        // What is meant never reaches beyond its line, and is never nothing.
        let meant = text[from..to].split('\n').next().unwrap().chars().count().max(1);
        assert_eq!(place.length, meant, "{text:?} {from}..{to}");
        let line = text.split('\n').nth(place.line - 1).unwrap();
        assert!(line.starts_with(place.text.as_str()) || place.text == line.trim_end(), "{text:?} {from}");
        // A range that no honest reader would name is no reason to end.
        let _ = source.place(from + 1..text.len() + 40);
    }
}

const AROUND: &str = r#"[ladder]
title = "Desk"
[rungs]
skerroc = "1.4"
[code]
folder = "~/code"
[code.sources]
gauges = { repository = "../gauges", branch = "main" }
charts = { archive = "charts.zip", sha256 = "0000000000000000000000000000000000000000000000000000000000000000" }
[settings."~/.look.json"]
keys = { theme = "dark" }
[settings."~/.keys"]
text = "a"
[aliases]
edit = "whimbrow --calm"
"#;

#[test]
fn mistakes_in_what_a_ladder_brings_besides_its_rungs() {
    let told = each(
        AROUND,
        &[
            ("folder = \"~/code\"", "fold = \"~/code\""),
            ("branch = \"main\"", "branch = \"main\", tag = \"v1\""),
            ("branch = \"main\"", "branch = \"--x\""),
            ("branch = \"main\"", "commit = \"HEAD\""),
            ("repository = \"../gauges\"", "repo = \"../gauges\""),
            ("repository = \"../gauges\"", "repository = \"\""),
            ("gauges =", "\"ga/uges\" ="),
            ("archive = \"charts.zip\"", "archive = \"../charts.zip\""),
            ("charts.zip\", sha256", "charts.zip\", strip = -1, sha256"),
            ("\"~/.look.json\"", "\"/etc/look.json\""),
            ("\"~/.look.json\"", "\"~/../look.json\""),
            ("\"~/.look.json\"", "\"~/.look\""),
            ("{ theme = \"dark\" }", "{ }"),
            ("{ theme = \"dark\" }", "{ \"theme/\" = 1 }"),
            ("text = \"a\"", "text = \"a\"\nform = \"xml\""),
            ("text = \"a\"", "txt = \"a\""),
            ("edit =", "\"ed it\" ="),
            ("whimbrow --calm", "a\\nb"),
        ],
        |source| Ladder::parse(source).map(drop).map_err(CatalogError::from),
    );
    assert_data_eq!(
        told,
        str![[r#"
fold = "~/code"
    6:1    the key `fold` means nothing here
branch = "main", tag = "v1"
    8:10   of `branch`, `tag` and `commit` there is one at most
branch = "--x"
    8:10   this cannot be the name of a branch or tag
commit = "HEAD"
    8:10   a commit is 7 to 64 hexadecimal digits
repo = "../gauges"
    8:12   the key `repo` means nothing here
repository = ""
    8:10   here stands no address of a repository
"ga/uges" =
    8:13   its name cannot be a folder's
archive = "../charts.zip"
    9:22   `../charts.zip` does not stay below the folder it starts in
charts.zip", strip = -1, sha256
    9:44   this is a whole number, -1; here stands a whole number, not below zero
"/etc/look.json"
    10:11  a setting is of a file in your home: its path begins with `~/`
"~/../look.json"
    10:11  a setting is of a file in your home: its path begins with `~/`
"~/.look"
    10:1   how the file is written is not known: add `form = "json"`, `"toml"`, `"yaml"` or `"ini"`
{ }
    10:1   `keys` has paths like "theme" or "tools/compiler", without empty parts
{ "theme/" = 1 }
    10:1   `keys` has paths like "theme" or "tools/compiler", without empty parts
text = "a"⏎form = "xml"
    14:8   `xml` cannot stand here
txt = "a"
    13:1   the key `txt` means nothing here
"ed it" =
    15:1   a short name is letters, digits, `-` and `_`, a letter first; it stands for one line
a/nb
    15:1   a short name is letters, digits, `-` and `_`, a letter first; it stands for one line

"#]]
    );
}

const TAKEN: &str = r#"rehearsal = "file"
summary = "A program"
tools = ["skerroc"]
files = { "@name@/main.skw" = "x" }
steps = [{ run = ["skerroc", "@name@"] }]
[asks.name]
question = "What is it called?"
default = "gauge"
pattern = '[a-z]+'
[parts.more]
summary = "More"
files = { "more.txt" = "" }
"#;

#[test]
fn mistakes_in_a_rehearsal_that_is_taken_as_a_project() {
    let told = each(
        TAKEN,
        &[
            ("\"@name@/main.skw\"", "\"../main.skw\""),
            ("default = \"gauge\"", "default = \"Gauge\""),
            ("default = \"gauge\"\npattern = '[a-z]+'", "default = \"../..\""),
            ("pattern = '[a-z]+'", "pattern = '[a-z'"),
            ("[asks.name]", "[asks.\"a name\"]"),
            ("question = ", "asked = "),
            ("\"more.txt\"", "\"\""),
            ("run = [\"skerroc\", \"@name@\"]", "run = []"),
        ],
        |source| kladder_choose::catalog::Rehearsal::parse(source, "file").map(drop),
    );
    assert_data_eq!(
        told,
        str![[r#"
"../main.skw"
    4:11   `../main.skw` does not stay below the folder it starts in
default = "Gauge"
           with its defaults filled in, `Gauge` cannot be the name
default = "../.."
           with its defaults filled in, `../../main.skw` cannot be used: `../../main.skw` does not stay below the folder it starts in
pattern = '[a-z'
    9:11   `[a-z` is not a pattern: unclosed character class
[asks."a name"]
           `a name` cannot be the name of a question or part
asked = 
    7:1    the key `asked` means nothing here
""
           with its defaults filled in, `` cannot be used: it is empty
run = []
           a step has nothing to run: `run` is an empty list

"#]]
    );
}

/// A definition with all that a part can say.
const PARTS: &str = r#"tool = "skerroc"
summary = ""
corners = ["state"]
origins = ["https://dist.skerrow.example/{version}/"]
provides = { tide-format = "3.1", skerrow-compiler = "{version}" }
[host]
command = "skerroc"
places = ["/opt/skerrow-*", { in = "~/.skerrow", like = '^at=(.*)' }]
[[gates]]
packages = { debian = ["libtide-dev"] }
minutes = 2
after = "session"
[[gates]]
name = "word"
person = "sign up"
[[gates]]
device = "1209:2c01"
[[gates]]
limit = "open-files >=4096"
[[fit-outs]]
name = "a buoy"
done = { run = ["x"] }
do = { run = ["y"] }
[first-start]
"state/look" = "@theme@"
[choices.theme]
question = "Dark?"
default = "dark"
pattern = "dark|light"
[[checks]]
run = ["z"]
expect = { status = [0, 2], never = "x" }
claims = [{ name = "a", file = "f", json = "/a", equals = 1 }]
[[also]]
version = ">=2"
for = ["linux"]
where = { c-library = "gnu >=2.31" }
commands.s = "two"
[[also]]
series = "stable"
piece = "lens"
commands.s = "two"
[[releases]]
version = "2"
series = ["stable"]
pieces.lens = { summary = "" }
artifacts = [{ where = { kernel = ">=5" }, file = "a", sha256 = "DIGEST" }, { file = "b", sha256 = "DIGEST" }]
"#;

#[test]
fn mistakes_in_what_is_provided_and_how_the_host_is_looked_at() {
    let whole = PARTS.replace("DIGEST", &"ab".repeat(32));
    let cases = [
        ("command = \"skerroc\"\nplaces", "place"),
        ("command = \"skerroc\"\nplaces = [\"/opt/skerrow-*\", { in = \"~/.skerrow\", like = '^at=(.*)' }]\n", ""),
        ("\"/opt/skerrow-*\"", "\"opt/skerrow\""),
        ("\"/opt/skerrow-*\"", "\"/opt/../etc\""),
        ("\"/opt/skerrow-*\"", "\"/**/skerrow\""),
        ("like = '^at", "as = '^at"),
        ("like = '^at=(.*)'", "like = '^at=(.*'"),
        ("{version}/\"", "{verison}/\""),
        ("{version}/\"", "{version\""),
        ("https://dist", "ftp://dist"),
        ("https://dist.skerrow.example", "/srv"),
        ("tide-format = \"3.1\"", "tide-format = \"^3\""),
        ("tide-format = \"3.1\"", "skerroc = \"3.1\""),
        ("commands.s = \"two\"\n[[releases]]", "provides = [\"lens\"]\n[[releases]]"),
    ];
    let read = |source: &Source| Definition::parse(source, "skerroc").map(|_| ());
    assert_data_eq!(
        each(&whole, &cases, read),
        str![[r#"
place
    7:1    the key `place` means nothing here

    6:1    `host` says where to look: `command`, `places`, `library` or `package`
"opt/skerrow"
    8:11   `opt/skerrow`: a place on the host begins with `/`, `~/` or a `$VARIABLE`
"/opt/../etc"
    8:11   `/opt/../etc`: a place on the host has no `..` and no `**`
"/**/skerrow"
    8:11   `/**/skerrow`: a place on the host has no `..` and no `**`
as = '^at
    8:50   the key `as` means nothing here
like = '^at=(.*'
    8:57   `^at=(.*` is not a pattern: unclosed group
{verison}/"
    4:11   `{verison}` cannot be filled in; `{version}` can
{version"
    4:11   in `https://dist.skerrow.example/{version` a brace is open
ftp://dist
    4:11   `ftp://dist.skerrow.example/{version}/`: an origin is an address with http:// or https://
/srv
    4:11   `/srv/{version}/`: an origin is an address with http:// or https://
tide-format = "^3"
    5:12   `^3` is not a version: it needs a digit, and may hold letters, digits, spaces and . - _ + ~ : before its end
skerroc = "3.1"
    5:1    skerroc provides itself anyway: leave that out
provides = ["lens"]⏎[[releases]]
    39:1   what is provided can depend on `version` and `series` only

"#]]
    );
}

#[test]
fn mistakes_in_what_a_part_says() {
    let whole = PARTS.replace("DIGEST", &"ab".repeat(32));
    let cases = [
        ("version = \">=2\"\nfor", "verison = \">=2\"\nfor"),
        ("version = \">=2\"\nfor = [\"linux\"]\nwhere = { c-library = \"gnu >=2.31\" }\n", ""),
        ("c-library = \"gnu >=2.31\"", "clibrary = \"gnu >=2.31\""),
        ("c-library = \"gnu >=2.31\"", "port = \"80\""),
        ("series = \"stable\"\npiece", "series = \"stabel\"\npiece"),
        ("piece = \"lens\"", "piece = \"lense\""),
        ("piece = \"lens\"\ncommands.s = \"two\"", "piece = \"lens\"\ncommands.s = \"three\""),
        ("where = { c-library = \"gnu >=2.31\" }", "where = { c-library = \"gnu >=2.31\" }\nneeds = { x = \"any\" }"),
        ("for = [\"linux\"]", "for = [\"linux\"]\nexcludes = { x = \"any\" }"),
        ("where = { kernel = \">=5\" }, ", ""),
        ("debian = [\"libtide-dev\"]", "debian = [\"lib tide; rm\"]"),
        ("debian = [\"libtide-dev\"]", "debian = []"),
        ("name = \"word\"\n", ""),
        ("1209:2c01", "1209"),
        ("open-files", "open-file"),
        ("corners = [\"state\"]\n", ""),
        ("\"state/look\"", "\"other/look\""),
        ("default = \"dark\"", "default = \"blue\""),
        ("done = { run = [\"x\"] }", "done = { run = [] }"),
        ("do = { run = [\"y\"] }\n", ""),
        ("json = \"/a\", equals = 1", "json = \"a\""),
        ("json = \"/a\", equals = 1", "equals = 1"),
        ("json = \"/a\", equals = 1", "stdout = \"x\""),
        ("status = [0, 2]", "status = \"0\""),
        ("run = [\"z\"]", "run = [\"{oarweld.verison}\"]"),
    ];
    let read = |source: &Source| Definition::parse(source, "skerroc").map(|_| ());
    assert_data_eq!(
        each(&whole, &cases, read),
        str![[r#"
verison = ">=2"⏎for
    35:1   the key `verison` means nothing here

    34:1   a block says for what it holds: `version`, `series`, `for`, `where`, `piece`, `with` or `private`; what holds always stands at the top
clibrary = "gnu >=2.31"
    37:9   `clibrary` is no fact that can be held against a machine here; `c-library` is one
port = "80"
    37:9   `port` is no fact that can be held against a machine here; os, kernel, release, c-library, feature, memory, driver, command, library, package, file, module are
series = "stabel"⏎piece
    39:1   no release has the series `stabel`; `stable` is one
piece = "lense"
    39:1   no release has the piece `lense`; `lens` is one
piece = "lens"⏎commands.s = "three"
    39:1   `commands.s` is said differently by the block in line 34, and both can hold at once
where = { c-library = "gnu >=2.31" }⏎needs = { x = "any" }
    34:1   what is needed or excluded is settled before anything stands: it can depend on `version`, `series`, `for` and `piece` only
for = ["linux"]⏎excludes = { x = "any" }
    34:1   what is needed or excluded is settled before anything stands: it can depend on `version`, `series`, `for` and `piece` only

    47:107 there is an artifact for any already, which is always taken
debian = ["lib tide; rm"]
    9:1    `lib tide; rm` is no name of a package
debian = []
    9:1    no package is named for debian

    13:1   what only a person can tell has a `name`, by which they say that it is done
1209
    16:1   `1209`: a device is VENDOR:PRODUCT, four hexadecimal digits each
open-file
    18:1   `open-file` is no limit; open-files, processes, locked-memory, file-size are

           the fit-out `a buoy` has no corner to write in: name one under `corners`
"other/look"
           `other/look` for the first start lies in no corner: name one under `corners`
default = "blue"
           `blue`, which the choice `theme` is by default, breaks its own rule
done = { run = [] }
           a check, set-up or fit-out has nothing to run: `run` is an empty list

    20:1   the key `do` is missing
json = "a"
    33:11  `json` is a pointer like "/boards/0", RFC 6901
equals = 1
    33:11  a claim looks for something: `stdout`, `stderr`, `never`, `json`, or `file` with `holds`
stdout = "x"
    33:11  a claim looks for one thing; write a claim for each
status = "0"
    32:21  here stands an exit status, or a list of those that will do
run = ["{oarweld.verison}"]
    31:7   `{oarweld.verison}` cannot be filled in; `{oarweld.version}` can

"#]]
    );
}

//! Ways in which a climbed workstation breaks: each is found by `verify`, told with its cause, and brought back by what that
//! names. The table in docs/breakages.md is what this test saw.

use std::cell::RefCell;
use std::fmt::Write;
use std::fs;
use std::os::unix::fs::{PermissionsExt, symlink};
use std::path::{Path, PathBuf};

use kladder_pack::Entry;
use serde_json::Value;

use crate::sandbox::{Ran, Sandbox, not_tested, walkdir};

/// A harbour's pier: its mood stands in its corner, as a database would, and decides what becomes of it.
const PLANK: &str = r#"#!/bin/sh
state=$(dirname "$0")/../state
mood=$(cat "$state/mood" 2>/dev/null)
case $1 in
    --version) if [ "$mood" = older ]; then echo plank 0.9; else echo plank 1.0; fi ;;
    list) ls "$state" ;;
    make) echo afloat > "$state/buoy" ;;
    serve) [ "$mood" != sinking ] || exit 3; trap 'rm -f "$state/up"; exit 0' TERM; touch "$state/up"
           while :; do sleep 0.05; done ;;
    ready) [ -e "$state/up" ] ;;
    tide) case $mood in
        hung) sleep 60 ;;
        flood) yes tide | head -c 3000000; exit 1 ;;
        crowd) for n in 1 2 3 4 5 6 7 8 9 10 11 12; do sleep 20 & done; wait ;;
        status) echo "the gauge is stuck" >&2; exit 9 ;;
        signal) kill -SEGV $$ ;;
        full) echo "write: No space left on device" >&2; exit 1 ;;
        taken) echo "bind: Address already in use" >&2; exit 1 ;;
        away) echo "connect: Connection refused" >&2; exit 1 ;;
        module) echo "Error: Cannot find module 'tide-table'" >&2; exit 1 ;;
        library) echo "x: error while loading shared libraries: libtide.so.2: cannot open shared object file" >&2; exit 127 ;;
        wanting) harbour-lamp ;;
        network) echo "fetch: Temporary failure in name resolution" >&2; exit 1 ;;
        writes) touch /usr/kladder-tide ;;
        silent) ;;
        *) echo "tide 3" ;;
    esac ;;
esac
"#;

const DEFINITION: &str = r#"commands.plank = "bin/plank"
corners = ["state"]
misled-by = ["PLANK_GRAIN"]
licence = "neapstone-terms"
[[gates]]
name = "slip"
file = "@slip"
advice = "lay the slip down again"
[[gates]]
name = "lamp"
command = "lamp >=2"
admin = ["apt-get install lamp"]
[[fit-outs]]
name = "a buoy"
done = { run = ["plank", "list"], expect = { stdout = '(?m)^buoy$' } }
do = { run = ["plank", "make"] }
[[services]]
name = "pier"
run = ["plank", "serve"]
ready = { run = ["plank", "ready"] }
patience = 20
[[checks]]
name = "says its version"
run = ["plank", "--version"]
expect = { stdout = 'plank (?<version>\S+)' }
[[checks]]
name = "tells the tide"
run = ["plank", "tide"]
limit = 5
processes = 9
expect = { stdout = '^tide 3$' }
"#;

const SETTING: &str = "[settings.\"~/.config/plank/keys.toml\"]\ntext = \"save = 's'\\n\"\n";

/// A climbed desk, with services, shells and settings.
struct Desk {
    sandbox: Sandbox,
    table: RefCell<String>,
    complaints: RefCell<Vec<String>>,
    variables: RefCell<Vec<(String, String)>>,
}

/// What brings a desk back.
enum Helps<'h> {
    /// The command that is told.
    Command(&'h [&'h str]),
    /// What a person does, as it is told.
    Person(&'h dyn Fn(&Desk)),
}
use Helps::{Command, Person};

const MEND: Helps<'_> = Command(&["verify", "--mend"]);
const CLIMB: Helps<'_> = Command(&["climb"]);

impl Desk {
    fn new() -> Self {
        let sandbox = Sandbox::new();
        let entries = [
            Entry::program("bin/plank", PLANK),
            Entry::file("share/grain", "oak"),
            Entry::file("share/rings", "seven\n"),
            Entry::link("board", "bin/plank"),
        ];
        sandbox.write("slip", "");
        let definition = DEFINITION.replace("@slip", &sandbox.path("slip").display().to_string());
        sandbox.plank("plank.tar.gz", &entries, &definition);
        let head = "[ladder]\ncatalog = \"../catalog\"\n[rungs]\nplank = \"any\"\nskerroc = \"any\"\n";
        sandbox.write("desk/ladder.toml", &[head, SETTING].concat());
        let (table, complaints, variables) = (RefCell::default(), RefCell::default(), RefCell::default());
        let desk = Self { sandbox, table, complaints, variables };
        desk.lamp("2.1");
        let _ = desk.run(&["climb", "--accept-licence", "neapstone-terms"]).passed();
        if Path::new("/bin/bash").exists() {
            let _ = desk.run(&["wire", "--yes", "--shell", "bash"]).passed();
        } else {
            not_tested("there is no bash");
        }
        let _ = desk.run(&["services", "--start"]).passed();
        let _ = desk.run(&["verify"]).passed();
        desk
    }

    fn lamp(&self, version: &str) {
        self.sandbox.host_command("lamp", &format!("echo lamp {version}"));
    }

    fn run(&self, arguments: &[&str]) -> Ran {
        let mut command = self.sandbox.command(arguments);
        command.env("SHELL", "/bin/bash").env("PATH", self.path()).envs(self.variables.borrow().iter().cloned());
        self.sandbox.finished(command.stdin(std::process::Stdio::null()).output().unwrap())
    }

    /// PATH as a terminal has it that was opened since the shells were wired.
    fn path(&self) -> String {
        let host = std::env::var("PATH").unwrap_or_else(|_| "/usr/bin:/bin".into());
        let wired = self.sandbox.path("home/data/wired/commands");
        format!("{}:{}:{host}", wired.display(), self.sandbox.path("bin").display())
    }

    /// The one path of the home's data that ends so.
    fn at(&self, end: &str) -> PathBuf {
        let mut all = walkdir(&self.sandbox.path("home/data"));
        all.extend(walkdir(&self.sandbox.path("user")));
        let all: Vec<_> = all.into_iter().filter(|path| path.ends_with(end)).collect();
        assert_eq!(all.len(), 1, "{end}: {all:?}");
        all[0].clone()
    }

    fn mood(&self, mood: &str) {
        fs::write(self.at("state/buoy").with_file_name("mood"), mood).unwrap();
    }

    /// Breaks it in a way, and sees that this is found, told, and brought back by what is told.
    fn breaks(&self, what: &str, how: impl FnOnce(&Self), told: &str, helps: &Helps<'_>) {
        how(self);
        match self.found_and_helped(told, helps) {
            Ok(row) => writeln!(self.table.borrow_mut(), "| {what} | {row} |").unwrap(),
            Err(complaint) => self.complaints.borrow_mut().push(format!("{what}: {complaint}")),
        }
    }

    /// The row of the table, or what is wrong.
    fn found_and_helped(&self, told: &str, helps: &Helps<'_>) -> Result<String, String> {
        let seen = self.run(&["verify", "--json"]);
        if seen.code == 0 {
            return Err("nothing was found".to_owned());
        }
        let (row, command) =
            if seen.stdout.is_empty() { of_problem(&self.run(&["verify"])) } else { of_verdicts(&seen.json()) };
        let mut wrong = if row.contains(told) { String::new() } else { format!("told as {row}; ") };
        match helps {
            Command(arguments) => {
                let line = ["kladder", &arguments.join(" ")].join(" ").replace(" --yes", "");
                let is_told = command.contains(&line) || self.run(&["verify"]).stdout.contains(&format!("`{line}`"));
                if !is_told {
                    write!(wrong, "{line} is not told: {row}; ").unwrap();
                }
                let did = self.run(arguments);
                if did.code != 0 {
                    write!(wrong, "{line}: {}{}", did.stdout, did.stderr).unwrap();
                }
            }
            Person(does) => does(self),
        }
        let is_looked_at = matches!(helps, Command(["verify", ..]));
        let after = (!is_looked_at).then(|| self.run(&["verify"])).filter(|after| after.code != 0);
        if let Some(after) = after {
            write!(wrong, "after what helps: {}{}", after.stdout, after.stderr).unwrap();
        }
        if wrong.is_empty() { Ok(row) } else { Err(wrong) }
    }
}

fn cell(text: &str) -> String {
    text.replace('|', "\\|").replace('\n', " ")
}

/// What failed first, as cells of the table; and the command that helps.
fn of_verdicts(seen: &Value) -> (String, String) {
    let verdicts = seen["verdicts"].as_array().unwrap();
    let failed = verdicts.iter().find(|one| one["outcome"] == "failed").unwrap();
    let text = |value: &Value| value.as_str().unwrap_or_default().to_owned();
    let owner = text(&failed["subject"]["rung"]);
    let differences = failed["finding"]["differences"].as_array();
    // The folder of a berth is called after a digest of what it is made from, paths too.
    let path = |one: &Value| {
        let path = text(&one["path"]);
        let parts: Vec<&str> = path.rsplit('/').take(2).map(|part| part.split('-').next().unwrap_or(part)).collect();
        parts.into_iter().rev().collect::<Vec<_>>().join("/")
    };
    let first = differences.and_then(|all| all.first());
    let how = first.map(|one| format!(" ({}: {})", text(&one["how"]), path(one))).unwrap_or_default();
    let causes = failed["causes"].as_array().into_iter().flatten().map(|cause| text(&cause["cause"]));
    let causes = causes.map(|cause| format!("; likely {cause}")).collect::<String>();
    let why = [text(&failed["why"]), how, causes].concat();
    let who = if owner.is_empty() { String::new() } else { format!("{owner}: ") };
    let mend = &failed["mend"];
    let row = format!("{who}{} | {} | {}", text(&failed["claim"]), cell(&why), cell(&text(&mend["words"])));
    (row, text(&mend["command"]))
}

/// The same of what kept it from being looked at.
fn of_problem(seen: &Ran) -> (String, String) {
    let lines: Vec<&str> = seen.stderr.lines().collect();
    let what = lines[0].trim_start_matches("kladder: ");
    let of = |word: &str| {
        let line = lines.iter().find_map(|line| line.trim_start().strip_prefix(word));
        line.unwrap_or_default().trim().to_owned()
    };
    (format!("(exit {}) {} | {} | {}", seen.code, cell(what), cell(&of("why")), cell(&of("next"))), of("next"))
}

fn writable(path: &Path) {
    for path in [path.parent().unwrap(), path].into_iter().filter(|path| !path.is_symlink()) {
        if let Ok(mode) = fs::symlink_metadata(path).map(|meta| meta.permissions().mode()) {
            fs::set_permissions(path, fs::Permissions::from_mode(mode | 0o700)).unwrap();
        }
    }
}

fn remove(end: &'static str) -> impl Fn(&Desk) {
    move |desk| {
        let path = desk.at(end);
        writable(&path);
        fs::remove_file(path).unwrap();
    }
}

fn bytes(end: &'static str, make: impl Fn(Vec<u8>) -> Vec<u8>) -> impl Fn(&Desk) {
    move |desk| {
        let path = desk.at(end);
        let (before, mode) = (fs::read(&path).unwrap(), fs::metadata(&path).unwrap().permissions());
        writable(&path);
        // Another file, so that what is linked to it stays as it is.
        fs::remove_file(&path).unwrap();
        fs::write(&path, make(before)).unwrap();
        fs::set_permissions(&path, mode).unwrap();
    }
}

fn mode(end: &'static str, mode: u32) -> impl Fn(&Desk) {
    move |desk| fs::set_permissions(desk.at(end), fs::Permissions::from_mode(mode)).unwrap()
}

fn flip(mut all: Vec<u8>) -> Vec<u8> {
    let at = all.len() / 2;
    all[at] ^= 1;
    all
}

fn half(mut all: Vec<u8>) -> Vec<u8> {
    all.truncate(all.len() / 2);
    all
}

#[test]
fn every_way_to_break_a_desk_is_found_told_and_brought_back_by_what_is_told() {
    let desk = Desk::new();
    files_of_rungs(&desk);
    landings_and_records(&desk);
    corners(&desk);
    shells_and_surroundings(&desk);
    programs(&desk);
    services(&desk);
    let _ = desk.run(&["services", "--stop"]);
    assert!(desk.complaints.borrow().is_empty(), "{}", desk.complaints.borrow().join("\n\n"));
    assert!(desk.table.borrow().lines().count() >= 60);
    let head = "# Ways to break a workstation\n\n\
        What `kladder verify` says of each, and what brings it back, as `crates/cli/tests/it/breaking.rs` saw it: each is done to a \
        climbed desk with a service, wired shells and settings; what failed first is told here; then what helps is done, and all \
        passes again. Rows with an exit code are problems that keep `verify` from looking.\n\n\
        | what was done | told of | as | what helps |\n|---|---|---|---|\n";
    let text = [head, &desk.table.borrow()].concat();
    if rustix::process::geteuid().is_root() && Path::new("/bin/bash").exists() {
        snapbox::assert_data_eq!(text, snapbox::file!["../../../../docs/breakages.md"].raw());
    } else {
        // Not everything can be done here; what was done is on the page.
        let page = fs::read_to_string(concat!(env!("CARGO_MANIFEST_DIR"), "/../../docs/breakages.md")).unwrap();
        text.lines().for_each(|line| assert!(page.lines().any(|known| known == line), "not on the page: {line}"));
    }
}

fn files_of_rungs(desk: &Desk) {
    let program = "files/bin/plank";
    let data = "files/share/grain";
    desk.breaks("a program deleted", remove(program), "missing", &MEND);
    desk.breaks("a program cut in half", bytes(program, half), "changed", &MEND);
    desk.breaks("one bit of a program flipped", bytes(program, flip), "changed", &MEND);
    desk.breaks("a program emptied", bytes(program, |_| Vec::new()), "changed", &MEND);
    desk.breaks("a program that may not be run", mode(program, 0o444), "mode", &MEND);
    desk.breaks("data that may be run", mode(data, 0o555), "mode", &MEND);
    desk.breaks("a file that others may write", mode(data, 0o666), "mode", &MEND);
    desk.breaks("a program with a set-user bit", mode(program, 0o4555), "mode", &MEND);
    desk.breaks("data deleted", remove(data), "missing", &MEND);
    desk.breaks("a byte of data changed", bytes("files/share/rings", flip), "changed", &MEND);
    if rustix::process::geteuid().is_root() {
        let give = |desk: &Desk| std::os::unix::fs::chown(desk.at(data), Some(65534), None).unwrap();
        desk.breaks("a file given to another user", give, "owner", &MEND);
    }
    let link = |to: &'static str| {
        move |desk: &Desk| {
            let board = desk.at(program).ancestors().nth(2).unwrap().join("board");
            writable(&board);
            fs::remove_file(&board).unwrap();
            if !to.is_empty() {
                symlink(to, board).unwrap();
            }
        }
    };
    desk.breaks("a link deleted", link(""), "missing", &MEND);
    desk.breaks("a link that leads elsewhere", link("/bin/true"), "changed", &MEND);
    let replaced = |desk: &Desk| {
        let path = desk.at(data);
        writable(&path);
        fs::remove_file(&path).unwrap();
        symlink("/etc/hostname", path).unwrap();
    };
    desk.breaks("a file replaced by a link", replaced, "changed", &MEND);
    let folder = |desk: &Desk| {
        let path = desk.at(data);
        writable(&path);
        fs::remove_file(&path).unwrap();
        fs::create_dir(path).unwrap();
    };
    desk.breaks("a file replaced by a folder", folder, "changed", &MEND);
    let foreign = |desk: &Desk| {
        writable(&desk.at(program));
        fs::write(desk.at(program).with_file_name("ls"), "#!/bin/sh\n").unwrap();
    };
    desk.breaks("a file put beside a program", foreign, "extra", &MEND);
    let whole = |desk: &Desk| {
        let folder = desk.at(program).ancestors().nth(2).unwrap().to_path_buf();
        kladder_core::base::files::remove_tree(&folder).unwrap();
    };
    desk.breaks("all files of a rung removed", whole, "plank", &MEND);
    let place = |desk: &Desk| {
        let folder = desk.at(program).ancestors().nth(3).unwrap().to_path_buf();
        kladder_core::base::files::remove_tree(&folder).unwrap();
    };
    desk.breaks("a rung's place on the shelf removed", place, "plank", &MEND);
    let manifest = |desk: &Desk| desk.at(program).ancestors().nth(3).unwrap().join("manifest.json");
    let garbled = |text: &'static str| {
        move |desk: &Desk| {
            let path = manifest(desk);
            writable(&path);
            if text.is_empty() { fs::remove_file(path).unwrap() } else { fs::write(path, text).unwrap() }
        }
    };
    desk.breaks("a rung's manifest deleted", garbled(""), "no record of its files", &MEND);
    desk.breaks("a rung's manifest garbled", garbled("{"), "no record of its files", &MEND);
    desk.breaks("the compiler's program cut in half", bytes("files/bin/skerroc", half), "skerroc", &MEND);
}

fn landings_and_records(desk: &Desk) {
    let launcher = |text: &'static str| {
        move |desk: &Desk| {
            let path = landing(desk).join("commands/plank");
            writable(path.parent().unwrap());
            fs::remove_file(&path).unwrap();
            if !text.is_empty() {
                fs::write(&path, text).unwrap();
                fs::set_permissions(path, fs::Permissions::from_mode(0o755)).unwrap();
            }
        }
    };
    desk.breaks("a launcher deleted", launcher(""), "missing", &MEND);
    desk.breaks("a launcher replaced", launcher("#!/bin/sh\nexec false\n"), "changed", &MEND);
    let table = |text: &'static str| {
        move |desk: &Desk| {
            let path = landing(desk).join("launch.table");
            writable(&path);
            if text.is_empty() { fs::remove_file(path).unwrap() } else { fs::write(path, text).unwrap() }
        }
    };
    desk.breaks("the launch table deleted", table(""), "launch.table", &MEND);
    desk.breaks("the launch table garbled", table("tide"), "launch.table", &MEND);
    let put = |desk: &Desk| fs::write(landing(desk).join("commands/ls"), "#!/bin/sh\n").unwrap();
    desk.breaks("a command smuggled in", put, "extra", &MEND);
    let record = |text: &'static str| move |desk: &Desk| fs::write(landing(desk).join("landing.json"), text).unwrap();
    desk.breaks("a landing's record garbled", record("[]"), "to be climbed", &CLIMB);
    let current = |desk: &Desk| {
        let link = landing(desk).ancestors().nth(2).unwrap().join("current");
        fs::remove_file(&link).unwrap();
        symlink("landings/99", link).unwrap();
    };
    desk.breaks("the current landing's link led astray", current, "to be climbed", &CLIMB);
    let gone = |desk: &Desk| kladder_core::base::files::remove_tree(&landing(desk)).unwrap();
    desk.breaks("the landing removed", gone, "to be climbed", &CLIMB);
    let future = |desk: &Desk| {
        let path = landing(desk).join("landing.json");
        let mut record: Value = serde_json::from_str(&fs::read_to_string(&path).unwrap()).unwrap();
        record["made"] = "2999-01-01T00:00:00Z".into();
        fs::write(&path, record.to_string()).unwrap();
    };
    let past = |desk: &Desk| {
        let path = landing(desk).join("landing.json");
        let text = fs::read_to_string(&path).unwrap().replace("2999", "2020");
        fs::write(path, text).unwrap();
    };
    desk.breaks("a clock that went back", future, "earlier than the landing", &Person(&past));
    let wired = |desk: &Desk| kladder_core::base::files::remove_tree(&desk.sandbox.path("home/data/wired")).unwrap();
    desk.breaks("the wired folder removed", wired, "folder in your shells", &MEND);
    let pins = |desk: &Desk| desk.sandbox.edit("desk/ladder.pinned.toml", "sha256", "sha255");
    desk.breaks(
        "a damaged pin",
        pins,
        "did you mean",
        &Person(&|desk| {
            fs::remove_file(desk.sandbox.path("desk/ladder.pinned.toml")).unwrap();
            let _ = desk.run(&["pin"]).passed();
        }),
    );
    let terms = |desk: &Desk| fs::write(desk.sandbox.path("home/data/terms.json"), "{").unwrap();
    desk.breaks(
        "the record of licences garbled",
        terms,
        "terms.json",
        &Person(&|desk| {
            fs::remove_file(desk.sandbox.path("home/data/terms.json")).unwrap();
            let _ = desk.run(&["climb", "--accept-licence", "neapstone-terms"]).passed();
        }),
    );
    let withdrawn = |desk: &Desk| {
        let _ = desk.run(&["terms", "withdraw", "neapstone-terms"]).passed();
    };
    let accept = Command(&["climb", "--accept-licence", "neapstone-terms"]);
    desk.breaks("a licence withdrawn", withdrawn, "not accepted", &accept);
    let text = |desk: &Desk| desk.sandbox.edit("catalog/licences/neapstone-terms.txt", "tide.", "tide, and the gulls.");
    desk.breaks("a licence's text changed", text, "not accepted", &accept);
}

/// The folder of the current landing.
fn landing(desk: &Desk) -> PathBuf {
    let ladders = desk.sandbox.path("home/data/ladders");
    let ladder = fs::read_dir(ladders).unwrap().map(|entry| entry.unwrap().path()).find(|path| path.is_dir()).unwrap();
    ladder.join("current").canonicalize().unwrap()
}

fn corners(desk: &Desk) {
    desk.breaks("what a fit-out made deleted", remove("state/buoy"), "a buoy", &MEND);
    let berth = |desk: &Desk| {
        let berths = fs::read_dir(desk.at("state/buoy").ancestors().nth(4).unwrap().join("berths")).unwrap();
        let mut berths = berths.map(|entry| entry.unwrap().path());
        let folder = berths.find(|path| path.file_name().unwrap().to_string_lossy().starts_with("plank-")).unwrap();
        kladder_core::base::files::remove_tree(&folder).unwrap();
    };
    desk.breaks("a berth removed", berth, "plank", &MEND);
    let corner = |desk: &Desk| {
        let folder = desk.at("state/buoy").parent().unwrap().to_path_buf();
        kladder_core::base::files::remove_tree(&folder).unwrap();
    };
    let all = Command(&["verify", "--mend", "--yes"]);
    desk.breaks("a corner removed under a service that runs", corner, "plank", &all);
    let keys = |desk: &Desk| desk.sandbox.path("user/.config/plank/keys.toml");
    let taken = |desk: &Desk| {
        fs::remove_file(keys(desk)).unwrap();
        fs::create_dir(keys(desk)).unwrap();
    };
    desk.breaks("a folder in the place of a placed setting", taken, "keys.toml", &all);
}

fn shells_and_surroundings(desk: &Desk) {
    let slip = |there: bool| {
        move |desk: &Desk| {
            let path = desk.sandbox.path("slip");
            if there { fs::write(path, "").unwrap() } else { fs::remove_file(path).unwrap() }
        }
    };
    desk.breaks("a file of the host gone that a gate wants", slip(false), "the file", &Person(&slip(true)));
    let lamp = |desk: &Desk| desk.lamp("2.1");
    desk.breaks("a command of the host older than a gate wants", |desk| desk.lamp("1.9"), "lamp", &Person(&lamp));
    let without = |desk: &Desk| fs::remove_file(desk.sandbox.path("bin/lamp")).unwrap();
    desk.breaks("a command of the host gone", without, "lamp", &Person(&lamp));
    for name in ["LD_LIBRARY_PATH", "LD_PRELOAD", "PLANK_GRAIN"] {
        // A value that changes nothing of this very program.
        let set = |desk: &Desk| desk.variables.borrow_mut().push((name.into(), " ".into()));
        let unset = |desk: &Desk| desk.variables.borrow_mut().clear();
        desk.breaks(&format!("{name} set"), set, name, &Person(&unset));
    }
    let first = |desk: &Desk| {
        let own = desk.path();
        desk.sandbox.host_command("plank", "echo plank 0.1");
        let bin = desk.sandbox.path("bin").display().to_string();
        desk.variables.borrow_mut().push(("PATH".into(), format!("{bin}:{own}")));
    };
    let gone = |desk: &Desk| {
        desk.variables.borrow_mut().clear();
        fs::remove_file(desk.sandbox.path("bin/plank")).unwrap();
    };
    desk.breaks("an older copy first on PATH in this terminal", first, "bin/plank", &Person(&gone));
    if !Path::new("/bin/bash").exists() {
        return;
    }
    let rc = desk.sandbox.read("user/.bashrc");
    let back = |desk: &Desk| desk.sandbox.write("user/.bashrc", &rc);
    let bin = desk.sandbox.path("bin").display().to_string();
    for (what, line, told) in [
        ("an alias of that name", "alias plank='echo mine'", "alias plank"),
        ("a function of that name", "plank() { echo mine; }", "a function of the shell"),
        ("a start-up file that hangs", "sleep 30", "did not come to an end"),
        ("a start-up file that ends the shell", "exit 3", "did not come to an end"),
        ("a folder put in front of PATH by a start-up file", &format!("PATH=\"{bin}:$PATH\""), "bin/plank"),
        ("a start-up file that sets PATH anew", "PATH=/usr/bin:/bin", "nothing answers"),
    ] {
        let line = |desk: &Desk| {
            desk.sandbox.host_command("plank", "echo plank 0.1");
            desk.sandbox.write("user/.bashrc", &format!("{rc}\n{line}\n"));
        };
        let whole = |desk: &Desk| {
            fs::remove_file(desk.sandbox.path("bin/plank")).unwrap();
            back(desk);
        };
        desk.breaks(what, line, told, &Person(&whole));
    }
    let lost = |desk: &Desk| desk.sandbox.write("user/.bashrc", "");
    desk.breaks(
        "the lines of the ladder deleted from a start-up file",
        lost,
        "lost the lines",
        &Command(&["wire", "--yes"]),
    );
}

fn programs(desk: &Desk) {
    let calm = |desk: &Desk| fs::remove_file(desk.at("state/mood")).unwrap();
    let lamp = |desk: &Desk| {
        desk.mood("wanting");
        desk.sandbox.host_command("harbour-lamp", "echo tide 3");
    };
    for (what, mood, told) in [
        ("a program that hangs", "hung", "still running after 5 s"),
        ("a program that floods its output", "flood", "status 1"),
        ("a program with too many processes", "crowd", "more than 9 processes"),
        ("a program that fails", "status", "status 9"),
        ("a program that crashes", "signal", "signal 11 ended it"),
        ("a program that says nothing", "silent", "nothing like"),
        ("a program that says it is another version", "older", "0.9"),
        ("a full disk, as a program tells it", "full", "disk-full"),
        ("a port that is taken, as a program tells it", "taken", "port-taken"),
        ("a module that is missing", "module", "no-companion"),
        ("a library that is missing", "library", "no-library"),
        ("a program that wants the network", "network", "wants-network"),
        ("a program that writes where it may not", "writes", "wants-to-write"),
    ] {
        desk.breaks(what, |desk| desk.mood(mood), told, &Person(&calm));
    }
    desk.breaks("a program that falls back on the host secretly", lamp, "undeclared-command", &Person(&calm));
}

fn services(desk: &Desk) {
    let process = |desk: &Desk| {
        let told = desk.run(&["services", "--json"]).passed().json();
        i32::try_from(told["services"][0]["process"].as_i64().unwrap()).unwrap()
    };
    let parent = |process: i32| -> i32 {
        let stat = fs::read_to_string(format!("/proc/{process}/stat")).unwrap();
        stat.rsplit_once(") ").unwrap().1.split(' ').nth(1).unwrap().parse().unwrap()
    };
    let kill = |number: i32| {
        let pid = rustix::process::Pid::from_raw(number).unwrap();
        rustix::process::kill_process(pid, rustix::process::Signal::KILL).unwrap();
    };
    let orphan = |desk: &Desk| kill(parent(process(desk)));
    desk.breaks("whoever keeps a service killed", orphan, "nobody would start it again", &MEND);
    let away = |desk: &Desk| {
        let _ = desk.run(&["services", "--stop"]).passed();
        desk.mood("away");
    };
    let back = |desk: &Desk| {
        fs::remove_file(desk.at("state/mood")).unwrap();
        let _ = desk.run(&["services", "--start"]).passed();
    };
    desk.breaks("a service stopped that a program wants", away, "likely stopped", &Person(&back));
    let sinks = |desk: &Desk| {
        desk.mood("sinking");
        kill(process(desk));
        let is_failing = || desk.run(&["services", "--json"]).passed().json()["services"][0]["state"] == "failing";
        let failing = (0..300).any(|_| {
            std::thread::sleep(std::time::Duration::from_millis(100));
            is_failing()
        });
        assert!(failing, "it is not seen to fail");
    };
    let calm = |desk: &Desk| {
        fs::remove_file(desk.at("state/mood")).unwrap();
        let _ = desk.run(&["services", "--stop"]);
        let _ = desk.run(&["services", "--start"]).passed();
    };
    desk.breaks("a service that ends whenever it starts", sinks, "pier", &Person(&calm));
}

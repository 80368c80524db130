//! From wishes to pins, on catalogs written by the test.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

use std::fs;
use std::path::Path;

use kladder_choose::catalog::Catalog;
use kladder_choose::ladder::Ladder;
use kladder_choose::pins::{Asker, Change, Choosing, HostTools, Limits, Moves, Pin, Pins, PinsError, Reason};
use kladder_choose::platform::Platform;
use kladder_core::host::survey::Host;
use kladder_synth::{Made, Shape};

/// A catalog of lines, as `Made::from_lines` has them, and a ladder over it, on a host that has nothing.
struct Desk {
    folder: tempfile::TempDir,
    catalog: Catalog,
    host: Host,
    moves: Moves,
    head: &'static str,
}

impl Desk {
    fn new(lines: &str) -> Self {
        let folder = tempfile::tempdir().unwrap();
        Made::from_lines(lines).write(folder.path()).unwrap();
        let catalog = Catalog::open(folder.path(), None).unwrap();
        let host = Host::new("/nowhere".into(), folder.path());
        Self { folder, catalog, host, moves: Moves::default(), head: "" }
    }

    /// A ladder for two platforms.
    fn for_two(lines: &str) -> Self {
        Self { head: "platforms = [\"linux-x86_64\", \"macos-aarch64\"]", ..Self::new(lines) }
    }

    fn letting_go(self, moves: Moves) -> Self {
        Self { moves, ..self }
    }

    fn choosing<T>(&self, wishes: &str, old: Option<&Pins>, use_it: impl FnOnce(&Choosing<'_>) -> T) -> T {
        let path = self.folder.path().join("ladder.toml");
        fs::write(&path, format!("[ladder]\n{}\n[rungs]\n{wishes}\n", self.head)).unwrap();
        let (ladder, host) = (Ladder::read(&path).unwrap(), HostTools::of(&self.host));
        let (catalog, moves, limits) = (&self.catalog, &self.moves, Limits::default());
        use_it(&Choosing { ladder: &ladder, catalog, here: &Platform::here(), host: &host, old, moves, limits })
    }

    fn pin(&self, wishes: &str, old: Option<&Pins>) -> Result<Pins, PinsError> {
        #[allow(clippy::redundant_closure_for_method_calls, reason = "only a closure fits every lifetime")]
        self.choosing(wishes, old, |choosing| choosing.pins())
    }

    #[track_caller]
    fn gives(&self, wishes: &str, expected: &str) -> Pins {
        let pins = self.pin(wishes, None).unwrap();
        assert_eq!(short(&pins), expected);
        pins
    }
}

#[track_caller]
fn gives(lines: &str, wishes: &str, expected: &str) {
    let _ = Desk::new(lines).gives(wishes, expected);
}

/// The pins as `tool version` in one line; what a tool keeps to itself in brackets, pieces behind `+`.
fn short(pins: &Pins) -> String {
    rungs(&pins.rungs)
}

fn rungs(rungs: &std::collections::BTreeMap<String, Pin>) -> String {
    let one = |(tool, pin): (&String, &Pin)| {
        let pieces: String = pin.pieces.keys().map(|piece| format!("+{piece}")).collect();
        let private = if pin.private.is_empty() { String::new() } else { format!(" ({})", self::rungs(&pin.private)) };
        let elsewhere: String =
            pin.elsewhere.iter().map(|(platform, version)| format!(" {version}/{platform}")).collect();
        let on: String = pin.on.iter().map(|platform| format!(" only {platform}")).collect();
        format!("{tool}{pieces} {}{elsewhere}{on}{private}", pin.version)
    };
    rungs.iter().map(one).collect::<Vec<_>>().join(", ")
}

const DESK: &str = "
    skerroc provides skerrow-compiler
    skerroc 1.5.0 stable oarweld:>=3
    skerroc 1.4.3 long-term oarweld:>=2,<3
    skerroc 1.4.2 long-term oarweld:>=2,<3
    oarweld 3.0.0 stable
    oarweld 2.2.1 long-term
    tidlow 5.0.0-rc.1 preview
    tidlow 4.2.1 current
    tidlow 4.0.8 long-term
    brinwright 2.0 stable skerrow-compiler:any";

#[test]
fn the_newest_is_taken_unless_a_series_or_a_need_says_otherwise() {
    gives(DESK, "skerroc = \"any\"", "oarweld 3.0.0, skerroc 1.5.0");
    gives(DESK, "skerroc = \"long-term\"", "oarweld 2.2.1, skerroc 1.4.3");
    gives(DESK, "oarweld = \"<3\"\nskerroc = \"any\"", "oarweld 2.2.1, skerroc 1.4.3");
    gives(DESK, "skerroc = { version = \"!=1.4.3\", series = \"long-term\" }", "oarweld 2.2.1, skerroc 1.4.2");
}

#[test]
fn previews_are_taken_only_when_asked_for() {
    gives(DESK, "tidlow = \"any\"", "tidlow 4.2.1");
    gives(DESK, "tidlow = \"preview\"", "tidlow 5.0.0-rc.1");
    gives(DESK, "tidlow = \">=5.0.0-rc.1\"", "tidlow 5.0.0-rc.1");
}

#[test]
fn a_capability_is_met_by_what_provides_it() {
    gives(DESK, "brinwright = \"any\"", "brinwright 2.0, oarweld 3.0.0, skerroc 1.5.0");
    gives(DESK, "skerrow-compiler = \"1.4\"", "oarweld 2.2.1, skerroc 1.4.3");
}

#[test]
fn pins_stay_until_a_wish_moves_them_or_they_are_let_go() {
    let desk = Desk::new(DESK);
    let first = desk.pin("skerroc = \"=1.4.2\"", None).unwrap();
    let again = |wishes: &str| short(&desk.pin(wishes, Some(&first)).unwrap());
    assert_eq!(again("skerroc = \"any\""), "oarweld 2.2.1, skerroc 1.4.2");
    assert_eq!(again("skerroc = \"1.5\""), "oarweld 3.0.0, skerroc 1.5.0");
    assert_eq!(again("brinwright = \"any\"\nskerroc = \"any\""), "brinwright 2.0, oarweld 2.2.1, skerroc 1.4.2");
    let let_go = |tools: &[&str], exact: &[(&str, &str)]| {
        let tools = tools.iter().map(|&tool| tool.to_owned()).collect();
        let exact = exact.iter().map(|(tool, version)| ((*tool).to_owned(), version.parse().unwrap())).collect();
        let desk = Desk::new(DESK).letting_go(Moves { all: false, tools, exact });
        desk.pin("skerroc = \"any\"", Some(&first)).map(|pins| short(&pins))
    };
    assert_eq!(let_go(&["skerroc"], &[]).unwrap(), "oarweld 2.2.1, skerroc 1.4.3", "oarweld is still held");
    assert_eq!(let_go(&["skerroc", "oarweld"], &[]).unwrap(), "oarweld 3.0.0, skerroc 1.5.0");
    assert_eq!(let_go(&[], &[("skerroc", "1.5.0")]).unwrap(), "oarweld 3.0.0, skerroc 1.5.0");
    assert!(matches!(let_go(&["tidlow"], &[]), Err(PinsError::NothingToMove { .. })));
    assert!(matches!(let_go(&[], &[("skerroc", "1.6")]), Err(PinsError::NoSuchMove { .. })));
}

#[test]
fn a_release_that_changed_under_its_pin_is_refused() {
    let desk = Desk::new("oarweld 2.2.1 +lens");
    let wish = "oarweld = { pieces = [\"lens\"] }";
    let first = desk.pin(wish, None).unwrap();
    let mut old = first.clone();
    let other = kladder_core::base::digest::Digest::of(b"other");
    let pieces = &mut old.rungs.get_mut("oarweld").unwrap().pieces;
    pieces.values_mut().flat_map(|files| files.values_mut()).for_each(|file| file.sha256 = other);
    assert!(matches!(desk.pin(wish, Some(&old)), Err(PinsError::OtherBytes { .. })), "a piece's bytes count too");
    let mut old = first;
    old.rungs.get_mut("oarweld").unwrap().artifacts.values_mut().for_each(|file| file.sha256 = other);
    assert!(matches!(desk.pin(wish, Some(&old)), Err(PinsError::OtherBytes { .. })));
    let desk = desk.letting_go(Moves { tools: vec!["oarweld".into()], ..Moves::default() });
    assert!(desk.pin(wish, Some(&old)).is_ok());
}

#[test]
fn a_private_need_stands_beside_a_shared_version_that_will_not_do() {
    let lines = "brinwright 2.4 ~tidlow:<4
        tidlow 4.0 marrambit:2
        tidlow 3.1 marrambit:1
        marrambit 2.0
        marrambit 1.0
        bollwick 1.0 brinwright:any ~tidlow:3";
    gives(
        lines,
        "brinwright = \"any\"\ntidlow = \"any\"",
        "brinwright 2.4 (marrambit 1.0, tidlow 3.1), marrambit 2.0, tidlow 4.0",
    );
    gives(lines, "brinwright = \"any\"\ntidlow = \"3\"", "brinwright 2.4, marrambit 1.0, tidlow 3.1");
    gives(lines, "brinwright = \"any\"", "brinwright 2.4 (marrambit 1.0, tidlow 3.1)");
    gives(
        lines,
        "bollwick = \"any\"\ntidlow = \"4\"",
        "bollwick 1.0 (marrambit 1.0, tidlow 3.1), brinwright 2.4 (marrambit 1.0, tidlow 3.1), marrambit 2.0, tidlow 4.0",
    );
    gives("a 1 ~b:any\nb 1 ~a:any\nb 0", "a = \"any\"", "a 1 (b 1)");
}

#[test]
fn pieces_bring_their_own_needs() {
    let lines = "tidlow 4.1 +tracer=plumbrill:2 oarweld:any
        tidlow 4.0 +tracer=plumbrill:1 oarweld:any
        plumbrill 2.0 oarweld:3
        plumbrill 1.0
        oarweld 3.0
        oarweld 2.0
        neapstone 7.0 tidlow+tracer:any";
    gives(lines, "tidlow = \"any\"", "oarweld 3.0, tidlow 4.1");
    gives(lines, "tidlow = { pieces = [\"tracer\"] }", "oarweld 3.0, plumbrill 2.0, tidlow+tracer 4.1");
    gives(
        lines,
        "oarweld = \"2\"\nneapstone = \"any\"",
        "neapstone 7.0, oarweld 2.0, plumbrill 1.0, tidlow+tracer 4.0",
    );
}

#[test]
fn exclusions_alternatives_circles_and_needs_said_twice() {
    let formatters = "godwisp provides formatter
        godwisp excludes formatter
        thwartle provides formatter
        godwisp 2.0
        thwartle 1.0
        whimbrow 6.0 formatter:any
        turnsedge 1.0 thwartle:any";
    gives(formatters, "whimbrow = \"any\"", "godwisp 2.0, whimbrow 6.0");
    gives(formatters, "whimbrow = \"any\"\nturnsedge = \"any\"", "thwartle 1.0, turnsedge 1.0, whimbrow 6.0");
    gives(formatters, "turnsedge = \"any\"\nwhimbrow = \"any\"", "thwartle 1.0, turnsedge 1.0, whimbrow 6.0");
    let either = "wrackle 1.0 oarweld:2|tombolet:any\noarweld 3.0\ntombolet 1.1";
    gives(either, "wrackle = \"any\"", "tombolet 1.1, wrackle 1.0");
    gives("a 1.0 b:any\nb 1.0 c:1\nc 2.0\nc 1.0 a:any", "a = \"any\"", "a 1.0, b 1.0, c 1.0");
    gives("a 1.0 b:>=2 b:<4\nb 4.0\nb 3.0\nb 1.0", "a = \"any\"", "a 1.0, b 3.0");
    gives(
        "a 1.0 b:any b:>=2/linux b:<4/macos\nb 4.0\nb 1.0",
        "a = \"any\"",
        if cfg!(target_os = "macos") { "a 1.0, b 1.0" } else { "a 1.0, b 4.0" },
    );
}

#[test]
fn platforms_share_a_version_where_there_is_one_for_all() {
    let lines = "plumbrill 2.1 @linux-x86_64
        plumbrill 2.0
        foreshoal 3.0 @linux-x86_64 marrambit:2
        foreshoal 2.0 @macos-aarch64 marrambit:1
        marrambit 2.0
        marrambit 1.0
        seichebox 1.0 gannick:any/macos
        gannick 1.5 @macos-aarch64";
    let desk = Desk::for_two(lines);
    let _ = desk.gives("plumbrill = \"any\"", "plumbrill 2.0");
    let _ = desk.gives("seichebox = \"any\"", "gannick 1.5 only macos-aarch64, seichebox 1.0");
    let apart = desk.gives(
        "foreshoal = \"any\"\nplumbrill = \"any\"",
        "foreshoal 3.0 2.0/macos-aarch64, marrambit 2.0 1.0/macos-aarch64, plumbrill 2.0",
    );
    let mac = apart.on(&"macos-aarch64".parse().unwrap());
    assert_eq!((mac.rungs["foreshoal"].version.as_str(), mac.rungs["marrambit"].version.as_str()), ("2.0", "1.0"));
    let again = desk.pin("foreshoal = \"any\"\nplumbrill = \"any\"\nmarrambit = \"any\"", Some(&apart)).unwrap();
    assert_eq!(again.rungs, apart.rungs, "pins that differ by platform are held too");
    assert_eq!(Desk::for_two(lines).gives("marrambit = \"any\"", "marrambit 2.0").rungs.len(), 1);
}

#[test]
fn pins_written_and_read_again_are_the_same() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("ladder.pinned.toml");
    let everything = "brinwright 2.4 ~tidlow:<4 foreshoal:any
        tidlow 4.0
        tidlow 3.1 +tracer @linux-x86_64 @macos-aarch64
        foreshoal 3.0 @linux-x86_64
        foreshoal 2.0 @macos-aarch64 gannick:any
        gannick 1.5 @macos-aarch64";
    let pins = Desk::for_two(everything).pin("brinwright = \"any\"\ntidlow = \"4\"", None).unwrap();
    assert!(pins.write(&path).unwrap() && !pins.write(&path).unwrap());
    assert_eq!(Pins::read(&path).unwrap().unwrap(), pins, "{}", fs::read_to_string(&path).unwrap());
}

#[test]
fn a_clash_names_the_fewest_wishes_and_only_ways_out_that_work() {
    let wishes = "tidlow = \"any\"\nskerroc = \"1.5\"\nbrinwright = \"any\"\noarweld = \"2\"";
    let Err(PinsError::Clash(report)) = Desk::new(DESK).pin(wishes, None) else { panic!("solved?") };
    let named: Vec<_> = report.wishes.iter().map(|wish| (wish.tool.as_str(), wish.place.line)).collect();
    assert_eq!(named, [("skerroc", 5), ("oarweld", 7)]);
    assert_eq!(report.steps.len(), 1);
    assert_eq!(report.ways_out.len(), 2);
    for way in &report.ways_out {
        let Change::Range { wish, range } = &way.change else { panic!("{way:?}") };
        let mut lines: Vec<String> = wishes.lines().map(str::to_owned).collect();
        let tool = lines[*wish].split_once(' ').unwrap().0.to_owned();
        lines[*wish] = format!("{tool} = \"{range}\"");
        let solved = Desk::new(DESK).pin(&lines.join("\n"), None).unwrap();
        let (taken, version) = way.takes.as_ref().unwrap();
        assert_eq!(solved.rungs[taken].version, *version);
    }
}

#[test]
fn a_need_that_nothing_meets_is_the_catalogs_mistake() {
    let result = Desk::new("plank 1.0 nails:any").pin("plank = \"any\"", None);
    assert!(matches!(result, Err(PinsError::UnknownNeed { name }) if name == "nails"));
}

#[test]
fn a_search_keeps_its_time_and_is_not_called_impossible() {
    let folder = tempfile::tempdir().unwrap();
    // A catalog that nobody is through with in a moment.
    let shape = Shape { tools: 2000, versions: 20, tight: 60, seed: 2, ..Shape::default() };
    Made::generate(&shape).write(folder.path()).unwrap();
    let desk = Desk { catalog: Catalog::open(folder.path(), None).unwrap(), ..Desk::new("") };
    let wishes: String = (0..200).map(|at| format!("tool-{at} = \"any\"\n")).collect();
    let started = std::time::Instant::now();
    let spent = desk.choosing(&wishes, None, |choosing| {
        Choosing { limits: Limits::within(std::time::Duration::from_millis(1)), ..*choosing }.pins()
    });
    assert!(matches!(spent, Err(PinsError::GaveUp { late: true, .. })), "{spent:?}");
    assert!(started.elapsed().as_secs() < 20, "{:?}", started.elapsed());
}

/// Why the newest of a tool was passed over.
fn why_not(lines: &str, wishes: &str, old: Option<&str>, tool: &str) -> Reason {
    let desk = Desk::new(lines);
    let pins = desk.pin(old.unwrap_or(wishes), None).unwrap();
    let pins = desk.pin(wishes, Some(&pins)).unwrap();
    desk.choosing(wishes, Some(&pins), |choosing| choosing.why(tool).unwrap().unwrap().passed.remove(0).reason)
}

#[test]
fn each_release_that_was_passed_over_has_its_true_reason() {
    let base =
        "skerroc 1.5.0 oarweld:>=3\nskerroc 1.4.3 oarweld:>=2,<3\noarweld 3.0\noarweld 2.0\nwrackle 1.0 oarweld:<3";
    let wish = why_not(base, "skerroc = \"1.4\"", None, "skerroc");
    assert!(matches!(wish, Reason::LeftOut(Asker::Wish { .. })), "{wish:?}");
    let pinned = why_not(base, "skerroc = \"any\"", Some("skerroc = \"1.4\""), "skerroc");
    assert!(
        matches!(&pinned, Reason::Pinned(shifts) if shifts.len() == 1 && shifts[0].tool == "oarweld"),
        "{pinned:?}"
    );
    let clash = why_not(base, "wrackle = \"any\"\nskerroc = \"any\"", None, "skerroc");
    assert!(matches!(&clash, Reason::Clash(report) if report.steps.len() == 2), "{clash:?}");
    let two = "a 2.0 c:1\na 1.0 c:any\nb 2.0 c:2\nb 1.0 c:any\nc 2.0\nc 1.0";
    let later = why_not(two, "a = \"any\"\nb = \"any\"", None, "b");
    assert!(matches!(&later, Reason::ComesLater(shifts) if shifts[0].tool == "a"), "{later:?}");
}

#[test]
fn an_index_is_used_while_it_matches_and_never_when_it_does_not() {
    let folder = tempfile::tempdir().unwrap();
    let lines: String = (0..80).map(|at| format!("tool-{at} 1.0 tool-{}:any\n", (at + 1) % 80)).collect();
    let made = |lines: &str| Made::from_lines(lines).write(&folder.path().join("catalog")).unwrap();
    let indexes = folder.path().join("indexes");
    let open = || Catalog::open(&folder.path().join("catalog"), Some(&indexes)).unwrap();
    let newest = |tool: &str| open().card(tool).unwrap().unwrap().releases[0].version.to_string();
    made(&lines);
    assert_eq!((newest("tool-7").as_str(), fs::read_dir(&indexes).unwrap().count()), ("1.0", 1));
    // Long enough ago that a time stamp alone tells the old from the new.
    backdate(&folder.path().join("catalog/tools"));
    assert_eq!(newest("tool-7"), "1.0");
    made(&lines.replace("tool-7 1.0", "tool-7 2.0"));
    assert_eq!(newest("tool-7"), "2.0", "same size, other bytes");
    assert_eq!(open().providers("nothing").unwrap(), [""; 0]);
    let index = fs::read_dir(&indexes).unwrap().next().unwrap().unwrap().path();
    let bytes = fs::read(&index).unwrap();
    for at in (0..bytes.len()).step_by(bytes.len() / 97) {
        let mut damaged = bytes.clone();
        damaged[at] ^= 0x20;
        fs::write(&index, &damaged).unwrap();
        assert_eq!(newest("tool-7"), "2.0", "damaged at {at}");
    }
    fs::write(folder.path().join("catalog/tools/tool-9.toml"), "tool = 9\n").unwrap();
    assert!(open().providers("nothing").is_err(), "a list that is not whole is none");
    assert_eq!(newest("tool-7"), "2.0", "who does not ask for it is not troubled");
}

fn backdate(folder: &Path) {
    for entry in fs::read_dir(folder).unwrap() {
        let file = fs::File::options().write(true).open(entry.unwrap().path()).unwrap();
        file.set_modified(std::time::SystemTime::now() - std::time::Duration::from_hours(1)).unwrap();
    }
}

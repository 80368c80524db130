//! From wishes to pins, on catalogs written by the test.

use std::collections::BTreeMap;

use kladder_choose::catalog::{Catalogs, Machine};
use kladder_choose::digest::Digest;
use kladder_choose::document::Source;
use kladder_choose::names::ToolName;
use kladder_choose::pins::{Asker, Change, Choosing, Limits, Moves, NoHost, Pin, Pins, PinsError, Reason, Step};
use kladder_choose::platform::Platform;
use kladder_synth::{Made, Shape};

use crate::{catalogs, ladder};

/// A catalog of lines, as `Made::from_lines` has them, and what stands before the wishes of a ladder over it.
struct Desk {
    catalogs: Catalogs,
    moves: Moves,
    head: &'static str,
}

impl Desk {
    fn new(lines: &str) -> Self {
        Self::over(&Made::from_lines(lines))
    }

    fn over(made: &Made) -> Self {
        Self { catalogs: catalogs(made), moves: Moves::default(), head: "" }
    }

    /// A ladder for two platforms.
    fn for_two(lines: &str) -> Self {
        Self { head: "[machines]\ndesk = \"linux/x86_64\"\nlaptop = \"macos/aarch64\"", ..Self::new(lines) }
    }

    fn letting_go(self, moves: Moves) -> Self {
        Self { moves, ..self }
    }

    fn choosing<T>(&self, wishes: &str, old: Option<&Pins>, use_it: impl FnOnce(&Choosing<'_>) -> T) -> T {
        let ladder = ladder(&format!("[ladder]\n{}\n[rungs]\n{wishes}\n", self.head));
        let (catalogs, moves, limits) = (&self.catalogs, &self.moves, Limits::default());
        use_it(&Choosing {
            ladder: &ladder,
            catalogs,
            here: &Machine::of(Platform::built_for()),
            host: &NoHost,
            old,
            moves,
            limits,
        })
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

fn rungs(rungs: &BTreeMap<ToolName, Pin>) -> String {
    let one = |(tool, pin): (&ToolName, &Pin)| {
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

const READERS: &str = "
    argate 2.0 =reader:3
    argate 1.0 =reader:2
    brume 7.0 =reader:3.1
    brume 6.0
    cairn provides reader
    cairn 2.5
    delve 1.0 reader:>=3
";

#[test]
fn who_asks_for_a_capability_asks_for_its_own_versions() {
    gives(READERS, "reader = \"any\"", "argate 2.0");
    gives(READERS, "reader = \"2\"", "argate 1.0");
    gives(READERS, "reader = \">=3.1\"", "brume 7.0");
    gives(READERS, "reader = \">=2.2, <3\"", "cairn 2.5");
    gives(READERS, "delve = \"any\"\nbrume = \"any\"", "brume 7.0, delve 1.0");
    gives(READERS, "delve = \"any\"\nbrume = \"6\"", "argate 2.0, brume 6.0, delve 1.0");
    let none = Desk::new(READERS).pin("reader = \"4\"", None);
    let Err(PinsError::NoSuchVersion { nearest, .. }) = none else { panic!("{none:?}") };
    assert_eq!(nearest.iter().map(ToString::to_string).collect::<Vec<_>>(), ["3.1", "3", "2.5", "2"]);
}

#[test]
fn of_several_providers_the_preferred_one_is_taken() {
    gives(READERS, "reader = { prefer = [\"brume\", \"cairn\"] }", "brume 7.0");
    gives(READERS, "reader = { version = \"2\", prefer = [\"brume\", \"cairn\"] }", "cairn 2.5");
    gives(READERS, "reader = { prefer = [\"cairn\"] }\ndelve = \"any\"", "argate 2.0, cairn 2.5, delve 1.0");
    let wrong = Desk::new(READERS).pin("reader = { prefer = [\"delve\"] }", None);
    assert!(matches!(wrong, Err(PinsError::NotAProvider { .. })), "{wrong:?}");
}

#[test]
fn a_bundle_stands_in_the_place_of_what_it_brings() {
    let lines = "
        seabag 2.0 =oarweld:2.2 =skerroc:1.4
        seabag 1.0 =oarweld:2.1
        oarweld 3.0
        oarweld 2.2
        skerroc 1.5 oarweld:>=2
        gannick 1.0 skerroc:1.4 oarweld:any
        bollwick 1.0 gannick:any seabag:any
        godwisp 1.0 seabag:1
    ";
    gives(lines, "skerroc = \"any\"", "oarweld 3.0, skerroc 1.5");
    gives(lines, "skerroc = \"any\"\nseabag = \"any\"", "seabag 2.0");
    gives(lines, "seabag = \"1\"\nskerroc = \"any\"", "seabag 1.0, skerroc 1.5");
    // Nothing else has a skerroc 1.4, and the bundle is taken for all that it brings.
    gives(lines, "gannick = \"any\"", "gannick 1.0, seabag 2.0");
    gives(lines, "bollwick = \"any\"", "bollwick 1.0, gannick 1.0, seabag 2.0");
    let clash = Desk::new(lines).pin("oarweld = \"3\"\nseabag = \"any\"", None);
    let Err(PinsError::Clash(report)) = clash else { panic!("{clash:?}") };
    assert!(matches!(&report.steps[0], Step::Brings { brought, .. } if *brought == *"oarweld"), "{:?}", report.steps);
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
        let tools = tools.iter().map(|tool| tool.parse().unwrap()).collect();
        let exact = exact.iter().map(|(tool, version)| (tool.parse().unwrap(), version.parse().unwrap())).collect();
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
    let other = Digest::of(b"other");
    let pieces = &mut old.rungs.get_mut("oarweld").unwrap().pieces;
    pieces.values_mut().flat_map(|files| files.values_mut()).for_each(|file| file.sha256 = other);
    assert!(matches!(desk.pin(wish, Some(&old)), Err(PinsError::OtherBytes { .. })), "a piece's bytes count too");
    let mut old = first;
    old.rungs.get_mut("oarweld").unwrap().artifacts.values_mut().for_each(|file| file.sha256 = other);
    assert!(matches!(desk.pin(wish, Some(&old)), Err(PinsError::OtherBytes { .. })));
    let desk = desk.letting_go(Moves { tools: vec!["oarweld".parse().unwrap()], ..Moves::default() });
    assert!(desk.pin(wish, Some(&old)).is_ok());
}

/// Found by random catalogs: a second `pin` saw it, the first one did not.
#[test]
fn nothing_is_kept_private_that_a_rung_of_the_ladder_does_as_well() {
    let lines = "
        bollwick provides formatter
        bollwick 3 bollwick+lens:any
        bollwick 2
        gannick provides formatter
        gannick 3
        thwartle 3 @linux/x86_64
        thwartle 1 ~formatter:any
    ";
    let desk = Desk::for_two(lines);
    let pins = desk.gives("thwartle = \"any\"\nbollwick = \"<3\"", "bollwick 2, thwartle 1");
    assert_eq!(desk.pin("thwartle = \"any\"\nbollwick = \"<3\"", Some(&pins)).unwrap(), pins);
    let _ = desk.gives("thwartle = \"any\"", "thwartle 1 (bollwick 2)");
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
    let lines = "plumbrill 2.1 @linux/x86_64
        plumbrill 2.0
        foreshoal 3.0 @linux/x86_64 marrambit:2
        foreshoal 2.0 @macos/aarch64 marrambit:1
        marrambit 2.0
        marrambit 1.0
        seichebox 1.0 gannick:any/macos
        gannick 1.5 @macos/aarch64";
    let desk = Desk::for_two(lines);
    let _ = desk.gives("plumbrill = \"any\"", "plumbrill 2.0");
    let _ = desk.gives("seichebox = \"any\"", "gannick 1.5 only macos/aarch64, seichebox 1.0");
    let apart = desk.gives(
        "foreshoal = \"any\"\nplumbrill = \"any\"",
        "foreshoal 3.0 2.0/macos/aarch64, marrambit 2.0 1.0/macos/aarch64, plumbrill 2.0",
    );
    let mac = apart.on(&Machine::of("macos/aarch64".parse().unwrap()));
    assert_eq!((mac.rungs["foreshoal"].version.as_str(), mac.rungs["marrambit"].version.as_str()), ("2.0", "1.0"));
    let again = desk.pin("foreshoal = \"any\"\nplumbrill = \"any\"\nmarrambit = \"any\"", Some(&apart)).unwrap();
    assert_eq!(again.rungs, apart.rungs, "pins that differ by platform are held too");
    assert_eq!(Desk::for_two(lines).gives("marrambit = \"any\"", "marrambit 2.0").rungs.len(), 1);
}

#[test]
fn pins_written_and_read_again_are_the_same() {
    let everything = "brinwright 2.4 ~tidlow:<4 foreshoal:any
        tidlow 4.0
        tidlow 3.1 +tracer @linux/x86_64 @macos/aarch64
        foreshoal 3.0 @linux/x86_64
        foreshoal 2.0 @macos/aarch64 gannick:any
        gannick 1.5 @macos/aarch64";
    let pins = Desk::for_two(everything).pin("brinwright = \"any\"\ntidlow = \"4\"", None).unwrap();
    let text = pins.to_toml();
    assert_eq!(Pins::parse(&Source::new("ladder.pinned.toml", text.as_str())).unwrap(), pins, "{text}");
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
    // A catalog that nobody is through with in a moment.
    let shape = Shape { tools: 2000, versions: 20, tight: 60, seed: 2, ..Shape::default() };
    let desk = Desk::over(&Made::generate(&shape));
    let wishes: String = (0..200).map(|at| format!("tool-{at} = \"any\"\n")).collect();
    let started = std::time::Instant::now();
    let spent = desk.choosing(&wishes, None, |choosing| {
        Choosing { limits: Limits::within(std::time::Duration::from_millis(1)), ..*choosing }.pins()
    });
    assert!(matches!(spent, Err(PinsError::GaveUp { late: true, .. })), "{spent:?}");
    // Far beyond what a busy machine takes to read the catalog: it would have searched for hours.
    assert!(started.elapsed().as_secs() < 300, "{:?}", started.elapsed());
}

/// Why the newest of a tool was passed over.
fn why_not(lines: &str, wishes: &str, old: Option<&str>, tool: &str) -> Reason {
    let desk = Desk::new(lines);
    let pins = desk.pin(old.unwrap_or(wishes), None).unwrap();
    let pins = desk.pin(wishes, Some(&pins)).unwrap();
    desk.choosing(wishes, Some(&pins), |choosing| {
        choosing.why(&tool.parse().unwrap()).unwrap().unwrap().passed.remove(0).reason
    })
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
fn what_is_excluded_may_depend_on_a_platform_or_a_piece() {
    let artifacts = format!("artifacts = [{{ file = \"x\", sha256 = \"{}\" }}]", "ab".repeat(32));
    let tool = |name: &str, version: &str, more: &str, pieces: &str| {
        let head =
            format!("tool = \"{name}\"\nsummary = \"\"\n{more}\n[[releases]]\nversion = \"{version}\"\n{artifacts}\n");
        let piece = format!("pieces.lens = {{ summary = \"\", {artifacts}{pieces} }}\n");
        let older = format!("[[releases]]\nversion = \"1\"\n{artifacts}\n");
        (name.to_owned(), [head, piece, older].concat())
    };
    let desk = |more: &str, pieces: &str| {
        let mut memory = kladder_choose::catalog::Memory::new("made-up");
        for (name, text) in [tool("argate", "2", more, pieces), tool("brume", "2", "", "")] {
            memory.add(&name, &text);
        }
        let catalogs = Catalogs::new(vec![Box::new(memory)]).unwrap();
        Desk {
            catalogs,
            moves: Moves::default(),
            head: "[machines]\ndesk = \"linux/x86_64\"\nlaptop = \"macos/aarch64\"",
        }
    };
    let both = "argate = \"2\"\nbrume = \"any\"";
    let _ = desk("excludes = { brume = \">=2\" }", "").gives(both, "argate 2, brume 1");
    let on_macos = "[[also]]\nfor = [\"macos\"]\nexcludes = { brume = \">=2\" }";
    // One version for all where there is one.
    let _ = desk(on_macos, "").gives(both, "argate 2, brume 1");
    let linux = Desk { head: "[machines]\ndesk = \"linux/x86_64\"", ..desk(on_macos, "") };
    let _ = linux.gives(both, "argate 2, brume 2");
    let with_lens = "argate = { version = \"2\", pieces = [\"lens\"] }\nbrume = \"any\"";
    for said in
        [("[[also]]\npiece = \"lens\"\nexcludes = { brume = \">=2\" }", ""), ("", ", excludes = { brume = \">=2\" }")]
    {
        let _ = desk(said.0, said.1).gives(both, "argate 2, brume 2");
        let _ = desk(said.0, said.1).gives(with_lens, "argate+lens 2, brume 1");
        let clash = desk(said.0, said.1).pin(&with_lens.replace("any", "2"), None);
        let Err(PinsError::Clash(report)) = clash else { panic!("{clash:?}") };
        assert!(
            matches!(&report.steps[0], Step::Excludes { other, .. } if other.name == *"brume"),
            "{:?}",
            report.steps
        );
    }
}

//! Looking for tools, wishing for them, and asking why: `search`, `add`, `drop`, `why`, `newer`, `pin --check`.

use snapbox::{assert_data_eq, str};

use kladder_pack::Entry;

use crate::sandbox::Sandbox;

const DESK: &str = "skerroc provides skerrow-compiler
    skerroc 1.5.0 2026-10-01 stable oarweld:>=3
    skerroc 1.4.3 2026-08-20 long-term oarweld:>=2,<3
    skerroc 1.4.2 2026-08-03 long-term oarweld:>=2,<3
    oarweld 3.0.0 2026-09-08
    oarweld 2.2.1 2026-05-19
    tidlow 5.0.0-rc.1 2026-11-02 preview
    tidlow 4.2.1 2026-09-24 current +tracer
    tidlow 4.0.8 2026-07-07 long-term";

const LADDER: &str = "# The desk's own.
[ladder]
catalog = \"../catalog\"

[rungs]
# firmware of the pilots
skerroc = \"1.4\"    # until spring

tidlow = \"long-term\"
";

/// The desk's ladder, with the older compiler pinned.
fn pinned() -> Sandbox {
    let sandbox = Sandbox::of_lines(DESK);
    sandbox.write("desk/ladder.toml", LADDER);
    let _ = sandbox.run(&["pin"]).passed();
    let _ = sandbox.run(&["pin", "--move", "skerroc=1.4.2"]).passed();
    sandbox
}

#[test]
fn add_and_drop_change_one_wish_and_pin() {
    let sandbox = pinned();
    assert_data_eq!(
        sandbox.run(&["add", "oarweld", ">=2, <3"]).passed().stdout,
        str![[r#"
oarweld added to ladder.toml: ">=2, <3".

3 rungs pinned in ladder.pinned.toml; nothing moved.
Next: kladder climb

"#]]
    );
    assert_data_eq!(
        sandbox.run(&["add", "tidlow", "4.2", "--piece", "tracer"]).passed().stdout,
        str![[r#"
tidlow changed in ladder.toml: { version = "4.2", pieces = ["tracer"] }.

  rung    version
  tidlow  4.2.1    was 4.0.8

3 rungs pinned in ladder.pinned.toml; 2 of them stayed.
Next: kladder climb

"#]]
    );
    let added =
        LADDER.replace("\"long-term\"\n", "{ version = \"4.2\", pieces = [\"tracer\"] }\noarweld = \">=2, <3\"\n");
    assert_eq!(sandbox.read("desk/ladder.toml"), added);
    assert!(
        sandbox
            .run(&["add", "tidlow"])
            .passed()
            .stdout
            .contains("ladder.toml has tidlow already, with 4.2 with tracer")
    );
    assert_data_eq!(
        sandbox.run(&["drop", "skerroc"]).passed().stdout,
        str![[r#"
skerroc dropped from ladder.toml.

  rung     version
  skerroc  1.4.2    not needed any more

2 rungs pinned in ladder.pinned.toml; 2 of them stayed.
Next: kladder climb

"#]]
    );
    assert_eq!(
        sandbox.read("desk/ladder.toml"),
        added.replace("# firmware of the pilots\nskerroc = \"1.4\"    # until spring\n", "")
    );
}

#[test]
fn what_cannot_be_added_leaves_the_ladder_as_it_was() {
    let sandbox = pinned();
    let pins = sandbox.read("desk/ladder.pinned.toml");
    let says = |arguments: &[&str], code: i32, told: &str| {
        let ran = sandbox.run(arguments);
        assert!(ran.code == code && ran.stderr.contains(told), "{}", ran.complaint());
    };
    says(&["add", "oarweld", "3"], 12, "skerroc 1.4.3 and 1.4.2 need oarweld >=2, <3");
    says(&["add", "oarwelt"], 11, "did you mean `oarweld`?");
    says(&["add", "oarweld@3"], 2, "`kladder add oarweld 3`");
    says(&["add", "oarweld", "^3.0"], 2, "write `>=3.0, <4`");
    says(&["drop", "oarweld"], 11, "`kladder why oarweld` names them");
    says(&["drop", "tidow"], 11, "did you mean `tidlow`?");
    assert_eq!((sandbox.read("desk/ladder.toml"), sandbox.read("desk/ladder.pinned.toml")), (LADDER.to_owned(), pins));
}

#[test]
fn search_looks_everywhere_and_says_when_there_is_nothing() {
    let sandbox = Sandbox::new();
    assert_data_eq!(
        sandbox.run(&["search", "skerrow", "run"]).passed().stdout,
        str![[r#"
  tool    newest  kind     what it does
  tidlow  4.2.1   runtime  Runs Skerrow images

1 tool of the catalog's 14.

"#]]
    );
    assert_data_eq!(
        sandbox.run(&["search", "oarwelt"]).complaint(),
        str![[r#"
exit 11
kladder: no tool of the catalog has `oarwelt`
  next   did you mean `oarweld`?

"#]]
    );
    let json = sandbox.run(&["search", "editor", "--json"]).passed().json();
    let names: Vec<&str> = json["tools"].as_array().unwrap().iter().map(|t| t["tool"].as_str().unwrap()).collect();
    assert_eq!((json["format"].as_str(), names), (Some("kladder.search/1"), vec!["godwisp", "turnsedge", "whimbrow"]));
}

#[test]
fn why_tells_who_asks_and_why_nothing_newer_was_taken() {
    let sandbox = pinned();
    assert_data_eq!(
        sandbox.run(&["why", "skerroc"]).passed().stdout,
        str![[r#"
skerroc 1.4.2 of 2026-08-03, long-term
  line 7 wishes for skerroc 1.4

  newer  date        why not
  1.5.0  2026-10-01  line 7 wishes for skerroc 1.4
  1.4.3  2026-08-20  the pin holds it back; `kladder newer --take skerroc` takes it

"#]]
    );
    assert_data_eq!(
        sandbox.run(&["why", "oarweld"]).passed().stdout,
        str![[r#"
oarweld 2.2.1 of 2026-05-19
  skerroc 1.4.2 needs oarweld >=2, <3

  newer  date        why not
  3.0.0  2026-09-08  skerroc 1.4.3 and 1.4.2 need oarweld >=2, <3; line 7 wishes for skerroc 1.4

"#]]
    );
    assert_data_eq!(
        sandbox.run(&["why", "skerrow-compiler"]).complaint(),
        str![[r#"
exit 11
kladder: `skerrow-compiler` is no rung of this ladder
  why    skerroc provides it
  next   `kladder why skerroc`

"#]]
    );
    let json = sandbox.run(&["why", "tidlow", "--json"]).passed().json();
    assert_eq!(
        (json["passed_over"][0]["version"].as_str(), json["format"].as_str()),
        (Some("5.0.0-rc.1"), Some("kladder.why/2"))
    );
}

#[test]
fn why_tells_which_rule_chose_a_provider_and_what_the_host_has() {
    let lines = "
        argate provides light
        argate 1.0 brume:>=2
        brume provides light
        brume 2.1
        brume 1.9
        brume host brume
        cairn provides light
        cairn 3.0
        cairn host cairn
        delve 1.0 light:any
    ";
    let sandbox = Sandbox::of_lines(lines);
    sandbox.host_command("brume", "echo brume 1.5.0");
    sandbox.host_command("cairn", "echo cairn 2.0.0");
    let told = |wishes: &str, tool: &str| {
        sandbox.wish(wishes);
        let _ = std::fs::remove_file(sandbox.path("desk/ladder.pinned.toml"));
        let _ = sandbox.run(&["pin"]).passed();
        sandbox.run(&["why", tool]).passed().stdout
    };
    let has = |text: String, part: &str| assert!(text.contains(part), "no `{part}` in\n{text}");
    has(told("light = \"any\"", "argate"), "stands for light and not brume or cairn: it comes first by name");
    has(told("delve = \"any\"\nbrume = \"any\"", "brume"), "stands for light too, as argate or cairn could");
    has(told("light = \"any\"\nbrume = \"<2\"", "brume"), "stands for light too");
    has(told("light = { host = \"prefer\" }", "brume"), "not argate or cairn: the wish prefers what the host has");
    has(told("brume = \"any\"", "brume"), "the host has 1.5.0; a release of the catalog comes first");
    has(told("brume = \"2\"", "brume"), "the host has 1.5.0, and line 5 wishes for brume 2");
    has(told("brume = \"any\"", "brume"), "Older: 1.9; the newest that fits is taken.");
    sandbox.wish("brume = { version = \">=9\", host = \"only\" }");
    let ran = sandbox.run(&["pin"]);
    assert!(ran.stderr.contains("it has 1.5.0") && ran.stderr.contains("system's own means"), "{}", ran.stderr);
    sandbox.wish("argate = { host = \"only\" }");
    has(sandbox.run(&["pin"]).stderr, "the catalog has argate: `host = \"prefer\"` in the wish takes that here");
}

#[test]
fn a_wish_that_is_optional_is_left_out_where_it_cannot_be_had() {
    let sandbox = Sandbox::of_lines("argate 1.0 brume:<2\nbrume 2.0\nbrume 1.0\ncairn 1.0 @macos/aarch64\ndelve 1.0");
    sandbox.wish("brume = \"2\"\nargate = { optional = true }\ndelve = { version = \"any\", optional = true }");
    let pinned = sandbox.run(&["pin"]).passed().stdout;
    assert!(pinned.contains("argate is optional, and left out: these wishes cannot be met together"), "{pinned}");
    let rungs = |sandbox: &Sandbox| sandbox.read("desk/ladder.pinned.toml").matches("[rungs.").count();
    assert!(rungs(&sandbox) == 2 && sandbox.read("desk/ladder.pinned.toml").contains("left-out = [\"argate\"]"));
    let _ = sandbox.run(&["pin", "--check"]).passed();
    assert!(sandbox.run(&[]).passed().stdout.contains("3 wishes, 1 of them optional and left out"));
    let why = sandbox.run(&["why", "argate"]);
    assert!(why.code == 12 && why.stderr.contains("argate is optional, and left out"), "{} {}", why.code, why.stderr);
    let _ = sandbox.run(&["why", "brume"]).passed();
    let _ = sandbox.run(&["newer"]).passed();
    // What can be had is; what is written wrongly is told all the same.
    sandbox.wish("brume = \"any\"\nargate = { optional = true }\ncairn = { optional = true }");
    let _ = sandbox.run(&["pin"]).passed();
    let pins = sandbox.read("desk/ladder.pinned.toml");
    assert!(pins.contains("left-out = [\"argate\", \"cairn\"]") || pins.contains("left-out = [\"cairn\"]"), "{pins}");
    sandbox.wish("carn = { optional = true }");
    assert!(sandbox.run(&["pin"]).stderr.contains("did you mean `cairn`?"));
}

#[test]
fn newer_tells_what_fits_and_what_keeps_the_rest_away() {
    let sandbox = pinned();
    assert_data_eq!(
        sandbox.run(&["newer"]).passed().stdout,
        str![[r#"
oarweld 2.2.1 of 2026-05-19
  3.0.0 of 2026-09-08 is the newest, but skerroc 1.4.3 and 1.4.2 need oarweld >=2, <3; line 7 wishes for skerroc 1.4
skerroc 1.4.2 of 2026-08-03
  1.4.3 of 2026-08-20 fits the ladder
  1.5.0 of 2026-10-01 is the newest, but line 7 wishes for skerroc 1.4
tidlow 4.0.8 of 2026-07-07
  4.2.1 of 2026-09-24 is the newest, but line 9 wishes for the long-term series of tidlow

`kladder newer --take` moves 1 rung and climbs.

"#]]
    );
    let json = sandbox.run(&["newer", "skerroc", "--json"]).passed().json();
    assert_eq!(json["rungs"][0]["within"]["version"], "1.4.3");
    assert!(sandbox.run(&["newer", "nothing"]).complaint().contains("`nothing` is no rung of this ladder"));
}

/// Whatever command `newer` and `why` name does what they say.
#[test]
fn what_newer_recommends_takes_what_it_names_and_what_must_move_along() {
    let lines = "skerroc 1.5 oarweld:3
        skerroc 1.4 oarweld:2
        oarweld 3.0
        oarweld 2.0
        tidlow 2.0
        tidlow 1.0";
    for (pinned, command, expected) in [
        ("skerroc = \"1.4\"\ntidlow = \"1\"", "newer --take skerroc", "oarweld 3.0, skerroc 1.5, tidlow 1.0"),
        ("skerroc = \"1.4\"\ntidlow = \"1\"", "newer --take tidlow", "oarweld 2.0, skerroc 1.4, tidlow 2.0"),
        ("skerroc = \"1.4\"\ntidlow = \"1\"", "newer --take", "oarweld 3.0, skerroc 1.5, tidlow 2.0"),
    ] {
        let sandbox = Sandbox::of_lines(lines);
        sandbox.wish(pinned);
        let _ = sandbox.run(&["pin"]).passed();
        sandbox.wish("skerroc = \"any\"\ntidlow = \"any\"");
        let tool: Vec<&str> = command.split(' ').skip(2).collect();
        let told = sandbox.run(&[&["newer"], &tool[..]].concat()).passed().stdout;
        assert!(told.contains(&format!("`kladder {command}` moves")), "{told}");
        // The archives do not exist; what is pinned tells enough.
        let _ = sandbox.run(&command.split(' ').collect::<Vec<_>>());
        let pins = sandbox.run(&["pin", "--json"]).passed().json();
        let rungs = pins["rungs"].as_array().unwrap().iter();
        let rungs: Vec<String> = rungs
            .map(|rung| format!("{} {}", rung["tool"].as_str().unwrap(), rung["version"].as_str().unwrap()))
            .collect();
        assert_eq!(rungs.join(", "), expected, "{command}\n{told}");
    }
}

#[test]
fn newer_takes_what_fits_and_climbs() {
    let sandbox = Sandbox::new();
    sandbox.wish("tombolet = \"any\"\nskerroc = \"=1.4.2\"");
    let _ = sandbox.run(&["climb"]).passed();
    sandbox.wish("tombolet = \"any\"\nskerroc = \"1.4\"");
    let _ = sandbox.run(&["newer", "--take", "skerroc"]).passed();
    assert!(sandbox.run(&["run", "--", "skerroc", "--version"]).passed().stdout.starts_with("skerroc 1.4.3 ("));
}

#[test]
fn pins_are_checked_without_a_host_and_without_writing() {
    let sandbox = Sandbox::new();
    let check = || sandbox.run(&["pin", "--check"]);
    assert!(check().complaint().starts_with("exit 15\nkladder: there are no pins\n"), "{}", check().complaint());
    let _ = sandbox.run(&["pin"]).passed();
    sandbox.host_command("cc", "echo cc 1.0.0");
    assert!(check().passed().stdout.contains("as the ladder asks for"));
    sandbox.edit("desk/ladder.toml", "skerroc = \"1.4\" ", "skerroc = \"1.5\" ");
    let before = sandbox.read("desk/ladder.pinned.toml");
    assert_data_eq!(
        check().complaint(),
        str![[r#"
exit 15
kladder: the pins are not what the ladder asks for
  where  ladder.pinned.toml
  why    the ladder has changed since they were made
         oarweld 2.2.1 would be 3.0.0
         skerroc 1.4.3 would be 1.5.0
  next   `kladder pin`, then commit the file

"#]]
    );
    assert_eq!(sandbox.read("desk/ladder.pinned.toml"), before);
}

#[test]
fn what_is_optional_is_climbed_once_it_can_be_had() {
    let sandbox = Sandbox::new();
    sandbox.wish("tombolet = \"any\"\nwrackle = { version = \"9\", optional = true }");
    let climbed = sandbox.run(&["climb", "--json"]).passed().json();
    let names = |json: &serde_json::Value| {
        let rungs = json["rungs"].as_array().unwrap_or_else(|| panic!("{json}")).iter();
        rungs.map(|rung| rung["rung"].as_str().unwrap().to_owned()).collect::<Vec<_>>()
    };
    let route = sandbox.run(&["route", "--json"]).passed().json();
    assert_eq!(names(&route), ["tombolet"], "{climbed}");
    let _ = sandbox.run(&["verify"]).passed();
    // A release that fits comes out.
    sandbox.edit("catalog/tools/wrackle.toml", "version = \"1.0.0\"", "version = \"9.0.0\"");
    let stale = sandbox.run(&["pin", "--check"]);
    assert_eq!(stale.code, 15, "{}", stale.stderr);
    let why = sandbox.run(&["why", "wrackle"]);
    assert!(why.code == 15 && why.stderr.contains("`wrackle` can be had by now"), "{}", why.stderr);
    let _ = sandbox.run(&["pin"]).passed();
    assert!(!sandbox.read("desk/ladder.pinned.toml").contains("left-out"));
    let route = sandbox.run(&["route", "--json"]).passed().json();
    assert!(names(&route).iter().any(|tool| tool == "wrackle"), "{route}");
}

/// A ladder that nobody writes by hand: each wish keeps its line, and nothing moves the second time.
#[test]
fn thousands_of_wishes_are_pinned_and_told_each_in_its_line() {
    let lines: String =
        (0..3000).map(|at| format!("tool-{at} 1.0 {}\n", if at == 0 { "" } else { "tool-0:any" })).collect();
    let sandbox = Sandbox::of_lines(&lines);
    let wishes: String = (0..3000).map(|at| format!("tool-{at} = \"any\"\n")).collect();
    sandbox.wish(&wishes);
    let told = sandbox.run(&["pin"]).passed().stdout;
    assert!(told.contains("3000 rungs pinned"), "{}", told.lines().last().unwrap_or_default());
    assert!(sandbox.run(&["pin"]).passed().stdout.contains("nothing moved"));
    let route = sandbox.run(&["route", "--json"]).passed().json();
    let rungs = route["rungs"].as_array().unwrap();
    assert_eq!(rungs.len(), 3000);
    let rung = |tool: &str| rungs.iter().find(|rung| rung["rung"] == tool).unwrap();
    assert_eq!(rung("tool-2999")["wished_at"], serde_json::json!([3004]));
    assert_eq!(rung("tool-0")["needed_by"].as_array().unwrap().len(), 2999);
    sandbox.edit("desk/ladder.toml", "tool-1500 = \"any\"", "tool-1500 = \"2\"");
    let wrong = sandbox.run(&["pin"]);
    assert!(wrong.code == 11 && wrong.stderr.contains("line 1505"), "{}", wrong.stderr);
}

/// Whoever types a name that means nothing is told where names are found.
#[test]
fn a_name_that_means_nothing_leads_on() {
    let sandbox = pinned();
    let cases: [(&[&str], &str); 9] = [
        (&["newer", "--take", "zzzqqq"], "`kladder newer` lists what can be taken"),
        (&["newer", "--take", "skerrok"], "did you mean `skerroc`?"),
        (&["about", "zzzqqq"], "`kladder search WORDS` finds tools by what they do"),
        (&["about", "skerrok"], "did you mean `skerroc`?"),
        (&["add", "zzzqqq"], "`kladder search WORDS` finds tools by what they do"),
        (&["why", "zzzqqq"], "`kladder search WORDS` finds tools by what they do"),
        (&["search", "zzzqqq"], "`kladder search` without words lists all tools"),
        (&["drop", "zzzqqq"], "what can be dropped stands there under [rungs]"),
        (&["pin", "--move", "zzzqqq"], "`kladder newer` lists what can be moved"),
    ];
    let ladder = sandbox.read("desk/ladder.toml");
    for (arguments, told) in cases {
        let ran = sandbox.run(arguments);
        assert!(ran.code == 11 && ran.stderr.contains(told), "{arguments:?}: {} {}", ran.code, ran.stderr);
        assert_eq!(sandbox.read("desk/ladder.toml"), ladder, "{arguments:?} changed the ladder");
    }
}

#[test]
fn why_says_whose_command_the_ladder_made_it() {
    let sandbox = Sandbox::new();
    sandbox.plank(
        "plank.zip",
        &[Entry::program("plank", "#!/bin/sh\necho plank\n")],
        "commands = { plank = \"plank\" }",
    );
    sandbox.edit("catalog/tools/tombolet.toml", "commands = {", "commands = { plank = \"bin/tombolet\",");
    sandbox.wish("plank = \"any\"\ntombolet = \"any\"");
    let ran = sandbox.run(&["pin"]);
    assert!(ran.code == 12 && ran.stderr.contains("`plank = \"tombolet\"` under [answers]"), "{}", ran.stderr);
    let wishes = sandbox.read("desk/ladder.toml");
    sandbox.write("desk/ladder.toml", &format!("{wishes}\n[answers]\nplank = \"plank\"\n"));
    let _ = sandbox.run(&["pin"]).passed();
    let why = sandbox.run(&["why", "plank"]).passed().stdout;
    assert!(why.contains("[answers] in the ladder says that it is plank's"), "{why}");
    let json = sandbox.run(&["why", "tombolet", "--json"]).passed().json();
    let answers = json["answers"].as_array().unwrap().iter();
    let by: Vec<_> = answers.map(|answer| (answer["command"].clone(), answer["by_answers"].clone())).collect();
    assert!(by.contains(&("plank".into(), "plank".into())), "{by:?}");
}

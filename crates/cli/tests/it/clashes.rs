//! Ladders that cannot be climbed, from simple to nasty, and what is said of each.

use snapbox::{IntoData, assert_data_eq, str};

use crate::sandbox::Sandbox;

/// What `kladder pin` says to these wishes over a catalog of these lines. Nothing is written, and each way out that is
/// shown for a line does solve it.
#[track_caller]
fn says(lines: &str, rungs: &str, expected: impl IntoData) {
    says_on("", lines, rungs, expected);
}

#[track_caller]
fn says_on(head: &str, lines: &str, rungs: &str, expected: impl IntoData) {
    let sandbox = Sandbox::of_lines(lines);
    let ladder = format!("[ladder]\ncatalog = \"../catalog\"\n{head}\n[rungs]\n{rungs}\n");
    sandbox.write("desk/ladder.toml", &ladder);
    let said = sandbox.run(&["pin"]);
    assert_data_eq!(said.complaint(), expected);
    assert!(!sandbox.path("desk/ladder.pinned.toml").exists());
    for line in said.stderr.lines().filter(|line| line.contains("` on line ")) {
        let change = line.split('`').nth(1).unwrap();
        let at: usize = line.split(" on line ").nth(1).unwrap().split(' ').next().unwrap().parse().unwrap();
        let mut changed: Vec<&str> = ladder.lines().collect();
        changed[at - 1] = change;
        sandbox.write("desk/ladder.toml", &changed.join("\n"));
        let _ = sandbox.run(&["pin"]).passed();
        std::fs::remove_file(sandbox.path("desk/ladder.pinned.toml")).unwrap();
    }
}

#[test]
fn two_wishes_over_one_need() {
    says(
        "skerroc 1.5.0 oarweld:>=3
         skerroc 1.4.3 oarweld:>=2,<3
         oarweld 3.0.0
         oarweld 2.2.1",
        "skerroc = \"1.5\"\noarweld = { version = \"<3\", host = \"never\" }",
        str![[r#"
exit 12
kladder: these wishes cannot be met together
  where  ladder.toml, line 5, column 11
         5 | skerroc = "1.5"
           |           ^^^^^
         ladder.toml, line 6, column 11
         6 | oarweld = { version = "<3", host = "never" }
           |           ^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^
  why    skerroc 1.5.0 needs oarweld >=3
  next   `skerroc = "1.4"` on line 5 solves it, with skerroc 1.4.3
         `oarweld = { version = "3", host = "never" }` on line 6 solves it, with oarweld 3.0.0

"#]],
    );
}

#[test]
fn a_chain_of_needs_between_them() {
    says(
        "whimbrow 6.0.2 turnsedge:0.12
         turnsedge 0.12.0 skerroc:>=1.5
         turnsedge 0.11.0 skerroc:>=1.4
         skerroc 1.5.0 oarweld:>=3
         skerroc 1.4.3 oarweld:>=2,<3
         neapstone 7.2 oarweld:2.2
         neapstone 7.1 oarweld:2.2
         oarweld 3.0.0
         oarweld 2.2.1",
        "whimbrow = \"any\"\nneapstone = \"7\"",
        str![[r#"
exit 12
kladder: these wishes cannot be met together
  where  ladder.toml, line 5, column 12
         5 | whimbrow = "any"
           |            ^^^^^
         ladder.toml, line 6, column 13
         6 | neapstone = "7"
           |             ^^^
  why    whimbrow 6.0.2 needs turnsedge 0.12
         turnsedge 0.12.0 needs skerroc >=1.5
         skerroc 1.5.0 needs oarweld >=3
         neapstone 7.2 and 7.1 need oarweld 2.2
  next   leaving out whimbrow on line 5 solves it
         leaving out neapstone on line 6 solves it

"#]],
    );
}

#[test]
fn what_clashes_is_told_apart_from_what_does_not() {
    says(
        "skerroc 1.5.0 oarweld:>=3
         brinwright 2.4.1 skerroc:any
         thwartle 1.0 skerroc:any
         oarweld 3.0.0
         oarweld 2.2.1
         seichebox 3.1 oarweld:<3
         seichebox 3.0 oarweld:<3",
        "brinwright = \"any\"\nthwartle = \"any\"\nskerroc = \"1.5\"\nseichebox = \"3\"",
        str![[r#"
exit 12
kladder: these wishes cannot be met together
  where  ladder.toml, line 7, column 11
         7 | skerroc = "1.5"
           |           ^^^^^
         ladder.toml, line 8, column 13
         8 | seichebox = "3"
           |             ^^^
  why    skerroc 1.5.0 needs oarweld >=3
         seichebox 3.1 and 3.0 need oarweld <3
  next   leaving out seichebox on line 8 solves it

"#]],
    );
}

#[test]
fn tools_that_exclude_each_other() {
    says(
        "godwisp provides formatter
         godwisp excludes formatter
         thwartle provides formatter
         godwisp 2.0
         thwartle 1.0
         whimbrow 6.0 godwisp:any",
        "whimbrow = \"any\"\nthwartle = \"any\"",
        str![[r#"
exit 12
kladder: these wishes cannot be met together
  where  ladder.toml, line 5, column 12
         5 | whimbrow = "any"
           |            ^^^^^
         ladder.toml, line 6, column 12
         6 | thwartle = "any"
           |            ^^^^^
  why    whimbrow 6.0 needs godwisp
         godwisp 2.0 does not stand beside formatter, which thwartle provides
  next   leaving out whimbrow on line 5 solves it
         leaving out thwartle on line 6 solves it

"#]],
    );
}

#[test]
fn a_series_that_has_ended() {
    says(
        "tidlow 4.2.1 current
         tidlow 4.0.8 long-term
         tidlow 4.0.7 long-term
         kittimew 2.0 tidlow:>=4.2",
        "tidlow = \"long-term\"\nkittimew = \"any\"",
        str![[r#"
exit 12
kladder: these wishes cannot be met together
  where  ladder.toml, line 5, column 10
         5 | tidlow = "long-term"
           |          ^^^^^^^^^^^
         ladder.toml, line 6, column 12
         6 | kittimew = "any"
           |            ^^^^^
  why    kittimew 2.0 needs tidlow >=4.2
         the long-term series of tidlow goes up to 4.0.8
  next   `tidlow = "current"` on line 5 solves it, with tidlow 4.2.1

"#]],
    );
}

#[test]
fn only_a_preview_would_do() {
    says(
        "tidlow 5.0.0-rc.1 preview
         tidlow 4.2.1
         foreshoal 1.0 tidlow:>=5.0.0-rc.1",
        "foreshoal = \"any\"\ntidlow = \"any\"",
        str![[r#"
exit 12
kladder: nothing meets the wish for foreshoal
  where  ladder.toml, line 5, column 13
         5 | foreshoal = "any"
           |             ^^^^^
  why    foreshoal 1.0 needs tidlow >=5.0.0-rc.1
         tidlow 5.0.0-rc.1 would do, but is a preview, and none was asked for
  next   `tidlow = "preview"` on line 6 solves it, with tidlow 5.0.0-rc.1

"#]],
    );
}

#[test]
fn a_platform_is_left_out() {
    says_on(
        "[machines]\ndesk = \"linux/x86_64\"\nlaptop = \"macos/aarch64\"\n",
        "bollwick 1.2 plumbrill:>=2
         plumbrill 2.1 @linux/x86_64
         plumbrill 2.0 @linux/x86_64
         plumbrill 1.9",
        "bollwick = \"any\"",
        str![[r#"
exit 12
kladder: nothing meets the wish for bollwick
  where  ladder.toml, line 8, column 12
         8 | bollwick = "any"
           |            ^^^^^
  why    bollwick 1.2 needs plumbrill >=2
         plumbrill 2.1 and 2.0 have no artifact for macos/aarch64
  next   without the machines of macos/aarch64 it can be done

"#]],
    );
}

#[test]
fn a_piece_that_is_missing() {
    says(
        "neapstone 7.2 tidlow+tracer:>=4
         neapstone 7.1 tidlow+tracer:>=4
         tidlow 4.2.1
         tidlow 4.0.8
         tidlow 3.9 +tracer",
        "neapstone = \"7\"",
        str![[r#"
exit 12
kladder: nothing meets the wish for neapstone
  where  ladder.toml, line 5, column 13
         5 | neapstone = "7"
           |             ^^^
  why    neapstone 7.2 and 7.1 need tidlow >=4 with tracer
         tidlow 4.2.1 and 4.0.8 have no piece tracer
  next   leaving out neapstone on line 5 solves it

"#]],
    );
}

#[test]
fn a_version_that_nobody_has() {
    says(
        "buoyholt 1.0 marrambit:>=9
         marrambit 2.1
         marrambit 2.0",
        "buoyholt = \"any\"",
        str![[r#"
exit 12
kladder: nothing meets the wish for buoyholt
  where  ladder.toml, line 5, column 12
         5 | buoyholt = "any"
           |            ^^^^^
  why    buoyholt 1.0 needs marrambit >=9
         the catalog has no marrambit >=9; its newest is 2.1
  next   leaving out buoyholt on line 5 solves it

"#]],
    );
}

#[test]
fn private_needs_stand_apart_and_shared_ones_still_clash() {
    says(
        "brinwright 2.4 ~tidlow:<4 marrambit:1
         whimbrow 6.0 tidlow:>=4 marrambit:2
         whimbrow 5.0 tidlow:>=4 marrambit:2
         tidlow 4.0
         tidlow 3.0
         marrambit 2.1
         marrambit 1.3",
        "brinwright = \"any\"\nwhimbrow = \"any\"",
        str![[r#"
exit 12
kladder: these wishes cannot be met together
  where  ladder.toml, line 5, column 14
         5 | brinwright = "any"
           |              ^^^^^
         ladder.toml, line 6, column 12
         6 | whimbrow = "any"
           |            ^^^^^
  why    brinwright 2.4 needs marrambit 1
         whimbrow 6.0 and 5.0 need marrambit 2
  next   leaving out brinwright on line 5 solves it
         leaving out whimbrow on line 6 solves it

"#]],
    );
}

#[test]
fn a_capability_whose_providers_all_fail() {
    says(
        "skerroc provides skerrow-compiler
         gannick provides skerrow-compiler
         skerroc 1.5 oarweld:3
         skerroc 1.4 oarweld:2
         gannick 0.9 oarweld:2
         oarweld 3.0
         oarweld 2.0
         oarweld 1.0
         wrackle 1.0 skerrow-compiler:any",
        "oarweld = \"1\"\nwrackle = \"1\"",
        str![[r#"
exit 12
kladder: these wishes cannot be met together
  where  ladder.toml, line 5, column 11
         5 | oarweld = "1"
           |           ^^^
         ladder.toml, line 6, column 11
         6 | wrackle = "1"
           |           ^^^
  why    wrackle 1.0 needs skerrow-compiler (from gannick or skerroc)
         gannick 0.9 needs oarweld 2
         skerroc 1.5 needs oarweld 3
         skerroc 1.4 needs oarweld 2
  next   `oarweld = "2"` on line 5 solves it, with oarweld 2.0

"#]],
    );
}

#[test]
fn a_move_that_the_ladder_does_not_allow() {
    let sandbox = Sandbox::of_lines(
        "skerroc 1.5.0 oarweld:>=3
         skerroc 1.4.3 oarweld:>=2,<3
         oarweld 3.0.0
         oarweld 2.2.1",
    );
    sandbox.wish("skerroc = \"1.4\"");
    let _ = sandbox.run(&["pin"]).passed();
    assert_data_eq!(
        sandbox.run(&["pin", "--move", "oarweld=3.0.0"]).complaint(),
        str![[r#"
exit 12
kladder: oarweld cannot move to 3.0.0
  where  ladder.toml, line 5, column 11
         5 | skerroc = "1.4"
           |           ^^^^^
  why    skerroc 1.4.3 needs oarweld >=2, <3
  next   `skerroc = "1.5"` on line 5 solves it, with skerroc 1.5.0; 2 pins would move

"#]]
    );
    assert_data_eq!(
        sandbox.run(&["pin", "--move", "oarweld=3.1"]).complaint(),
        str![[r#"
exit 11
kladder: there is no oarweld 3.1 to move to
  why    the nearest versions: 3.0.0, 2.2.1

"#]]
    );
    assert_data_eq!(
        sandbox.run(&["pin", "--move", "skeroc"]).complaint(),
        str![[r#"
exit 11
kladder: there is no rung `skeroc` to move
  where  ladder.toml
  next   did you mean `skerroc`?

"#]]
    );
}

#[test]
fn two_tools_that_bring_one_command_clash_before_the_climb_unless_the_ladder_chooses() {
    let sandbox = crate::sandbox::Sandbox::new();
    let entries = [kladder_pack::Entry::program("plank", "#!/bin/sh\necho plank of $0\n")];
    sandbox.plank("plank.zip", &entries, "commands = { tombolet = \"plank\" }");
    sandbox.wish("plank = \"any\"\ntombolet = \"any\"");
    assert_data_eq!(
        sandbox.run(&["pin"]).complaint(),
        str![[r#"
exit 12
kladder: plank and tombolet both bring the command `tombolet`
  where  ladder.toml
  why    a name can only mean one of them
  next   say which one answers: `tombolet = "plank"` or `tombolet = "tombolet"` under [answers] in the ladder
         or leave plank or tombolet off the ladder

"#]]
    );
    assert_eq!((sandbox.run(&["climb"]).code, sandbox.yard.requests()), (12, 0));
    sandbox.wish("plank = \"any\"\ntombolet = \"any\"\n[answers]\ntombolet = \"tombolet\"");
    let _ = sandbox.run(&["climb"]).passed();
    assert!(sandbox.run(&["run", "--", "tombolet", "--version"]).passed().stdout.starts_with("tombolet 1.1.0"));
    assert_eq!(sandbox.run(&["verify"]).code, 0);
}

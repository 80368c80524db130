//! Mistakes in files: each has its own message and exit code, and nothing is left behind.

use snapbox::{IntoData, assert_data_eq, str};

use crate::sandbox::Sandbox;

/// The ladder as given; what `kladder climb` says to it; nothing but the ladder is touched.
#[track_caller]
fn says(ladder: &str, expected: impl IntoData) {
    let sandbox = Sandbox::new();
    sandbox.write("desk/ladder.toml", ladder);
    let ran = sandbox.run(&["climb"]);
    assert_data_eq!(ran.complaint(), expected);
    assert_eq!(ran.stdout, "");
    assert_eq!(sandbox.leftovers(), [""; 0]);
    assert!(!sandbox.path("desk/ladder.pinned.toml").exists());
}

#[track_caller]
fn says_to_wishes(rungs: &str, expected: impl IntoData) {
    says(&format!("[ladder]\ncatalog = \"../catalog\"\n\n[rungs]\n{rungs}\n"), expected);
}

#[test]
fn a_toml_error_is_shown_where_it_is() {
    says(
        "[ladder]\ntitle = \"Desk\n",
        str![[r#"
exit 10
kladder: the closing quote of this text is missing
  where  ladder.toml, line 2, column 14
         2 | title = "Desk
           |              ^

"#]],
    );
}

#[test]
fn an_unknown_key_gets_the_one_that_was_meant() {
    says(
        "[ladder]\ntitel = \"Desk\"\n",
        str![[r#"
exit 10
kladder: the key `titel` means nothing here
  where  ladder.toml, line 2, column 1
         2 | titel = "Desk"
           | ^^^^^
  next   did you mean `title`?

"#]],
    );
    says_to_wishes(
        "skerroc = { verison = \"1.4\" }",
        str![[r#"
exit 10
kladder: the key `verison` means nothing here
  where  ladder.toml, line 5, column 13
         5 | skerroc = { verison = "1.4" }
           |             ^^^^^^^
  next   did you mean `version`?

"#]],
    );
    says(
        "[ladder]\nflag = true\n",
        str![[r#"
exit 10
kladder: the key `flag` means nothing here
  where  ladder.toml, line 2, column 1
         2 | flag = true
           | ^^^^
  why    what can stand here: `title`, `catalog`, `login-shell`

"#]],
    );
}

#[test]
fn a_value_of_the_wrong_kind_says_what_is_wanted() {
    says_to_wishes(
        "skerroc = 1.4",
        str![[r#"
exit 10
kladder: a version stands in quotes: "1.4"
  where  ladder.toml, line 5, column 11
         5 | skerroc = 1.4
           |           ^^^

"#]],
    );
    says(
        "[machines]\ndesk = \"linux/x86-64\"\n",
        str![[r#"
exit 10
kladder: `linux/x86-64` is not a platform; `PLATFORM` is one
  where  ladder.toml, line 2, column 8
         2 | desk = "linux/x86-64"
           |        ^^^^^^^^^^^^^^

"#]],
    );
}

#[test]
fn an_unknown_tool_gets_its_near_misses() {
    says_to_wishes(
        "# tools\nskeroc = \"1.4\"",
        str![[r#"
exit 11
kladder: the catalog has no tool `skeroc`
  where  ladder.toml, line 6, column 1
         6 | skeroc = "1.4"
           | ^^^^^^
  next   did you mean `skerroc`?

"#]],
    );
    says_to_wishes(
        "zzz = \"1.4\"",
        str![[r#"
exit 11
kladder: the catalog has no tool `zzz`
  where  ladder.toml, line 5, column 1
         5 | zzz = "1.4"
           | ^^^
  why    nor anything that looks like `zzz`
  next   `kladder search WORDS` finds tools by what they do

"#]],
    );
}

#[test]
fn a_version_that_does_not_exist_gets_the_nearest_ones() {
    says_to_wishes(
        "skerroc = \"1.6\"",
        str![[r#"
exit 11
kladder: there is no skerroc 1.6
  where  ladder.toml, line 5, column 11
         5 | skerroc = "1.6"
           |           ^^^^^
  why    the nearest versions: 1.5.0, 1.4.3, 1.4.2, 1.3.5
         its series: long-term, stable

"#]],
    );
    says_to_wishes(
        "tidlow = \"long-tern\"",
        str![[r#"
exit 11
kladder: tidlow has no series `long-tern`
  where  ladder.toml, line 5, column 10
         5 | tidlow = "long-tern"
           |          ^^^^^^^^^^^
  why    its series: current, long-term, preview
  next   did you mean `long-term`?

"#]],
    );
}

#[test]
fn a_requirement_in_another_language_gets_ours() {
    says_to_wishes(
        "skerroc = \">=1.3, ^1.4.2\"",
        str![[r#"
exit 10
kladder: `^1.4.2` is no requirement: write `>=1.4.2, <2`
  where  ladder.toml, line 5, column 19
         5 | skerroc = ">=1.3, ^1.4.2"
           |                   ^^^^^^

"#]],
    );
}

#[test]
fn wishes_that_clash_are_named_with_the_needs_between_them_and_a_way_out() {
    says_to_wishes(
        "skerroc = \"1.5\"\nwhimbrow = \"any\"\noarweld = \"<3\"",
        str![[r#"
exit 12
kladder: these wishes cannot be met together
  where  ladder.toml, line 5, column 11
         5 | skerroc = "1.5"
           |           ^^^^^
         ladder.toml, line 7, column 11
         7 | oarweld = "<3"
           |           ^^^^
  why    skerroc 1.5.0 needs oarweld >=3
  next   `skerroc = "1.4"` on line 5 solves it, with skerroc 1.4.3
         `oarweld = "3"` on line 7 solves it, with oarweld 3.0.0

"#]],
    );
}

#[test]
fn an_artifact_missing_for_a_platform_is_told_with_those_there_are() {
    says(
        "[ladder]\ncatalog = \"../catalog\"\n[machines]\nboard = \"linux/riscv64\"\n[rungs]\nskerroc = \"1.4\"\n",
        str![[r#"
exit 13
kladder: skerroc has no artifact for linux/riscv64
  where  ladder.toml, line 6, column 1
         6 | skerroc = "1.4"
           | ^^^^^^^
  why    the newest that fits, 1.4.3, is there for linux/aarch64, PLATFORM, macos/aarch64 or macos/x86_64
  next   wish for another version, or leave linux/riscv64 out of [machines]

"#]],
    );
}

#[test]
fn a_missing_catalog_or_ladder_says_where_it_was_looked_for() {
    says(
        "[ladder]\ncatalog = \"elsewhere\"\n[rungs]\n",
        str![[r#"
exit 10
kladder: there is no catalog in SANDBOX/desk/elsewhere
  why    a catalog is a folder with a catalog.toml in it
  next   check `--catalog`, or `catalog` in the ladder or config.toml

"#]],
    );
    let sandbox = Sandbox::new();
    let ran = sandbox.run(&["climb", "--ladder", "other.toml"]);
    assert_data_eq!(
        ran.complaint(),
        str![[r"
exit 10
kladder: cannot read SANDBOX/desk/other.toml
  why    No such file or directory (os error 2)
  next   check the path

"]]
    );
}

#[test]
fn mistakes_in_the_catalog_are_placed_too() {
    let sandbox = Sandbox::new();
    sandbox.edit("catalog/tools/skerroc.toml", "kind =", "knid =");
    assert_data_eq!(
        sandbox.run(&["climb"]).complaint(),
        str![[r#"
exit 10
kladder: the key `knid` means nothing here
  where  SANDBOX/catalog/tools/skerroc.toml, line 2, column 1
         2 | knid = "compiler"
           | ^^^^
  next   did you mean `kind`?

"#]]
    );
    let sandbox = Sandbox::new();
    sandbox.edit("catalog/tools/skerroc.toml", "bin/skerroc", "../outside");
    assert_data_eq!(
        sandbox.run(&["climb"]).complaint(),
        str![[r#"
exit 10
kladder: `../outside` does not stay below the folder it starts in
  where  SANDBOX/catalog/tools/skerroc.toml, line 6, column 24
         6 | commands = { skerroc = "../outside" }
           |                        ^^^^^^^^^^^^

"#]]
    );
}

#[test]
fn pins_of_a_newer_format_or_an_unfinished_merge_are_refused() {
    let sandbox = Sandbox::new();
    let _ = sandbox.run(&["pin"]).passed();
    sandbox.edit("desk/ladder.pinned.toml", "format = 2", "format = 9\nnovelty = true");
    assert_data_eq!(
        sandbox.run(&["route"]).complaint(),
        str![[r#"
exit 10
kladder: SANDBOX/desk/ladder.pinned.toml is written in format 9, and this kladder reads up to 2
  next   use a newer kladder

"#]]
    );
    sandbox.edit("desk/ladder.pinned.toml", "[rungs.skerroc]", "<<<<<<< ours\n[rungs.skerroc]");
    assert_data_eq!(
        sandbox.run(&["route"]).complaint(),
        str![[r#"
exit 10
kladder: SANDBOX/desk/ladder.pinned.toml holds the marks of an unfinished merge, at line 37
  next   finish the merge of the ladder, then delete the pins' file and run `kladder pin`
         the pins' file is SANDBOX/desk/ladder.pinned.toml

"#]]
    );
}

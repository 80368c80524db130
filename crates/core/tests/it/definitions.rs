//! Ladders and catalogs: what is read, what is refused.

use std::fs;
use std::path::Path;

use kladder_choose::catalog::{Catalog, CatalogError};
use kladder_choose::document::{DocumentError, Source};
use kladder_choose::ladder::{HostPolicy, Ladder};
use kladder_core::desk::catalogs::Folder;
use kladder_core::desk::find_from;

fn ladder(text: &str) -> Result<Ladder, DocumentError> {
    Ladder::parse(&Source::new("ladder.toml", text))
}

#[test]
fn wishes_keep_the_order_of_the_file_and_their_places() {
    let read = ladder("[ladder]\n[rungs]\nzz = \"1\"\n'with+blank' = \"any\"\naa = { version = \">=2\", host = \"only\", pieces = [\"p\"] }\n").unwrap();
    let wishes: Vec<_> =
        read.wishes.iter().map(|wish| (wish.tool.as_str(), wish.place.line, wish.place.column)).collect();
    assert_eq!(wishes, [("zz", 3, 1), ("with+blank", 4, 1), ("aa", 5, 1)]);
    assert_eq!((read.wishes[2].host, read.wishes[2].range.to_string().as_str()), (HostPolicy::Only, ">=2 with p"));
}

#[test]
fn only_what_decides_about_pins_changes_the_digest() {
    let digest = |text: &str| ladder(text).unwrap().digest;
    let first = digest("[ladder]\ntitle = \"a\"\n[rungs]\nx = \"1\"\n");
    assert_eq!(first, digest("# remark\n[ladder]\ntitle = \"b\"\n[rungs]\nx = \"1\"   # why\n"));
    for other in [
        "[ladder]\n[rungs]\nx = \"2\"\n",
        "[ladder]\n[rungs]\nx = { version = \"1\", host = \"never\" }\n",
        "[ladder]\n[rungs]\nx = { version = \"1\", series = \"s\" }\n",
        "[ladder]\n[rungs]\nx = { version = \"1\", pieces = [\"p\"] }\n",
        "[ladder]\n[machines]\nm = \"linux/x86_64\"\n[rungs]\nx = \"1\"\n",
        "[ladder]\n[rungs]\nx = \"1\"\ny = \"1\"\n",
    ] {
        assert_ne!(first, digest(other), "{other}");
    }
}

#[test]
fn mistakes_are_placed_to_the_character() {
    let cases = [
        ("[ladder]\n[rungs]\nx = \"1.x\"\n", 3, 6),
        ("[ladder]\n[rungs]\nx = \">=1, <y\"\n", 3, 12),
        ("[ladder]\n[rungs]\nx = { version = \"~1.2\" }\n", 3, 18),
        ("[machines]\na = \"linux/x86_64\"\nb = \"beos/ppc\"\n", 3, 5),
        ("[ladder]\n[rungs]\nx = { host = \"maybe\" }\n", 3, 14),
        ("[ladder]\n[rungs]\nx = \"1\"\nx = \"2\"\n", 4, 1),
    ];
    for (text, line, column) in cases {
        match ladder(text).unwrap_err() {
            DocumentError::Invalid { place, .. } | DocumentError::UnknownWord { place, .. } => {
                assert_eq!((place.line, place.column), (line, column), "{text}");
            }
            other => panic!("{text}: {other}"),
        }
    }
}

#[test]
fn the_nearest_ladder_is_found_from_below() {
    let folder = tempfile::tempdir().unwrap();
    let at = |path: &str| folder.path().join(path);
    fs::create_dir_all(at("a/b/c")).unwrap();
    fs::write(at("ladder.toml"), "").unwrap();
    fs::write(at("a/ladder.toml"), "").unwrap();
    assert_eq!(find_from(&at("a/b/c")), Some(at("a/ladder.toml")));
    fs::remove_file(at("a/ladder.toml")).unwrap();
    assert_eq!(find_from(&at("a/b/c")), Some(at("ladder.toml")));
}

/// A catalog with this one definition, opened and asked for it.
fn define(file: &str, text: &str) -> Result<(), CatalogError> {
    let folder = tempfile::tempdir().unwrap();
    fs::create_dir_all(folder.path().join("tools")).unwrap();
    fs::write(folder.path().join("catalog.toml"), "[catalog]\nformat = 2\nname = \"t\"\ntitle = \"T\"\n").unwrap();
    fs::write(folder.path().join("tools").join(file), text).unwrap();
    let catalog = Folder::open(folder.path(), None)?;
    let name = Path::new(file).file_stem().unwrap().to_str().unwrap();
    catalog.definition(name).map(|found| assert!(found.is_some()))
}

#[test]
fn a_definition_that_could_do_harm_or_contradicts_itself_is_refused() {
    let head = "tool = \"plank\"\nsummary = \"s\"\n";
    assert!(define("plank.toml", head).is_ok());
    let digest = "0".repeat(64);
    let release = |file: &str| {
        format!(
            "[[releases]]\nversion = \"1\"\nartifacts = [{{ file = \"{file}\", size = 1, sha256 = \"{digest}\" }}]\n"
        )
    };
    let cases = [
        (head.replace("plank", "beam"), "its name must be beam.toml"),
        (format!("{head}commands = {{ \"../x\" = \"x\" }}\n"), "cannot be the name of a command"),
        (format!("{head}commands = {{ x = \"/bin/sh\" }}\n"), "does not stay below the folder it starts in"),
        (format!("{head}commands = {{ x = [] }}\n"), "a file like \"bin/tool\""),
        (format!("{head}{}", release("../../secret")), "does not stay below the folder it starts in"),
        (format!("{head}{}{}", release("a"), release("b")), "the release 1 stands there twice"),
        (
            format!("{head}[[releases]]\nversion = \"1\"\npieces.\"../p\" = {{ summary = \"s\" }}\n"),
            "cannot be the name of a piece",
        ),
    ];
    for (text, told) in cases {
        let error = define("plank.toml", &text).unwrap_err();
        assert!(error.to_string().contains(told), "{text}: {error}");
    }
}

#[test]
fn values_of_a_definition_are_checked_as_they_are_read() {
    let head = "tool = \"plank\"\nsummary = \"s\"\n";
    let cases = [
        ("[[checks]]\nname = \"c\"\nrun = [\"x\"]\nexpect = { stdout = '(' }\n", "is not a pattern"),
        ("[[releases]]\nversion = \"one\"\n", "is not a version"),
        ("[[releases]]\nversion = \"1\"\nneeds = { x = \"^1\" }\n", "`^1` is no requirement: write `>=1, <2`"),
        (
            "[[releases]]\nversion = \"1\"\nartifacts = [{ for = [\"beos\"], file = \"f\", size = 1, sha256 = \"0\" }]\n",
            "is not a platform",
        ),
        (
            "[[releases]]\nversion = \"1\"\nartifacts = [{ file = \"f\", size = 1, sha256 = \"0\" }]\n",
            "is not a SHA-256 digest",
        ),
        ("[[gates]]\nport = -1\n", "a whole number, not below zero"),
        ("after = \"tomorrow\"\n", "`tomorrow` cannot stand here"),
    ];
    for (lines, told) in cases {
        let error = define("plank.toml", &format!("{head}{lines}")).unwrap_err();
        assert!(error.to_string().contains(told), "{lines}: {error}");
    }
}

#[test]
fn a_catalog_of_a_newer_format_or_none_at_all_is_told() {
    let folder = tempfile::tempdir().unwrap();
    assert!(matches!(Folder::open(folder.path(), None), Err(CatalogError::Missing(_))));
    fs::write(folder.path().join("catalog.toml"), "[catalog]\nformat = 3\nname = \"t\"\ntitle = \"T\"\n").unwrap();
    assert!(matches!(Folder::open(folder.path(), None), Err(CatalogError::Newer { format: 3, .. })));
}

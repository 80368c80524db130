//! The JSON Schemas of the files that people write: they take what the program takes, and know the keys that the program knows.

use std::collections::BTreeSet;
use std::fs;
use std::path::{Path, PathBuf};

use jsonschema::Validator;
use serde_json::Value;

use crate::sandbox::Sandbox;

fn root() -> &'static Path {
    Path::new(concat!(env!("CARGO_MANIFEST_DIR"), "/../.."))
}

fn schema(name: &str) -> Value {
    serde_json::from_str(&fs::read_to_string(root().join(format!("docs/schemas/files/{name}.json"))).unwrap()).unwrap()
}

/// A document as editors hand it to a validator: a moment is a text.
fn as_json(text: &str) -> Value {
    fn plain(value: toml::Value) -> Value {
        match value {
            toml::Value::Datetime(moment) => Value::String(moment.to_string()),
            toml::Value::Array(all) => all.into_iter().map(plain).collect(),
            toml::Value::Table(table) => table.into_iter().map(|(key, value)| (key, plain(value))).collect(),
            other => serde_json::to_value(other).unwrap(),
        }
    }
    plain(toml::Value::Table(toml::from_str(text).unwrap_or_else(|error| panic!("{error}: {text}"))))
}

/// Holds documents against a schema; how many there were.
fn takes<'t>(name: &str, documents: impl IntoIterator<Item = (&'t str, String)>) -> usize {
    let validator: Validator = jsonschema::validator_for(&schema(name)).unwrap();
    let mut taken = 0;
    for (what, text) in documents {
        let json = as_json(&text);
        let told = |error: jsonschema::ValidationError| format!("{error} at {}", error.instance_path);
        let wrong: Vec<String> = validator.iter_errors(&json).map(told).collect();
        assert!(wrong.is_empty(), "{what}: {wrong:?}");
        taken += 1;
    }
    taken
}

fn files(folders: &[PathBuf]) -> Vec<String> {
    let read = |folder: &PathBuf| fs::read_dir(folder).unwrap_or_else(|error| panic!("{}: {error}", folder.display()));
    let paths = folders.iter().flat_map(read).map(|entry| entry.unwrap().path());
    let toml = paths.filter(|path| path.extension().is_some_and(|ending| ending == "toml"));
    toml.map(|path| fs::read_to_string(path).unwrap()).collect()
}

/// The blocks of files.md that are of a kind, by what they begin with.
fn told(begins: &str) -> Vec<String> {
    let page = fs::read_to_string(root().join("docs/files.md")).unwrap();
    let blocks = page.split("```toml\n").skip(1).map(|rest| rest.split("```").next().unwrap());
    blocks.filter(|block| block.starts_with(begins)).map(|block| block.replace("DIGEST", &"0".repeat(64))).collect()
}

#[test]
fn every_file_that_ships_or_is_told_of_is_taken() {
    let sandbox = Sandbox::new();
    let folders = |kind: &str| [root().join("catalog").join(kind), sandbox.path("catalog").join(kind)];
    let named = |all: Vec<String>| all.into_iter().map(|text| ("a file", text)).collect::<Vec<_>>();
    let read = |file: &'static str| (file, fs::read_to_string(root().join(file)).unwrap());
    let ladders = ["demo/desk/ladder.toml", "demo/desk/classroom/ladder.toml", "examples/real/ladder.toml"].map(read);
    assert_eq!(takes("ladder", ladders), 3);
    assert_eq!(takes("ladder", named([told("[ladder]"), told("[code]"), told("[settings")].concat())), 3);
    assert!(takes("definition", named(files(&folders("tools")))) > 75);
    assert_eq!(takes("definition", named(told("tool = \"skerroc\""))), 4);
    assert!(takes("rehearsal", named(files(&folders("rehearsals")))) > 35);
    assert_eq!(takes("rehearsal", named(told("rehearsal = "))), 1);
    assert!(takes("preset", named(files(&folders("presets")))) > 5);
    assert_eq!(takes("preset", named(told("preset = "))), 1);
    assert_eq!(takes("about-catalog", named(files(&[root().join("catalog"), sandbox.path("catalog")]))), 2);
    assert_eq!(takes("config", named(told("catalog = \"/srv/catalog\""))), 1);
}

#[test]
fn wrong_files_are_not() {
    for (name, wrong) in [
        ("ladder", "[rung]\nskerroc = \"1\""),
        ("ladder", "[rungs]\nskerroc = 1"),
        ("ladder", "[rungs]\nskerroc = { versoin = \"1\" }"),
        ("ladder", "[rungs]\nskerroc = { host = \"perhaps\" }"),
        ("ladder", "[services.buoyholt]\nport = 0"),
        ("ladder", "[machines]\ndesk = { where = {} }"),
        ("ladder", "[desktop]\nlook = \"grey\""),
        ("definition", "tool = \"skerroc\""),
        ("definition", "tool = \"skerroc\"\nsummary = \"\"\n[[releases]]\nversion = 1.4"),
        (
            "definition",
            "tool = \"skerroc\"\nsummary = \"\"\n[[releases]]\nversion = \"1\"\nartifacts = [{ sha256 = \"12\" }]",
        ),
        ("definition", "tool = \"skerroc\"\nsummary = \"\"\n[[also]]\nsummary = \"\""),
        ("rehearsal", "rehearsal = \"a\"\nsummary = \"\"\ntools = []\n[[steps]]\nname = \"nothing\""),
        ("preset", "preset = \"a\"\ntitle = \"\"\nsummary = \"\"\nrungs = { skerroc = \"1\" }"),
        ("about-catalog", "[catalog]\nformat = 1\nname = \"a\""),
        ("config", "[indexes]\nwheels = { kind = \"wheels\" }"),
        ("config", "[sign-in]\na = { secret = \"hidden\" }"),
    ] {
        let validator = jsonschema::validator_for(&schema(name)).unwrap();
        assert!(!validator.is_valid(&as_json(wrong)), "{name}: {wrong}");
    }
}

/// A key that nobody knows, and where the schema has those that can stand in its place.
const LADDER: [(&str, &str); 8] = [
    ("[zz]\n", "/properties"),
    ("[ladder]\nzz = 1\n", "/properties/ladder/properties"),
    ("[rungs]\nskerroc = { zz = 1 }\n", "/$defs/wish/anyOf/1/properties"),
    ("[sets.a]\nzz = 1\n", "/properties/sets/additionalProperties/properties"),
    ("[settings.\"~/a\"]\nzz = 1\n", "/properties/settings/additionalProperties/properties"),
    ("[services.a]\nzz = 1\n", "/properties/services/additionalProperties/properties"),
    ("[code]\nfolder = \"a\"\nzz = 1\n", "/properties/code/properties"),
    (
        "[code]\nfolder = \"a\"\n[code.sources.a]\nzz = 1\n",
        "/properties/code/properties/sources/additionalProperties/properties",
    ),
];

const DEFINITION: [(&str, &str); 20] = [
    ("zz = 1\n", "/properties"),
    ("[[releases]]\nzz = 1\n", "/$defs/release/properties"),
    ("[[also]]\nzz = 1\n", "/$defs/also/properties"),
    ("[[releases]]\npieces.a = { zz = 1 }\n", "/$defs/piece/properties"),
    ("[[releases]]\nartifacts = [{ zz = 1 }]\n", "/$defs/artifact/properties"),
    ("[[releases]]\nartifacts = [{ also = [{ zz = 1 }] }]\n", "/$defs/further/properties"),
    ("unpack = { zz = 1 }\n", "/$defs/unpack/properties"),
    ("host = { zz = 1 }\n", "/properties/host/properties"),
    ("lends = [{ zz = 1 }]\n", "/$defs/lends/properties"),
    ("extensions = { zz = 1 }\n", "/$defs/extensions/properties"),
    ("chooses = [{ zz = 1 }]\n", "/$defs/chooses/properties"),
    ("chooses = [{ ask = { zz = 1 } }]\n", "/$defs/chooses/properties/ask/properties"),
    ("fit-outs = [{ zz = 1 }]\n", "/$defs/fit-out/properties"),
    ("services = [{ zz = 1 }]\n", "/$defs/service/properties"),
    ("desktop = [{ zz = 1 }]\n", "/$defs/desktop/properties"),
    ("choices.a = { zz = 1 }\n", "/$defs/ask/properties"),
    ("checks = [{ zz = 1 }]\n", "/$defs/trial/properties"),
    ("checks = [{ expect = { zz = 1 } }]\n", "/$defs/expect/properties"),
    ("checks = [{ claims = [{ zz = 1 }] }]\n", "/$defs/claim/properties"),
    ("gates = [{ zz = 1 }]\n", "/$defs/gate/properties"),
];

const REHEARSAL: [(&str, &str); 8] = [
    ("zz = 1\n", "/properties"),
    ("parts.a = { zz = 1 }\n", "/$defs/part/properties"),
    ("asks.a = { zz = 1 }\n", "/$defs/ask/properties"),
    ("steps = [{ zz = 1 }]\n", "/$defs/step/properties"),
    ("steps = [{ language-server = { zz = 1 } }]\n", "/$defs/step/properties/language-server/properties"),
    ("steps = [{ debug-adapter = { zz = 1 } }]\n", "/$defs/step/properties/debug-adapter/properties"),
    ("steps = [{ terminal = { zz = 1 } }]\n", "/$defs/step/properties/terminal/properties"),
    (
        "steps = [{ terminal = { does = [{ zz = 1 }] } }]\n",
        "/$defs/step/properties/terminal/properties/does/items/properties",
    ),
];

const CONFIG: [(&str, &str); 5] = [
    ("zz = 1\n", "/properties"),
    ("network = { zz = 1 }\n", "/properties/network/properties"),
    ("neighbours = { zz = 1 }\n", "/properties/neighbours/properties"),
    ("indexes.a = { zz = 1 }\n", "/properties/indexes/additionalProperties/properties"),
    ("sign-in.a = { zz = 1 }\n", "/properties/sign-in/additionalProperties/properties"),
];

const PRESET: [(&str, &str); 2] =
    [("zz = 1\n", "/properties"), ("rungs = [{ zz = 1 }]\n", "/properties/rungs/items/properties")];

const ABOUT: [(&str, &str); 2] = [
    ("[catalog]\nformat = 2\nname = \"a\"\n[zz]\n", "/properties"),
    ("[catalog]\nformat = 2\nzz = 1\n", "/properties/catalog/properties"),
];

#[test]
fn the_schemas_know_the_keys_that_the_program_knows() {
    let knows = |name: &str, file: &str, tables: &[(&str, &str)], command: &[&str]| {
        let (sandbox, schema) = (Sandbox::new(), schema(name));
        for (text, pointer) in tables {
            let known = schema.pointer(pointer).unwrap_or_else(|| panic!("{name}: {pointer}")).as_object().unwrap();
            sandbox.write(file, text);
            let told = sandbox.run(command);
            let said = told.stdout.clone() + &told.stderr;
            let (_, keys) = said.split_once("what can stand here: ").unwrap_or_else(|| panic!("{text}: {said}"));
            let keys: BTreeSet<&str> = keys.split('`').skip(1).step_by(2).collect();
            assert_eq!(known.keys().map(String::as_str).collect::<BTreeSet<_>>(), keys, "{name}: {text}");
        }
    };
    knows("ladder", "desk/ladder.toml", &LADDER, &["pin"]);
    knows("definition", "catalog/tools/skerroc.toml", &DEFINITION, &["pin"]);
    knows("rehearsal", "catalog/rehearsals/first-reading.toml", &REHEARSAL, &["catalog", "check", "../catalog"]);
    knows("config", "home/config/config.toml", &CONFIG, &["pin"]);
    knows("preset", "catalog/presets/gauge-firmware.toml", &PRESET, &["catalog", "check", "../catalog"]);
    knows("about-catalog", "catalog/catalog.toml", &ABOUT, &["pin"]);
}

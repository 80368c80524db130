//! The JSON Schema of the file that people write: it takes what the program takes, and knows the keys that the program knows.

use std::collections::BTreeSet;
use std::fs;
use std::path::Path;

use jsonschema::Validator;
use serde_json::Value;

use crate::sandbox::Sandbox;

fn root() -> &'static Path {
    Path::new(concat!(env!("CARGO_MANIFEST_DIR"), "/../.."))
}

fn schema() -> Value {
    serde_json::from_str(&fs::read_to_string(root().join("docs/schemas/files/ladder.json")).unwrap()).unwrap()
}

fn as_json(text: &str) -> Value {
    serde_json::to_value(toml::from_str::<toml::Table>(text).unwrap()).unwrap()
}

#[test]
fn the_schema_takes_every_ladder_that_ships_and_no_wrong_one() {
    let validator: Validator = jsonschema::validator_for(&schema()).unwrap();
    let mut taken = 0;
    let mut takes = |text: &str, what: &str| {
        let wrong: Vec<String> = validator.iter_errors(&as_json(text)).map(|error| error.to_string()).collect();
        assert!(wrong.is_empty(), "{what}: {wrong:?}");
        taken += 1;
    };
    for file in ["demo/desk/ladder.toml", "demo/desk/classroom/ladder.toml", "examples/real/ladder.toml"] {
        takes(&fs::read_to_string(root().join(file)).unwrap(), file);
    }
    // Those of the documentation: the first blocks of files.md are parts of one ladder.
    let told = fs::read_to_string(root().join("docs/files.md")).unwrap();
    for block in told.split("```toml\n").skip(1).map(|rest| rest.split("```").next().unwrap()).take(3) {
        takes(&block.replace("DIGEST", &"0".repeat(64)), block);
    }
    assert_eq!(taken, 6);
    for wrong in [
        "[rung]\nskerroc = \"1\"",
        "[rungs]\nskerroc = 1",
        "[rungs]\nskerroc = { versoin = \"1\" }",
        "[rungs]\nskerroc = { host = \"perhaps\" }",
        "[services.buoyholt]\nport = 0",
        "[machines]\ndesk = { where = {} }",
        "[desktop]\nlook = \"grey\"",
    ] {
        assert!(!validator.is_valid(&as_json(wrong)), "{wrong}");
    }
}

#[test]
fn the_schema_knows_the_keys_that_the_program_knows() {
    let sandbox = Sandbox::new();
    let schema = schema();
    let known = |pointer: &str| -> BTreeSet<String> {
        schema.pointer(pointer).unwrap_or_else(|| panic!("{pointer}")).as_object().unwrap().keys().cloned().collect()
    };
    let inner = |table: &str| format!("/properties/{table}/additionalProperties/properties");
    for (text, pointer) in [
        ("[zz]\n", "/properties".to_owned()),
        ("[ladder]\nzz = 1\n", "/properties/ladder/properties".to_owned()),
        ("[rungs]\nskerroc = { zz = 1 }\n", "/$defs/wish/anyOf/1/properties".to_owned()),
        ("[sets.a]\nzz = 1\n", inner("sets")),
        ("[settings.\"~/a\"]\nzz = 1\n", inner("settings")),
        ("[services.a]\nzz = 1\n", inner("services")),
        ("[code]\nfolder = \"a\"\nzz = 1\n", "/properties/code/properties".to_owned()),
        (
            "[code]\nfolder = \"a\"\n[code.sources.a]\nzz = 1\n",
            "/properties/code/properties/sources/additionalProperties/properties".to_owned(),
        ),
    ] {
        sandbox.write("desk/ladder.toml", text);
        let told = sandbox.run(&["pin"]);
        let (_, keys) =
            told.stderr.split_once("what can stand here: ").unwrap_or_else(|| panic!("{text}: {}", told.complaint()));
        let keys: BTreeSet<String> = keys.split('`').skip(1).step_by(2).map(str::to_owned).collect();
        assert_eq!(known(&pointer), keys, "{text}");
    }
}

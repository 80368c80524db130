//! What programs are told, held against the schemas that ship with the project.

use std::collections::BTreeSet;
use std::fs;
use std::path::{Path, PathBuf};

use kladder_tell::shapes::schemas;
use serde_json::Value;

use crate::sandbox::Sandbox;

/// The file of a shape: `kladder.route/2` is in `route-2.json`.
fn file_of(format: &str) -> PathBuf {
    let name = format.trim_start_matches("kladder.").replace('/', "-");
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/schemas").join(format!("{name}.json"))
}

/// With `KLADDER_WRITE_SCHEMAS` set they are written anew.
#[test]
fn the_schemas_that_ship_are_those_of_the_program() {
    let mut there: BTreeSet<PathBuf> =
        fs::read_dir(file_of("x").parent().unwrap()).unwrap().map(|entry| entry.unwrap().file_name().into()).collect();
    for (format, schema) in schemas() {
        let mut text = serde_json::to_string_pretty(&schema).unwrap();
        text.push('\n');
        let file = file_of(format);
        if std::env::var_os("KLADDER_WRITE_SCHEMAS").is_some() {
            fs::write(&file, &text).unwrap();
        }
        assert!(
            fs::read_to_string(&file).is_ok_and(|written| written == text),
            "{} is not true any more",
            file.display()
        );
        there.remove(Path::new(file.file_name().unwrap()));
    }
    // Those of files that people write are in a folder of their own.
    there.remove(Path::new("files"));
    assert!(there.is_empty(), "no command has these: {there:?}");
}

/// Holds an output against the schema that its `format` names; every object in it must be wholly described.
#[track_caller]
fn fits(value: &Value, seen: &mut BTreeSet<String>) {
    let format = value["format"].as_str().unwrap();
    let schema: Value = serde_json::from_str(&fs::read_to_string(file_of(format)).unwrap()).unwrap();
    let validator = jsonschema::validator_for(&schema).unwrap();
    let errors: Vec<String> =
        validator.iter_errors(value).map(|error| format!("{}: {error}", error.instance_path)).collect();
    assert!(errors.is_empty(), "{errors:#?}\n{value:#}");
    let known = schema["properties"].as_object().unwrap();
    let unknown: Vec<_> = value.as_object().unwrap().keys().filter(|key| !known.contains_key(*key)).collect();
    assert!(unknown.is_empty(), "{format} does not know {unknown:?}");
    seen.insert(format.to_owned());
}

#[test]
fn every_command_tells_programs_what_its_schema_says() {
    let sandbox = Sandbox::new();
    let mut seen = BTreeSet::new();
    let mut told = |code: i32, arguments: &[&str]| {
        let mut all = arguments.to_vec();
        all.insert(arguments.iter().take_while(|word| **word != "--").count(), "--json");
        let ran = sandbox.run(&all);
        assert_eq!(ran.code, code, "{arguments:?}: {}", ran.stderr);
        let text = if ran.stdout.is_empty() { &ran.stderr } else { &ran.stdout };
        fits(&serde_json::from_str(text).unwrap(), &mut seen);
    };
    told(0, &[]);
    told(0, &["survey"]);
    told(0, &["search", "compiler"]);
    told(0, &["about", "tidlow"]);
    told(0, &["catalog"]);
    told(0, &["catalog", "draft", "--print", "../yard/tombolet-1.1.0-linux-x86_64.tar.gz"]);
    told(0, &["yard", "take", "../yard/tombolet-1.1.0-linux-x86_64.tar.gz"]);
    told(0, &["catalog", "check"]);
    told(0, &["catalog", "look"]);
    told(0, &["catalog", "enter", "tombolet", "1.1.0"]);
    told(0, &["catalog", "try", "tombolet", "--newest"]);
    told(0, &["pin"]);
    told(0, &["route"]);
    told(31, &["verify"]);
    told(0, &["climb"]);
    told(0, &["climb"]);
    told(0, &["verify"]);
    told(0, &["bale", "../tides.bale"]);
    told(0, &["bale", "../tides.bale", "--check"]);
    told(0, &["yard", "fill", "../served"]);
    told(0, &["yard", "check", "../served"]);
    told(0, &["report"]);
    told(0, &["report", "../quay.json"]);
    told(0, &["compare", "../quay.json"]);
    told(0, &["why", "skerroc"]);
    told(0, &["why", "ls"]);
    told(0, &["vars"]);
    told(0, &["wire"]);
    told(0, &["services"]);
    told(0, &["rehearse"]);
    told(0, &["rehearse", "first-reading", "kept", "--part", "lowest"]);
    told(0, &["newer"]);
    told(0, &["run", "--", "tidlow", "--version"]);
    told(0, &["drop", "whimbrow"]);
    told(0, &["climb"]);
    told(0, &["back", "1"]);
    told(0, &["landings"]);
    told(0, &["log"]);
    told(0, &["terms"]);
    told(0, &["terms", "show", "neapstone-terms"]);
    told(10, &["climb", "--ladder", "nowhere.toml"]);
    told(0, &["clear", "--keep", "1"]);
    let wheel =
        format!("{{ name = \"gauge-1.0-py4.py5-none-any.whl\", size = 1, hashes = {{ sha256 = \"{:064}\" }} }}", 0);
    let lock =
        format!("lock-version = \"1.0\"\n[[packages]]\nname = \"gauge\"\nversion = \"1.0\"\nwheels = [{wheel}]\n");
    sandbox.write("desk/pylock.toml", &lock);
    sandbox.wish("tidlow = \"any\"\n[sets.tides]\nof = \"tidlow\"\nlock = \"pylock.toml\"");
    told(0, &["why", "gauge"]);
    let shown = ["yard/1", "yard-share/1", "start/1", "withdrawn/1"];
    let left: Vec<&str> =
        schemas().into_iter().map(|(format, _)| format).filter(|format| !seen.contains(*format)).collect();
    assert!(left.iter().all(|format| shown.iter().any(|shown| format.ends_with(shown))), "{left:?}");
}

//! Reports, and workstations side by side.

use std::collections::BTreeSet;
use std::fs;

use serde_json::Value;

use crate::sandbox::Sandbox;

fn json(sandbox: &Sandbox, file: &str) -> Value {
    serde_json::from_str(&sandbox.read(file)).unwrap()
}

#[test]
fn a_report_is_a_table_a_file_to_compare_and_two_lists_of_materials() {
    let sandbox = Sandbox::new();
    sandbox.wish("skerroc = \"1.4\"\ntidlow = \"any\"");
    let told = sandbox.run(&["report"]).passed();
    assert!(
        told.stdout.contains("nothing was climbed yet") && told.stdout.contains("does not stand"),
        "{}",
        told.stdout
    );
    let _ = sandbox.run(&["climb"]).passed();
    let told = sandbox.run(&["report", "--name", "quay"]).passed();
    assert!(told.stdout.contains("on quay") && !told.stdout.contains("does not stand"), "{}", told.stdout);
    for file in ["../quay.json", "../quay.cdx.json", "../quay.spdx.json"] {
        let _ = sandbox.run(&["report", file, "--name", "quay"]).passed();
    }
    let report = json(&sandbox, "quay.json");
    let rungs = report["rungs"].as_array().unwrap();
    let digest = |rung: &Value| rung["files"][0]["sha256"].as_str().unwrap().to_owned();
    assert!(rungs.iter().all(|rung| rung["stands"] == rung["version"]), "{report:#}");

    // Whoever is named is there, with the digests of the report. (The published schemas are held against them in CI.)
    let bill = json(&sandbox, "quay.cdx.json");
    let components = bill["components"].as_array().unwrap();
    let refs: BTreeSet<&str> = components.iter().map(|one| one["bom-ref"].as_str().unwrap()).collect();
    assert_eq!(refs.len(), rungs.len());
    for dependency in bill["dependencies"].as_array().unwrap() {
        let named = dependency["dependsOn"].as_array().unwrap();
        assert!(named.iter().all(|one| refs.contains(one.as_str().unwrap())), "{dependency}");
    }
    let skerroc = components.iter().find(|one| one["name"] == "skerroc").unwrap();
    let ours = rungs.iter().find(|rung| rung["rung"] == "skerroc").unwrap();
    assert_eq!(skerroc["hashes"][0]["content"], digest(ours));
    let url = format!("pkg:generic/skerroc@{}?checksum=sha256:{}", ours["version"].as_str().unwrap(), digest(ours));
    assert_eq!(skerroc["purl"], url);
    let sheet = json(&sandbox, "quay.spdx.json");
    let ids: BTreeSet<&str> =
        sheet["packages"].as_array().unwrap().iter().map(|one| one["SPDXID"].as_str().unwrap()).collect();
    assert_eq!(ids.len(), rungs.len());
    for relation in sheet["relationships"].as_array().unwrap() {
        assert!(ids.contains(relation["relatedSpdxElement"].as_str().unwrap()), "{relation}");
    }
    let told = sandbox.run(&["report", "../quay.txt"]);
    assert!(told.code == 2 && told.stderr.contains("`--as`"), "{}", told.complaint());
}

#[test]
fn workstations_are_the_same_or_it_is_said_who_is_otherwise() {
    let sandbox = Sandbox::new();
    sandbox.wish("skerroc = \"=1.4.2\"\ntidlow = \"any\"");
    let _ = sandbox.run(&["climb"]).passed();
    for name in ["quay", "pier", "mole"] {
        let _ = sandbox.run(&["report", &format!("../{name}.json"), "--name", name]).passed();
    }
    let told = sandbox.run(&["compare", "../quay.json", "../pier.json", "../mole.json"]).passed();
    assert!(told.stdout.contains("3 workstations are the same"), "{}", told.stdout);

    sandbox.wish("skerroc = \"=1.4.3\"");
    let _ = sandbox.run(&["climb"]).passed();
    let _ = sandbox.run(&["report", "../pier.json", "--name", "pier"]).passed();
    let told = sandbox.run(&["compare", "../quay.json", "../pier.json", "../mole.json"]);
    assert_eq!(told.code, 37, "{}", told.complaint());
    for part in ["pier is otherwise", "1.4.2", "pier 1.4.3", "patch level", "pier not there"] {
        assert!(told.stdout.contains(part), "{part}: {}", told.stdout);
    }
    let told = sandbox.run(&["compare", "1", "2", "--json"]);
    assert_eq!(
        (told.code, &told.json()["same"], &told.json()["workstations"][0]),
        (37, &false.into(), &"landing 1".into())
    );
    // With this machine, and files that are none.
    let _ = sandbox.run(&["compare", "../pier.json"]).passed();
    fs::write(sandbox.path("other.json"), "{ \"format\": \"kladder.climb/1\" }").unwrap();
    for (file, part) in
        [("../other.json", "this is no report"), ("../nothing.json", "no such file"), ("99", "there is no landing 99")]
    {
        let told = sandbox.run(&["compare", file]);
        assert!(told.code != 0 && told.stderr.to_lowercase().contains(part), "{}", told.complaint());
    }
}

//! Optional portions: chosen, brought by needs, explained, and never silently missing.

use snapbox::{assert_data_eq, str};

use crate::sandbox::Sandbox;

fn has_tracer(sandbox: &Sandbox) -> bool {
    sandbox.run(&["run", "--", "tidlow-trace", "--version"]).code == 0
}

#[test]
fn a_piece_is_there_when_chosen_and_gone_when_not() {
    let sandbox = Sandbox::new();
    sandbox.wish("tidlow = \"long-term\"");
    let _ = sandbox.run(&["climb"]).passed();
    assert!(!has_tracer(&sandbox));
    sandbox.wish("tidlow = { series = \"long-term\", pieces = [\"tracer\"] }");
    let climb = sandbox.run(&["climb"]).passed();
    assert!(climb.stdout.contains("3 files unpacked") && has_tracer(&sandbox), "{}", climb.stdout);
    let shelved = sandbox.leftovers().into_iter().filter(|path| path.ends_with("manifest.json")).count();
    assert_eq!(shelved, 2, "with and without stand side by side");
    assert!(sandbox.run(&["verify"]).passed().stdout.contains("tidlow  4.0.8    passed  2 passed"));
    sandbox.wish("tidlow = \"long-term\"");
    let _ = sandbox.run(&["climb"]).passed();
    assert!(!has_tracer(&sandbox));
    assert_eq!(sandbox.yard.requests(), 2, "what is in the cache is not fetched again");
}

#[test]
fn a_piece_that_another_rung_needs_is_taken_and_explained() {
    let sandbox = Sandbox::new();
    sandbox.wish("tidlow = \"long-term\"\nneapstone = \"any\"");
    let route = sandbox.run(&["route"]).passed().stdout;
    assert!(route.contains("wish in line 5, for neapstone; with tracer: for neapstone\n"), "{route}");
    let json = sandbox.run(&["route", "--json"]).passed().json();
    let tidlow = json["rungs"].as_array().unwrap().iter().find(|rung| rung["rung"] == "tidlow").unwrap().clone();
    assert_eq!((tidlow["pieces"][0].as_str(), tidlow["files"].as_array().unwrap().len()), (Some("tracer"), 2));
    let _ = sandbox.run(&["climb"]).passed();
    assert!(has_tracer(&sandbox));
}

#[test]
fn releases_without_a_needed_piece_are_passed_over() {
    let sandbox = Sandbox::new();
    sandbox.wish("tidlow = { version = \"4.0\", pieces = [\"tracer\"] }");
    let json = sandbox.run(&["pin", "--json"]).passed().json();
    assert_eq!(json["rungs"][0]["version"], "4.0.8");
    sandbox.wish("tidlow = \"=4.0.7\"\nneapstone = \"=7.2\"");
    let clash = sandbox.run(&["pin"]);
    assert!(
        clash.code == 12 && clash.stderr.contains("neapstone 7.2 needs tidlow >=4, <5 with tracer"),
        "{}",
        clash.stderr
    );
}

#[test]
fn an_unknown_piece_gets_the_ones_there_are() {
    let sandbox = Sandbox::new();
    sandbox.wish("tidlow = { pieces = [\"tracr\"] }");
    assert_data_eq!(
        sandbox.run(&["climb"]).complaint(),
        str![[r#"
exit 11
kladder: tidlow has no piece `tracr`
  where  ladder.toml, line 5, column 10
         5 | tidlow = { pieces = ["tracr"] }
           |          ^^^^^^^^^^^^^^^^^^^^^^
  why    its pieces: tracer
  next   did you mean `tracer`?

"#]]
    );
    sandbox.wish("skerroc = { pieces = [\"tracer\"] }");
    assert!(sandbox.run(&["climb"]).stderr.contains("it has none"));
}

#[test]
fn a_piece_that_would_overwrite_the_tool_is_refused() {
    let sandbox = Sandbox::new();
    let script = "#!/bin/sh\necho plank\n";
    let entries = [kladder_pack::Entry::program("plank", script)];
    sandbox.plank("plank.tar.gz", &entries, "commands = { plank = \"plank\" }");
    sandbox.edit(
        "catalog/tools/plank.toml",
        "version = \"1.0\"\n",
        "version = \"1.0\"\npieces.varnish = { summary = \"shine\", artifacts = ARTIFACTS }\n",
    );
    let text = sandbox.read("catalog/tools/plank.toml");
    let artifacts = text.lines().last().unwrap().replace("artifacts = ", "");
    sandbox.write("catalog/tools/plank.toml", &text.replace("ARTIFACTS", &artifacts));
    sandbox.wish("plank = { pieces = [\"varnish\"] }");
    let ran = sandbox.run(&["climb"]);
    assert!(ran.code == 21 && ran.stderr.contains("there is something at its path already"), "{}", ran.stderr);
}

#[test]
fn about_shows_series_releases_pieces_needs_and_sizes() {
    let sandbox = Sandbox::new();
    let _ = sandbox.run(&["pin"]).passed();
    let about = sandbox.run(&["about", "tidlow"]).passed().stdout;
    for told in [
        "tidlow, runtime",
        "4.0.8 (pinned)  2026-07-07  long-term",
        "tracer  4.2.1",
        "There are artifacts for linux/aarch64",
    ] {
        assert!(about.contains(told), "no `{told}` in\n{about}");
    }
    let json = sandbox.run(&["about", "neapstone", "--json"]).passed().json();
    assert_eq!(json["releases"][0]["needs"][1], "tidlow >=4, <5 with tracer");
    assert!(sandbox.run(&["about", "cc"]).passed().stdout.contains("only the host can"));
    let capability = sandbox.run(&["about", "c-compiler"]);
    assert!(capability.code == 11 && capability.stderr.contains("which cc can provide"), "{}", capability.stderr);
    assert!(sandbox.run(&["about", "tildow"]).stderr.contains("did you mean `tidlow`?"));
}

//! How long things take: what a keeper measured, then what was seen here.

use kladder_pack::Entry;

use crate::sandbox::Sandbox;

#[test]
fn set_ups_fit_outs_and_rehearsals_are_timed_where_they_ran() {
    let sandbox = Sandbox::new();
    let definition = "commands.plank = \"plank\"\ncorners = [\"state\"]\n\
        set-up = [{ name = \"settle\", run = [\"/bin/sh\", \"-c\", \"sleep 1.2\"], takes = 40 }]\n\
        [[fit-outs]]\nname = \"a book\"\ndone = { run = [\"/bin/sh\", \"-c\", 'test -f \"$0\"', \"{folder}/state/book\"] }\n\
        do = { run = [\"/bin/sh\", \"-c\", 'touch \"$0\"', \"{folder}/state/book\"] }";
    sandbox.plank("plank.tar.gz", &[Entry::program("plank", "#!/bin/sh\necho plank\n")], definition);
    sandbox.wish("plank = \"any\"\n[rehearsals.float]\nsummary = \"Floats\"\ntools = [\"plank\"]\nsteps = [{ run = [\"plank\"] }]");
    let _ = sandbox.run(&["pin"]).passed();
    let route = || sandbox.run(&["route", "--json"]).passed().json();
    let before = route();
    assert_eq!(before["untimed"], 1, "nobody has timed the fit-out");
    assert_eq!(before["rungs"][0]["seconds_of_work"], 40.0);
    let told = sandbox.run(&["route"]).passed().stdout;
    assert!(told.contains("set up") && told.contains("(40.0 s)"), "{told}");
    let _ = sandbox.run(&["climb"]).passed();
    let list = || sandbox.run(&["rehearse", "--json"]).passed().json();
    assert!(list()["rehearsals"][0]["seconds"].is_null());
    let _ = sandbox.run(&["verify"]).passed();
    assert!(list()["rehearsals"][0]["seconds"].as_f64().unwrap() > 0.0);
    assert!(sandbox.run(&["rehearse"]).passed().stdout.contains("took here"));

    // Another home of the same person would not know; this one does, and counts what is seen here.
    sandbox.edit("catalog/tools/plank.toml", "takes = 40", "takes = 50");
    std::fs::remove_dir_all(sandbox.path("home/data/ladders")).unwrap();
    kladder_core::base::files::remove_tree(&sandbox.path("home/data/shelf")).unwrap();
    let after = route();
    assert_eq!(after["untimed"], 0);
    let seconds = after["rungs"][0]["seconds_of_work"].as_f64().unwrap();
    assert!((1.2..30.0).contains(&seconds), "{seconds}");
    // What cannot be read is nothing that is known; and what takes for ever adds up to no more than that.
    sandbox.edit("catalog/tools/plank.toml", "takes = 50", "takes = 9_223_372_036_854_775_807");
    sandbox.write("home/data/rates.json", "{\"work\": {\"fit-out plank: a book\": 1.8e19}}");
    assert!(route()["rungs"][0]["seconds_of_work"].as_f64().unwrap() > 1e18);
    let _ = sandbox.run(&["route"]).passed();
    sandbox.edit("catalog/tools/plank.toml", "takes = 9_223_372_036_854_775_807", "takes = 50");
    sandbox.write("home/data/rates.json", "{\"work\": {\"set-up plank: settle\": -7}}");
    assert_eq!(route()["rungs"][0]["seconds_of_work"], 50.0);
}

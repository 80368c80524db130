//! Before the first byte: survey, gates, licences, restarts.

use snapbox::{assert_data_eq, str};

use crate::sandbox::{LICENCE, Sandbox};

impl Sandbox {
    /// Copies one of the described hosts; returns the option that names it.
    pub fn host(&self, name: &str) -> String {
        let from = format!("{}/../core/tests/hosts/{name}", env!("CARGO_MANIFEST_DIR"));
        crate::sandbox::copy(from.as_ref(), &self.path("host"));
        format!("--root={}", self.path("host").display())
    }

    /// Puts these lines into a tool's definition, before its checks.
    pub fn define(&self, tool: &str, lines: &str) {
        self.edit(&format!("catalog/tools/{tool}.toml"), "[[checks]]", &format!("{lines}\n[[checks]]"));
    }
}

#[test]
fn all_closed_gates_are_told_at_once_before_anything_is_fetched() {
    let sandbox = Sandbox::new();
    sandbox.wish("skerroc = \"1.4\"");
    let host = sandbox.host("old-debian");
    sandbox.define(
        "skerroc",
        "[[gates]]\nc-library = \"gnu >=2.31\"\nadvice = \"a newer release of the system has it\"\n",
    );
    let group = "[[gates]]\nname = \"flasher\"\ngroup = \"plugdev\"\nadvice = \"then log in anew\"\nadmin = [\"usermod -aG plugdev keeper\"]\n";
    sandbox.define("tombolet", group);
    sandbox.define("oarweld", "[[gates]]\nvirtualisation = \"usable\"\n\n[[gates]]\nfeature = \"sse2\"\n");
    let ran = sandbox.run(&["climb", &host]);
    assert_data_eq!(
        ran.complaint(),
        str![[r#"
exit 32
kladder: gates are closed; nothing was fetched
  why    flasher: tombolet needs membership in the group plugdev; found: in dialout, keeper
         virtualisation: oarweld needs virtualisation that you may use; found: in the processor, but the kernel offers no device
         c-library: skerroc needs the C library gnu >=2.31; found: gnu 2.28
  next   flasher: then log in anew
         c-library: a newer release of the system has it
         `kladder route --admin-script` prints a script to hand to an administrator
         `kladder climb --wait-for-chores` goes on by itself once they are done
         `kladder climb --skip-gate flasher --skip-gate virtualisation --skip-gate c-library` goes on all the same

"#]]
    );
    assert_eq!((sandbox.leftovers(), sandbox.yard.requests()), (vec![], 0));
    let route = sandbox.run(&["route", &host]);
    assert_eq!(route.code, 32);
    assert!(route.stdout.contains("2 gates open.\nGate flasher is closed: tombolet needs"), "{}", route.stdout);
    assert_data_eq!(
        sandbox.run(&["route", "--admin-script", &host]).stdout,
        str![[r##"
#!/bin/sh
# For an administrator of this machine: what must be done before the climb can go on.
# It can be run again: what is done already is passed over.
set -eu

# The person who works here.
WHO=keeper

# flasher: tombolet needs membership in the group plugdev; found: in dialout, keeper.
if ! { id -nG "$WHO" | tr ' ' '/n' | grep -qxF -e plugdev; }; then
    usermod -aG plugdev keeper
fi


"##]]
    );
}

#[test]
fn a_skipped_gate_is_passed_and_recorded() {
    let sandbox = Sandbox::new();
    sandbox.wish("tombolet = \"any\"");
    let host = sandbox.host("old-debian");
    sandbox.define("tombolet", "[[gates]]\nmemory = \">= 64 GiB\"\n\n[[gates]]\ndriver = \"tidegl >=500\"\n");
    let one = sandbox.run(&["climb", &host, "--skip-gate", "memory"]);
    assert!(one.code == 32 && one.stderr.contains("needs the driver tidegl >=500; found: none"));
    let _ = sandbox.run(&["climb", &host, "--skip-gate", "memory", "--skip-gate", "driver"]).passed();
    let record = sandbox.leftovers().into_iter().find(|path| path.ends_with("landings/1/landing.json")).unwrap();
    let record: serde_json::Value = serde_json::from_str(&sandbox.read(&record)).unwrap();
    assert_eq!(record["skipped_gates"], serde_json::json!(["memory", "driver"]));
}

#[test]
fn the_same_gates_are_open_on_another_host() {
    let sandbox = Sandbox::new();
    sandbox.wish("tombolet = \"any\"");
    let host = sandbox.host("graphics-desk");
    let gates = [
        "memory = \">= 32 GiB\"",
        "driver = \"tidegl >=500\"",
        "group = \"video\"",
        "release = \"debian >=12\"",
        "c-library = \"gnu >=2.31\"",
        "os = \"linux\"",
        "disk = \">= 100 GiB\"",
        "virtualisation = \"there\"",
        "command = \"sh\"",
        "port = 0",
    ];
    sandbox.define("tombolet", &gates.map(|gate| format!("[[gates]]\n{gate}\n")).join("\n"));
    sandbox.host_command("../host/usr/bin/sh", "");
    let json = sandbox.run(&["route", "--json", &host]).passed().json();
    let closed: Vec<_> = json["gates"].as_array().unwrap().iter().filter(|gate| gate["open"] == false).collect();
    assert!(closed.is_empty() && json["gates"].as_array().unwrap().len() == 10, "{closed:#?}");
}

#[test]
fn a_disk_too_small_for_the_route_is_a_closed_gate() {
    let sandbox = Sandbox::new();
    sandbox.wish("tombolet = \"any\"");
    let host = sandbox.host("old-debian");
    sandbox.edit("host/host.toml", "free = 3000000000", "free = 1000000");
    let ran = sandbox.run(&["climb", &host]);
    assert_eq!(ran.code, 32);
    assert!(
        ran.stderr.contains("disk: the route needs 64 MiB free at") && ran.stderr.contains("found: 976 KiB"),
        "{}",
        ran.stderr
    );
}

#[test]
fn reaching_a_yard_or_an_address_can_be_a_gate() {
    let sandbox = Sandbox::new();
    sandbox.wish("tombolet = \"any\"");
    let address = sandbox.yard.url().replace("http://", "");
    sandbox.define(
        "tombolet",
        &format!("[[gates]]\nreach = \"yard\"\n\n[[gates]]\nname = \"address\"\nreach = \"{address}\"\n"),
    );
    assert!(sandbox.run(&["route"]).passed().stdout.contains("2 gates open."));
    assert!(sandbox.run(&["route", "--yard", "../yard"]).passed().stdout.contains("2 gates open."));
    let ran = sandbox.run(&["climb", "--yard", "http://127.0.0.1:9", "--yard", "nowhere"]);
    assert!(ran.code == 32 && ran.stderr.contains("needs that a yard answers; found: none"), "{}", ran.stderr);
}

#[test]
fn a_gate_on_an_unknown_fact_is_a_mistake_of_the_catalog() {
    let sandbox = Sandbox::new();
    sandbox.define("tombolet", "[[gates]]\nmemroy = \">= 1 GiB\"\n");
    let ran = sandbox.run(&["climb"]);
    assert_data_eq!(
        ran.complaint(),
        str![[r#"
exit 10
kladder: the key `memroy` means nothing here
  where  SANDBOX/catalog/tools/tombolet.toml, line 8, column 1
         8 | memroy = ">= 1 GiB"
           | ^^^^^^
  next   did you mean `memory`?

"#]]
    );
}

#[test]
fn a_licence_is_asked_for_once_until_its_text_changes() {
    let sandbox = Sandbox::new();
    sandbox.edit("catalog/tools/neapstone.toml", "variables", &format!("{LICENCE}variables"));
    sandbox.wish("neapstone = \"any\"");
    let refused = sandbox.run(&["climb"]);
    assert_data_eq!(
        refused.complaint(),
        str![[r#"
exit 33
kladder: a licence is not accepted; nothing was fetched
  why    neapstone comes under `neapstone-terms`
  next   read it: `kladder terms show neapstone-terms`
         accept it: `kladder climb --accept-licence neapstone-terms`

"#]]
    );
    assert_eq!(sandbox.yard.requests(), 0);
    assert_eq!(sandbox.run(&["climb", "--accept-licence", "another"]).code, 2);
    assert_eq!(sandbox.run(&["terms"]).passed().stdout, "No licence has been accepted.\n");
    let _ = sandbox.run(&["climb", "--accept-licence", "neapstone-terms"]).passed();
    // Whether there is something to do or not.
    assert_eq!(sandbox.run(&["climb", "--accept-licence", "another"]).code, 2);
    let json = sandbox.run(&["terms", "--json"]).passed().json();
    assert_eq!(json["accepted"][0]["tools"], serde_json::json!(["neapstone"]));

    sandbox.wish("neapstone = \"=7.1\"");
    let _ = sandbox.run(&["climb"]).passed();
    sandbox.edit("catalog/licences/neapstone-terms.txt", "tide.", "tide.\n4. Gulls must be fed.");
    sandbox.wish("neapstone = \"any\"\nwhimbrow = \"any\"");
    assert_eq!(sandbox.run(&["climb"]).code, 33, "the text changed");
    let _ = sandbox.run(&["climb", "--accept-licence", "neapstone-terms"]).passed();
    let _ = sandbox.run(&["terms", "withdraw", "neapstone-terms"]).passed();
    assert_eq!(sandbox.run(&["terms", "withdraw", "neapstone-terms"]).code, 1);
    assert!(sandbox.run(&["terms", "show", "neapstone-terms"]).passed().stdout.contains("Gulls must be fed"));
}

#[test]
fn a_licence_without_a_text_is_told() {
    let sandbox = Sandbox::new();
    sandbox.define("tombolet", "");
    sandbox.edit("catalog/tools/tombolet.toml", "commands", "licence = \"../../etc/passwd\"\ncommands");
    let ran = sandbox.run(&["climb"]);
    assert!(ran.code == 10 && ran.stderr.contains("cannot be the name of a licence"), "{}", ran.stderr);
}

#[test]
fn a_climb_stops_for_a_restart_and_knows_when_it_has_happened() {
    let sandbox = Sandbox::new();
    sandbox.wish("skerroc = \"1.4\"\ntidlow = \"any\"");
    let host = sandbox.host("new-fedora");
    sandbox.edit("catalog/tools/oarweld.toml", "commands", "after = \"restart\"\ncommands");
    assert!(sandbox.run(&["route", &host]).passed().stdout.contains("After oarweld the machine must be restarted"));
    let first = sandbox.run(&["climb", &host]);
    assert_data_eq!(
        first.complaint(),
        str![[r#"
exit 34
kladder: oarweld is in place; the machine must be restarted before skerroc can follow
  why    what was put on the shelf stays there; the landing that was current still is
  next   restart the machine, then `kladder climb`: it sees by itself whether that has happened
         where this system does not tell, `kladder climb --chore-done oarweld` says that it has

"#]]
    );
    assert_eq!(sandbox.run(&["climb", &host]).code, 34);
    sandbox.edit("host/proc/sys/kernel/random/boot_id", "11111111", "99999999");
    let done = sandbox.run(&["climb", &host]).passed();
    assert!(done.stdout.contains("landing 1"), "{}", done.stdout);
    assert_eq!(sandbox.run(&["climb", &host]).passed().stdout, "All rungs stand: landing 1 is what the pins say.\n");
}

#[test]
fn a_new_session_is_told_from_the_old_one() {
    let sandbox = Sandbox::new();
    sandbox.wish("oarweld = \"any\"");
    let host = sandbox.host("new-fedora");
    sandbox.edit("catalog/tools/tombolet.toml", "commands", "after = \"session\"\ncommands");
    let ran = sandbox.run(&["climb", &host]);
    assert!(ran.code == 34 && ran.stderr.contains("you must log in anew before oarweld can follow"), "{}", ran.stderr);
    sandbox.edit("host/host.toml", "session = \"3\"", "session = \"4\"");
    let _ = sandbox.run(&["climb", &host]).passed();
}

#[test]
fn the_second_route_says_how_long_it_will_take() {
    let sandbox = Sandbox::new();
    assert!(!sandbox.run(&["route"]).passed().stdout.contains("pace"));
    sandbox.wish("tombolet = \"any\"");
    let _ = sandbox.run(&["climb"]).passed();
    sandbox.wish("skerroc = \"1.4\"");
    let route = sandbox.run(&["route"]).passed().stdout;
    assert!(route.contains("at the pace of earlier climbs"), "{route}");
}

#[test]
fn survey_tells_people_and_programs_the_same() {
    let sandbox = Sandbox::new();
    let host = sandbox.host("guest-inside");
    let text = sandbox.run(&["survey", &host]).passed().stdout;
    assert_data_eq!(
        text,
        str![[r#"
The described machine
  system          Ubuntu 24.04 LTS (made up), kernel 6.6.87.2-microsoft-standard-inside
  processor       x86_64, Made-up Processor 1, 4 logical processors
  C library       gnu 2.39
  memory          8.2 GB, 7.2 GB available
  disk            50.0 GB free for shelf, cache, temporary files
  shells          /bin/bash (login), /bin/sh
  rights          keeper may become root, through the group sudo; in sudo
  virtualisation  none: the processor has none, or it is switched off in firmware
  graphics        no device found
  runs on         inside windows
  proxies         none

None of the usual tools is there.

"#]]
    );
    let json = sandbox.run(&["survey", "--json", &host]).passed().json();
    assert_eq!((json["format"].as_str(), json["guest"]["what"].as_str()), (Some("kladder.survey/2"), Some("windows")));
    let none = sandbox.run(&["survey", "--root", "no such folder"]);
    assert!(none.code == 10 && none.stderr.contains("there is no such folder"), "{}", none.stderr);
}

/// A catalog with the tool `plank`, which the host may have and the catalog has at 2.0.
fn planks(sandbox: &Sandbox) {
    let definition = "commands = { plank = \"plank\" }\nprovides = [\"walkway\"]\n[host]\ncommand = \"plank\"\nask = [\"-v\"]\nversion = 'plank (?<version>[0-9.]+)'";
    let script = "#!/bin/sh\necho plank 1.0 from the shelf\n";
    sandbox.plank("plank.tar.gz", &[kladder_pack::Entry::program("plank", script)], definition);
}

#[test]
fn the_host_policy_decides_whose_tool_is_taken() {
    let sandbox = Sandbox::new();
    planks(&sandbox);
    sandbox.host_command("plank", "echo plank 2.5 of the host");
    let version = |rungs: &str| {
        sandbox.wish(rungs);
        let _ = std::fs::remove_file(sandbox.path("desk/ladder.pinned.toml"));
        let ran = sandbox.run(&["pin", "--json"]);
        if ran.code == 0 {
            ran.json()["rungs"][0]["version"].as_str().unwrap().to_owned()
        } else {
            format!("exit {}", ran.code)
        }
    };
    assert_eq!(version("plank = \"any\""), "1.0");
    assert_eq!(version("plank = { host = \"prefer\" }"), "2.5");
    assert_eq!(version("plank = { host = \"only\" }"), "2.5");
    assert_eq!(version("plank = { host = \"never\" }"), "1.0");
    assert_eq!(version("plank = \">=2\""), "2.5", "the catalog has none so new");
    assert_eq!(version("plank = { version = \">=2\", host = \"never\" }"), "exit 11");
    assert_eq!(version("walkway = { host = \"prefer\" }"), "2.5");
}

#[test]
fn a_host_tool_that_changed_or_went_away_is_told_and_chosen_anew() {
    let sandbox = Sandbox::new();
    planks(&sandbox);
    sandbox.wish("plank = { host = \"prefer\" }");
    sandbox.host_command("plank", "echo plank 2.5");
    let first = sandbox.run(&["climb"]).passed();
    assert!(first.stdout.contains("the host's own, SANDBOX/bin/plank"), "{}", first.stdout);
    assert_eq!(sandbox.yard.requests(), 0);
    assert!(sandbox.read("desk/ladder.pinned.toml").contains("/bin/plank\""));
    assert_eq!(sandbox.run(&["verify"]).code, 0);
    assert!(sandbox.run(&["climb"]).passed().stdout.starts_with("All rungs stand"));

    sandbox.host_command("plank", "echo plank 2.6");
    let changed = sandbox.run(&["climb"]).passed().stdout;
    let told = "plank was pinned to 2.5 on this host, SANDBOX/bin/plank, which is 2.6 now; chosen anew.";
    assert!(changed.contains(told), "{changed}");
    std::fs::remove_file(sandbox.path("bin/plank")).unwrap();
    let gone = sandbox.run(&["climb"]).passed().stdout;
    assert!(
        gone.contains("2.6 on this host, SANDBOX/bin/plank, which is gone; chosen anew.") && gone.contains("1.0"),
        "{gone}"
    );
    assert_eq!(sandbox.run(&["run", "--", "plank"]).passed().stdout, "plank 1.0 from the shelf\n");
}

#[test]
fn what_only_the_host_could_have_and_lacks_is_told() {
    let sandbox = Sandbox::new();
    planks(&sandbox);
    sandbox.wish("plank = { version = \">=3\", host = \"only\" }");
    sandbox.host_command("plank", "echo plank 2.5");
    assert_data_eq!(
        sandbox.run(&["climb"]).complaint(),
        str![[r#"
exit 11
kladder: this host has no plank >=3
  where  ladder.toml, line 5, column 9
         5 | plank = { version = ">=3", host = "only" }
           |         ^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^
  why    it has 2.5 (SANDBOX/bin/plank)
  next   install it with the system's own means, or wish for something else

"#]]
    );
    sandbox.host_command("plank", "exit 3");
    let mute = sandbox.run(&["climb"]);
    let told = "SANDBOX/bin/plank is there, and its version is not known: it ended with status 3";
    assert!(mute.code == 11 && mute.stderr.contains(told), "{}", mute.stderr);
    std::fs::remove_file(sandbox.path("bin/plank")).unwrap();
    let gone = sandbox.run(&["climb"]);
    assert!(gone.code == 11 && gone.stderr.contains("looked for: `plank` on PATH"), "{}", gone.stderr);
}

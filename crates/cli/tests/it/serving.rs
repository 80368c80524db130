//! Services: started in their order, kept running, asked, stopped; what dies on the way, and who has the port.

use std::net::{TcpListener, TcpStream};
use std::path::PathBuf;
use std::thread;
use std::time::{Duration, Instant};

use kladder_pack::Entry;
use serde_json::Value;

use crate::sandbox::{Ran, Sandbox};

/// A sandbox whose plank is a service that really listens: it serves a folder.
struct Scene(Sandbox);

impl Scene {
    fn new(services: &str) -> Self {
        let sandbox = Sandbox::new();
        let kladder: PathBuf = assert_cmd::cargo::cargo_bin!("kladder").into();
        let script = format!(
            "#!/bin/sh\nif [ \"$1\" = ends ]; then echo it has no harbour >&2; exit 7; fi\n\
             mkdir -p \"$2\"\nexec '{}' yard serve \"$2\" --listen \"127.0.0.1:$1\"\n",
            kladder.display()
        );
        let definition = format!("commands.plank = \"plank\"\nvariables.PLANK_PORT = \"{{port}}\"\n{services}");
        sandbox.plank("plank.tar.gz", &[Entry::program("plank", script)], &definition);
        sandbox.wish("plank = \"any\"");
        let _ = sandbox.run(&["climb"]).passed();
        Self(sandbox)
    }

    /// With one service at a free port.
    fn usual() -> Self {
        Self::new(
            "[[services]]\nname = \"pier\"\nrun = [\"plank\", \"{port}\", \"/tmp\"]\nport = \"free\"\npatience = 20",
        )
    }

    fn services(&self, arguments: &[&str]) -> Ran {
        self.0.run(&[&["services"], arguments].concat())
    }

    fn state(&self) -> Value {
        self.services(&["--json"]).passed().json()["services"][0].clone()
    }

    /// Waits until the first service is in a state.
    fn until(&self, state: &str) -> Value {
        let since = Instant::now();
        loop {
            let now = self.state();
            if now["state"] == state {
                return now;
            }
            assert!(since.elapsed() < Duration::from_secs(20), "{now}");
            thread::sleep(Duration::from_millis(50));
        }
    }
}

impl Drop for Scene {
    fn drop(&mut self) {
        let _ = self.0.run(&["services", "--stop"]);
    }
}

fn kill(process: &Value) {
    let number = process.as_i64().and_then(|number| i32::try_from(number).ok()).unwrap();
    let pid = rustix::process::Pid::from_raw(number).unwrap();
    rustix::process::kill_process(pid, rustix::process::Signal::KILL).unwrap();
}

fn answers(port: &Value) -> bool {
    TcpStream::connect(("127.0.0.1", u16::try_from(port.as_u64().unwrap()).unwrap())).is_ok()
}

/// Whether a process is there, and not only the memory of one.
fn runs(process: &Value) -> bool {
    let stat = std::fs::read_to_string(format!("/proc/{process}/stat")).unwrap_or_default();
    stat.rsplit_once(") ").is_some_and(|(_, rest)| !rest.starts_with('Z'))
}

/// The process that keeps what another process runs.
fn watcher_of(process: &Value) -> Value {
    let stat = std::fs::read_to_string(format!("/proc/{process}/stat")).unwrap();
    let parent: i64 = stat.rsplit_once(')').unwrap().1.split_whitespace().nth(1).unwrap().parse().unwrap();
    parent.into()
}

#[test]
fn a_service_runs_on_comes_back_when_it_dies_and_is_known_by_its_port() {
    let scene = Scene::usual();
    assert_eq!(scene.state()["state"], "stopped");
    let started = scene.services(&["pier", "--start"]).passed().stdout;
    assert!(started.contains("pier is ready on port "), "{started}");
    let first = scene.state();
    assert!(first["state"] == "ready" && answers(&first["port"]), "{first}");
    let port = scene.0.run(&["run", "--", "sh", "-c", "echo $PLANK_PORT"]).passed().stdout;
    assert_eq!(port.trim(), first["port"].to_string());
    // Started again it is the same one; two who start it at once have one.
    assert!(scene.services(&["--start"]).passed().stdout.contains("runs already"));
    assert_eq!(scene.state()["process"], first["process"]);

    kill(&first["process"]);
    let again = scene.until("failing");
    assert!(again["ended"] == "by signal 9" && again["port"] == first["port"], "{again}");
    let back = scene.until("ready");
    assert!(back["restarts"] == 1 && back["process"] != first["process"], "{back}");
    let told = scene.services(&[]).passed().stdout;
    assert!(told.contains("started again once"), "{told}");

    // Whoever keeps it may be killed too: the next start or stop knows what was left.
    kill(&watcher_of(&back["process"]));
    let left = scene.until("left");
    assert_eq!(left["process"], back["process"]);
    let _ = scene.services(&["--start"]).passed();
    let anew = scene.until("ready");
    assert_ne!(anew["process"], back["process"]);
    assert!(scene.services(&["pier", "--stop"]).passed().stdout.contains("pier is stopped."));
    assert!(!answers(&anew["port"]) && scene.state()["state"] == "stopped");
    assert!(scene.services(&["--stop"]).passed().stdout.contains("None of them ran."));
}

#[test]
fn a_port_that_is_taken_is_told_with_who_has_it_and_the_ladder_can_name_another() {
    let scene = Scene::usual();
    let port = u16::try_from(scene.state()["port"].as_u64().unwrap()).unwrap();
    let taken = TcpListener::bind(("127.0.0.1", port)).unwrap();
    let refused = scene.services(&["--start"]);
    assert_eq!(refused.code, 36, "{}", refused.complaint());
    let own = format!("process {}", std::process::id());
    assert!(refused.stderr.contains("it is taken") && refused.stderr.contains(&own), "{}", refused.complaint());
    assert!(scene.services(&[]).passed().stdout.contains("its port is taken by"));
    let other = TcpListener::bind(("127.0.0.1", 0)).unwrap().local_addr().unwrap().port();
    let ladder = scene.0.read("desk/ladder.toml");
    scene.0.write("desk/ladder.toml", &format!("{ladder}\n[services.pier]\nport = {other}\n"));
    assert_eq!(scene.services(&["--start"]).code, 31, "the ladder changed, and was not climbed");
    let _ = scene.0.run(&["climb"]).passed();
    let _ = scene.services(&["--start"]).passed();
    assert_eq!(scene.state()["port"], other);
    // What runs as it was before a climb is told, and started anew by the next start.
    let moved = TcpListener::bind(("127.0.0.1", 0)).unwrap().local_addr().unwrap().port();
    scene.0.edit("desk/ladder.toml", &format!("port = {other}"), &format!("port = {moved}"));
    let _ = scene.0.run(&["climb"]).passed();
    assert!(scene.services(&[]).passed().stdout.contains("runs as it was before the last climb"));
    let _ = scene.services(&["--start"]).passed();
    assert!(answers(&moved.into()) && !answers(&other.into()));
    // So is what runs of another version.
    let plank = scene.0.read("catalog/tools/plank.toml");
    scene.0.write("catalog/tools/plank.toml", &plank.replace("version = \"1.0\"", "version = \"1.1\""));
    std::fs::remove_file(scene.0.path("desk/ladder.pinned.toml")).unwrap();
    let _ = scene.0.run(&["climb"]).passed();
    assert_eq!(scene.state()["is_old"], true);
    scene.0.edit("desk/ladder.toml", "[services.pier]", "[services.peer]");
    let wrong = scene.0.run(&["route"]);
    assert!(wrong.code == 10 && wrong.stderr.contains("services that there are: pier"), "{}", wrong.complaint());
    scene.0.edit("desk/ladder.toml", "[services.peer]", "[services.pier]");
    drop(taken);
}

#[test]
fn what_does_not_come_up_is_told_with_what_it_wrote_and_nothing_is_left() {
    let scene = Scene::new(
        "[[services]]\nname = \"broken\"\nrun = [\"plank\", \"ends\"]\npatience = 20\n\
         [[services]]\nname = \"deaf\"\nrun = [\"/bin/sh\", \"-c\", \"echo I hear nothing; exec sleep 60\"]\nport = \"free\"\npatience = 1\n\
         [[services]]\nname = \"missing\"\nrun = [\"no-such-command\"]\npatience = 20\n\
         [[services]]\nname = \"stubborn\"\nrun = [\"/bin/sh\", \"-c\", \"trap '' TERM; sleep 60 & sleep 60 & wait; sleep 60\"]\npatience = 3",
    );
    let told = |name: &str, words: &[&str]| {
        let ran = scene.services(&[name, "--start"]);
        assert!(ran.code == 36 && words.iter().all(|word| ran.stderr.contains(word)), "{}", ran.complaint());
    };
    told("broken", &["ends as soon as it is started", "with status 7", "it has no harbour"]);
    told("deaf", &["was not ready after 1 s", "I hear nothing"]);
    told("missing", &["ends as soon as it is started", "could not be started"]);
    let stopped = scene.services(&["deaf", "--stop"]).passed().stdout;
    assert!(stopped.contains("deaf is stopped."), "{stopped}");
    let wrong = scene.services(&["pire", "--start"]);
    assert!(
        wrong.code == 2 && wrong.stderr.contains("it has: broken, deaf, missing, stubborn"),
        "{}",
        wrong.complaint()
    );
    // One that does not listen to TERM is ended with all that it started.
    let _ = scene.services(&["stubborn", "--start"]).passed();
    let process = scene.services(&["stubborn", "--json"]).passed().json()["services"][0]["process"].clone();
    let _ = scene.services(&["stubborn", "--stop"]).passed();
    assert!(!runs(&process));
    let kept = scene.0.path("home/data/ladders");
    let files = crate::sandbox::walkdir(&kept).into_iter().filter(|path| path.ends_with("state.json"));
    assert_eq!(files.count(), 0);
}

#[test]
fn services_come_up_above_what_they_stand_on_and_go_with_their_ladder() {
    let scene = Scene::usual();
    let above = "tool = \"sail\"\nsummary = \"Stands on the plank\"\nneeds.plank = \"any\"\n\
                 [[services]]\nname = \"mast\"\npatience = 9_223_372_036_854_775_807\nrun = [\"/bin/sh\", \"-c\", \"echo mast up at $PLANK_PORT; exec sleep 60\"]\n\
                 ready = { run = [\"/bin/sh\", \"-c\", \"test -n \\\"$PLANK_PORT\\\"\"] }\n\
                 ask = { run = [\"/bin/sh\", \"-c\", \"echo the pier is at {plank.port}\"], expect = { stdout = \"pier\" } }\n";
    let plank = scene.0.read("catalog/tools/plank.toml");
    let release = &plank[plank.find("[[releases]]").unwrap()..];
    scene.0.write("catalog/tools/sail.toml", &format!("{above}{release}"));
    scene.0.edit("desk/ladder.toml", "plank = \"any\"", "plank = \"any\"\nsail = \"any\"");
    let _ = scene.0.run(&["climb"]).passed();
    let started = scene.services(&["mast", "--start"]).passed().stdout;
    let (pier, mast) = (started.find("pier is ready").unwrap(), started.find("mast is ready").unwrap());
    assert!(pier < mast, "{started}");
    let one = scene.services(&["mast"]).passed().stdout;
    let port = scene.state()["port"].to_string();
    assert!(one.contains(&format!("mast up at {port}")) && one.contains(&format!("the pier is at {port}")), "{one}");
    // A rung that leaves the ladder leaves its service, which is told and can be stopped.
    scene.0.edit("desk/ladder.toml", "\nsail = \"any\"", "");
    let _ = scene.0.run(&["climb"]).passed();
    let listed = scene.services(&[]).passed().stdout;
    assert!(listed.contains("mast runs, and the ladder no longer has it."), "{listed}");
    assert!(scene.services(&["mast", "--stop"]).passed().stdout.contains("mast is stopped."));
    assert_eq!(scene.state()["state"], "ready");
    // With the home goes what runs out of it.
    let port = scene.state()["port"].clone();
    let _ = scene.0.run(&["clear", "--all", "--yes"]).passed();
    assert!(!answers(&port));
}

#[test]
fn whatever_is_damaged_in_its_folder_one_command_leads_back() {
    let scene = Scene::usual();
    let _ = scene.services(&["--start"]).passed();
    let lock =
        crate::sandbox::walkdir(&scene.0.path("home/data/ladders")).into_iter().find(|path| path.ends_with("lock"));
    let folder = lock.unwrap().parent().unwrap().to_path_buf();
    let put = |name: &str, text: &str| std::fs::write(folder.join(name), text).unwrap();
    // Records that cannot be read, or are a newer program's: what runs is still seen, and started anew.
    for text in ["{", "", "{\"format\": 9}"] {
        put("state.json", text);
        let seen = scene.state();
        assert!(seen["state"] == "ready" && seen["is_old"] == true, "{seen}");
        let _ = scene.services(&["--start"]).passed();
        assert!(scene.state()["process"].is_u64());
    }
    put("order.json", "no order");
    assert!(scene.services(&["--start"]).passed().stdout.contains("runs already"));
    // Who loses the lock is found by its mark, and so is its watcher.
    let before = scene.state()["process"].clone();
    let watcher = watcher_of(&before);
    std::fs::remove_file(folder.join("lock")).unwrap();
    assert_eq!(scene.state()["state"], "left");
    let _ = scene.services(&["--start"]).passed();
    assert!(!runs(&watcher));
    let _ = scene.services(&["--stop"]).passed();
    // Other things in the place of its files.
    for name in ["lock", "output", "state.json", "order.json", "stop"] {
        let _ = std::fs::remove_file(folder.join(name));
        std::fs::create_dir(folder.join(name)).unwrap();
        let _ = scene.services(&["pier", "--start"]).passed();
        let _ = scene.services(&["pier", "--stop"]).passed();
    }
    // Several who start it at once have one.
    thread::scope(|scope| {
        let starting: Vec<_> = (0..4).map(|_| scope.spawn(|| scene.services(&["--start"]))).collect();
        for one in starting {
            let _ = one.join().unwrap().passed();
        }
    });
    let one = scene.state();
    let port = u16::try_from(one["port"].as_u64().unwrap()).unwrap();
    let held = scene.services(&["--json"]).passed().json()["services"][0]["held_by"]["process"].clone();
    assert!(held == one["process"] && answers(&port.into()), "{one}");
}

#[test]
fn a_rehearsal_has_its_service_for_itself_and_what_a_person_keeps_there_stays() {
    let sandbox = Sandbox::new();
    let kladder: PathBuf = assert_cmd::cargo::cargo_bin!("kladder").into();
    // Serves its corner; a service that finds the work of another one there would be a mix-up.
    let script = format!(
        "#!/bin/sh\nhere=$(dirname \"$0\")/water\ncase $1 in\nserve) [ -e \"$here/made\" ] || exit 9\n\
         [ ! -e \"$here/owner\" ] || cat \"$here/owner\"\nexec '{}' yard serve \"$here\" --listen \"127.0.0.1:$2\" ;;\n\
         make) echo made > \"$here/made\" ;;\nhas) cat \"$here/made\" ;;\nput) echo \"$2\" > \"$here/owner\" ;;\n\
         owner) cat \"$here/owner\" ;;\nesac\n",
        kladder.display()
    );
    let definition = "commands.plank = \"plank\"\ncorners = [\"water\"]\n\
        [[fit-outs]]\nname = \"water\"\ndone = { run = [\"plank\", \"has\"] }\ndo = { run = [\"plank\", \"make\"] }\n\
        [[services]]\nname = \"pier\"\nrun = [\"plank\", \"serve\", \"{port}\"]\nport = \"free\"\npatience = 20";
    sandbox.plank("plank.tar.gz", &[Entry::program("plank", script)], definition);
    let rehearsal = |more: &str| {
        format!(
            "rehearsal = \"landing\"\nsummary = \"\"\ntools = [\"plank\"]\nservices = [\"pier\"]\nreads = [{:?}]\n{more}\n\
             [[steps]]\nrun = [\"plank\", \"put\", \"rehearsal\"]\n[[steps]]\nrun = [\"plank\", \"owner\"]\nexpect = {{ stdout = \"^rehearsal$\" }}\n",
            kladder.parent().unwrap()
        )
    };
    sandbox.write("catalog/rehearsals/landing.toml", &rehearsal(""));
    sandbox.wish("plank = \"any\"");
    let _ = sandbox.run(&["climb"]).passed();
    // The person's own runs meanwhile, on the same port, with their own work.
    let _ = sandbox.run(&["run", "plank", "put", "person"]).passed();
    let _ = sandbox.run(&["services", "--start"]).passed();
    let verified = sandbox.run(&["verify", "--json"]);
    let told = verified.json();
    let of = |kind: &str| -> Vec<&Value> {
        told["verdicts"].as_array().unwrap().iter().filter(|one| one["subject"]["kind"] == kind).collect()
    };
    if of("rehearsal").iter().any(|one| one["because"] == "passed-over") {
        return crate::sandbox::not_tested("this machine gives a rehearsal no network of its own");
    }
    // The rehearsal's, and the person's.
    assert_eq!((verified.code, of("service").len()), (0, 2), "{told}");
    assert!(sandbox.run(&["run", "plank", "owner"]).passed().stdout.contains("person"));
    let fails = |old: &str, new: &str, said: &str| {
        sandbox.write("catalog/rehearsals/landing.toml", &rehearsal("").replace(old, new));
        let failed = sandbox.run(&["verify"]);
        assert!(failed.code == 30 && failed.stdout.contains(said), "{}", failed.stdout);
    };
    fails("[\"pier\"]", "[\"quay\"]", "no rung of the ladder has such a service");
    fails("reads =", "# reads =", "it should have run on, and ended with status 126");
    let _ = sandbox.run(&["services", "--stop"]).passed();
}

#[test]
fn verify_tells_of_a_service_that_runs_and_should_not_be_as_it_is() {
    let sandbox = Sandbox::new();
    let kladder: PathBuf = assert_cmd::cargo::cargo_bin!("kladder").into();
    let script =
        format!("#!/bin/sh\nmkdir -p \"$2\"\nexec '{}' yard serve \"$2\" --listen \"$3:$1\"\n", kladder.display());
    let definition = |address: &str| {
        format!(
            "commands.plank = \"plank\"\n[[services]]\nname = \"pier\"\nrun = [\"plank\", \"{{port}}\", \"/tmp\", \"{address}\"]\nport = \"free\""
        )
    };
    sandbox.plank("plank.tar.gz", &[Entry::program("plank", script.clone())], &definition("{address}"));
    sandbox.wish("plank = \"any\"");
    let ladder = sandbox.read("desk/ladder.toml");
    let started = |wish: &str| {
        sandbox.write("desk/ladder.toml", &format!("{ladder}\n[services.pier]\n{wish}\n"));
        let _ = sandbox.run(&["climb"]).passed();
        let _ = sandbox.run(&["services", "--start"]).passed();
        let state = sandbox.run(&["services", "--json"]).passed().json()["services"][0].clone();
        (state["reachable"].as_bool().unwrap(), state["is_open"].as_bool().unwrap())
    };
    assert_eq!(started(""), (false, false));
    let _ = sandbox.run(&["verify"]).passed();
    assert_eq!(started("reachable = true"), (true, false));
    assert!(sandbox.run(&["services"]).stdout.contains("other machines can reach it"));
    // A tool that does not ask who may reach it.
    sandbox.plank("plank.tar.gz", &[Entry::program("plank", script)], &definition("0.0.0.0"));
    if started("") == (false, true) {
        let told = sandbox.run(&["verify"]);
        assert!(told.code == 30 && told.stdout.contains("which the ladder does not want"), "{}", told.stdout);
    }
    // What runs can be stopped whatever became of the ladder, and before it is climbed that is told as it is.
    sandbox.write("desk/ladder.toml", &ladder.replace("plank", "tombolet"));
    let refused = sandbox.run(&["services"]);
    assert!(refused.code == 31 && refused.stderr.contains("services run from a landing"), "{}", refused.complaint());
    assert!(sandbox.run(&["services", "--stop"]).passed().stdout.contains("pier is stopped."));
    assert!(sandbox.run(&["services", "--stop"]).passed().stdout.contains("None of them ran."));
}

#[test]
fn a_service_starts_with_the_session_where_the_system_can_and_its_host_name_is_a_chore() {
    let scene = Scene::usual();
    let ladder = scene.0.read("desk/ladder.toml");
    let wish = |text: &str| scene.0.write("desk/ladder.toml", &format!("{ladder}\n[services.pier]\n{text}\n"));
    let session = scene.0.path("session");
    let climb = || {
        let climbed = scene.0.command(&["climb", "--yes"]).env("XDG_RUNTIME_DIR", &session).output().unwrap();
        scene.0.finished(climbed)
    };
    let units = || -> Vec<String> {
        let all = crate::sandbox::walkdir(&scene.0.path("user"));
        all.iter()
            .filter(|path| path.to_string_lossy().contains("systemd/user/"))
            .filter_map(|path| std::fs::read_to_string(path).ok())
            .collect()
    };
    wish("start = \"session\"");
    let is_there = std::path::Path::new("/run/systemd/system").exists();
    let _ = climb().passed();
    if !is_there {
        assert_eq!(units(), Vec::<String>::new());
        assert!(scene.services(&[]).passed().stdout.contains("this system has no user services"));
    }
    std::fs::create_dir_all(session.join("systemd")).unwrap();
    let _ = climb().passed();
    let units_now = units();
    assert_eq!(units_now.len(), 2, "{units_now:?}");
    let unit = units_now.iter().find(|text| text.contains("[Service]")).unwrap();
    assert!(unit.contains("services pier --start\n") && unit.contains("RemainAfterExit=yes"), "{unit}");
    assert!(units_now.iter().any(|text| text.starts_with("[Unit]\nWants=kite-ladder-")), "{units_now:?}");
    wish("");
    let _ = climb().passed();
    assert_eq!(units(), Vec::<String>::new());
    // A host name is what an administrator gives.
    wish("host = \"pier.example\"");
    let closed = climb();
    assert!(closed.code == 32 && closed.stderr.contains("the host name pier.example"), "{}", closed.complaint());
    let script = scene.0.run(&["route", "--admin-script"]).stdout;
    assert!(script.contains("printf '127.0.0.1\\t%s\\n' pier.example >> /etc/hosts"), "{script}");
    scene.0.write("root/etc/hosts", "127.0.0.1 localhost\n127.0.1.1\tboat Pier.example # ours\n");
    let told = scene.0.run(&["route", "--root", scene.0.path("root").to_str().unwrap()]);
    assert!(!told.stderr.contains("pier.example"), "{}", told.complaint());
    wish("host = \"-pier\"");
    assert!(climb().stderr.contains("`-pier` is no host name"));
}

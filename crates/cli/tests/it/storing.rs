//! Yards in an object store and in a registry of images: real servers of both, on loopback; and neighbours.

use std::fs;
use std::net::{TcpListener, TcpStream};
use std::path::PathBuf;
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

use crate::sandbox::{Ran, Sandbox, not_tested, walkdir};

const DESK: &str = "skerroc = \"1.4\"\ntidlow = { series = \"long-term\", pieces = [\"tracer\"] }";

/// A server that ends with the test.
struct Server {
    child: Child,
    port: u16,
}

impl Drop for Server {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

impl Server {
    /// `None` where this machine has no such program.
    fn start(program: &str, command: impl FnOnce(&mut Command, u16)) -> Option<Self> {
        let port = TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap().port();
        let own = std::env::var_os("KLADDER_TEST_PROGRAMS").map(|folder| PathBuf::from(folder).join(program));
        let mut start = Command::new(own.filter(|own| own.is_file()).unwrap_or_else(|| program.into()));
        command(&mut start, port);
        let started = start.stdout(Stdio::null()).stderr(Stdio::null()).spawn();
        let Ok(child) = started else {
            not_tested(&format!("there is no {program} here"));
            return None;
        };
        let (server, since) = (Self { child, port }, Instant::now());
        while TcpStream::connect(("127.0.0.1", port)).is_err() {
            assert!(since.elapsed() < Duration::from_secs(20), "{program} does not listen");
            std::thread::sleep(Duration::from_millis(20));
        }
        Some(server)
    }
}

/// A machine that has nothing but the ladder, its pins and a yard's address.
fn climbed_there(sandbox: &Sandbox, name: &str, yard: &str, settings: &str) -> Ran {
    let desk = sandbox.path(&format!("{name}/desk"));
    fs::create_dir_all(&desk).unwrap();
    for file in ["ladder.toml", "ladder.pinned.toml"] {
        fs::copy(sandbox.path("desk").join(file), desk.join(file)).unwrap();
    }
    sandbox.write(&format!("{name}/home/config/config.toml"), settings);
    let catalog = sandbox.path("catalog").display().to_string();
    let mut command = sandbox.command(&["climb", "--yard", yard, "--catalog", &catalog]);
    command.current_dir(desk).env("KLADDER_HOME", sandbox.path(&format!("{name}/home")));
    sandbox.finished(command.output().unwrap())
}

/// What every such yard does; the yard is damaged in between.
fn serves_as_a_yard(sandbox: &Sandbox, yard: &str) {
    sandbox.wish(DESK);
    let fill = ["yard", "fill", yard];
    let both = [sandbox.start(&fill), sandbox.start(&fill)];
    for one in both {
        let _ = sandbox.finished(one.wait_with_output().unwrap()).passed();
    }
    let again = sandbox.run(&[&fill[..], &["--json"]].concat()).passed().json();
    assert!(again["new"] == 0 && again["there"].as_u64() > Some(2), "{again}");
    let told = sandbox.run(&["yard", "check", yard]).passed();
    assert!(told.stdout.contains("whole"), "{}", told.stdout);
}

fn signed(sandbox: &Sandbox, host: &str, secret: &str) -> String {
    let own = sandbox.read("home/config/config.toml");
    sandbox.write("home/config/secret", secret);
    sandbox.write("far/home/config/secret", secret);
    let sign_in = format!("\n[sign-in]\n\"{host}\" = {{ user = \"gannet\", secret = {{ file = \"secret\" }} }}\n");
    sandbox.write("home/config/config.toml", &(own + &sign_in));
    sign_in
}

#[test]
fn a_bucket_is_filled_checked_mended_and_climbed_from() {
    let sandbox = Sandbox::new();
    fs::create_dir_all(sandbox.path("buckets/tide-yard")).unwrap();
    let server = Server::start("s3s-fs", |command, port| {
        command.args(["--host", "127.0.0.1", "--port", &port.to_string(), "--access-key", "gannet"]);
        command.args(["--secret-key", "low-water"]).arg(sandbox.path("buckets"));
    });
    let Some(server) = server else { return };
    let yard = format!("s3://tide-yard/desk?endpoint=http://127.0.0.1:{}", server.port);
    // A part of an upload has eight MB; this rung has two and some.
    let large = vec![b'~'; 19 << 20];
    sandbox.wish(DESK);
    let refused = sandbox.run(&["yard", "fill", &yard]);
    assert!(refused.code == 20 && refused.stderr.contains("\"tide-yard\" = {"), "{}", refused.complaint());
    let settings = signed(&sandbox, "tide-yard", "high-water");
    let wrong = sandbox.run(&["yard", "fill", &yard]);
    assert!(wrong.code == 20 && wrong.stderr.contains("does not take"), "{}", wrong.complaint());
    sandbox.write("home/config/secret", "low-water");
    sandbox.write("far/home/config/secret", "low-water");
    serves_as_a_yard(&sandbox, &yard);
    let _ = climbed_there(&sandbox, "far", &yard, &settings).passed();

    let kept = || walkdir(&sandbox.path("buckets/tide-yard/desk"));
    let file = kept().into_iter().find(|path| path.display().to_string().contains("skerroc")).unwrap();
    let bytes = fs::read(&file).unwrap();
    fs::write(&file, vec![b'?'; bytes.len()]).unwrap();
    let told = sandbox.run(&["yard", "check", &yard]);
    assert!(told.code == 21 && told.stdout.contains("its bytes are others"), "{}", told.complaint());
    let _ = sandbox.run(&["yard", "check", &yard, "--mend"]).passed();
    assert_eq!(fs::read(&file).unwrap(), bytes);

    // In several parts; what is not what was pinned is never put there.
    fs::write(sandbox.path("yard/plank-1.0.dat"), &large).unwrap();
    let digest = kladder_core::base::digest::Digest::of(&large).hex();
    sandbox.write(
        "catalog/tools/plank.toml",
        &format!(
            "tool = \"plank\"\nsummary = \"A plank\"\nlicence = \"MIT\"\n[[releases]]\nversion = \"1.0\"\n\
             [[releases.artifacts]]\nfor = [\"any\"]\nfile = \"plank-1.0.dat\"\nunpack = {{ layout = \"whole\" }}\nsize = {}\nsha256 = \"{digest}\"\n",
            large.len()
        ),
    );
    sandbox.wish("plank = \"1.0\"");
    let _ = sandbox.run(&["yard", "fill", &yard]).passed();
    assert_eq!(fs::read(sandbox.path("buckets/tide-yard/desk/plank-1.0.dat")).unwrap(), large);
    let told = sandbox.run(&["yard", "check", &yard, "--json"]).passed().json();
    assert_eq!(told["files"][0]["state"], "whole", "{told}");
    drop(server);
    let gone = sandbox.run(&["yard", "check", &yard]);
    assert!(gone.code == 20 && gone.stderr.contains("cannot be looked into"), "{}", gone.complaint());
}

#[test]
fn a_registry_of_images_is_filled_checked_and_climbed_from() {
    let sandbox = Sandbox::new();
    // `gannet` with the password `low-water`.
    sandbox.write("registry/people", "gannet:$2y$05$abcdefghijklmnopqrstuuIa0x42CYKmSiuhwwnqhP/A2xz7J/8lS\n");
    let server = Server::start("docker-registry", |command, port| {
        let folder = sandbox.path("registry");
        let settings = format!(
            "version: 0.1\nstorage:\n  filesystem:\n    rootdirectory: {}\nhttp:\n  addr: 127.0.0.1:{port}\n\
             auth:\n  htpasswd:\n    realm: tide\n    path: {}\n",
            folder.join("store").display(),
            folder.join("people").display()
        );
        sandbox.write("registry/config.yml", &settings);
        command.arg("serve").arg(folder.join("config.yml"));
    });
    let Some(server) = server else { return };
    let yard = format!("oci://127.0.0.1:{}/tide/yard", server.port);
    sandbox.wish(DESK);
    let refused = sandbox.run(&["yard", "fill", &yard]);
    assert!(refused.code == 20 && refused.stderr.contains("[sign-in]"), "{}", refused.complaint());
    let settings = signed(&sandbox, &format!("127.0.0.1:{}", server.port), "low-water");
    serves_as_a_yard(&sandbox, &yard);
    let _ = climbed_there(&sandbox, "far", &yard, &settings).passed();

    // Whatever a tag says: an artifact is asked for by its digest.
    let blob = |path: &PathBuf| path.ends_with("data") && fs::metadata(path).is_ok_and(|meta| meta.len() > 1000);
    let blobs: Vec<_> = walkdir(&sandbox.path("registry/store")).into_iter().filter(blob).collect();
    assert!(blobs.len() >= 2, "{blobs:?}");
    let bytes = fs::read(&blobs[0]).unwrap();
    fs::write(&blobs[0], vec![b'?'; bytes.len()]).unwrap();
    let told = sandbox.run(&["yard", "check", &yard, "--mend"]);
    assert!(told.code == 20 && told.stderr.contains("keeps what it has by its digest"), "{}", told.complaint());
    fs::write(&blobs[0], bytes).unwrap();
    let _ = sandbox.run(&["yard", "check", &yard]).passed();
}

#[test]
fn a_machine_that_shares_is_enough_for_one_that_names_it() {
    let sandbox = Sandbox::new();
    sandbox.wish(DESK);
    let _ = sandbox.run(&["climb"]).passed();
    let port = TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap().port();
    let own = sandbox.read("home/config/config.toml");
    sandbox.write("home/config/config.toml", &format!("{own}\n[neighbours]\nfind = false\nport = {port}\n"));
    let shares = Server { child: sandbox.start(&["yard", "share"]), port };
    let since = Instant::now();
    while TcpStream::connect(("127.0.0.1", port)).is_err() {
        assert!(since.elapsed() < Duration::from_secs(20), "nobody listens");
        std::thread::sleep(Duration::from_millis(20));
    }
    let settings = format!("[neighbours]\nfind = false\nnamed = [\"127.0.0.1:{port}\"]\n");
    // The yard that is named has nothing; nor has anybody once the other one is gone.
    fs::create_dir_all(sandbox.path("nothing")).unwrap();
    let nothing = sandbox.path("nothing").display().to_string();
    let _ = climbed_there(&sandbox, "far", &nothing, &settings).passed();
    let again = sandbox.run(&["yard", "share"]);
    assert!(again.code != 0 && again.stderr.contains("`port` under `[neighbours]`"), "{}", again.complaint());
    drop(shares);
    let alone = climbed_there(&sandbox, "alone", &nothing, &settings);
    assert_eq!(alone.code, 20, "{}", alone.complaint());
}

//! A room of machines: network namespaces on one bridge, each behind links of a given rate, and one origin behind another.
//!
//! Needs root, `ip`, `tc` and `nsenter`. What is told: how long one alone takes, how long all together take, and how often each byte
//! left the origin.

use std::fs;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

use kladder_core::base::digest::Digest;

use crate::scene::{Checked, Told};

/// Files of the ladder, and bytes of each.
const FILES: usize = 12;

/// Namespaces that go when it is dropped.
struct Room {
    folder: tempfile::TempDir,
    kladder: PathBuf,
    rate: String,
    names: Vec<String>,
}

impl Drop for Room {
    fn drop(&mut self) {
        for name in &self.names {
            let _ = run("ip", &["netns", "del", name]);
        }
    }
}

fn run(program: &str, arguments: &[&str]) -> Checked {
    let output = Command::new(program).args(arguments).output().told(program)?;
    if output.status.success() {
        return Ok(());
    }
    Err(format!("{program} {}: {}", arguments.join(" "), String::from_utf8_lossy(&output.stderr)))
}

impl Room {
    /// A bridge in a namespace of its own; machines are put beside it.
    fn new(kladder: &Path, rate: u64, bytes: usize) -> Checked<Self> {
        let folder = tempfile::Builder::new().prefix("kladder-room-").tempdir().told("a temporary folder")?;
        let kladder = kladder.canonicalize().told("the program")?;
        let mut room = Self { folder, kladder, rate: format!("{rate}mbit"), names: Vec::new() };
        let hub = room.space("hub")?;
        run("ip", &["-n", &hub, "link", "add", "bridge", "type", "bridge"])?;
        run("ip", &["-n", &hub, "link", "set", "bridge", "up"])?;
        room.machine("origin", 1)?;
        room.stock(bytes)?;
        Ok(room)
    }

    fn path(&self, path: &str) -> PathBuf {
        self.folder.path().join(path)
    }

    fn space(&mut self, name: &str) -> Checked<String> {
        let name = format!("klr{}{name}", std::process::id());
        run("ip", &["netns", "add", &name])?;
        self.names.push(name.clone());
        Ok(name)
    }

    /// A machine with one link, shaped at both ends.
    fn machine(&mut self, name: &str, number: usize) -> Checked<String> {
        let (own, hub) = (self.space(name)?, self.names[0].clone());
        let (near, far) = ("eth0", format!("to{number}"));
        run("ip", &["-n", &own, "link", "add", near, "type", "veth", "peer", "name", &far, "netns", &hub])?;
        run("ip", &["-n", &hub, "link", "set", &far, "master", "bridge", "up"])?;
        let address = format!("10.77.{}.{}/16", number / 250, number % 250 + 1);
        run("ip", &["-n", &own, "addr", "add", &address, "dev", near])?;
        for device in ["lo", near] {
            run("ip", &["-n", &own, "link", "set", device, "up"])?;
        }
        run("ip", &["-n", &own, "route", "add", "224.0.0.0/4", "dev", near])?;
        for (space, device) in [(&own, near), (&hub, far.as_str())] {
            let shape = ["root", "tbf", "rate", &self.rate, "burst", "128kb", "latency", "200ms"];
            run("tc", &[&["-n", space, "qdisc", "add", "dev", device], &shape[..]].concat())?;
        }
        Ok(own)
    }

    /// Files that nothing makes smaller, and a catalog of them.
    fn stock(&self, bytes: usize) -> Checked {
        for folder in ["yard", "catalog/tools"] {
            fs::create_dir_all(self.path(folder)).told(folder)?;
        }
        fs::write(self.path("catalog/catalog.toml"), "[catalog]\nformat = 2\nname = \"room\"\ntitle = \"A room\"\n")
            .told("the catalog")?;
        for number in 0..FILES {
            let mut dice = 0x9e37_79b9_7f4a_7c15_u64.wrapping_mul(number as u64 + 1);
            let mut file = Vec::with_capacity(bytes);
            while file.len() < bytes {
                dice ^= dice << 13;
                dice ^= dice >> 7;
                dice ^= dice << 17;
                file.extend_from_slice(&dice.to_le_bytes());
            }
            file.truncate(bytes);
            let name = format!("plank{number}");
            fs::write(self.path("yard").join(format!("{name}.dat")), &file).told("the yard")?;
            let definition = format!(
                "tool = \"{name}\"\nsummary = \"A plank\"\n[[releases]]\nversion = \"1.0\"\n\
                 [[releases.artifacts]]\nfor = [\"any\"]\nfile = \"{name}.dat\"\nunpack = {{ layout = \"whole\" }}\n\
                 size = {bytes}\nsha256 = \"{}\"\n",
                Digest::of(&file).hex()
            );
            fs::write(self.path("catalog/tools").join(format!("{name}.toml")), definition).told("the catalog")?;
        }
        Ok(())
    }

    /// A climb of a machine from an empty home.
    fn climb(&self, space: &str, options: &[&str]) -> Checked<Child> {
        let desk = self.path(&format!("{space}/desk"));
        fs::create_dir_all(&desk).told("a desk")?;
        let wishes: String = (0..FILES).map(|number| format!("plank{number} = \"1.0\"\n")).collect();
        let catalog = self.path("catalog");
        fs::write(
            desk.join("ladder.toml"),
            format!("[ladder]\ncatalog = \"{}\"\n[rungs]\n{wishes}", catalog.display()),
        )
        .told("a ladder")?;
        let mut command = Command::new("ip");
        command.args(["netns", "exec", space]).arg(&self.kladder);
        command.args(["climb", "--yes", "--yard", "http://10.77.0.2:7380"]).args(options);
        command.current_dir(&desk).env_clear().env("PATH", "/usr/sbin:/usr/bin:/sbin:/bin");
        command.env("KLADDER_HOME", self.path(&format!("{space}/home"))).env("HOME", self.path("empty"));
        let log = fs::File::create(self.path(&format!("{space}/log"))).told("a log")?;
        command.stdin(Stdio::null()).stdout(log.try_clone().told("a log")?).stderr(log).spawn().told("a climb")
    }

    fn finish(&self, space: &str, mut child: Child) -> Checked {
        let status = child.wait().told("a climb")?;
        if status.success() {
            return Ok(());
        }
        let log = fs::read_to_string(self.path(&format!("{space}/log"))).unwrap_or_default();
        Err(format!("{space} ended with {status}: {log}"))
    }
}

/// Bytes that left a machine.
fn sent(space: &str) -> Checked<u64> {
    let output = Command::new("ip")
        .args(["netns", "exec", space, "cat", "/sys/class/net/eth0/statistics/tx_bytes"])
        .output()
        .told("what was sent")?;
    String::from_utf8_lossy(&output.stdout).trim().parse().told("what was sent")
}

/// One alone, then all at once among neighbours; `megabytes` are those of the whole ladder, `rate` is in Mbit/s.
pub fn climb(kladder: &Path, machines: u64, rate: u64, megabytes: u64) -> Checked {
    let (machines, megabytes) = (usize::try_from(machines).told("machines")?, usize::try_from(megabytes).told("MB")?);
    let bytes = megabytes * 1_000_000 / FILES;
    let mut room = Room::new(kladder, rate, bytes)?;
    let origin = room.names[1].clone();
    let mut server = Command::new("ip")
        .args(["netns", "exec", &origin])
        .arg(&room.kladder)
        .args(["yard", "serve", "--listen", "0.0.0.0:7380"])
        .arg(room.path("yard"))
        .env("KLADDER_HOME", room.path("served"))
        .stdout(Stdio::null())
        .spawn()
        .told("the origin")?;
    std::thread::sleep(Duration::from_secs(1));
    let done = measure(&mut room, &origin, machines, bytes);
    let _ = server.kill();
    let _ = server.wait();
    done
}

fn measure(room: &mut Room, origin: &str, machines: usize, bytes: usize) -> Checked {
    let alone = room.machine("alone", 2)?;
    let since = Instant::now();
    let child = room.climb(&alone, &[])?;
    room.finish(&alone, child)?;
    let one = since.elapsed().as_secs_f64();
    let all: Vec<String> = (0..machines).map(|at| room.machine(&format!("m{at}"), at + 3)).collect::<Checked<_>>()?;
    let (before, since) = (sent(origin)?, Instant::now());
    let climbs: Vec<Child> = all.iter().map(|space| room.climb(space, &["--neighbours"])).collect::<Checked<_>>()?;
    for (space, child) in all.iter().zip(climbs) {
        room.finish(space, child)?;
    }
    let together = since.elapsed().as_secs_f64();
    let hundredths = (sent(origin)? - before) * 100 / (bytes * FILES) as u64;
    println!("one alone                {one:.1} s");
    println!("{machines} machines at once       {together:.1} s, {:.2} x", together / one);
    println!("each byte left the origin {}.{:02} times", hundredths / 100, hundredths % 100);
    Ok(())
}

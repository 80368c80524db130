//! Catalogs from elsewhere: archives and repositories, fetched once, kept, used without a network, brought up to date.

use std::process::Command;

use kladder_pack::{Entry, Format, pack};
use kladder_yard::Yard;

use crate::sandbox::Sandbox;

fn definition(version: &str) -> String {
    format!("tool = \"plank\"\nsummary = \"{version}\"\nhost = {{ command = \"sh\" }}\n")
}

fn catalog(version: &str) -> Vec<Entry> {
    let head = "[catalog]\nformat = 2\nname = \"far\"\ntitle = \"From far away\"\n";
    vec![Entry::file("far-1/catalog.toml", head), Entry::file("far-1/tools/plank.toml", definition(version))]
}

/// A sandbox whose ladder names a catalog at an address, and the server of that.
fn far() -> (Sandbox, Yard, String) {
    let sandbox = Sandbox::new();
    std::fs::create_dir_all(sandbox.path("far")).unwrap();
    pack(Format::TarGz, &catalog("1.0"), &sandbox.path("far/catalog.tar.gz")).unwrap();
    let server = Yard::serve(&sandbox.path("far"), ([127, 0, 0, 1], 0).into()).unwrap();
    let address = format!("{}/catalog.tar.gz", server.url());
    sandbox.edit(
        "desk/ladder.toml",
        "catalog = \"../catalog\"",
        &format!("catalog = [\"../catalog\", \"{address}\", \"starter\"]"),
    );
    (sandbox, server, address)
}

#[test]
fn a_catalog_is_fetched_once_and_brought_up_to_date_when_asked() {
    let (sandbox, server, address) = far();
    let summary = |sandbox: &Sandbox| sandbox.run(&["about", "plank", "--json"]).passed().json()["summary"].to_string();
    let offline = sandbox.run(&["search", "plank", "--offline"]);
    assert!(offline.code == 20 && offline.stderr.contains("was not fetched yet"), "{}", offline.complaint());
    assert_eq!((summary(&sandbox).as_str(), server.requests()), ("\"1.0\"", 1));
    let _ = sandbox.run(&["search", "plank", "--offline"]).passed();
    assert_eq!(server.requests(), 1);
    let listed = sandbox.run(&["catalog", "--json"]).passed().json();
    let from: Vec<_> = listed["catalogs"].as_array().unwrap().iter().map(|one| one["from"].clone()).collect();
    assert_eq!(from, ["here", "elsewhere", "program"]);
    assert_eq!(listed["catalogs"][1]["place"], address.as_str());
    let table = sandbox.run(&["catalog"]).passed().stdout;
    assert!(table.contains("comes with the program") && table.matches("unsigned").count() == 3, "{table}");

    assert!(sandbox.run(&["catalog", "fetch"]).passed().stdout.contains("is as it was."));
    pack(Format::TarGz, &catalog("2.0"), &sandbox.path("far/catalog.tar.gz")).unwrap();
    assert_eq!(summary(&sandbox), "\"1.0\"");
    assert!(sandbox.run(&["catalog", "fetch"]).passed().stdout.contains("has changed; 1 tool now."));
    assert_eq!(summary(&sandbox), "\"2.0\"");
    // What comes next is no catalog; what was there stays.
    for (bad, told) in [("<html>", "could not be unpacked"), ("", "could not be unpacked")] {
        sandbox.write("far/catalog.tar.gz", bad);
        let refused = sandbox.run(&["catalog", "fetch"]);
        assert!(refused.code != 0 && refused.stderr.contains(told), "{}", refused.complaint());
    }
    pack(Format::TarGz, &[Entry::file("x/README", "no catalog")], &sandbox.path("far/catalog.tar.gz")).unwrap();
    assert!(sandbox.run(&["catalog", "fetch"]).stderr.contains("has no catalog.toml at its top"));
    let escape = [Entry::file("../../evil", "x"), Entry::file("catalog.toml", "x")];
    pack(Format::TarGz, &escape, &sandbox.path("far/catalog.tar.gz")).unwrap();
    assert!(sandbox.run(&["catalog", "fetch"]).stderr.contains("could not be unpacked"));
    drop(server);
    assert!(sandbox.run(&["catalog", "fetch"]).stderr.contains("could not be fetched"));
    assert_eq!(summary(&sandbox), "\"2.0\"");
    // Damage leads back by the command that brings it up to date.
    let kept = crate::sandbox::walkdir(&sandbox.path("home/cache/catalogs-fetched"));
    assert_eq!(kept.iter().filter(|path| path.is_file()).count(), 3, "{kept:?}");
    for path in kept.iter().filter(|path| path.ends_with("catalog.toml")) {
        std::fs::remove_file(path).unwrap();
    }
    assert!(sandbox.run(&["about", "plank"]).stderr.contains("could not be fetched"));
}

#[test]
fn a_repository_is_a_catalog_at_a_branch_a_tag_or_a_commit() {
    let sandbox = Sandbox::new();
    let folder = sandbox.path("repository");
    std::fs::create_dir_all(folder.join("tools")).unwrap();
    let git = |words: &[&str]| {
        let mut command = Command::new("git");
        command.args(["-C", folder.to_str().unwrap(), "-c", "user.name=Skua", "-c", "user.email=skua@gauge.example"]);
        let output = command.args(words).env("HOME", &folder).output().unwrap();
        assert!(output.status.success(), "{words:?}: {}", String::from_utf8_lossy(&output.stderr));
        String::from_utf8(output.stdout).unwrap().trim().to_owned()
    };
    git(&["init", "-q", "-b", "main", "."]);
    std::fs::write(folder.join("catalog.toml"), "[catalog]\nformat = 2\nname = \"far\"\n").unwrap();
    let mut commits = Vec::new();
    for version in ["1.0", "2.0"] {
        std::fs::write(folder.join("tools/plank.toml"), definition(version)).unwrap();
        git(&["add", "."]);
        git(&["commit", "-qm", version]);
        git(&["tag", &format!("v{version}")]);
        commits.push(git(&["rev-parse", "HEAD"]));
    }
    let ladder = sandbox.read("desk/ladder.toml");
    for (at, summary) in [("", "2.0"), ("#v1.0", "1.0"), ("#main", "2.0"), (&format!("#{}", commits[0]), "1.0")] {
        let address = format!("file://{}{at}", folder.display());
        sandbox.write("desk/ladder.toml", &ladder.replace("\"../catalog\"", &format!("\"{address}\"")));
        let about = sandbox.run(&["about", "plank", "--json"]).passed().json();
        assert_eq!(about["summary"], summary, "{at}");
    }
    let nowhere = format!("file://{}#v9", folder.display());
    sandbox.write("desk/ladder.toml", &ladder.replace("\"../catalog\"", &format!("\"{nowhere}\"")));
    let refused = sandbox.run(&["about", "plank"]);
    assert!(refused.code == 20 && refused.stderr.contains("v9"), "{}", refused.complaint());
}

#[test]
fn several_at_once_and_kills_leave_one_whole_catalog() {
    let (sandbox, _server, _) = far();
    let mut children: Vec<_> = (0..4).map(|_| sandbox.start(&["catalog", "fetch"])).collect();
    // One of them is killed at some moment; the others do not notice.
    std::thread::sleep(std::time::Duration::from_millis(15));
    let mut killed = children.remove(0);
    let _ = killed.kill();
    let _ = killed.wait();
    for mut child in children {
        assert!(child.wait().unwrap().success());
    }
    let _ = sandbox.run(&["about", "plank", "--offline"]).passed();
    let kept = sandbox.path("home/cache/catalogs-fetched");
    let whole = |name: &str| name.len() == 64;
    let names: Vec<String> =
        std::fs::read_dir(&kept).unwrap().map(|entry| entry.unwrap().file_name().into_string().unwrap()).collect();
    assert_eq!(names.iter().filter(|name| whole(name)).count(), 1, "{names:?}");
    assert!(names.iter().all(|name| whole(name) || name.starts_with("work-")), "{names:?}");
    let _ = sandbox.run(&["clear", "--all", "--yes"]).passed();
    assert!(!kept.exists());
}

#[test]
fn a_newcomer_starts_from_the_catalog_that_comes_along() {
    let sandbox = Sandbox::new();
    sandbox.write("home/config/config.toml", "");
    let folder = sandbox.path("empty");
    std::fs::create_dir_all(&folder).unwrap();
    let run = |arguments: &[&str]| {
        let mut command = sandbox.command(arguments);
        sandbox.finished(command.current_dir(&folder).output().unwrap())
    };
    let presets = run(&["start"]);
    assert!(presets.stderr.contains("`c-and-cpp`") && presets.stderr.contains("`python-data`"), "{}", presets.stderr);
    let _ = run(&["start", "--preset", "c-and-cpp"]).passed();
    assert!(std::fs::read_to_string(folder.join("ladder.toml")).unwrap().contains("catalog = \"starter\""));
    let route = run(&["route"]).passed().stdout;
    assert!(route.contains("zig") && route.contains("The index wheels is not named in config.toml"), "{route}");
    let refused = run(&["climb", "--yes"]);
    assert_eq!(refused.code, 20, "{}", refused.stderr);
    assert!(refused.stderr.contains("nothing was fetched"), "{}", refused.stderr);
    assert!(refused.stderr.contains("debian = { kind = \"debian\", as-configured = true }"), "{}", refused.stderr);
    let pins = std::fs::read_to_string(folder.join("ladder.pinned.toml")).unwrap();
    assert!(pins.contains("name = \"starter\""), "{pins}");
    // A colleague's ladder over it comes along without a catalog of its own.
    let colleague = folder.join("ladder.toml");
    std::fs::create_dir_all(sandbox.path("other")).unwrap();
    let mut start = sandbox.command(&["start", "--from", colleague.to_str().unwrap()]);
    let _ = sandbox.finished(start.current_dir(sandbox.path("other")).output().unwrap()).passed();
    assert!(sandbox.read("other/ladder.toml").contains("catalog = \"starter\""));
}

#[test]
fn a_catalog_may_come_out_of_a_yard_or_a_folder_that_a_server_shows() {
    let sandbox = Sandbox::new();
    std::fs::create_dir_all(sandbox.path("goods/catalogs")).unwrap();
    pack(Format::TarZst, &catalog("1.0"), &sandbox.path("goods/catalogs/far.tar.zst")).unwrap();
    let about = |arguments: &[&str]| sandbox.run(&[&["about", "plank", "--json"], arguments].concat());
    let version = |arguments: &[&str]| about(arguments).passed().json()["summary"].to_string();
    let far = "yard:catalogs/far.tar.zst";
    let missing = about(&["--catalog", far, "--yard", "../elsewhere"]);
    assert!(missing.code == 20 && missing.complaint().contains("no yard has the catalog"), "{}", missing.complaint());
    // The first yard lacks it; the second is a server; what came once is kept.
    let server = Yard::serve(&sandbox.path("goods"), ([127, 0, 0, 1], 0).into()).unwrap();
    assert_eq!(version(&["--catalog", far, "--yard", "../elsewhere", "--yard", &server.url()]), "\"1.0\"");
    pack(Format::TarZst, &catalog("2.0"), &sandbox.path("goods/catalogs/far.tar.zst")).unwrap();
    assert_eq!(version(&["--catalog", far, "--offline"]), "\"1.0\"");
    let _ = sandbox.run(&["catalog", "fetch", "--catalog", far, "--yard", "../goods"]).passed();
    assert_eq!(version(&["--catalog", far, "--offline"]), "\"2.0\"");

    // A server shows folders as pages; what leads out of them is not followed, and what is no plain name is not taken.
    let page = |folder: &str, links: &[&str]| {
        let links: String = links.iter().map(|link| format!("<a href=\"{link}\">x</a>")).collect();
        sandbox.write(&format!("shown/{folder}index.html"), &format!("<html>{links}"));
    };
    sandbox.write("shown/catalog.toml", "[catalog]\nformat = 2\nname = \"shown\"\ntitle = \"Shown\"\n");
    sandbox.write("shown/tools/plank.toml", &definition("3.0"));
    page("", &["../", "?C=N;O=D", "catalog.toml", "tools/", "/etc/passwd", "gone.txt", "%2e%2e%2fout"]);
    page("tools/", &["../", "./plank.toml", "http://elsewhere.example/evil.toml", "a%2Fb.toml"]);
    let shown = Yard::serve(&sandbox.path("shown"), ([127, 0, 0, 1], 0).into()).unwrap();
    let address = format!("{}/", shown.url());
    assert_eq!(version(&["--catalog", &address]), "\"3.0\"");
    // It goes before the ladder's own, and several count in their order.
    assert_eq!(version(&["--catalog", far, "--catalog", &address, "--offline"]), "\"2.0\"");
    let listed = sandbox.run(&["catalog", "--json", "--catalog", far, "--catalog", "starter"]).passed().json();
    assert_eq!(listed["catalogs"].as_array().unwrap().len(), 2);
    let refused = |catalog: &str, told: &str| {
        let ran = sandbox.run(&["search", "plank", "--catalog", catalog]);
        assert!(ran.code != 0 && ran.stderr.contains(told), "{catalog}: {}", ran.complaint());
    };
    refused("yard:../../etc/passwd", "is no path in a yard");
    refused("yard:", "is no path in a yard");
    refused("../nowhere", "check `--catalog`");
    sandbox.write("bare/catalog.toml", "name = \"bare\"\n");
    refused("../bare", "begin it with `[catalog]`");
    sandbox.write("desk/other.toml", "catalog = \"../catalog\"\n");
    let ran = sandbox.run(&["pin", "--ladder", "other.toml"]);
    assert!(ran.stderr.contains("write it in the table `[ladder]`"), "{}", ran.complaint());
    // What goes round is told, and does not go on for ever.
    page("", &["catalog.toml", "tools/", "again/"]);
    std::os::unix::fs::symlink(sandbox.path("shown"), sandbox.path("shown/again")).unwrap();
    let round = sandbox.run(&["catalog", "fetch", "--catalog", &address]);
    assert!(round.code == 20 && round.stderr.contains("deeper than 8"), "{}", round.complaint());
    assert_eq!(version(&["--catalog", &address]), "\"3.0\"");
}

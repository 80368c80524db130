//! Sets whose libraries are chosen from indexes: which versions, for whom, from where, and what is said where there is no choice.

use std::collections::BTreeMap;
use std::fmt::Write;

use kladder_core::base::digest;
use kladder_pack::{Entry, Format, pack, with_record};
use kladder_yard::{Rule, Settings, Yard};

use crate::sandbox::{Ran, Sandbox};

/// A runtime that tells of its libraries as the real one does, and runs a cell.
const RUNTIME: &str = "#!/bin/sh\n[ \"$1\" = --version ] && { echo \"plank 3.11.4\"; exit; }\n\
            [ \"$1\" = kernel.py ] && { echo the cell was run by /plank; exit; }\n\
            [ -n \"$VIRTUAL_ENV\" ] && PYTHONPATH=$VIRTUAL_ENV/lib/python3.11/site-packages\n\
            for info in \"$PYTHONPATH\"/*.dist-info; do [ -e \"$info\" ] && sed -n 's/^Name: //p;s/^Version: //p' \"$info/METADATA\" | paste -sd' '; done; true\n";

/// A sandbox with a runtime, and indexes of wheels at one server.
struct Scene {
    sandbox: Sandbox,
    server: Yard,
    files: BTreeMap<(String, String), Vec<String>>,
}

/// What a wheel says of itself, and how its index lists it.
#[derive(Clone, Default)]
struct Made<'m> {
    index: &'m str,
    name: &'m str,
    version: &'m str,
    tag: &'m str,
    needs: &'m [&'m str],
    listed: &'m str,
    /// A further file, and what is in it.
    more: Option<(&'m str, &'m str)>,
}

const PURE: Made<'static> =
    Made { index: "wheels", name: "", version: "", tag: "py3-none-any", needs: &[], listed: "", more: None };

impl Scene {
    fn new(rules: Vec<Rule>) -> Self {
        let sandbox = Sandbox::new();
        sandbox.plank("plank.tar.gz", &[Entry::program("bin/plank", RUNTIME)], "commands.plank = \"bin/plank\"");
        sandbox.edit("catalog/tools/plank.toml", "version = \"1.0\"", "version = \"3.11.4\"");
        std::fs::create_dir_all(sandbox.path("maker/files")).unwrap();
        let settings = Settings { folder: sandbox.path("maker"), rules, ..Settings::default() };
        let server = Yard::with(settings, ([127, 0, 0, 1], 0).into()).unwrap();
        let url = server.url();
        let each =
            ["wheels", "harbour"].map(|name| format!("{name} = {{ kind = \"python\", address = \"{url}/{name}\" }}\n"));
        sandbox.write("home/config/config.toml", &format!("[indexes]\n{}", each.concat()));
        Self { sandbox, server, files: BTreeMap::new() }
    }

    /// Wheels of the index `wheels`, as `NAME VERSION: NEED; NEED`.
    fn with(lines: &[&str]) -> Self {
        let mut scene = Self::new(Vec::new());
        for line in lines {
            let (what, needs) = line.split_once(':').unwrap_or((line, ""));
            let (name, version) = what.split_once(' ').unwrap();
            let needs: Vec<&str> = needs.split('/').map(str::trim).filter(|need| !need.is_empty()).collect();
            scene.wheel(&Made { name, version, needs: &needs, ..PURE });
        }
        scene
    }

    fn wheel(&mut self, made: &Made<'_>) {
        let Made { index, name, version, tag, needs, listed, more } = made;
        let info = format!("{name}-{version}.dist-info");
        let needs: String = needs.iter().map(|need| format!("Requires-Dist: {need}\n")).collect();
        let metadata = format!("Metadata-Version: 2.1\nName: {name}\nVersion: {version}\n{needs}\nWords.\n");
        let more = more.iter().map(|(path, text)| Entry::file(path, *text));
        let entries = [
            Entry::file(&format!("{name}/__init__.py"), format!("# {name} {version} {index}\n")),
            Entry::file(&format!("{info}/METADATA"), metadata),
            Entry::file(&format!("{info}/WHEEL"), "Wheel-Version: 1.0\n"),
        ];
        let file = format!("{name}-{version}-{tag}.whl");
        let path = self.sandbox.path("maker/files").join(&file);
        pack(Format::Zip, &with_record(entries.into_iter().chain(more).collect(), &info), &path).unwrap();
        let (sha256, size) = digest::of_file(&path).unwrap();
        let comma = if listed.is_empty() { "" } else { ", " };
        self.list(index, name, &format!(
            r#"{{"filename": "{file}", "url": "/files/{file}", "size": {size}, "hashes": {{"sha256": "{sha256}"}}{comma}{listed}}}"#
        ));
    }

    fn list(&mut self, index: &str, name: &str, file: &str) {
        let all = self.files.entry((index.to_owned(), name.to_owned())).or_default();
        all.push(file.to_owned());
        let answer =
            format!(r#"{{"meta": {{"api-version": "1.1"}}, "name": "{name}", "files": [{}]}}"#, all.join(", "));
        self.sandbox.write(&format!("maker/{index}/{name}/index.json"), &answer);
    }

    /// The ladder wants these, `NAME = WISH` a line, and more keys of the set.
    fn want(&self, libraries: &str, more: &str) -> &Self {
        let set =
            format!("plank = \"any\"\n\n[sets.tides]\nof = \"plank\"\n{more}\n[sets.tides.libraries]\n{libraries}");
        self.sandbox.wish(&set);
        self
    }

    fn pin(&self) -> Ran {
        self.sandbox.run(&["pin"])
    }

    fn lock(&self) -> String {
        self.sandbox.read("desk/pylock.tides.toml")
    }

    /// `NAME VERSION` of each library that is locked.
    fn locked(&self) -> Vec<String> {
        let mut all = Vec::new();
        let (lock, mut name) = (self.lock(), String::new());
        for line in lock.lines() {
            if let Some(found) = line.strip_prefix("name = ") {
                found.trim_matches('"').clone_into(&mut name);
            } else if let Some(version) = line.strip_prefix("version = ") {
                all.push(format!("{name} {}", version.trim_matches('"')));
            }
        }
        all
    }

    #[track_caller]
    fn chooses(&self, expected: &[&str]) {
        let _ = self.pin().passed();
        assert_eq!(self.locked(), expected);
    }
}

#[test]
fn libraries_are_chosen_with_all_they_need_and_stay_until_they_are_let_go() {
    let mut scene = Scene::with(&["gauge 1.0: lamp>=1", "gauge 2.0: lamp>=1,<3", "lamp 1.0", "lamp 2.5", "lamp 3.0"]);
    scene.want("gauge = \"any\"", "").chooses(&["gauge 2.0", "lamp 2.5"]);
    // Libraries are no rungs: whoever takes them for some is told where they stand.
    for (command, told) in [("add", "[sets.tides.libraries]"), ("drop", "it is a library of the set tides")] {
        let said = scene.sandbox.run(&[command, "gauge"]);
        assert!(said.code == 11 && said.stderr.contains(told), "{}", said.complaint());
    }
    let asked = scene.server.requests();
    assert!(scene.pin().passed().stdout.contains("nothing moved"));
    assert_eq!(scene.server.requests(), asked, "what is locked is not looked up");
    scene.wheel(&Made { name: "gauge", version: "2.1", needs: &["lamp"], ..PURE });
    // A wish that was changed moves what has to move, and nothing else.
    scene.want("gauge = \">=1\"", "").chooses(&["gauge 2.0", "lamp 2.5"]);
    let newer = scene.sandbox.run(&["newer"]).passed().stdout;
    assert!(
        newer.contains("gauge in tides: 2.1 after 2.0") && newer.contains("lamp in tides: 3.0 after 2.5"),
        "{newer}"
    );
    let _ = scene.sandbox.run(&["pin", "--move", "gauge"]).passed();
    assert_eq!(scene.locked(), ["gauge 2.1", "lamp 2.5"]);
    let _ = scene.sandbox.run(&["newer", "--take"]).passed();
    assert_eq!(scene.locked(), ["gauge 2.1", "lamp 3.0"]);
    let seen = || scene.sandbox.run(&["run", "--set", "tides", "--", "plank"]).passed().stdout;
    assert_eq!(seen(), "gauge 2.1\nlamp 3.0\n");
    let why = scene.sandbox.run(&["why", "Lamp"]).passed().stdout;
    assert!(why.contains("gauge 2.1 needs it") && why.contains("from the index wheels"), "{why}");
    // What another installer put elsewhere is told, and so is the set that one is in.
    let info = "user/.local/lib/python3.11/site-packages/Lamp-9.0.dist-info";
    scene.sandbox.write(&format!("{info}/INSTALLER"), "gull\n");
    let why = scene.sandbox.run(&["run", "--set", "tides", "--", "sh", "-c", "echo $VIRTUAL_ENV"]).passed().stdout;
    let mut within = scene.sandbox.command(&["why", "lamp"]);
    let told = scene
        .sandbox
        .finished(
            within
                .env(
                    "VIRTUAL_ENV",
                    why.trim().replace("SANDBOX", scene.sandbox.path("").display().to_string().trim_end_matches('/')),
                )
                .output()
                .unwrap(),
        )
        .passed()
        .stdout;
    assert!(told.contains("Another one, 9.0, lies in") && told.contains("put there by gull: no set sees it"), "{told}");
    assert!(told.contains("You work in the set tides here."), "{told}");
    let told = scene.sandbox.run(&["verify"]).passed().stdout;
    assert!(told.contains("lamp 9.0 is in") && told.contains("where no set sees it: `kladder why lamp`"), "{told}");
    // The way back takes the lock file along, so that the next climb does not undo it.
    scene.want("gauge = \"1.0\"", "");
    let _ = scene.sandbox.run(&["climb"]).passed();
    let _ = scene.sandbox.run(&["back"]).passed();
    assert_eq!((scene.locked(), seen()), (vec!["gauge 2.1".into(), "lamp 3.0".into()], "gauge 2.1\nlamp 3.0\n".into()));
}

#[test]
fn previews_and_what_was_taken_back_come_only_where_they_are_asked_for() {
    let mut scene = Scene::with(&["gauge 1.0", "gauge 2.0rc1", "gauge 1.1.post1", "lamp 0.1a1"]);
    scene.wheel(&Made { name: "gauge", version: "1.2", listed: r#""yanked": "it floods""#, ..PURE });
    scene.wheel(&Made { name: "gauge", version: "1.3", listed: r#""requires-python": ">=3.12""#, ..PURE });
    scene.wheel(&Made { name: "gauge", version: "1.4", tag: "cp311-cp311-win_amd64", ..PURE });
    for (wish, taken) in [
        ("any", "1.1.post1"),
        ("=1.2", "1.2"),
        (">=2.0rc1", "2.0rc1"),
        ("1.0", "1.0"),
        ("~=1.0", "1.1.post1"),
        ("!=1.1.post1, <2", "1.0"),
    ] {
        let _ = std::fs::remove_file(scene.sandbox.path("desk/pylock.tides.toml"));
        scene.want(&format!("gauge = \"{wish}\""), "").chooses(&[&format!("gauge {taken}")]);
    }
    scene.want("lamp = \"any\"", "").chooses(&["lamp 0.1a1"]);
    // What is locked stays when its maker takes it back later.
    scene.want("gauge = \"1.0\"", "").chooses(&["gauge 1.0"]);
    let listed = scene.files[&("wheels".to_owned(), "gauge".to_owned())][0].replace("}}", "}, \"yanked\": true}");
    scene.files.get_mut(&("wheels".to_owned(), "gauge".to_owned())).unwrap()[0] = listed;
    scene.wheel(&Made { name: "gauge", version: "0.9", ..PURE });
    scene.want("gauge = \"<1.1\"", "").chooses(&["gauge 1.0"]);
}

#[test]
fn pieces_and_markers_lead_to_what_they_need_there() {
    let scene = Scene::with(&[
        "gauge 1.0: lamp; extra == 'light' / rope; python_version < '3' / bell[loud]; sys_platform == 'linux' / reed; sys_platform == 'darwin'",
        "lamp 1.0: oil; platform_machine == 'aarch64'",
        "bell 2.0: clapper; extra == 'loud'",
        "oil 1.0",
        "clapper 1.0",
        "reed 1.0",
    ]);
    let machines = "desk = \"linux/x86_64\"\nboard = \"linux/aarch64\"\nlaptop = \"macos/aarch64\"";
    scene.want("gauge = { pieces = [\"light\"] }", "");
    scene.sandbox.edit("desk/ladder.toml", "[rungs]", &format!("[machines]\n{machines}\n[rungs]"));
    scene.chooses(&["bell 2.0", "clapper 1.0", "gauge 1.0", "lamp 1.0", "oil 1.0", "reed 1.0"]);
    let pins = scene.sandbox.read("desk/ladder.pinned.toml");
    let of = |platform: &str| {
        let start = pins.find("[rungs.tides]").unwrap();
        pins[start..].lines().find(|line| line.starts_with(&format!("artifacts.\"{platform}\""))).unwrap().to_owned()
    };
    for (platform, there, not) in [
        ("linux/x86_64", ["bell", "clapper"], ["oil", "reed"]),
        ("linux/aarch64", ["bell", "oil"], ["reed", "rope"]),
        ("macos/aarch64", ["lamp", "reed"], ["bell", "oil"]),
    ] {
        let line = of(platform);
        assert!(there.iter().all(|name| line.contains(&format!("\"{name}-"))), "{platform}: {line}");
        assert!(not.iter().all(|name| !line.contains(&format!("\"{name}-"))), "{platform}: {line}");
    }
    assert!(scene.pin().passed().stdout.contains("nothing moved"));
}

#[test]
fn the_runtime_counts_with_its_patch_level() {
    let mut scene = Scene::with(&["gauge 1.0: lamp; python_full_version < '3.11.5'", "lamp 1.0"]);
    scene.wheel(&Made { name: "gauge", version: "2.0", listed: r#""requires-python": ">=3.11.5""#, ..PURE });
    scene.want("gauge = \"any\"", "").chooses(&["gauge 1.0", "lamp 1.0"]);
    let of = |version: &str| {
        let definition = scene.sandbox.read("catalog/tools/plank.toml");
        let release = definition.split_once("[[releases]]").unwrap().1.replace("3.11.4", version);
        scene.sandbox.write("catalog/tools/plank.toml", &format!("{definition}[[releases]]{release}"));
    };
    // A newer one comes out: what is locked stays, and what is let go may count on it.
    of("3.11.6");
    assert!(scene.pin().passed().stdout.contains("nothing moved"));
    let _ = scene.sandbox.run(&["pin", "--move", "tides", "--move", "plank"]).passed();
    assert_eq!(scene.locked(), ["gauge 2.0"]);
    let pins = scene.sandbox.read("desk/ladder.pinned.toml");
    assert!(pins.contains("version = \"3.11.6\""), "{pins}");
    // Where the ladder holds the runtime at an older one, the libraries go along.
    scene.want("gauge = \"any\"", "");
    scene.sandbox.edit("desk/ladder.toml", "plank = \"any\"", "plank = \"=3.11.4\"");
    scene.chooses(&["gauge 1.0", "lamp 1.0"]);
}

#[test]
fn machines_get_one_version_where_there_is_one_for_all() {
    let mut scene = Scene::new(Vec::new());
    for (version, platforms) in [
        ("1.0", &["manylinux_2_17_x86_64", "macosx_11_0_arm64"][..]),
        ("2.0", &["manylinux_2_17_x86_64"]),
        ("3.0", &["macosx_11_0_arm64"]),
    ] {
        for platform in platforms {
            let tag = format!("cp311-cp311-{platform}");
            scene.wheel(&Made { name: "gauge", version, tag: &tag, ..PURE });
        }
    }
    let machines = "[machines]\ndesk = \"linux/x86_64\"\nlaptop = \"macos/aarch64\"\n[rungs]";
    scene.want("gauge = \"any\"", "");
    scene.sandbox.edit("desk/ladder.toml", "[rungs]", machines);
    scene.chooses(&["gauge 1.0"]);
    // Where there is none for all, each gets its own.
    scene.want("gauge = \">1\"", "");
    scene.sandbox.edit("desk/ladder.toml", "[rungs]", machines);
    scene.chooses(&["gauge 2.0", "gauge 3.0"]);
    assert!(scene.lock().contains("marker = \"sys_platform == 'darwin' and platform_machine == 'arm64'\""));
}

#[test]
fn a_library_that_several_indexes_have_comes_from_the_one_that_is_told() {
    let mut scene = Scene::with(&["gauge 1.0: lamp", "lamp 1.0"]);
    scene.wheel(&Made { index: "harbour", name: "lamp", version: "99.0", ..PURE });
    let both = "indexes = [\"wheels\", \"harbour\"]";
    let refused = scene.want("gauge = \"any\"", both).pin();
    assert_eq!(refused.code, 10, "{}", refused.complaint());
    assert!(refused.stderr.contains("lamp is in several indexes: harbour, wheels"), "{}", refused.stderr);
    assert!(refused.stderr.contains("from.lamp = \"harbour\""), "{}", refused.stderr);
    assert!(!scene.sandbox.path("desk/pylock.tides.toml").exists());
    scene.want("gauge = \"any\"", &format!("{both}\nfrom.lamp = \"wheels\"")).chooses(&["gauge 1.0", "lamp 1.0"]);
    scene.want("gauge = \"any\"", &format!("{both}\nfrom.lamp = \"harbour\"")).chooses(&["gauge 1.0", "lamp 99.0"]);
    // An index that does not answer may have it, too.
    let config = scene.sandbox.read("home/config/config.toml");
    let (_, harbour) = config.rsplit_once("address = ").unwrap();
    scene.sandbox.edit("home/config/config.toml", harbour, "\"http://127.0.0.1:9/x/\" }\n");
    let silent = scene.want("gauge = \"any\"", &format!("{both}\nfrom.lamp = \"wheels\"")).pin();
    assert_eq!((silent.code, silent.stderr.contains("gauge cannot be looked up")), (20, true), "{}", silent.stderr);
}

#[test]
fn a_library_may_be_a_tool_of_the_catalog_and_comes_from_its_yard() {
    let mut scene = Scene::with(&["gauge 1.0: lamp>=2", "lamp 1.0"]);
    for version in ["2.1", "3.0"] {
        scene.wheel(&Made { index: "nowhere", name: "lamp", version, needs: &["gauge"], ..PURE });
    }
    let release = |version: &str, folder: &str| {
        let file = format!("lamp-{version}-py3-none-any.whl");
        let from = scene.sandbox.path("maker/files").join(&file);
        let (sha256, size) = digest::of_file(&from).unwrap();
        let to = scene.sandbox.path("yard").join(folder);
        std::fs::create_dir_all(&to).unwrap();
        std::fs::rename(from, to.join(&file)).unwrap();
        format!(
            "[[releases]]\nversion = \"{version}\"\nartifacts = [{{ file = \"{folder}{file}\", size = {size}, sha256 = \"{sha256}\" }}]\n"
        )
    };
    let head = "tool = \"lamp\"\nkind = \"library\"\nsummary = \"A lamp\"\n";
    let first = format!("{head}{}", release("2.1", ""));
    scene.sandbox.write("catalog/tools/lamp.toml", &first);
    // Who does not ask for it does not get it: the index has no such version.
    let asks = |more: &str| scene.want("gauge = \"any\"", more).pin();
    assert_eq!(asks("").code, 12);
    scene.want("gauge = \"any\"", "from.lamp = \"catalog\"").chooses(&["gauge 1.0", "lamp 2.1"]);
    assert!(scene.lock().contains(", path = \"lamp-2.1-py3-none-any.whl\", "), "{}", scene.lock());
    let both = asks("indexes = [\"wheels\", \"catalog\"]\n");
    assert!(
        both.code == 10 && both.stderr.contains("lamp is in several indexes: catalog, wheels"),
        "{}",
        both.complaint()
    );
    let _ = scene.want("gauge = \"any\"", "from.lamp = \"catalog\"").sandbox.run(&["climb"]).passed();
    let told = scene.sandbox.run(&["run", "--set", "tides", "--", "plank"]).passed().stdout;
    assert_eq!(told, "gauge 1.0\nlamp 2.1\n");
    let _ = scene.sandbox.run(&["verify"]).passed();
    let why = scene.sandbox.run(&["why", "lamp", "--json"]).passed().json();
    assert!(why.to_string().contains("2.1"), "{why}");
    // Where nobody says how large it is, and no yard has it.
    let size = first.split("size = ").nth(1).unwrap().split(',').next().unwrap();
    scene.sandbox.write("catalog/tools/lamp.toml", &first.replace(&format!(", size = {size}"), ""));
    std::fs::remove_file(scene.sandbox.path("desk/pylock.tides.toml")).unwrap();
    let (there, away) = (scene.sandbox.path("yard"), scene.sandbox.path("away"));
    std::fs::rename(&there, &away).unwrap();
    std::fs::remove_dir_all(scene.sandbox.path("home/cache")).unwrap();
    let told = scene.pin();
    assert!(told.code == 20 && told.stderr.contains("no yard has lamp-2.1"), "{}", told.complaint());
    std::fs::rename(&away, &there).unwrap();
    scene.chooses(&["gauge 1.0", "lamp 2.1"]);
    // Nobody can call an index so.
    let config = scene.sandbox.read("home/config/config.toml");
    scene.sandbox.write("home/config/config.toml", &config.replace("harbour = ", "catalog = "));
    let told = scene.pin();
    assert!(told.code == 10 && told.stderr.contains("call the index otherwise"), "{}", told.complaint());
    scene.sandbox.write("home/config/config.toml", &config);
    // A lock file has no folders of yards.
    scene.sandbox.write("catalog/tools/lamp.toml", &(first + &release("3.0", "deep/")));
    let told = scene.sandbox.run(&["pin", "--move", "lamp"]);
    assert!(told.code == 10 && told.stderr.contains("at the yard's top"), "{}", told.complaint());
}

#[test]
fn a_clash_is_told_with_who_needs_what_and_a_way_out() {
    let scene = Scene::with(&[
        "gauge 1.0: lamp<2",
        "gauge 2.0: lamp<2",
        "tide 1.0: lamp>=2",
        "lamp 1.0",
        "lamp 2.0",
        "oil 1.0",
    ]);
    let told = scene.want("gauge = \"any\"\noil = \"any\"\ntide = \"any\"", "").pin();
    assert_eq!(told.code, 12, "{}", told.complaint());
    for line in [
        "the ladder wants gauge",
        "the ladder wants tide",
        "gauge 1.0 to 2.0 (2 of its versions) need lamp <2",
        "tide 1.0 needs lamp >=2",
        "leave gauge out",
    ] {
        assert!(told.stderr.contains(line), "{line}: {}", told.stderr);
    }
    assert!(!told.stderr.contains("oil"), "what does not matter is not told: {}", told.stderr);
    let told = |wish: &str| {
        let told = scene.want(wish, "").pin();
        (told.code, told.stderr)
    };
    let (code, text) = told("lamp = \">=3\"");
    assert_eq!(code, 12);
    assert!(text.contains("lamp is there for 3.11 on PLATFORM at 1.0 and 2.0"), "{text}");
    assert!(text.contains("with `lamp = \"any\"` it would be 2.0"), "{text}");
    let (code, text) = told("gull = \"any\"");
    assert!(code == 12 && text.contains("no index has gull"), "{text}");
}

#[test]
fn metadata_beside_the_wheel_spares_the_wheel_and_is_not_believed_blindly() {
    let scene = |listed: &str| {
        let mut scene = Scene::new(Vec::new());
        scene.wheel(&Made { name: "gauge", version: "1.0", needs: &["lamp"], listed, ..PURE });
        scene.wheel(&Made { name: "lamp", version: "1.0", ..PURE });
        scene.sandbox.write(
            "maker/files/gauge-1.0-py3-none-any.whl.metadata",
            "Metadata-Version: 2.1\nName: gauge\nVersion: 1.0\n",
        );
        scene
    };
    scene(r#""core-metadata": true"#).want("gauge = \"any\"", "").chooses(&["gauge 1.0"]);
    // Other bytes than are listed are no metadata; the wheel itself tells.
    let other = format!(r#""core-metadata": {{"sha256": "{}"}}"#, "0".repeat(64));
    scene(&other).want("gauge = \"any\"", "").chooses(&["gauge 1.0", "lamp 1.0"]);
    scene("").want("gauge = \"any\"", "").chooses(&["gauge 1.0", "lamp 1.0"]);
}

#[test]
fn what_lies_or_cannot_be_read_is_passed_over_or_refused() {
    let deep = format!("lamp; {}os_name == 'posix'{}", "(".repeat(20_000), ")".repeat(20_000));
    let mut scene = Scene::with(&["gauge 1.0", "lamp 1.0"]);
    scene.wheel(&Made { name: "gauge", version: "2.0", needs: &["lamp>dev"], ..PURE });
    scene.wheel(&Made { name: "gauge", version: "3.0", needs: &[&deep], ..PURE });
    scene.wheel(&Made {
        name: "gauge",
        version: "4.0",
        needs: &["lamp @ https://files.harbour.example/l.whl"],
        ..PURE
    });
    scene.list("wheels", "gauge", r#"{"filename": "gauge-5.0-py3-none-any.whl", "url": "/files/x", "hashes": {}}"#);
    scene.list("wheels", "gauge", r#"{"filename": "../gauge-6.0-py3-none-any.whl", "url": "/f/x", "hashes": {}}"#);
    let nonsense = format!(
        r#"{{"filename": "gauge-tide-py3-none-any.whl", "url": "/x", "hashes": {{"sha256": "{}"}}}}"#,
        "0".repeat(64)
    );
    scene.list("wheels", "gauge", &nonsense);
    scene.want("gauge = \"any\"", "").chooses(&["gauge 1.0"]);
    // A wheel that says that it is something else.
    let path = scene.sandbox.path("maker/files");
    std::fs::copy(path.join("lamp-1.0-py3-none-any.whl"), path.join("bell-1.0-py3-none-any.whl")).unwrap();
    let (sha256, size) = digest::of_file(&path.join("bell-1.0-py3-none-any.whl")).unwrap();
    let mut file = String::new();
    let _ = write!(
        file,
        r#"{{"filename": "bell-1.0-py3-none-any.whl", "url": "/files/bell-1.0-py3-none-any.whl", "size": {size}, "hashes": {{"sha256": "{sha256}"}}}}"#
    );
    scene.list("wheels", "bell", &file);
    let told = scene.want("bell = \"any\"", "").pin();
    assert!(told.code == 12 && told.stderr.contains("bell 1.0"), "{}", told.stderr);
    for (wish, told) in [
        ("gauge = \"latest\"", "the newest is taken by itself"),
        ("gauge = \"^1\"", "compatible with it"),
        ("gauge = \"tide\"", "says no versions"),
        ("\"../gauge\" = \"any\"", "cannot be the name of a library"),
        ("\"g\\u001b[31m\" = \"any\"", "cannot be the name of a library"),
        ("", "which libraries has it?"),
    ] {
        let ran = scene.want(wish, "").pin();
        assert!(
            ran.code == 10 && ran.stderr.contains(told) && !ran.stderr.contains('\u{1b}'),
            "{wish}: {}",
            ran.stderr
        );
    }
    let ran = scene.want("gauge = \"any\"", "lock = \"pylock.toml\"").pin();
    assert!(ran.stderr.contains("either `libraries` or `lock`"), "{}", ran.stderr);
    let ran = scene.want("gauge = \"any\"", "from.gauge = \"gulls\"").pin();
    assert!(ran.stderr.contains("none of the set's `indexes`"), "{}", ran.stderr);
    let ran = scene.want("gauge = \"any\"", "indexes = [\"gulls\"]").pin();
    assert!(ran.code == 20 && ran.stderr.contains("no index is called `gulls`"), "{}", ran.stderr);
}

#[test]
fn a_lock_file_that_is_damaged_or_somebody_elses_is_not_written_over() {
    let scene = Scene::with(&["gauge 1.0"]);
    scene.want("gauge = \"any\"", "").chooses(&["gauge 1.0"]);
    let good = scene.lock();
    assert!(good.contains("size = 8"), "{good}");
    let (path, aside) = (scene.sandbox.path("desk/pylock.tides.toml"), scene.sandbox.path("desk/aside"));
    for (damaged, told) in [
        (good[..good.len() / 2].to_owned(), "pylock.tides.toml"),
        (good.split("[[packages]]").next().unwrap().to_owned(), "not as Kite Ladder wrote it"),
        (good.replace("size = 8", "size = 9"), "not as Kite Ladder wrote it"),
        (good.replace("[tool.kladder]\nwishes", "[tool.kladder]\nwished-by"), "Kite Ladder did not write"),
        (String::new(), "pylock.tides.toml"),
    ] {
        std::fs::write(&path, &damaged).unwrap();
        let ran = scene.pin();
        assert!(ran.code == 10 && ran.stderr.contains(told), "{}", ran.stderr);
        assert!(ran.stderr.contains("move it away"), "{}", ran.stderr);
        assert_eq!(scene.lock(), damaged, "it is still there");
        std::fs::rename(&path, &aside).unwrap();
        let _ = scene.pin().passed();
        assert_eq!(scene.lock(), good);
    }
    // A colleague's ladder brings its lock file along.
    std::fs::create_dir_all(scene.sandbox.path("other")).unwrap();
    let mut start = scene.sandbox.command(&["start", "--from", "../desk"]);
    let started = scene.sandbox.finished(start.current_dir(scene.sandbox.path("other")).output().unwrap());
    assert_eq!(started.code, 0, "{}", started.stderr);
    assert_eq!(scene.sandbox.read("other/pylock.tides.toml"), good);
    // Without a network what is locked is enough, and what is not locked is told.
    let _ = scene.sandbox.run(&["climb"]).passed();
    assert_eq!(scene.sandbox.run(&["--offline", "pin"]).code, 0);
    scene.want("gauge = \"1.0\"", "");
    let offline = scene.sandbox.run(&["--offline", "pin"]);
    assert!(offline.code == 20 && offline.stderr.contains("may not be asked"), "{}", offline.stderr);
}

/// The files of every library below a folder of the shelf, by their inodes.
fn inodes(sandbox: &Sandbox, below: &str) -> BTreeMap<u64, std::path::PathBuf> {
    use std::os::unix::fs::MetadataExt;
    let all = crate::sandbox::walkdir(&sandbox.path(&format!("home/data/shelf/{below}")));
    let code = all.into_iter().filter(|path| path.extension().is_some_and(|end| end == "py"));
    code.map(|path| (std::fs::metadata(&path).unwrap().ino(), path)).collect()
}

#[test]
fn sets_are_put_together_from_the_same_files_and_damage_does_not_spread() {
    let scene = Scene::with(&["gauge 1.0: lamp/oil", "lamp 1.0", "lamp 2.0", "oil 1.0"]);
    let two = "plank = \"any\"\n\n[sets.tides]\nof = \"plank\"\nlibraries.gauge = \"any\"\n\n[sets.buoys]\nof = \"plank\"\n\
               libraries.gauge = \"any\"\nlibraries.lamp = \"<2\"";
    scene.sandbox.wish(two);
    let _ = scene.sandbox.run(&["climb"]).passed();
    let of_set = |set: &str| {
        let all = crate::sandbox::walkdir(&scene.sandbox.path("home/data/ladders"));
        let site = all.into_iter().find(|path| path.ends_with(format!("sets/{set}/lib/python3.11/site-packages")));
        let place = std::fs::read_link(site.unwrap()).unwrap();
        inodes(&scene.sandbox, place.strip_prefix(scene.sandbox.path("home/data/shelf")).unwrap().to_str().unwrap())
    };
    let (tides, buoys) = (of_set("tides"), of_set("buoys"));
    let shared: Vec<&u64> = tides.keys().filter(|inode| buoys.contains_key(inode)).collect();
    assert_eq!((tides.len(), buoys.len(), shared.len()), (3, 3, 2), "{tides:?} {buoys:?}");
    let seen = |set: &str| scene.sandbox.run(&["run", "--set", set, "--", "plank"]).passed().stdout;
    assert_eq!(
        (seen("tides"), seen("buoys")),
        ("gauge 1.0\nlamp 2.0\noil 1.0\n".into(), "gauge 1.0\nlamp 1.0\noil 1.0\n".into())
    );
    let told = scene.sandbox.run(&["vars", "--set", "buoys", "--as", "sh"]).passed().stdout;
    assert!(told.contains("VIRTUAL_ENV") && told.contains("sets/buoys/bin"), "{told}");
    // With several sets of one runtime none answers by itself.
    assert_eq!(scene.sandbox.run(&["run", "--", "plank"]).passed().stdout, "");
    // A file that is damaged is damaged in both; it is seen in both, and both are brought anew from the wheels.
    let oil = tides.values().find(|path| path.ends_with("oil/__init__.py")).unwrap();
    let mut mode = std::fs::metadata(oil).unwrap().permissions();
    std::os::unix::fs::PermissionsExt::set_mode(&mut mode, 0o644);
    std::fs::set_permissions(oil, mode.clone()).unwrap();
    std::fs::write(oil, "# oil 1.0 WHEELS\n").unwrap();
    std::os::unix::fs::PermissionsExt::set_mode(&mut mode, 0o444);
    std::fs::set_permissions(oil, mode).unwrap();
    let verified = scene.sandbox.run(&["verify"]);
    assert_eq!(verified.code, 30, "{}", verified.stdout);
    assert!(verified.stdout.contains("tides") && verified.stdout.contains("buoys"), "{}", verified.stdout);
    let _ = scene.sandbox.run(&["climb"]).passed();
    let _ = scene.sandbox.run(&["verify"]).passed();
    for below in [".sets", ".libraries"] {
        for path in inodes(&scene.sandbox, below).values() {
            let text = std::fs::read_to_string(path).unwrap();
            assert!(text.ends_with("wheels\n"), "{}: {text}", path.display());
        }
    }
    let (tides, buoys) = (of_set("tides"), of_set("buoys"));
    assert_eq!(tides.keys().filter(|inode| buoys.contains_key(inode)).count(), 2, "they are the same files again");
    // What no set has any more goes when it is cleared, and nothing else.
    scene.want("gauge = \"any\"\nlamp = \"<2\"", "");
    let _ = scene.sandbox.run(&["climb"]).passed();
    let _ = scene.sandbox.run(&["clear", "--keep", "1", "--yes"]).passed();
    let left: Vec<String> =
        inodes(&scene.sandbox, ".libraries").values().map(|path| std::fs::read_to_string(path).unwrap()).collect();
    assert!(left.len() == 3 && !left.iter().any(|text| text.contains("lamp 2.0")), "{left:?}");
    let _ = scene.sandbox.run(&["verify"]).passed();
}

#[test]
fn sets_with_the_same_libraries_are_one_place_until_none_is_left() {
    let scene = Scene::with(&["gauge 1.0: oil", "oil 1.0"]);
    let set = |name: &str| format!("[sets.{name}]\nof = \"plank\"\nlibraries.gauge = \"any\"\n\n");
    let wish = |sets: &[&str]| {
        let sets: String = sets.iter().map(|name| set(name)).collect();
        scene.sandbox.wish(&["plank = \"any\"\n\n", &sets].concat());
        let _ = scene.sandbox.run(&["climb"]).passed();
        let _ = scene.sandbox.run(&["clear", "--keep", "1", "--yes"]).passed();
        let _ = scene.sandbox.run(&["verify"]).passed();
        std::fs::read_dir(scene.sandbox.path("home/data/shelf/.sets")).unwrap().count()
    };
    let seen = |set: &str| scene.sandbox.run(&["run", "--set", set, "--", "plank"]).passed().stdout;
    assert_eq!(wish(&["tides", "creeks"]), 1);
    assert_eq!((seen("tides"), seen("creeks")), ("gauge 1.0\noil 1.0\n".into(), "gauge 1.0\noil 1.0\n".into()));
    // One more costs nothing, not even links to its files.
    let links = || inodes(&scene.sandbox, ".sets").values().map(|path| nlink(path)).collect::<Vec<_>>();
    let before = links();
    assert_eq!((wish(&["tides", "creeks", "estuaries"]), links()), (1, before));
    assert_eq!(wish(&["creeks"]), 1);
    assert_eq!(seen("creeks"), "gauge 1.0\noil 1.0\n");
    assert_eq!(wish(&[]), 0);
}

#[test]
fn each_version_of_a_runtime_has_byte_code_of_its_own() {
    let scene = Scene::with(&["gauge 1.0: oil", "oil 1.0"]);
    let runtime = |version: &str| {
        let minor = &version[..4];
        let compiles = format!(
            "case $2 in *py_compile*) find \"$3\" -name '*.py' | while read -r file; do\n\
             code=${{file%/*}}/__pycache__/$(basename \"$file\" .py).cpython-{minor}.pyc\n\
             mkdir -p \"${{code%/*}}\"; [ -e \"$code\" ] || echo {minor} > \"$code\"\ndone; exit ;; esac\n"
        );
        let script = RUNTIME.replace("3.11.4", version).replace("3.11", minor);
        let (first, rest) = script.split_once('\n').unwrap();
        let script = [first, "\n", &compiles, rest].concat();
        let file = format!("plank-{version}.tar.gz");
        scene.sandbox.plank(&file, &[Entry::program("bin/plank", script)], "commands.plank = \"bin/plank\"");
        scene.sandbox.edit("catalog/tools/plank.toml", "version = \"1.0\"", &format!("version = \"{version}\""));
    };
    let code_of_sets = |minor: &str| {
        let all = crate::sandbox::walkdir(&scene.sandbox.path("home/data/shelf/.sets"));
        all.into_iter().filter(|path| path.to_str().unwrap().ends_with(&format!(".cpython-{minor}.pyc"))).count()
    };
    runtime("3.11.4");
    scene.want("gauge = \"any\"", "");
    let _ = scene.sandbox.run(&["climb"]).passed();
    assert_eq!((code_of_sets("3.11"), code_of_sets("3.12")), (2, 0));
    runtime("3.12.1");
    let _ = scene.sandbox.run(&["pin", "--move", "plank"]).passed();
    let _ = scene.sandbox.run(&["climb"]).passed();
    assert_eq!(
        (code_of_sets("3.11"), code_of_sets("3.12")),
        (2, 2),
        "each set has its own, and nothing of the other's"
    );
    let _ = scene.sandbox.run(&["verify"]).passed();
}

fn nlink(path: &std::path::Path) -> u64 {
    std::os::unix::fs::MetadataExt::nlink(&std::fs::metadata(path).unwrap())
}

#[test]
fn the_only_set_of_a_project_answers_in_its_folder_also_after_it_was_moved() {
    let scene = Scene::with(&["gauge 1.0"]);
    scene.want("gauge = \"any\"", "");
    let _ = scene.sandbox.run(&["climb"]).passed();
    let wired = scene.sandbox.path("home/data/wired/commands/plank");
    let seen = |folder: &str| {
        let ran = std::process::Command::new(&wired)
            .current_dir(scene.sandbox.path(folder))
            .env_clear()
            .env("PATH", "/usr/bin:/bin")
            .output()
            .unwrap();
        String::from_utf8(ran.stdout).unwrap()
    };
    let _ = scene.sandbox.run(&["wire", "--yes", "--shell", "bash"]).passed();
    assert_eq!(seen("desk"), "gauge 1.0\n");
    std::fs::rename(scene.sandbox.path("desk"), scene.sandbox.path("elsewhere")).unwrap();
    assert_eq!(seen("elsewhere"), "gauge 1.0\n");
    std::fs::rename(scene.sandbox.path("elsewhere"), scene.sandbox.path("desk")).unwrap();
    // It is seen in the project's folder where that is wanted, and only where nothing else is.
    scene.want("gauge = \"any\"", "folder = \"env\"");
    let _ = scene.sandbox.run(&["climb"]).passed();
    assert!(scene.sandbox.path("desk/env/pyvenv.cfg").exists());
    std::fs::remove_file(scene.sandbox.path("desk/env")).unwrap();
    assert_eq!(scene.sandbox.run(&["verify"]).code, 30);
    let _ = scene.sandbox.run(&["climb"]).passed();
    assert!(scene.sandbox.path("desk/env/lib/python3.11/site-packages/gauge").exists());
    scene.want("gauge = \"any\"", "");
    let _ = scene.sandbox.run(&["climb"]).passed();
    assert!(std::fs::symlink_metadata(scene.sandbox.path("desk/env")).is_err(), "it goes with the wish");
    scene.sandbox.write("desk/env/mine", "a person's");
    scene.want("gauge = \"any\"", "folder = \"env\"");
    let told = scene.sandbox.run(&["climb"]);
    assert!(told.stdout.contains("something else is there"), "{}{}", told.stdout, told.stderr);
    assert_eq!(scene.sandbox.read("desk/env/mine"), "a person's");
    // What is not wired is there for who asks.
    scene.want("gauge = \"any\"", "wired = false");
    let _ = scene.sandbox.run(&["climb"]).passed();
    assert_eq!(seen("desk"), "");
    // An environment that somebody changed is made anew.
    let ladders = scene.sandbox.path("home/data/ladders");
    let ladder = std::fs::read_dir(&ladders).unwrap().next().unwrap().unwrap().path();
    for (file, told) in [("pyvenv.cfg", "pyvenv.cfg"), ("launch.table", "launch.table"), ("bin/plank", "plank")] {
        let path = ladder.join("current/sets/tides").join(file);
        std::fs::remove_file(&path).unwrap();
        let verified = scene.sandbox.run(&["verify"]);
        assert!(verified.code == 30 && verified.stdout.contains(told), "{file}: {}", verified.stdout);
        let _ = scene.sandbox.run(&["climb"]).passed();
        let _ = scene.sandbox.run(&["verify"]).passed();
    }
}

#[test]
fn notebooks_know_a_set_by_the_name_that_it_says() {
    let scene = Scene::with(&["ipykernel 1.0", "gauge 1.0"]);
    scene.want("gauge = \"any\"", "kernel = \"Tide tables\"");
    let told = scene.sandbox.run(&["pin"]);
    assert!(told.code == 10 && told.stderr.contains("ipykernel = \"any\""), "{}", told.stderr);
    scene.want("ipykernel = \"any\"", "kernel = \"Tide tables\"");
    let _ = scene.sandbox.run(&["climb"]).passed();
    let place = "user/.local/share/jupyter/kernels/tides/kernel.json";
    let spec = || serde_json::from_str::<serde_json::Value>(&scene.sandbox.read(place)).unwrap();
    assert_eq!(spec()["display_name"], "Tide tables");
    assert!(spec()["argv"][0].as_str().unwrap().ends_with("current/sets/tides/bin/plank"), "{}", spec());
    // Its rehearsal runs a cell; what starts something else is told, and put back.
    let told = scene.sandbox.run(&["verify"]).passed().stdout;
    assert!(told.contains("tides-notebook"), "{told}");
    scene.sandbox.write(place, "{\"argv\": [\"/usr/bin/gull\"], \"display_name\": \"Tide tables\"}\n");
    let told = scene.sandbox.run(&["verify"]);
    assert!(told.code == 30 && told.stdout.contains("kernel.json"), "{}", told.stdout);
    let _ = scene.sandbox.run(&["verify", "--mend", "--yes"]).passed();
    assert_eq!(spec()["argv"][1], "-m");
    scene.want("ipykernel = \"any\"", "");
    let _ = scene.sandbox.run(&["climb"]).passed();
    assert!(!scene.sandbox.path(place).exists(), "it goes with the wish");
}

#[test]
fn what_libraries_see_of_devices_is_held_against_what_there_is() {
    let scene = Scene::with(&["gauge 1.0"]);
    scene.want("gauge = \"any\"", "devices.\"usb fffe\" = \"import gauge; print(gauge.boards())\"");
    let _ = scene.sandbox.run(&["climb"]).passed();
    let told = scene.sandbox.run(&["verify", "--json"]).passed().json();
    let verdicts = told["verdicts"].as_array().unwrap();
    let about: Vec<_> = verdicts.iter().filter(|one| one["claim"].as_str().unwrap().contains("usb fffe")).collect();
    assert!(about.iter().any(|one| one["outcome"] == "skipped"), "there is none here: {about:?}");
    scene.want("gauge = \"any\"", "devices.lamps = \"print()\"");
    let told = scene.pin();
    assert!(told.code == 10 && told.stderr.contains("devices are \"graphics\""), "{}", told.stderr);
}

#[test]
fn the_hosts_own_runtime_has_sets_as_well() {
    let scene = Scene::with(&["gauge 1.0"]);
    let script = RUNTIME.trim_start_matches("#!/bin/sh\n").replace("3.11.4", "3.11.9");
    scene.sandbox.host_command("plank", &script);
    let definition = scene.sandbox.read("catalog/tools/plank.toml");
    let probe = "[host]\ncommand = \"plank\"\nask = [\"--version\"]\nversion = 'plank (?<version>\\S+)'\n[[releases]]";
    scene.sandbox.write("catalog/tools/plank.toml", &definition.replacen("[[releases]]", probe, 1));
    scene.want("gauge = \"any\"", "folder = \".env\"");
    scene.sandbox.edit("desk/ladder.toml", "plank = \"any\"", "plank = { host = \"only\" }");
    let climbed = scene.sandbox.run(&["climb"]).passed().stdout;
    assert!(climbed.contains("the host's own"), "{climbed}");
    assert_eq!(scene.sandbox.run(&["run", "--set", "tides", "--", "plank"]).passed().stdout, "gauge 1.0\n");
    assert!(scene.sandbox.read("desk/.env/pyvenv.cfg").contains("version = 3.11.9"));
    let _ = scene.sandbox.run(&["verify"]).passed();
}

#[test]
fn two_libraries_that_bring_one_file_agree_on_it_or_are_refused() {
    let mut scene = Scene::new(Vec::new());
    for (name, version, text) in [("gauge", "1.0", "# both\n"), ("lamp", "1.0", "# both\n"), ("lamp", "2.0", "# own\n")]
    {
        scene.wheel(&Made { name, version, more: Some(("shared/__init__.py", text)), ..PURE });
    }
    scene.want("gauge = \"any\"\nlamp = \"1.0\"", "");
    let _ = scene.sandbox.run(&["climb"]).passed();
    let _ = scene.sandbox.run(&["verify"]).passed();
    scene.want("gauge = \"any\"\nlamp = \"2.0\"", "");
    let told = scene.sandbox.run(&["climb"]);
    assert_eq!(told.code, 21, "{}{}", told.stdout, told.stderr);
    assert!(told.stderr.contains("shared/__init__.py"), "{}", told.stderr);
    // The same from nothing, where no library is on the shelf yet.
    let _ = scene.sandbox.run(&["clear", "--all", "--yes"]);
    let told = scene.sandbox.run(&["climb"]);
    assert!(told.code != 0 && told.stderr.contains("shared/__init__.py"), "{}{}", told.stdout, told.stderr);
}

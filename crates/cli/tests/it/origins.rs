//! Files from where their makers publish them.

use kladder_pack::Entry;
use kladder_yard::{Fault, Rule, Settings, Yard};
use snapbox::{assert_data_eq, str};

use crate::sandbox::Sandbox;

/// The maker's server, and a sandbox whose catalog has no yard and a tool that is published there.
fn published() -> (Sandbox, Yard) {
    let sandbox = Sandbox::new();
    sandbox.write("home/config/config.toml", "");
    let head = sandbox.read("catalog/catalog.toml");
    let yards = head.lines().find(|line| line.starts_with("yards")).unwrap();
    sandbox.edit("catalog/catalog.toml", yards, "yards = []");
    std::fs::create_dir_all(sandbox.path("maker/get/1.0")).unwrap();
    let maker = Yard::serve(&sandbox.path("maker"), ([127, 0, 0, 1], 0).into()).unwrap();
    let origins = format!("commands = {{ plank = \"plank\" }}\norigins = [\"{}/get/{{version}}/\"]", maker.url());
    sandbox.plank("plank.tar.gz", &[Entry::program("plank", "#!/bin/sh\necho plank\n")], &origins);
    std::fs::rename(sandbox.path("yard/plank.tar.gz"), sandbox.path("maker/get/1.0/plank.tar.gz")).unwrap();
    sandbox.wish("plank = \"any\"");
    (sandbox, maker)
}

#[test]
fn what_no_yard_has_comes_from_its_maker() {
    let (sandbox, maker) = published();
    let route = sandbox.run(&["route"]).passed().stdout;
    assert!(route.contains("They come from their makers: 127.0.0.1."), "{route}");
    let climbed = sandbox.run(&["climb"]).passed().stdout;
    assert!(climbed.contains("landing 1"), "{climbed}");
    assert_eq!((maker.requests(), sandbox.run(&["run", "--", "plank"]).passed().stdout.as_str()), (1, "plank\n"));
    let log = sandbox.run(&["log"]).passed().stdout;
    assert!(log.contains(&format!("{}/get/1.0/plank.tar.gz", maker.url())), "{log}");
    // A file without a size is asked for it there too.
    let text = sandbox.read("catalog/tools/plank.toml");
    let (front, rest) = text.split_once(", size = ").unwrap();
    let rest = rest.split_once(", sha256").unwrap().1;
    sandbox.write("catalog/tools/plank.toml", &format!("{front}, sha256{rest}"));
    let _ = std::fs::remove_dir_all(sandbox.path("home/cache"));
    std::fs::remove_file(sandbox.path("desk/ladder.pinned.toml")).unwrap();
    let pinned = sandbox.run(&["pin"]).passed();
    assert!(sandbox.read("desk/ladder.pinned.toml").contains("size = "), "{}", pinned.stdout);
}

#[test]
fn settings_say_which_makers_may_be_asked_and_where_they_are_mirrored() {
    let (sandbox, maker) = published();
    let config = |text: &str| sandbox.write("home/config/config.toml", text);
    config("origins = false\n");
    let forbidden = sandbox.run(&["climb"]);
    assert_data_eq!(
        forbidden.complaint(),
        str![[r#"
exit 20
kladder: no yard or origin is known to fetch plank.tar.gz from
  why    the landing that was current still is; nothing on PATH has changed
  next   name one with `--yard FOLDER-OR-ADDRESS`, or `yards` in config.toml or in the catalog
         `origins` in config.toml says which makers may be asked

"#]]
    );
    config("origins = [\"dist.harbour.example\"]\n");
    assert_eq!(sandbox.run(&["climb"]).code, forbidden.code);
    let offline = sandbox.run(&["climb", "--offline"]);
    assert!(offline.code != 0 && maker.requests() == 0, "{}", offline.complaint());
    // The catalog names a maker that nobody can reach, and the settings where it is mirrored.
    sandbox.edit("catalog/tools/plank.toml", &format!("{}/get/", maker.url()), "https://dist.skerrow.example/files/");
    config(&format!(
        "origins = false\n[mirrors]\n\"https://dist.skerrow.example/files/\" = \"{}/get/\"\n",
        maker.url()
    ));
    let _ = sandbox.run(&["climb"]).passed();
    assert_eq!(maker.requests(), 1);
    config("[mirrors]\n\"https://dist.skerrow.example\" = \"http://mirror.example/\"\n");
    assert!(sandbox.run(&["route"]).stderr.contains("a mirror is an address that ends with a slash"));
}

#[test]
fn a_maker_with_other_bytes_is_refused_and_yards_are_asked_first() {
    let (sandbox, maker) = published();
    let good = std::fs::read(sandbox.path("maker/get/1.0/plank.tar.gz")).unwrap();
    let bad: Vec<u8> = good.iter().rev().copied().collect();
    std::fs::write(sandbox.path("maker/get/1.0/plank.tar.gz"), &bad).unwrap();
    let refused = sandbox.run(&["climb"]);
    assert!(refused.code == 21 && refused.stderr.contains("/get/1.0/plank.tar.gz"), "{}", refused.complaint());
    std::fs::write(sandbox.path("yard/plank.tar.gz"), good).unwrap();
    let asked = maker.requests();
    let yard = sandbox.path("yard").display().to_string();
    let _ = sandbox.run(&["climb", "--yard", &yard]).passed();
    assert_eq!(maker.requests(), asked);
}

#[test]
fn a_maker_may_send_on_to_where_the_settings_allow() {
    let (sandbox, maker) = published();
    let elsewhere = format!("http://localhost:{}/get/1.0/plank.tar.gz", maker.url().rsplit(':').next().unwrap());
    let rules = vec![Rule::new("plank.tar.gz", Fault::SendsOn(elsewhere))];
    let settings = Settings { folder: sandbox.path("maker"), rules, ..Settings::default() };
    let front = Yard::with(settings, ([127, 0, 0, 1], 0).into()).unwrap();
    sandbox.edit("catalog/tools/plank.toml", &maker.url(), &front.url());
    sandbox.write("home/config/config.toml", "origins = [\"127.0.0.1\"]\n");
    let refused = sandbox.run(&["climb"]);
    let why = "it sends on to localhost, which `origins` in config.toml does not allow";
    assert!(refused.code == 20 && refused.stderr.contains(why), "{}", refused.complaint());
    assert_eq!(maker.requests(), 0);
    sandbox.write("home/config/config.toml", "origins = [\"127.0.0.1\", \"localhost\"]\n");
    let _ = sandbox.run(&["climb"]).passed();
    assert_eq!(maker.requests(), 1);
}

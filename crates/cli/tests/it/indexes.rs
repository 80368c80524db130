//! Files that an index says where to find, and signing in: stand-ins of ours speak each protocol, and lie.

use kladder_core::base::digest::Digest;
use kladder_pack::Entry;
use kladder_yard::{Fault, Rule, Settings, Yard};
use snapbox::{assert_data_eq, str};

use crate::sandbox::{Ran, Sandbox};

/// A sandbox whose plank is a file that an index lists, and where that index is served.
struct Scene {
    sandbox: Sandbox,
    bytes: Vec<u8>,
    server: Yard,
}

const NAME: &str = "plank-1.0.tar.gz";

impl Scene {
    fn new(origin: &str, rules: Vec<Rule>) -> Self {
        let sandbox = Sandbox::new();
        let head = sandbox.read("catalog/catalog.toml");
        let yards = head.lines().find(|line| line.starts_with("yards")).unwrap();
        sandbox.edit("catalog/catalog.toml", yards, "yards = []");
        let origins = format!("commands = {{ plank = \"plank\" }}\norigins = [\"{origin}\"]");
        sandbox.plank(NAME, &[Entry::program("plank", "#!/bin/sh\necho plank\n")], &origins);
        let bytes = std::fs::read(sandbox.path("yard").join(NAME)).unwrap();
        std::fs::remove_file(sandbox.path("yard").join(NAME)).unwrap();
        sandbox.wish("plank = \"any\"");
        std::fs::create_dir_all(sandbox.path("maker/files")).unwrap();
        std::fs::write(sandbox.path("maker/files").join(NAME), &bytes).unwrap();
        let settings = Settings { folder: sandbox.path("maker"), rules, ..Settings::default() };
        let server = Yard::with(settings, ([127, 0, 0, 1], 0).into()).unwrap();
        let scene = Self { sandbox, bytes, server };
        scene.config("");
        scene
    }

    fn sum(&self) -> String {
        Digest::of(&self.bytes).to_string()
    }

    /// What the index answers at a path.
    fn answer(&self, path: &str, text: &str) {
        self.sandbox.write(&format!("maker/{path}"), text);
    }

    /// The settings: an index of each kind, and something more.
    fn config(&self, more: &str) {
        let url = self.server.url();
        let each = ["python", "npm", "sums", "page", "oci", "feed"]
            .map(|kind| format!("my-{kind} = {{ kind = \"{kind}\", address = \"{url}/{kind}\" }}\n"));
        self.sandbox.write("home/config/config.toml", &format!("[indexes]\n{}{more}", each.concat()));
    }

    fn climb(&self) -> Ran {
        self.sandbox.run(&["climb"])
    }

    /// What comes of a climb that fails, without the address of this run.
    fn complaint(&self) -> String {
        self.climb().complaint().replace(&self.server.url(), "http://index.example")
    }

    /// A page of the Python index, as JSON.
    fn python(&self, sum: &str, url: &str) {
        let text = format!(
            r#"{{"meta": {{"api-version": "1.1"}}, "name": "plank", "files": [
               {{"filename": "{NAME}", "url": "{url}", "hashes": {{"sha256": "{sum}"}}}}]}}"#
        );
        self.answer("python/plank/index.json", &text);
    }
}

#[test]
fn each_kind_of_index_leads_to_the_file() {
    for (origin, path, answer) in [
        ("index:my-python/Plank", "python/plank/index.html", format!("<a href='../../files/{NAME}#sha256=SUM'>x</a>")),
        (
            "index:my-npm/@skerrow/plank",
            "npm/@skerrow/plank",
            format!(
                r#"{{"name": "@skerrow/plank", "versions": {{"1.0": {{"dist": {{"tarball": "/files/{NAME}"}}}}}}}}"#
            ),
        ),
        ("index:my-sums/v{version}", "sums/v1.0/SHA256SUMS", format!("SUM  ../../files/{NAME}\n")),
        (
            "index:my-feed/news.xml",
            "feed/news.xml",
            format!("<rss><item><title>plank 1.0</title><enclosure url=\"/files/{NAME}\"/></item></rss>"),
        ),
        ("index:my-page/all", "page/all/index.html", format!("<ul><li><a href=/files/{NAME}>plank</a></ul>")),
    ] {
        let scene = Scene::new(origin, Vec::new());
        scene.answer(path, &answer.replace("SUM", &scene.sum()));
        if path.starts_with("sums") {
            // A name with a path in it lies there.
            std::fs::rename(scene.sandbox.path("maker/files"), scene.sandbox.path("maker/sums/v1.0/files")).unwrap();
            scene.answer(path, &format!("{}  files/{NAME}\n", scene.sum()));
        }
        let climbed = scene.climb().passed();
        assert!(climbed.stdout.contains("landing 1"), "{origin}: {}", climbed.stdout);
        let route = scene.sandbox.run(&["log"]).passed().stdout;
        assert!(route.contains("in the index my-"), "{route}");
    }
}

#[test]
fn a_registry_of_images_gives_a_token_and_then_the_layer() {
    let how = "Bearer realm=\"REALM/token\",service=\"skerrow\",scope=\"repository:plank:pull\"";
    // The address of the server is known only once it runs, so that another one gives the tokens.
    let realm = Sandbox::new();
    realm.write("tokens/token", r#"{"access_token": "gannet"}"#);
    let tokens = Yard::serve(&realm.path("tokens"), ([127, 0, 0, 1], 0).into()).unwrap();
    let demands = Fault::Demands("Bearer gannet".into(), how.replace("REALM", &tokens.url()));
    let rules =
        vec![Rule::new("/manifests/1.0", demands.clone()), Rule { ending: String::new(), fault: demands, times: 9 }];
    let scene = Scene::new("index:my-oci/skerrow/plank:{version}", rules);
    let blob = format!("sha256:{}", scene.sum());
    let layer = format!(
        r#"{{"mediaType": "application/gzip", "digest": "{blob}", "size": {}, "annotations": {{"org.opencontainers.image.title": "{NAME}"}}}}"#,
        scene.bytes.len()
    );
    let inner = format!(r#"{{"schemaVersion": 2, "layers": [{layer}]}}"#);
    let digest = Digest::of(inner.as_bytes());
    let outer =
        format!(r#"{{"schemaVersion": 2, "manifests": [{{"digest": "sha256:{digest}", "size": {}}}]}}"#, inner.len());
    let at = "oci/v2/skerrow/plank";
    scene.answer(&format!("{at}/manifests/1.0"), &outer);
    scene.answer(&format!("{at}/manifests/sha256:{digest}"), &inner);
    scene.answer(&format!("{at}/blobs/{blob}"), "");
    std::fs::write(scene.sandbox.path(&format!("maker/{at}/blobs/{blob}")), &scene.bytes).unwrap();
    let climbed = scene.climb().passed();
    assert!(climbed.stdout.contains("landing 1"), "{}", climbed.stdout);
    assert_eq!(tokens.requests(), 1);
    // A manifest that is not what its digest says.
    scene.answer(&format!("{at}/manifests/sha256:{digest}"), &inner.replace("gzip", "gZip"));
    let _ = std::fs::remove_dir_all(scene.sandbox.path("home"));
    scene.config("");
    assert!(scene.complaint().contains("its bytes have another digest than they were asked for by"));
}

#[test]
fn an_index_that_lies_is_found_out() {
    let scene = Scene::new("index:my-python/plank", Vec::new());
    assert_data_eq!(
        scene.complaint(),
        str![[r#"
exit 20
kladder: plank-1.0.tar.gz could not be fetched
  why    plank in the index my-python: the index at http://index.example/python/ has nothing called `plank`
         the landing that was current still is; nothing on PATH has changed
  next   see whether the address under `[indexes]` in config.toml is the index's; then tell the catalog's keeper

"#]]
    );
    scene.python(&"ab".repeat(32), "../../files/plank-1.0.tar.gz");
    let lies = scene.complaint().replace(&scene.sum(), "THE-PINNED-ONE");
    assert_data_eq!(
        lies,
        str![[r#"
exit 21
kladder: plank-1.0.tar.gz could not be fetched
  why    plank in the index my-python: the index lists other bytes under this name
           pinned  THE-PINNED-ONE
           listed  abababababababababababababababababababababababababababababababab
         nothing of it was kept
         the landing that was current still is; nothing on PATH has changed
  next   do not use the file: the yard has another one than was pinned, or someone changed it on the way
         try another yard with `--yard`, and tell those who keep this one

"#]]
    );
    scene.answer("python/plank/index.json", "<html><body>Sign in to the harbour's network</body></html>");
    assert!(scene.complaint().contains("answers what no python index does: expected value at line 1 column 1"));
    scene.answer("python/plank/index.json", &" ".repeat(10 << 20));
    assert!(scene.complaint().contains("answers what no python index does: EOF"));
    // Where the file lies may be another host, which the settings have to allow.
    let elsewhere = scene.server.url().replace("127.0.0.1", "localhost");
    scene.python(&scene.sum(), &format!("{elsewhere}/files/plank-1.0.tar.gz"));
    scene.sandbox.edit("home/config/config.toml", "[indexes]", "origins = [\"dist.example\"]\n[indexes]");
    assert!(scene.complaint().contains("add \"localhost\" to `origins` in config.toml"));
    scene.sandbox.edit("home/config/config.toml", "dist.example", "localhost");
    let _ = scene.climb().passed();
}

#[test]
fn an_index_that_is_not_named_or_may_not_be_asked_is_told() {
    let scene = Scene::new("index:wheels/plank", Vec::new());
    assert_data_eq!(
        scene.complaint(),
        str![[r#"
exit 20
kladder: the index wheels is not named in config.toml
  why    nothing was fetched; this catalog's files are found through them
  next   write under `[indexes]` in config.toml: wheels = { kind = "KIND", address = "https://…" }

"#]]
    );
    let head = scene.sandbox.read("catalog/catalog.toml");
    scene.sandbox.write("catalog/catalog.toml", &format!("{head}\n[indexes]\nwheels = \"python\"\n"));
    let route = scene.sandbox.run(&["route"]).passed().stdout;
    assert!(route.contains("wheels = { kind = \"python\", as-configured = true }, as pip has it"), "{route}");
    scene.config("wheels = { kind = \"python\", as-configured = true }\n");
    let told = scene.complaint();
    assert!(told.contains("the index `wheels` is to be as pip has it, and pip has none configured here"), "{told}");
    scene.python(&scene.sum(), "../../files/plank-1.0.tar.gz");
    let pip = format!("[global]\nindex-url = {}/python/\n", scene.server.url());
    scene.sandbox.write("user/.config/pip/pip.conf", &pip);
    let asked = scene.server.requests();
    let offline = scene.sandbox.run(&["climb", "--offline"]);
    assert!(offline.code != 0 && scene.server.requests() == asked, "{}", offline.complaint());
    let _ = scene.climb().passed();
    for (wrong, told) in [
        ("x = { kind = \"python\" }", "where is it? `address` says so"),
        (
            "x = { kind = \"page\", as-configured = true }",
            "no client of this machine knows an index of the kind `page`",
        ),
        ("x = { kind = \"debian\", address = \"http://deb.example\" }", "a Debian archive needs `suites`"),
        ("x = { kind = \"npm\", address = \"../npm\" }", "an index is an address"),
        ("[sign-in]\n\"a/b\" = { netrc = true }", "`a/b` is no host"),
        ("[sign-in]\nhost = { user = \"skua\" }", "here stands `netrc = true`, or `secret`"),
    ] {
        scene.config(wrong);
        let refused = scene.sandbox.run(&["route"]);
        assert!(refused.stderr.contains(told) && refused.code != 0, "{wrong}: {}", refused.stderr);
    }
}

/// What `skua` and `g@nnet` make (RFC 7617).
const BASIC: &str = "Basic c2t1YTpnQG5uZXQ=";

#[test]
fn who_signs_in_is_asked_for_where_the_settings_say_it_is() {
    let demands = Fault::Demands(BASIC.into(), "Basic realm=\"tide\"".into());
    let scene = Scene::new("index:my-python/plank", vec![Rule::new("", demands)]);
    scene.python(&scene.sum(), "../../files/plank-1.0.tar.gz");
    let told = scene.complaint();
    assert!(told.contains("127.0.0.1 wants to know who asks"), "{told}");
    assert!(told.contains("`[sign-in]` in config.toml says how"), "{told}");
    let port = scene.server.url().rsplit(':').next().unwrap().to_owned();
    let sign_in = |how: &str| {
        scene.config(&format!("[sign-in]\n\"127.0.0.1:{port}\" = {how}\n"));
        let _ = std::fs::remove_dir_all(scene.sandbox.path("home/data"));
        let _ = std::fs::remove_dir_all(scene.sandbox.path("home/cache"));
    };
    sign_in("{ user = \"skua\", secret = { variable = \"TIDE_SECRET\" } }");
    assert!(scene.complaint().contains("cannot be had: the variable TIDE_SECRET is not set"), "{}", scene.complaint());
    let ran = |value: &str| {
        let mut command = scene.sandbox.command(&["climb"]);
        scene.sandbox.finished(command.env("TIDE_SECRET", value).output().unwrap())
    };
    let wrong = ran("puffin-secret");
    assert!(wrong.stderr.contains("does not take what was signed in with"), "{}", wrong.stderr);
    assert!(!wrong.stderr.contains("puffin-secret"), "{}", wrong.stderr);
    let _ = ran("g@nnet").passed();
    scene.sandbox.write("home/config/tide.secret", "g@nnet\nand a note\n");
    sign_in("{ user = \"skua\", secret = { file = \"tide.secret\" } }");
    let _ = scene.climb().passed();
    scene.sandbox.host_command("show-secret", "test \"$1\" = tide && echo g@nnet");
    sign_in("{ user = \"skua\", secret = { command = [\"show-secret\", \"tide\"] } }");
    let _ = scene.climb().passed();
    sign_in("{ user = \"skua\", secret = { command = [\"show-secret\", \"ebb\"] } }");
    assert!(scene.complaint().contains("cannot be had: `show-secret` failed"), "{}", scene.complaint());
    sign_in("{ netrc = true }");
    scene.sandbox.write("user/.netrc", "machine 127.0.0.1\nlogin skua\npassword g@nnet\n");
    let _ = scene.climb().passed();
    // Nothing that was written down holds what is secret.
    let everything = crate::sandbox::walkdir(&scene.sandbox.path("home"));
    let holds = |path: &std::path::PathBuf| {
        let bytes = std::fs::read(path).unwrap_or_default();
        bytes.windows(6).any(|part| part == b"g@nnet") && !path.ends_with("config/tide.secret")
    };
    assert_eq!(everything.into_iter().filter(holds).collect::<Vec<_>>(), Vec::<std::path::PathBuf>::new());
}

#[test]
fn what_is_secret_does_not_follow_to_another_host() {
    let other = Scene::new("index:my-page/all", vec![Rule::new("", Fault::Strangers)]);
    let elsewhere = other.server.url().replace("127.0.0.1", "localhost");
    let demands = Fault::Demands(BASIC.into(), "Basic".into());
    let rules = vec![
        Rule::new("page/all/", demands),
        Rule::new(".tar.gz", Fault::SendsOn(format!("{elsewhere}/files/{NAME}"))),
    ];
    let scene = Scene::new("index:my-page/all", rules);
    scene.answer("page/all/index.html", &format!("<a href=/files/{NAME}>plank</a>"));
    // Both hosts are known to the settings; a redirect from one to the other signs in at neither.
    let port = |yard: &Yard| yard.url().rsplit(':').next().unwrap().to_owned();
    scene.config(&format!(
        "[sign-in]\n\"127.0.0.1:{}\" = {{ user = \"skua\", secret = {{ file = \"s\" }} }}\n\"localhost:{}\" = {{ secret = {{ variable = \"NEVER\" }} }}\n",
        port(&scene.server),
        port(&other.server)
    ));
    scene.sandbox.write("home/config/s", "g@nnet");
    let _ = scene.climb().passed();
    assert_eq!(other.server.requests(), 1);
}

#[test]
fn npm_s_own_configuration_names_the_registry_and_signs_in_for_the_file_too() {
    let demands = Fault::Demands("Bearer gannet".into(), "Bearer".into());
    let scene = Scene::new("index:registry/@skerrow/plank", vec![Rule::new("", demands)]);
    let version = format!(r#"{{"1.0": {{"dist": {{"tarball": "/files/{NAME}"}}}}}}"#);
    scene.answer("npm/@skerrow/plank", &format!(r#"{{"name": "@skerrow/plank", "versions": {version}}}"#));
    scene.config("registry = { kind = \"npm\", as-configured = true }\n");
    let told = scene.complaint();
    assert!(told.contains("is to be as npm has it, and npm has none configured here"), "{told}");
    let bare = scene.server.url().replace("http:", "");
    let npmrc = |token: &str| {
        let url = scene.server.url();
        let text =
            format!("; mine\nregistry={url}/nowhere\n@skerrow:registry={url}/npm/\n{bare}/npm/:_authToken={token}\n");
        scene.sandbox.write("user/.npmrc", &text);
    };
    npmrc("puffin");
    assert!(scene.complaint().contains("does not take what was signed in with"), "{}", scene.complaint());
    assert!(!scene.complaint().contains("puffin"));
    // A token that a variable holds; without it there is none.
    npmrc("${TIDE_TOKEN}");
    assert!(scene.complaint().contains("wants to know who asks"), "{}", scene.complaint());
    let mut command = scene.sandbox.command(&["climb"]);
    let _ = scene.sandbox.finished(command.env("TIDE_TOKEN", "gannet").output().unwrap()).passed();
}

#[test]
fn a_yard_can_want_to_know_who_asks_as_well() {
    let sandbox = Sandbox::new();
    let demands = Fault::Demands("Bearer gannet".into(), "Bearer".into());
    let settings =
        Settings { folder: sandbox.path("yard"), rules: vec![Rule::new("", demands)], ..Settings::default() };
    let yard = Yard::with(settings, ([127, 0, 0, 1], 0).into()).unwrap();
    sandbox.wish("tombolet = \"any\"");
    let yards = format!("yards = [\"{}\"]\n", yard.url());
    sandbox.write("home/config/config.toml", &yards);
    let refused = sandbox.run(&["climb"]);
    assert!(
        refused.code == 20 && refused.stderr.contains("127.0.0.1 wants to know who asks"),
        "{}",
        refused.complaint()
    );
    let sign_in = "[sign-in]\n\"127.0.0.1\" = { secret = { command = [\"cat\", \"SECRET\"] } }\n";
    let secret = sandbox.path("a secret");
    std::fs::write(&secret, "gannet\n").unwrap();
    sandbox.write("home/config/config.toml", &(yards.clone() + &sign_in.replace("SECRET", secret.to_str().unwrap())));
    let _ = sandbox.run(&["climb"]).passed();
    // What is secret stands in no message, journal or record.
    let log = sandbox.run(&["log", "--json"]).passed().stdout;
    assert!(!log.contains("gannet"), "{log}");
    std::fs::remove_file(&secret).unwrap();
    let _ = std::fs::remove_dir_all(sandbox.path("home/cache"));
    let _ = std::fs::remove_dir_all(sandbox.path("home/data"));
    let refused = sandbox.run(&["climb"]);
    assert!(refused.stderr.contains("what to sign in with at 127.0.0.1 cannot be had"), "{}", refused.complaint());
}

#[test]
fn an_index_that_breaks_off_or_never_ends_is_left_behind() {
    let broken = |fault: Fault, told: &str| {
        let scene = Scene::new("index:my-python/plank", vec![Rule::new("plank/", fault)]);
        scene.python(&scene.sum(), "../../files/plank-1.0.tar.gz");
        scene.config("[network]\nretries = 0\npatience = 1\n");
        let begun = std::time::Instant::now();
        let complaint = scene.complaint();
        assert!(complaint.contains(told), "{told}: {complaint}");
        assert!(begun.elapsed() < std::time::Duration::from_secs(40), "{told}: {:?}", begun.elapsed());
    };
    broken(Fault::Status(503), "it answered with status 503");
    broken(Fault::Cut(20), "did not answer");
    broken(Fault::Circle, "it redirects without end");
    broken(Fault::Trickle(std::time::Duration::from_millis(400)), "stalled");
    broken(Fault::SendsOn("file:///etc/passwd".to_owned()), "status 302");
    // It gets well again, and is asked again.
    let scene = Scene::new("index:my-python/plank", vec![Rule::new("plank/", Fault::Status(503)).times(1)]);
    scene.python(&scene.sum(), "../../files/plank-1.0.tar.gz");
    let _ = scene.climb().passed();
}

/// Puts an image into the stand-in of a registry: its blobs, a manifest that is called by its tag and its digest.
fn publish(scene: &Scene, tag: &str, layers: &[&[u8]]) -> String {
    let at = "oci/v2/skerrow/plank";
    let put = |folder: &str, name: &str, bytes: &[u8]| {
        scene.answer(&format!("{at}/{folder}/{name}"), "");
        std::fs::write(scene.sandbox.path(&format!("maker/{at}/{folder}/{name}")), bytes).unwrap();
    };
    let blob = |bytes: &[u8]| {
        put("blobs", &format!("sha256:{}", Digest::of(bytes)), bytes);
        format!(
            r#"{{"mediaType": "application/octet-stream", "digest": "sha256:{}", "size": {}}}"#,
            Digest::of(bytes),
            bytes.len()
        )
    };
    let layers: Vec<String> = layers.iter().map(|bytes| blob(bytes)).collect();
    let manifest = format!(r#"{{"schemaVersion": 2, "config": {}, "layers": [{}]}}"#, blob(b"{}"), layers.join(", "));
    let digest = format!("sha256:{}", Digest::of(manifest.as_bytes()));
    put("manifests", tag, manifest.as_bytes());
    put("manifests", &digest, manifest.as_bytes());
    digest
}

#[test]
fn an_image_is_an_artifact_whose_bytes_follow_from_its_digests() {
    let (first, second) = (vec![7u8; 300_000], vec![8u8; 100_001]);
    let cut = Rule { ending: Digest::of(&second).to_string(), fault: Fault::Cut(60_000), times: 1 };
    let scene = Scene::new("index:my-oci/skerrow/plank:{version}", vec![cut]);
    let digest = publish(&scene, "1.1", &[&first, &second]);
    let _ = publish(&scene, "1.2", &[&second]);
    scene.sandbox.edit("catalog/tools/plank.toml", "commands = { plank = \"plank\" }\n", "");
    scene.sandbox.edit("catalog/tools/plank.toml", NAME, "plank.oci.tar");
    // The first time a blob breaks off, which a keeper is told; the second time it does not.
    assert!(scene.sandbox.run(&["catalog", "enter", "plank", "1.1"]).complaint().contains("broke off"));
    let _ = scene.sandbox.run(&["catalog", "enter", "plank", "1.1"]).passed();
    let definition = scene.sandbox.read("catalog/tools/plank.toml");
    // Called by its digest it is the same file; and a tag that moves is found out.
    scene.sandbox.write("catalog/tools/plank.toml", &definition.replace("plank:{version}", &format!("plank@{digest}")));
    let _ = scene.climb().passed();
    let shelf = crate::sandbox::walkdir(&scene.sandbox.path("home/data/shelf/plank"));
    let files = shelf.iter().find_map(|path| path.ancestors().find(|above| above.ends_with("files"))).unwrap();
    let index = std::fs::read_to_string(files.join("index.json")).unwrap();
    assert!(index.contains(&digest), "{index}");
    assert!(files.join("oci-layout").exists());
    for bytes in [&first, &second] {
        assert_eq!(&std::fs::read(files.join(format!("blobs/sha256/{}", Digest::of(bytes)))).unwrap(), bytes);
    }
    scene.sandbox.write("catalog/tools/plank.toml", &definition.replace("plank:{version}", "plank:1.2"));
    let _ = std::fs::remove_dir_all(scene.sandbox.path("home"));
    scene.config("");
    assert!(scene.climb().complaint().contains("plank.oci.tar could not be fetched"));
}

//! The network as the settings have it: proxies, certificates, rates, offline, a cache that homes share.

use std::fs;

use kladder_pack::Entry;
use kladder_yard::{Fault, Rule};
use snapbox::{assert_data_eq, str};

use crate::sandbox::Sandbox;
use crate::tunnel::{HOST, Tunnel};

fn configure(sandbox: &Sandbox, yards: &str, network: &str) {
    sandbox.write("home/config/config.toml", &format!("yards = [{yards:?}]\nnetwork = {{ retries = 0, {network} }}\n"));
}

#[test]
fn offline_lists_all_that_is_missing_and_uses_what_is_there() {
    let sandbox = Sandbox::new();
    sandbox.wish("skerroc = \"1.4\"");
    let ran = sandbox.run(&["climb", "--offline"]);
    assert_data_eq!(
        ran.complaint(),
        str![[r#"
exit 20
kladder: 3 files are not here, and nothing may be fetched
  why    tombolet-1.1.0-PLATFORM.tar.gz  [..]  sha256 [..]
         oarweld-2.2.1-PLATFORM.tar.gz  [..]  sha256 [..]
         skerroc-1.4.3-PLATFORM.tar.xz  [..]  sha256 [..]
  next   bring them ([..]) in a folder, and name it with `--yard FOLDER`
         or climb without `--offline`

"#]]
    );
    assert_eq!(sandbox.yard.requests(), 0);
    let _ = sandbox.run(&["climb", "--offline", "--yard", "../yard"]).passed();
    kladder_core::base::files::remove_tree(&sandbox.path("home/data")).unwrap();
    let _ = sandbox.run(&["climb", "--offline"]).passed();
    assert_eq!(sandbox.yard.requests(), 0, "the cache had it all");
}

#[test]
fn a_proxy_in_the_settings_is_asked_for_everything_but_this_machine() {
    let sandbox = Sandbox::new();
    sandbox.wish("tombolet = \"any\"");
    let proxy = format!("proxy = {:?}", sandbox.yard.url());
    configure(&sandbox, "http://yard.harbour.example", &proxy);
    let ran = sandbox.run(&["climb"]);
    assert!(ran.code == 20 && ran.stderr.contains("CONNECT proxy failed"), "{}", ran.stderr);
    assert_eq!(sandbox.yard.requests(), 1, "the proxy was asked");
    configure(&sandbox, &sandbox.yard.url(), "proxy = \"http://127.0.0.1:9\"");
    let _ = sandbox.run(&["climb"]).passed();
    configure(&sandbox, &sandbox.yard.url(), "proxy = \"no address\"");
    let ran = sandbox.run(&["climb"]);
    assert!(ran.code == 10 && ran.stderr.contains("`no address` is not the address of a proxy"), "{}", ran.stderr);
}

#[test]
fn a_companys_own_certificate_counts_beside_the_platforms_and_only_where_the_settings_name_it() {
    let sandbox = Sandbox::new();
    sandbox.wish("tombolet = \"any\"");
    let tunnel = Tunnel::to(&sandbox.yard.url());
    sandbox.write("home/config/company.pem", &tunnel.certificate);
    let (proxy, certificates) = (format!("proxy = {:?}", tunnel.proxy), "certificates = \"company.pem\"");
    configure(&sandbox, &format!("https://{HOST}"), &proxy);
    assert_data_eq!(
        sandbox.run(&["climb"]).complaint(),
        str![[r#"
exit 20
kladder: tombolet-1.1.0-PLATFORM.tar.gz could not be fetched
  why    https://yard.harbour.example: its certificate is not trusted: invalid peer certificate: UnknownIssuer
         the landing that was current still is; nothing on PATH has changed
  next   where a company signs for its own servers, name its certificates: `certificates` under `[network]` in config.toml
         otherwise tell those who keep the yard, or name another one with `--yard`

"#]]
    );
    assert_eq!(sandbox.yard.requests(), 0, "nothing was asked of a server that nobody vouches for");
    // The certificate is for one name, and vouches for no other.
    configure(&sandbox, "https://elsewhere.example", &format!("{proxy}, {certificates}"));
    let ran = sandbox.run(&["climb"]);
    assert!(ran.code == 20 && ran.stderr.contains("its certificate is not trusted"), "{}", ran.stderr);
    configure(&sandbox, &format!("https://{HOST}"), &format!("{proxy}, {certificates}"));
    let _ = sandbox.run(&["climb"]).passed();
    assert!(
        tunnel.asked().iter().any(|line| line.starts_with(&format!("CONNECT {HOST}:443 "))),
        "{:?}",
        tunnel.asked()
    );
}

#[test]
fn certificates_and_rates_that_are_none_are_told_with_the_file() {
    let sandbox = Sandbox::new();
    sandbox.wish("tombolet = \"any\"");
    for (file, told) in [("missing.pem", "cannot read"), ("empty.pem", "has no certificate in it")] {
        sandbox.write("home/config/empty.pem", "nothing\n");
        configure(&sandbox, &sandbox.yard.url(), &format!("certificates = {file:?}"));
        let ran = sandbox.run(&["climb"]);
        assert!(ran.code != 0 && ran.stderr.contains(told) && ran.stderr.contains(file), "{}", ran.stderr);
    }
    configure(&sandbox, &sandbox.yard.url(), "rate = \"fast\"");
    let ran = sandbox.run(&["climb"]);
    assert!(ran.code == 10 && ran.stderr.contains("this is no rate like \"2 MB/s\""), "{}", ran.stderr);
}

#[test]
fn a_yard_that_breaks_is_tried_again_and_the_download_goes_on_where_it_was() {
    let sandbox = Sandbox::with_rules(vec![Rule::new(".tar.gz", Fault::Cut(100)).times(1)]);
    sandbox.wish("tombolet = \"any\"");
    sandbox.write("home/config/config.toml", &format!("yards = [{:?}]\n", sandbox.yard.url()));
    let ran = sandbox.run(&["climb"]).passed();
    assert!(ran.stdout.contains("http://YARD: it broke off after 100 of "), "{}", ran.stdout);
    assert_eq!(sandbox.yard.requests(), 2);
}

#[test]
fn homes_share_a_cache_where_the_settings_say_so_and_trust_nothing_in_it() {
    let sandbox = Sandbox::new();
    sandbox.wish("tombolet = \"any\"");
    sandbox
        .write("home/config/config.toml", &format!("yards = [{:?}]\ncache = \"../../shared\"\n", sandbox.yard.url()));
    let _ = sandbox.run(&["climb"]).passed();
    assert!(sandbox.path("shared/artifacts").is_dir() && !sandbox.path("home/cache/artifacts").exists());
    let climb_elsewhere = |home: &str| {
        fs::create_dir_all(sandbox.path(home).join("config")).unwrap();
        fs::copy(sandbox.path("home/config/config.toml"), sandbox.path(home).join("config/config.toml")).unwrap();
        let output = sandbox.command(&["climb"]).env("KLADDER_HOME", sandbox.path(home)).output().unwrap();
        let _ = sandbox.finished(output).passed();
        sandbox.yard.requests()
    };
    assert_eq!(climb_elsewhere("second"), 1, "it came out of the cache");
    let cached = fs::read_dir(sandbox.path("shared/artifacts")).unwrap().next().unwrap().unwrap().path();
    let file = fs::read_dir(cached).unwrap().next().unwrap().unwrap().path();
    let mut bytes = fs::read(&file).unwrap();
    bytes[50] ^= 1;
    fs::write(&file, bytes).unwrap();
    assert_eq!(climb_elsewhere("third"), 2, "it was damaged, and fetched anew");
}

#[test]
fn a_size_that_no_definition_says_is_asked_of_a_yard_once() {
    let sandbox = Sandbox::new();
    sandbox.plank("plank.tar.gz", &[Entry::program("plank", "#!/bin/sh\n")], "commands = { plank = \"plank\" }");
    let size = fs::metadata(sandbox.path("yard/plank.tar.gz")).unwrap().len();
    sandbox.edit("catalog/tools/plank.toml", &format!("size = {size}, "), "");
    sandbox.wish("plank = \"any\"");
    // Nobody tells it: it is pinned, and what helps is said.
    let _ = sandbox.run(&["pin", "--offline"]).passed();
    assert_data_eq!(
        sandbox.run(&["climb", "--offline"]).complaint(),
        str![[r#"
exit 15
kladder: the size of plank.tar.gz is not known
  why    its definition does not say it, and no yard did when it was pinned
  next   `kladder pin` asks the yards again; or write `size` beside its digest in the definition

"#]]
    );
    let _ = sandbox.run(&["pin"]).passed();
    assert!(sandbox.read("desk/ladder.pinned.toml").contains(&format!("size = {size}")));
    let asked = sandbox.yard.requests();
    let _ = sandbox.run(&["pin"]).passed();
    let _ = sandbox.run(&["pin", "--check"]).passed();
    assert_eq!(sandbox.yard.requests(), asked, "the pins remember it");
    let _ = sandbox.run(&["climb"]).passed();
    // A folder tells it as well.
    fs::remove_file(sandbox.path("desk/ladder.pinned.toml")).unwrap();
    kladder_core::base::files::remove_tree(&sandbox.path("home/cache")).unwrap();
    let _ = sandbox.run(&["climb", "--yard", "../yard"]).passed();
    assert!(sandbox.read("desk/ladder.pinned.toml").contains(&format!("size = {size}")));
}

//! Files that only a person can fetch: told before anything is, found among downloads, taken in by their digests.

use kladder_core::base::digest::Digest;
use kladder_pack::Entry;
use snapbox::{assert_data_eq, str};

use crate::sandbox::Sandbox;

const PAGE: &str =
    "origins = [{ page = \"https://skerrow.example/get/{version}\", asks = \"an account\", costs = \"nothing\" }]\n";

/// A sandbox with a tool behind a page, besides those of the yard; and the bytes that a person would get there.
fn behind_a_page() -> (Sandbox, Vec<u8>) {
    let sandbox = Sandbox::new();
    let definition = format!("commands = {{ plank = \"plank\" }}\n{PAGE}");
    sandbox.plank("plank.tar.gz", &[Entry::program("plank", "#!/bin/sh\necho plank\n")], &definition);
    let bytes = std::fs::read(sandbox.path("yard/plank.tar.gz")).unwrap();
    std::fs::remove_file(sandbox.path("yard/plank.tar.gz")).unwrap();
    sandbox.wish("plank = \"any\"\ntombolet = \"any\"");
    (sandbox, bytes)
}

fn write(sandbox: &Sandbox, path: &str, bytes: &[u8]) {
    let path = sandbox.path(path);
    std::fs::create_dir_all(path.parent().unwrap()).unwrap();
    std::fs::write(path, bytes).unwrap();
}

#[test]
fn what_a_person_must_fetch_is_told_first_and_everything_else_is_fetched() {
    let (sandbox, bytes) = behind_a_page();
    let size = bytes.len();
    let route = sandbox.run(&["route"]).passed().stdout;
    let told = format!(
        "By you: plank.tar.gz, {size} B, is on https://skerrow.example/get/1.0; it asks for an account; it costs nothing."
    );
    assert!(route.contains(&told), "{route}");
    let waits = sandbox.run(&["climb"]);
    let complaint = waits.complaint().replace(&size.to_string(), "N");
    assert_data_eq!(
        complaint,
        str![[r#"
exit 22
kladder: plank.tar.gz is to be fetched by you
  why    plank.tar.gz, N B, is on https://skerrow.example/get/1.0; it asks for an account; it costs nothing
         the other rung stands, and the next climb goes on from there
         the landing that was current still is; nothing on PATH has changed
  next   fetch it with a browser, and `kladder yard take plank.tar.gz`; then climb again

"#]]
    );
    assert!(waits.stdout.find("By you: plank") < waits.stdout.find("1 of 2"), "{}", waits.stdout);
    // Other bytes are told from the right ones, and named where they are known.
    write(&sandbox, "desk/plank.tar.gz", &bytes[1..]);
    let refused = sandbox.run(&["yard", "take", "plank.tar.gz"]);
    assert!(
        refused.code == 21 && refused.stderr.contains("the file of plank 1.0 that is called so has"),
        "{}",
        refused.complaint()
    );
    let refused = sandbox.run(&["yard", "take", "nowhere", "ladder.toml", "."]);
    assert!(refused.stderr.contains("is no file that the pins or the catalogs know"), "{}", refused.complaint());
    assert!(refused.stderr.contains("is no file\n") && refused.stderr.contains("nowhere"), "{}", refused.complaint());
    write(&sandbox, "desk/a download (1)", &bytes);
    let taken = sandbox.run(&["yard", "take", "a download (1)"]).passed().stdout;
    assert_eq!(
        taken.replace(&size.to_string(), "N"),
        "a download (1), N B, is a file of plank 1.0, and is in the cache now.\nNext: kladder climb\n"
    );
    let _ = sandbox.run(&["climb"]).passed();
    assert_eq!(sandbox.run(&["run", "--", "plank"]).passed().stdout, "plank\n");
    assert!(sandbox.run(&["yard", "take", "a download (1)", "--json"]).passed().json()["files"][0]["tool"] == "plank");
}

#[test]
fn what_lies_among_downloads_is_found_and_taken_only_with_the_right_bytes() {
    let (sandbox, bytes) = behind_a_page();
    let wrong: Vec<u8> = bytes.iter().rev().copied().collect();
    write(&sandbox, "user/.config/user-dirs.dirs", b"XDG_DOWNLOAD_DIR=\"$HOME/Fetched\"\n");
    write(&sandbox, "user/Fetched/plank.tar.gz", &wrong);
    let refused = sandbox.run(&["climb"]);
    let sum = Digest::of(&wrong).to_string();
    assert!(refused.code == 21 && refused.stderr.contains(&sum), "{}", refused.complaint());
    write(&sandbox, "user/Fetched/plank.tar.gz", &bytes);
    let route = sandbox.run(&["route"]).passed().stdout;
    assert!(
        route.contains("Fetched/plank.tar.gz has its name and size, and is taken where its digest agrees."),
        "{route}"
    );
    assert_eq!(sandbox.run(&["route", "--json"]).passed().json()["by_person"][0]["asks"], "an account");
    let _ = sandbox.run(&["climb", "--offline"]).passed();
    assert!(!sandbox.run(&["route"]).passed().stdout.contains("By you"));
}

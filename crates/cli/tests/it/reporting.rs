//! Reports, and workstations side by side.

use std::collections::BTreeSet;
use std::fs;

use serde_json::Value;

use crate::sandbox::{LICENCE, Sandbox};

fn json(sandbox: &Sandbox, file: &str) -> Value {
    serde_json::from_str(&sandbox.read(file)).unwrap()
}

#[test]
fn a_report_is_a_table_a_file_to_compare_and_two_lists_of_materials() {
    let sandbox = Sandbox::new();
    sandbox.wish("skerroc = \"1.4\"\ntidlow = \"any\"");
    let told = sandbox.run(&["report"]).passed();
    assert!(
        told.stdout.contains("nothing was climbed yet") && told.stdout.contains("does not stand"),
        "{}",
        told.stdout
    );
    let _ = sandbox.run(&["climb"]).passed();
    let told = sandbox.run(&["report", "--name", "quay"]).passed();
    assert!(told.stdout.contains("on quay") && !told.stdout.contains("does not stand"), "{}", told.stdout);
    for file in ["../quay.json", "../quay.cdx.json", "../quay.spdx.json"] {
        let _ = sandbox.run(&["report", file, "--name", "quay"]).passed();
    }
    let report = json(&sandbox, "quay.json");
    let rungs = report["rungs"].as_array().unwrap();
    let digest = |rung: &Value| rung["files"][0]["sha256"].as_str().unwrap().to_owned();
    assert!(rungs.iter().all(|rung| rung["stands"] == rung["version"]), "{report:#}");

    // Whoever is named is there, with the digests of the report. (The published schemas are held against them in CI.)
    let bill = json(&sandbox, "quay.cdx.json");
    let components = bill["components"].as_array().unwrap();
    let refs: BTreeSet<&str> = components.iter().map(|one| one["bom-ref"].as_str().unwrap()).collect();
    assert_eq!(refs.len(), rungs.len());
    for dependency in bill["dependencies"].as_array().unwrap() {
        let named = dependency["dependsOn"].as_array().unwrap();
        assert!(named.iter().all(|one| refs.contains(one.as_str().unwrap())), "{dependency}");
    }
    let skerroc = components.iter().find(|one| one["name"] == "skerroc").unwrap();
    let ours = rungs.iter().find(|rung| rung["rung"] == "skerroc").unwrap();
    assert_eq!(skerroc["hashes"][0]["content"], digest(ours));
    let url = format!("pkg:generic/skerroc@{}?checksum=sha256:{}", ours["version"].as_str().unwrap(), digest(ours));
    assert_eq!(skerroc["purl"], url);
    let sheet = json(&sandbox, "quay.spdx.json");
    let ids: BTreeSet<&str> =
        sheet["packages"].as_array().unwrap().iter().map(|one| one["SPDXID"].as_str().unwrap()).collect();
    assert_eq!(ids.len(), rungs.len());
    for relation in sheet["relationships"].as_array().unwrap() {
        assert!(ids.contains(relation["relatedSpdxElement"].as_str().unwrap()), "{relation}");
    }
    let told = sandbox.run(&["report", "../quay.txt"]);
    assert!(told.code == 2 && told.stderr.contains("`--as`"), "{}", told.complaint());
}

#[test]
fn workstations_are_the_same_or_it_is_said_who_is_otherwise() {
    let sandbox = Sandbox::new();
    sandbox.wish("skerroc = \"=1.4.2\"\ntidlow = \"any\"");
    let _ = sandbox.run(&["climb"]).passed();
    for name in ["quay", "pier", "mole"] {
        let _ = sandbox.run(&["report", &format!("../{name}.json"), "--name", name]).passed();
    }
    let told = sandbox.run(&["compare", "../quay.json", "../pier.json", "../mole.json"]).passed();
    assert!(told.stdout.contains("3 workstations are the same"), "{}", told.stdout);

    sandbox.wish("skerroc = \"=1.4.3\"");
    let _ = sandbox.run(&["climb"]).passed();
    let _ = sandbox.run(&["report", "../pier.json", "--name", "pier"]).passed();
    let told = sandbox.run(&["compare", "../quay.json", "../pier.json", "../mole.json"]);
    assert_eq!(told.code, 37, "{}", told.complaint());
    for part in ["pier is otherwise", "1.4.2", "pier 1.4.3", "patch level", "pier not there"] {
        assert!(told.stdout.contains(part), "{part}: {}", told.stdout);
    }
    let told = sandbox.run(&["compare", "1", "2", "--json"]);
    assert_eq!(
        (told.code, &told.json()["same"], &told.json()["workstations"][0]),
        (37, &false.into(), &"landing 1".into())
    );
    // With this machine, and files that are none.
    let _ = sandbox.run(&["compare", "../pier.json"]).passed();
    fs::write(sandbox.path("other.json"), "{ \"format\": \"kladder.climb/1\" }").unwrap();
    for (file, part) in
        [("../other.json", "this is no report"), ("../nothing.json", "no such file"), ("99", "there is no landing 99")]
    {
        let told = sandbox.run(&["compare", file]);
        assert!(told.code != 0 && told.stderr.to_lowercase().contains(part), "{}", told.complaint());
    }
}

/// A shell that knows nothing of Kite Ladder, in a folder.
fn shell(sandbox: &Sandbox, folder: &str, script: &str) -> crate::sandbox::Ran {
    let mut command = std::process::Command::new("/bin/sh");
    command.args(["-c", script]).current_dir(sandbox.path(folder)).env_clear().env("PATH", "/usr/bin:/bin");
    command.env("HOME", sandbox.path("user")).env("TOOLS", sandbox.path("tools by hand"));
    sandbox.finished(command.output().unwrap())
}

#[test]
fn what_is_told_for_doing_it_by_hand_does_it() {
    let sandbox = Sandbox::new();
    // Archives are unpacked by programs that not every machine has.
    let has =
        |program: &str| ["/usr/bin", "/bin"].iter().any(|folder| std::path::Path::new(folder).join(program).exists());
    if !["tar", "unzip", "xz", "zstd"].into_iter().all(has) {
        return crate::sandbox::not_tested("tar, unzip, xz or zstd is missing");
    }
    sandbox.edit("catalog/tools/neapstone.toml", "summary", &[LICENCE, "summary"].concat());
    // No yard is named in it: that is said where it is run.
    fs::write(sandbox.path("home/config/config.toml"), "").unwrap();
    let _ = sandbox.run(&["report", "../by-hand.md"]).passed();
    let _ = sandbox.run(&["report", "../by-hand.sh"]).passed();
    let guide = sandbox.read("by-hand.md");
    assert!(guide.contains("**Only you can do this:** read the licence neapstone-terms of neapstone"), "{guide}");
    let tools = ["skerroc", "oarweld", "tidlow", "neapstone", "seichebox", "whimbrow", "wrackle"];
    let work = |ran: &dyn Fn(&str) -> crate::sandbox::Ran| {
        for tool in tools {
            let told = ran(&format!("export PATH=\"$TOOLS/bin:$PATH\"; {tool} --version")).passed();
            assert!(!told.stdout.is_empty(), "{tool}");
        }
        let _ = ran("export PATH=\"$TOOLS/bin:$PATH\"; seichebox read skerry-point && neapstone boards").passed();
    };
    // Every command of the guide, in a folder that has the files.
    let blocks: Vec<&str> = guide.split("```sh\n").skip(1).map(|rest| rest.split("```").next().unwrap()).collect();
    let _ = shell(&sandbox, "yard", &format!("set -eu\n{}", blocks.concat())).passed();
    work(&|script| shell(&sandbox, "yard", script));
    fs::remove_dir_all(sandbox.path("tools by hand")).unwrap();

    // The script, twice; the second time it needs no yard. What has other bytes is not taken.
    let run = |yard: &str| shell(&sandbox, "desk", &format!("YARD={yard} sh ../by-hand.sh"));
    let told = run("../desk");
    assert!(told.code == 1 && told.stderr.contains("could not be fetched"), "{}", told.complaint());
    let folder = format!("'{}'", sandbox.path("yard").display());
    let told = run(&folder).passed();
    assert!(told.stdout.contains("export SKERROW_ROOT="), "{}", told.stdout);
    work(&|script| shell(&sandbox, "desk", script));
    let _ = run("").passed();
    let fetched = fs::read_dir(sandbox.path("tools by hand/fetched")).unwrap();
    let skerroc =
        fetched.map(|entry| entry.unwrap().path()).find(|path| path.display().to_string().contains("skerroc"));
    fs::write(skerroc.unwrap(), "other").unwrap();
    let _ = run(&folder).passed();
}

#[test]
fn the_page_is_whole_in_itself_and_takes_no_text_for_markup() {
    let sandbox = Sandbox::new();
    let text = "a </script><script>alert('tide')</script> & \\\"more\\\"";
    sandbox.wish("skerroc = \"1.4\"\ntidlow = \"any\"");
    sandbox.edit("desk/ladder.toml", "[ladder]", &format!("[ladder]\ntitle = \"{text}\""));
    sandbox.edit("catalog/tools/skerroc.toml", "summary = \"", &format!("summary = \"{text} "));
    let _ = sandbox.run(&["climb"]).passed();
    let _ = sandbox.run(&["report", "../page.html", "--name", "<b>quay</b>"]).passed();
    let page = sandbox.read("page.html");
    assert!(!page.contains("<script>alert") && !page.contains("<b>quay"), "{page}");
    assert!(page.contains("&lt;script&gt;alert") && page.contains("&lt;b&gt;quay"), "{page}");
    assert_eq!(page.matches("<script>").count(), 1);
    // It fetches nothing.
    for reaching in ["src=", "href=", "url(", "@import", "http://", "https://"] {
        assert!(!page.contains(reaching), "{reaching}");
    }
    for rung in ["skerroc", "oarweld", "tidlow", "tombolet"] {
        assert!(page.contains(&format!(">{rung}</text>")) && page.contains(&format!(">{rung}</td>")), "{rung}");
    }
    assert!(page.contains("needed by skerroc") && page.contains("<b>landing 1</b>"), "{page}");
}

#[test]
fn a_room_tells_how_it_stands_where_that_is_wanted() {
    let sandbox = Sandbox::new();
    sandbox.wish("tombolet = \"any\"");
    std::fs::create_dir_all(sandbox.path("served")).unwrap();
    let mut child =
        sandbox.start(&["yard", "serve", "../served", "--listen", "127.0.0.1:0", "--collect", "../room", "--json"]);
    let mut told = String::new();
    let mut out = std::io::BufReader::new(child.stdout.take().unwrap());
    while !told.trim_end().ends_with('}') {
        std::io::BufRead::read_line(&mut out, &mut told).unwrap();
    }
    let address = serde_json::from_str::<Value>(&told).unwrap()["address"].as_str().unwrap().to_owned();
    let own = sandbox.read("home/config/config.toml");
    sandbox.write("home/config/config.toml", &format!("collector = \"{address}\"\n{own}"));
    let _ = sandbox.run(&["climb"]).passed();
    let _ = sandbox.run(&["climb"]).passed();
    let files =
        || fs::read_dir(sandbox.path("room")).unwrap().map(|entry| entry.unwrap().file_name()).collect::<Vec<_>>();
    assert_eq!(files().len(), 1, "one machine, told of twice: {:?}", files());
    let told = sandbox.run(&["compare", "../room"]).passed().stdout;
    assert!(told.contains("2 workstations are the same"), "{told}");

    // What anybody may send is small, plainly named and an object; nothing else is written to, and nothing is read.
    let send = |path: &str, head: &str, body: &str| -> String {
        use std::io::{Read, Write};
        let mut stream = std::net::TcpStream::connect(address.trim_start_matches("http://")).unwrap();
        write!(stream, "PUT {path} HTTP/1.1\r\nHost: a\r\n{head}\r\n{body}").unwrap();
        let _ = stream.shutdown(std::net::Shutdown::Write);
        let mut answer = String::new();
        let _ = stream.read_to_string(&mut answer);
        answer.split(' ').nth(1).unwrap_or_default().to_owned()
    };
    let length = |count: usize| format!("Content-Length: {count}\r\n");
    for (path, head, body, status) in [
        ("/standings/../../evil.json", length(2), "{}", "404"),
        ("/standings/.evil.json", length(2), "{}", "404"),
        ("/evil.json", length(2), "{}", "404"),
        ("/standings/a.json", String::new(), "{}", "411"),
        ("/standings/a.json", length(9_000_000), "{}", "413"),
        ("/standings/a.json", length(20), "{}", "400"),
        ("/standings/a.json", length(2), "no", "400"),
        ("/standings/a.json", length(2), "{}", "204"),
    ] {
        assert_eq!(send(path, &head, body), status, "{path} {head}");
    }
    assert_eq!(files().len(), 2);
    let told = sandbox.run(&["compare", "../room"]);
    assert!(told.code == 10 && told.stderr.contains("a.json"), "{}", told.complaint());
    child.kill().unwrap();
    child.wait().unwrap();
    // Nobody listens any more: the climb stands all the same.
    let told = sandbox.run(&["climb"]).passed();
    assert!(told.stdout.contains("could not be told to"), "{}", told.stdout);
    let told = sandbox.run(&["compare", "../served"]);
    assert!(told.code == 10 && told.stderr.contains("no report in this folder"), "{}", told.complaint());
}

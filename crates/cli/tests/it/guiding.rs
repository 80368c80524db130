//! The guide for newcomers: every command in it is run in its order, and what it says is what comes.
//!
//! `GUIDE=overwrite` writes what comes into the pages. A `…` there stands for what is otherwise each time: times, paths, digests.

use std::fs;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};

use regex::Regex;

use crate::sandbox::not_tested;

/// A newcomer with nothing, in a shell of their own.
struct Newcomer {
    folder: tempfile::TempDir,
    /// What the shell was told so far that lasts.
    before: Vec<String>,
    /// The current folder.
    at: PathBuf,
}

impl Newcomer {
    fn new() -> Self {
        let folder = tempfile::Builder::new().prefix("guide").tempdir().unwrap();
        let at = folder.path().canonicalize().unwrap();
        Self { folder, before: Vec::new(), at }
    }

    fn types(&mut self, line: &str) -> String {
        let lasting = line.split("&&").any(|part| part.trim().starts_with("cd ") || part.trim().starts_with("export "));
        let kladder = assert_cmd::cargo::cargo_bin!("kladder");
        let path = format!("{}:/usr/bin:/bin", kladder.parent().unwrap().display());
        let root = self.folder.path().canonicalize().unwrap();
        let script = format!("{}\n{line}\n{}", self.before.join("\n"), if lasting { "pwd >&3" } else { "" });
        let told = root.join(".at");
        let output = Command::new("/bin/sh")
            .args(["-c", &format!("exec 3> '{}'\n{script}", told.display())])
            .current_dir(&self.at)
            .env_clear()
            .env("HOME", root.join("person"))
            .env("PATH", path)
            .env("TZ", "UTC")
            .stdin(Stdio::null())
            .output()
            .unwrap();
        if lasting {
            self.at = PathBuf::from(fs::read_to_string(told).unwrap().trim());
            self.before
                .extend(line.split("&&").map(str::trim).filter(|part| part.starts_with("export ")).map(str::to_owned));
            // What was exported is meant as it is there.
            let at = self.at.display().to_string();
            self.before.iter_mut().for_each(|line| *line = line.replace("$PWD", &at));
        }
        let text = String::from_utf8(output.stdout).unwrap() + &String::from_utf8(output.stderr).unwrap();
        settled(&text, &root)
    }
}

/// The same each time.
fn settled(text: &str, root: &Path) -> String {
    let text = text.replace(&root.display().to_string(), "~");
    let rules = [
        (r"\d{4}-\d\d-\d\d \d\d:\d\d(:\d\d)?( UTC)?", "…"),
        (r"\b\d+(\.\d+)? (ms|s)\b", "…"),
        (r"process \d+", "process …"),
        (r"[0-9a-f]{64}", "…"),
        (r"about \d+(\.\d+)? [kMG]?B of disk", "about … of disk"),
        (r"(mine|bashrc|profile)-[0-9a-f]{8,}", "$1-…"),
        // What a system can do, and how long the path of a home is.
        (r"Programs were kept from [^\n]*", "Programs were kept from …."),
        (r"guide\.md +[\d.]+ kB", "guide.md  …"),
        (r"(\d+ files[^,\n]*), [\d.]+ kB", "$1, …"),
        (r"(?m)[ \t]+$", ""),
    ];
    rules.iter().fold(text, |text, (pattern, with)| Regex::new(pattern).unwrap().replace_all(&text, *with).into_owned())
}

/// Lines with what varies in width made narrow: columns move with what stands in them.
fn loose(text: &str) -> Vec<String> {
    text.lines()
        .map(|line| line.split_whitespace().collect::<Vec<_>>().join(" "))
        .filter(|line| !line.is_empty())
        .collect()
}

#[test]
fn every_command_of_the_guide_says_what_the_guide_says() {
    if std::env::consts::OS != "linux" || std::env::consts::ARCH != "x86_64" {
        return not_tested("its outputs are those of another platform");
    }
    let pages = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/guide");
    let mut all: Vec<PathBuf> = fs::read_dir(&pages).unwrap().map(|entry| entry.unwrap().path()).collect();
    all.retain(|path| path.extension().is_some_and(|ending| ending == "md"));
    all.sort();
    assert_eq!(all.len(), 10);
    let (mut newcomer, overwrite) = (Newcomer::new(), std::env::var("GUIDE").is_ok_and(|value| value == "overwrite"));
    for page in all {
        let text = fs::read_to_string(&page).unwrap();
        let mut is: Vec<String> = Vec::new();
        let mut lines = text.lines();
        while let Some(line) = lines.next() {
            is.push(line.to_owned());
            let Some(kind) = line.strip_prefix("```").filter(|kind| !kind.is_empty()) else { continue };
            let block: Vec<&str> = lines.by_ref().take_while(|line| *line != "```").collect();
            if let Some((_, file)) = kind.split_once(' ') {
                write(&newcomer.at.join(file), &block.join("\n"), &newcomer.at);
                is.extend(block.iter().map(|line| (*line).to_owned()));
            } else if kind == "console" {
                let commands = block.iter().filter_map(|line| line.strip_prefix("$ "));
                for command in commands {
                    is.push(format!("$ {command}"));
                    is.extend(newcomer.types(command).trim_end().lines().map(str::to_owned));
                }
            }
            is.push("```".to_owned());
        }
        let is = is.join("\n") + "\n";
        if overwrite {
            fs::write(&page, &is).unwrap();
        }
        let (is, said) = (loose(&is), loose(&text));
        let other = is.iter().zip(&said).position(|(is, said)| is != said);
        let at = other.unwrap_or(is.len().min(said.len()));
        let name = page.file_name().unwrap().display();
        assert!(
            overwrite || is == said,
            "{name}: said {:?}\nis   {:#?}",
            said.get(at),
            &is[at.min(is.len())..is.len().min(at + 12)]
        );
    }
}

/// Writes a file of the guide; `SIZE` and `SHA256` in it are those of the archive that it names.
fn write(path: &Path, text: &str, at: &Path) {
    let mut text = text.to_owned() + "\n";
    if text.contains("SHA256") {
        let (sha256, size) = kladder_core::base::digest::of_file(&at.join("yard/buoycount-0.3.tar")).unwrap();
        text = text.replace("SIZE", &size.to_string()).replace("SHA256", &sha256.to_string());
    }
    fs::create_dir_all(path.parent().unwrap()).unwrap();
    fs::write(path, text).unwrap();
}

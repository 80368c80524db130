//! A larger ladder: forty made-up rungs in some seven layers, for drawings, pictures and benches. The tools say their version, call
//! what they need, and carry a payload that nothing makes smaller.

use std::fmt::Write;
use std::fs;
use std::path::Path;

use kladder_core::base::digest::of_file;
use kladder_core::base::files::{self, Attach};
use kladder_pack::{Entry, Format, pack};

use crate::{DemoError, Layout};

/// Name, kind, version, kilobytes of payload, needs.
type Tool = (&'static str, &'static str, &'static str, usize, &'static [&'static str]);

/// Bottom up.
const TOOLS: [Tool; 40] = [
    ("tombolet", "archiver", "1.1.0", 90, &[]),
    ("saltmarrow", "system library", "3.4.1", 700, &[]),
    ("kelpstane", "C library", "2.39", 1800, &[]),
    ("ebbwright", "clock library", "0.9.4", 120, &[]),
    ("reedwarp", "text library", "14.2", 400, &[]),
    ("quaymason", "memory allocator", "5.3.0", 260, &["kelpstane"]),
    ("oarweld", "linker", "2.2.1", 300, &["kelpstane", "tombolet"]),
    ("sandwrack", "compression library", "1.6.2", 180, &["kelpstane"]),
    ("heronglass", "imaging library", "6.1.3", 950, &["sandwrack", "saltmarrow"]),
    ("tidlow", "runtime", "4.0.8", 1400, &["kelpstane", "ebbwright"]),
    ("limpetry", "key store", "2.0.1", 210, &["saltmarrow"]),
    ("skerroc", "compiler", "1.4.3", 2400, &["oarweld", "quaymason"]),
    ("wrackle", "package manager", "1.0.0", 330, &["tidlow", "sandwrack", "limpetry"]),
    ("marrambit", "library", "0.8.0", 80, &["skerroc"]),
    ("thwartle", "linter", "1.9.0", 150, &["tidlow"]),
    ("plumbrill", "debugger", "13.1", 900, &["skerroc", "reedwarp"]),
    ("brinwright", "build tool", "2.4.1", 240, &["oarweld", "tidlow"]),
    ("dunlinet", "network library", "3.0.15", 310, &["limpetry", "skerroc"]),
    ("godwisp", "formatter", "0.22.0", 170, &["skerroc", "reedwarp"]),
    ("turnsedge", "language server", "0.12.0", 620, &["skerroc", "thwartle"]),
    ("kittimew", "test runner", "5.2.2", 140, &["brinwright"]),
    ("foreshoal", "profiler", "2.7", 380, &["plumbrill"]),
    ("gannick", "documentation", "4.1.0", 290, &["skerroc", "heronglass"]),
    ("neapstone", "device SDK", "7.2", 2100, &["skerroc", "wrackle"]),
    ("bollwick", "flasher", "1.3.4", 110, &["neapstone", "dunlinet"]),
    ("seichebox", "simulator", "2.4", 1200, &["tidlow", "heronglass"]),
    ("buoyholt", "service", "3.3.0", 520, &["dunlinet", "tidlow"]),
    ("terngrove", "database", "16.3", 1700, &["saltmarrow", "dunlinet"]),
    ("mallowick", "query tool", "1.2.0", 160, &["terngrove"]),
    ("gullforth", "chart renderer", "8.0.2", 640, &["heronglass", "wrackle"]),
    ("samphrel", "notebook", "7.4.1", 480, &["gullforth", "tidlow"]),
    ("plovertide", "tide model", "2026.3", 1500, &["marrambit", "gullforth"]),
    ("whimbrow", "editor", "6.0.2", 1100, &["turnsedge"]),
    ("finchrope", "editor extension", "0.3.7", 60, &["whimbrow", "plumbrill"]),
    ("cocklebarn", "asset packer", "2.1.0", 130, &["sandwrack", "brinwright"]),
    ("mudlarkin", "log viewer", "0.6.5", 100, &["reedwarp"]),
    ("oystergate", "gateway", "1.8.1", 270, &["buoyholt", "terngrove"]),
    ("tidewattle", "deployment tool", "3.5.0", 350, &["oystergate", "cocklebarn"]),
    ("spindrake", "load generator", "0.4.0", 190, &["oystergate", "kittimew"]),
    ("yarrowick", "desk console", "1.0.9", 220, &["plovertide", "oystergate"]),
];

/// Lays the larger ladder out in `folder`: `catalog/`, `yard/` and `desk/`.
///
/// # Errors
/// [`DemoError`].
pub fn build_large(folder: &Path) -> Result<Layout, DemoError> {
    let at = |name: &str| folder.join(name);
    let (catalog, yard, desk, classroom) = (at("catalog"), at("yard"), at("desk"), at("classroom"));
    for path in [&catalog.join("tools"), &yard, &desk] {
        files::create_folder(path)?;
    }
    let put = |path: &Path, text: &str| fs::write(path, text).on("write", path);
    put(&catalog.join("catalog.toml"), "[catalog]\nformat = 2\nname = \"large\"\ntitle = \"Forty made-up tools\"\n")?;
    let mut ladder =
        "[ladder]\ntitle = \"Harbour authority, all desks\"\ncatalog = \"../catalog\"\n\n[rungs]\n".to_owned();
    for tool in &TOOLS {
        let (name, _, version, ..) = tool;
        pack_tool(tool, &catalog, &yard)?;
        // A String takes whatever is written to it.
        let _ = writeln!(ladder, "{name} = \"{version}\"");
    }
    put(&desk.join("ladder.toml"), &ladder)?;
    Ok(Layout { catalog, yard, desk, classroom, archives: TOOLS.len() })
}

fn pack_tool((name, kind, version, size, needs): &Tool, catalog: &Path, yard: &Path) -> Result<(), DemoError> {
    let calls: String = needs.iter().map(|need| format!("{need} --version > /dev/null || exit 1\n")).collect();
    let script = format!(
        "#!/bin/sh\n# A made-up {kind}.\ncase $1 in\n--version) echo \"{name} {version}\" ;;\n*)\n{calls}echo \"{name}: ready\" ;;\nesac\n"
    );
    let seed = name
        .bytes()
        .fold(0xcbf2_9ce4_8422_2325_u64, |seed, byte| (seed ^ u64::from(byte)).wrapping_mul(0x0100_0000_01b3));
    let entries = [
        Entry::program(&format!("{name}-{version}/bin/{name}"), script),
        Entry::file(&format!("{name}-{version}/data"), noise(seed, size * 1000)),
    ];
    let file = format!("{name}-{version}.tar.gz");
    let path = yard.join(&file);
    let failed = |source| DemoError::Pack { path: path.clone(), source };
    pack(Format::TarGz, &entries, &path).map_err(failed)?;
    let (digest, bytes) = of_file(&path).map_err(failed)?;
    let needs: Vec<String> = needs.iter().map(|need| format!("{need} = \"any\"")).collect();
    let definition = format!(
        "tool = \"{name}\"\nkind = \"{kind}\"\nsummary = \"A made-up {kind}\"\nunpack = {{ strip = 1 }}\n\
         commands = {{ {name} = \"bin/{name}\" }}\n\n[[checks]]\nname = \"says its version\"\nrun = [\"{name}\", \"--version\"]\n\
         expect = {{ stdout = '^{name} (?<version>\\S+)' }}\n\n[[checks]]\nname = \"is ready with what it needs\"\nrun = [\"{name}\"]\n\
         expect = {{ stdout = 'ready' }}\n\n[[releases]]\nversion = \"{version}\"\ndate = 2026-06-15\nseries = [\"stable\"]\n\
         needs = {{ {} }}\nartifacts = [{{ for = [\"any\"], file = \"{file}\", size = {bytes}, sha256 = \"{}\" }}]\n",
        needs.join(", "),
        digest.hex()
    );
    let path = catalog.join("tools").join(format!("{name}.toml"));
    Ok(fs::write(&path, definition).on("write", &path)?)
}

/// Bytes that nothing makes smaller, the same for the same seed (xorshift, Marsaglia 2003).
fn noise(mut dice: u64, length: usize) -> Vec<u8> {
    let mut bytes = Vec::with_capacity(length + 8);
    while bytes.len() < length {
        dice ^= dice << 13;
        dice ^= dice >> 7;
        dice ^= dice << 17;
        bytes.extend_from_slice(&dice.to_le_bytes());
    }
    bytes.truncate(length);
    bytes
}

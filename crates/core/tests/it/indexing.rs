//! The index of a catalog's folder.

use std::fs;
use std::path::Path;

use kladder_choose::catalog::Catalogs;
use kladder_core::desk::catalogs::Folder;
use kladder_synth::Made;

#[test]
fn an_index_is_used_while_it_matches_and_never_when_it_does_not() {
    let folder = tempfile::tempdir().unwrap();
    let lines: String = (0..80).map(|at| format!("tool-{at} 1.0 tool-{}:any\n", (at + 1) % 80)).collect();
    let made = |lines: &str| Made::from_lines(lines).write(&folder.path().join("catalog")).unwrap();
    let indexes = folder.path().join("indexes");
    let open = || {
        let catalog = Folder::open(&folder.path().join("catalog"), Some(&indexes)).unwrap();
        Catalogs::new(vec![Box::new(catalog)]).unwrap()
    };
    let newest = |tool: &str| open().card(tool).unwrap().unwrap().releases[0].version.to_string();
    made(&lines);
    assert_eq!((newest("tool-7").as_str(), fs::read_dir(&indexes).unwrap().count()), ("1.0", 1));
    // Long enough ago that a time stamp alone tells the old from the new.
    backdate(&folder.path().join("catalog/tools"));
    assert_eq!(newest("tool-7"), "1.0");
    made(&lines.replace("tool-7 1.0", "tool-7 2.0"));
    assert_eq!(newest("tool-7"), "2.0", "same size, other bytes");
    assert_eq!(open().providers("nothing").unwrap().len(), 0);
    let index = fs::read_dir(&indexes).unwrap().next().unwrap().unwrap().path();
    let bytes = fs::read(&index).unwrap();
    for at in (0..bytes.len()).step_by(bytes.len() / 97) {
        let mut damaged = bytes.clone();
        damaged[at] ^= 0x20;
        fs::write(&index, &damaged).unwrap();
        assert_eq!(newest("tool-7"), "2.0", "damaged at {at}");
    }
    fs::write(folder.path().join("catalog/tools/tool-9.toml"), "tool = 9\n").unwrap();
    assert!(open().providers("nothing").is_err(), "a list that is not whole is none");
    assert_eq!(newest("tool-7"), "2.0", "who does not ask for it is not troubled");
}

fn backdate(folder: &Path) {
    for entry in fs::read_dir(folder).unwrap() {
        let file = fs::File::options().write(true).open(entry.unwrap().path()).unwrap();
        file.set_modified(std::time::SystemTime::now() - std::time::Duration::from_hours(1)).unwrap();
    }
}

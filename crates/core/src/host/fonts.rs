//! The fonts that a host has, by what their files say of themselves (OpenType, table `name`).

use crate::host::survey::Host;
use crate::sys;

/// Whether the system, or the person, has a family of fonts.
pub(super) fn has_font(host: &Host, family: &str) -> bool {
    let own = host.person.as_ref().filter(|_| !host.is_described());
    let own = own.into_iter().flat_map(|home| sys::facts::FONTS_OF_PERSON.map(|folder| home.join(folder)));
    let common = sys::facts::FONTS.map(|folder| host.root.join(folder));
    let mut fonts = fontdb::Database::new();
    common.into_iter().chain(own).for_each(|folder| fonts.load_fonts_dir(folder));
    let same = |name: &str| name.to_lowercase() == family.to_lowercase();
    fonts.faces().any(|face| same(&face.post_script_name) || face.families.iter().any(|(name, _)| same(name)))
}

#[cfg(test)]
mod tests {
    use std::fs;

    use super::*;

    /// The least of an OpenType font: what its file says of itself, and no glyphs.
    fn font(family: &str) -> Vec<u8> {
        let text: Vec<u8> = family.encode_utf16().flat_map(u16::to_be_bytes).collect();
        let length = u16::try_from(text.len()).unwrap();
        let record = |id: u16| [3, 1, 0x409, id, length, 0].map(u16::to_be_bytes).concat();
        let head = [[0, 2, 30].map(u16::to_be_bytes).concat(), record(1), record(6), text].concat();
        let mut heads = vec![0; 54];
        heads[18..20].copy_from_slice(&1000_u16.to_be_bytes());
        let tables = [(b"head", heads), (b"hhea", vec![0; 36]), (b"maxp", vec![0, 1, 0, 0, 0, 1]), (b"name", head)];
        let mut file = [0, 1, 0, 0, 0, 4, 0, 0, 0, 0, 0, 0].to_vec();
        let mut at = 12 + 16 * 4;
        for (tag, table) in &tables {
            let numbers = [0, at, table.len()].map(|n| u32::try_from(n).unwrap().to_be_bytes());
            file.extend([tag.as_slice(), &numbers.concat()].concat());
            at += table.len();
        }
        for (_, table) in tables {
            file.extend(table);
        }
        file
    }

    #[test]
    fn a_font_is_known_by_its_family_and_not_by_its_file() {
        let root = tempfile::tempdir().unwrap();
        let folder = root.path().join(sys::facts::FONTS[0]).join("truetype/harbour");
        fs::create_dir_all(&folder).unwrap();
        fs::write(folder.join("a.ttf"), font("Tidemark Mono")).unwrap();
        fs::write(folder.join("Lantern.ttf"), &font("Lantern")[..60]).unwrap();
        let host = Host::new("".into(), root.path()).described(root.path().to_path_buf());
        let had = ["Tidemark Mono", "tidemark mono", "Tidemark", "Lantern"].map(|family| has_font(&host, family));
        assert_eq!(had, [true, true, false, false]);
    }
}

//! Hostile tars, written header by header.

use super::DAMAGED;

/// What it tries, the archive, and what must be said.
pub(super) type Case = (&'static str, Vec<u8>, &'static str);

const FILE: u8 = b'0';
const HARD: u8 = b'1';
const LINK: u8 = b'2';
const FOLDER: u8 = b'5';

/// A header as POSIX has it (`ustar`), with its checksum.
fn header(name: &[u8], kind: u8, size: &[u8], target: &[u8]) -> [u8; 512] {
    let mut header = [0; 512];
    let mut put = |at: usize, bytes: &[u8]| header[at..at + bytes.len()].copy_from_slice(bytes);
    put(0, name);
    put(100, b"0000644\0");
    put(108, b"0000000\0");
    put(116, b"0000000\0");
    put(124, size);
    put(136, b"15125276000\0");
    put(156, &[kind]);
    put(157, target);
    put(257, b"ustar\x0000");
    put(148, b"        ");
    let sum: u32 = header.iter().map(|byte| u32::from(*byte)).sum();
    header[148..156].copy_from_slice(format!("{sum:06o}\0 ").as_bytes());
    header
}

fn octal(size: usize) -> Vec<u8> {
    format!("{size:011o}\0").into_bytes()
}

fn entry(name: &[u8], kind: u8, target: &[u8], data: &[u8]) -> Vec<u8> {
    let mut out = header(name, kind, &octal(data.len()), target).to_vec();
    out.extend_from_slice(data);
    out.resize(out.len().next_multiple_of(512), 0);
    out
}

fn file(name: &str) -> Vec<u8> {
    entry(name.as_bytes(), FILE, b"", b"x")
}

fn link(name: &str, target: &str) -> Vec<u8> {
    entry(name.as_bytes(), LINK, target.as_bytes(), b"")
}

fn hard(name: &str, target: &str) -> Vec<u8> {
    entry(name.as_bytes(), HARD, target.as_bytes(), b"")
}

/// A pax header with these records, and the entry that it is about.
fn pax(records: &[(&str, &[u8])], then: Vec<u8>) -> Vec<u8> {
    let mut data = Vec::new();
    for (key, value) in records {
        let bare = key.len() + value.len() + 3;
        let length =
            (1..20).find(|digits| (bare + digits).to_string().len() == *digits).map_or(bare, |digits| bare + digits);
        data.extend_from_slice(format!("{length} {key}=").as_bytes());
        data.extend_from_slice(value);
        data.push(b'\n');
    }
    [entry(b"pax", b'x', b"", &data), then].concat()
}

/// A GNU header with a long name, and the entry that it is about.
fn long(name: &[u8], then: Vec<u8>) -> Vec<u8> {
    [entry(b"././@LongLink", b'L', b"", &[name, b"\0"].concat()), then].concat()
}

fn tar(entries: &[Vec<u8>]) -> Vec<u8> {
    [entries.concat(), vec![0; 1024]].concat()
}

/// Nothing is wrong with it.
pub(super) fn honest() -> Vec<u8> {
    tar(&[file("fine")])
}

/// An honest tar of bytes that no packer makes smaller.
pub(super) fn noise() -> Vec<u8> {
    let bytes: Vec<u8> =
        (0..100_000u32).flat_map(|n| n.wrapping_mul(2_654_435_761).rotate_left(n % 31).to_le_bytes()).collect();
    tar(&[entry(b"noise", FILE, b"", &bytes)])
}

/// A few that every packing is tried with.
pub(super) fn some() -> Vec<Case> {
    vec![
        ("climb out", tar(&[file("../escaped")]), "climbs out"),
        ("start at the root", tar(&[file("/tmp/escaped")]), "absolute"),
        ("write through a link", tar(&[link("l", "/tmp"), file("l/escaped")]), "absolute path"),
        ("bring a device", tar(&[entry(b"null", b'3', b"", b"")]), "neither a file"),
    ]
}

pub(super) fn all() -> Vec<Case> {
    [some(), paths(), links(), kinds(), sizes(), broken()].concat()
}

fn paths() -> Vec<Case> {
    let deep = ["d/"; 200].concat() + "f";
    vec![
        ("climb out from a folder", tar(&[file("a/../../escaped")]), "climbs out"),
        ("climb out behind a dot", tar(&[file("./../escaped")]), "climbs out"),
        ("make a folder outside", tar(&[entry(b"../escaped/", FOLDER, b"", b"")]), "climbs out"),
        ("start at the root twice", tar(&[file("//tmp/escaped")]), "absolute"),
        ("start at the root by pax", tar(&[pax(&[("path", b"/tmp/escaped")], file("fine"))]), "absolute"),
        ("climb out by pax", tar(&[pax(&[("path", b"../escaped")], file("fine"))]), "climbs out"),
        ("climb out by a GNU long name", tar(&[long(b"../escaped", file("fine"))]), "climbs out"),
        ("hide its end behind a NUL", tar(&[pax(&[("path", b"fine\0/../escaped")], file("fine"))]), "not a path"),
        ("have no name", tar(&[entry(b"", FILE, b"", b"x")]), "not a path"),
        ("be the folder itself", tar(&[file("./")]), "there is nothing in it"),
        ("have an endless name", tar(&[long(&[b'n'; 300], file("fine"))]), "255 bytes in a name"),
        ("have an endless path", tar(&[long("n/".repeat(60).repeat(30).as_bytes(), file("fine"))]), "128 folders"),
        (
            "have a long path of few names",
            tar(&[long(("n".repeat(250) + "/").repeat(20).as_bytes(), file("fine"))]),
            "3072 bytes",
        ),
        ("stand too deep", tar(&[long(deep.as_bytes(), file("fine"))]), "128 folders"),
        ("be there twice", tar(&[file("f"), file("f")]), "at its path already"),
        ("be there twice in two spellings", tar(&[file("a/f"), file("a//./f")]), "at its path already"),
        ("differ in case only", tar(&[file("Read"), file("read")]), "upper and lower case"),
        ("differ in the case of a folder", tar(&[file("A/f"), file("a/g")]), "upper and lower case"),
        ("stand below a file", tar(&[file("f"), file("f/escaped")]), "not a folder"),
        ("be a file where a folder is", tar(&[file("d/f"), file("d")]), "at its path already"),
        ("be a folder where a file is", tar(&[file("d"), entry(b"d/", FOLDER, b"", b"")]), "not a folder"),
    ]
}

fn links() -> Vec<Case> {
    vec![
        ("write through a link to the folder above", tar(&[link("l", ".."), file("l/escaped")]), "leads out"),
        ("write through a link inside", tar(&[file("real/f"), link("l", "real"), file("l/g")]), "not a folder"),
        ("write over a link", tar(&[link("l", "fine"), file("l")]), "at its path already"),
        ("lead out by going down and up", tar(&[link("a/l", "../../escaped")]), "leads out"),
        ("lead out by a link to itself", tar(&[link("d", "."), link("e", "d/..")]), "leads out"),
        ("lead out by steps in between", tar(&[link("l", "a/../../escaped")]), "leads out"),
        ("lead out by pax", tar(&[pax(&[("linkpath", b"../escaped")], link("l", "fine"))]), "leads out"),
        ("lead nowhere", tar(&[link("l", "")]), "leads out"),
        ("lead to a NUL", tar(&[pax(&[("linkpath", b"fine\0")], link("l", "fine"))]), "leads out"),
        ("be a link where a file is", tar(&[file("l"), link("l", "fine")]), "at its path already"),
        ("be a link where a folder is", tar(&[file("l/f"), link("l", "fine")]), "at its path already"),
        ("join a file of the host", tar(&[hard("h", "/etc/hosts")]), "hard link"),
        ("join a file outside", tar(&[hard("h", "../a.tar")]), "hard link"),
        ("join what is not there", tar(&[hard("h", "missing")]), "hard link"),
        ("join itself", tar(&[hard("h", "h")]), "hard link"),
        ("join a link", tar(&[link("l", "fine"), hard("h", "l")]), "hard link"),
        ("join a folder", tar(&[entry(b"d/", FOLDER, b"", b""), hard("h", "d")]), "hard link"),
    ]
}

fn kinds() -> Vec<Case> {
    [
        ("bring a block device", b'4'),
        ("bring a pipe", b'6'),
        ("bring part of another volume", b'M'),
        ("bring what nobody knows", b'Z'),
    ]
    .map(|(tries, kind)| (tries, tar(&[entry(b"thing", kind, b"", b"")]), "neither a file"))
    .into()
}

fn sizes() -> Vec<Case> {
    let tera: &[u8] = b"1099511627776";
    let sparse = |map: &[u8]| {
        let records: [(&str, &[u8]); 3] =
            [("GNU.sparse.map", map), ("GNU.sparse.size", tera), ("GNU.sparse.name", b"s")];
        tar(&[pax(&records, file("fine"))])
    };
    let front: [(&str, &[u8]); 3] =
        [("GNU.sparse.major", b"1"), ("GNU.sparse.minor", b"0"), ("GNU.sparse.realsize", tera)];
    let absurd = |size: &[u8]| tar(&[header(b"f", FILE, size, b"").to_vec()]);
    vec![
        ("be all hole", sparse(b""), "beyond the limit"),
        ("be all hole but its end", sparse(b"1099511627775,1"), "beyond the limit"),
        ("overlap itself", sparse(b"0,1,0,1"), "holes does not fit"),
        ("have a hole outside", sparse(b"1099511627776,1"), "holes does not fit"),
        ("have half a hole", sparse(b"0"), "holes does not fit"),
        ("count its holes wrong", tar(&[pax(&front, entry(b"s", FILE, b"", b"9999999\n"))]), "holes does not fit"),
        ("count no holes", tar(&[pax(&front, entry(b"s", FILE, b"", b"-1\n"))]), "holes does not fit"),
        ("be larger than its archive", absurd(b"00777777777\0"), DAMAGED),
        ("have a size without end", absurd(b"\xff\xff\xff\xff\xff\xff\xff\xff\xff\xff\xff\xff"), DAMAGED),
        ("have the largest size there is", absurd(b"\x80\0\0\0\xff\xff\xff\xff\xff\xff\xff\xff"), DAMAGED),
        ("have a size that is no number", absurd(b"what?\0\0\0\0\0\0\0"), DAMAGED),
        (
            "have an endless pax header",
            tar(&[header(b"pax", b'x', b"77777777777\0", b"").to_vec(), file("f")]),
            "in front of an entry",
        ),
        (
            "have an endless GNU name",
            tar(&[header(b"././@LongLink", b'L', b"77777777777\0", b"").to_vec(), file("f")]),
            "in front of an entry",
        ),
    ]
}

fn broken() -> Vec<Case> {
    let mut sum = honest();
    sum[150] ^= 1;
    let whole = honest();
    vec![
        ("have a wrong checksum", sum, DAMAGED),
        ("be cut in a header", whole[..300].to_vec(), DAMAGED),
        ("be cut in a file", whole[..600].to_vec(), DAMAGED),
        ("be empty", Vec::new(), DAMAGED),
        ("be zeros", vec![0; 4096], DAMAGED),
        ("end behind a long name", tar(&[entry(b"././@LongLink", b'L', b"", b"name\0")]), DAMAGED),
        ("have a pax size that is none", tar(&[pax(&[("size", b"what?")], file("f"))]), DAMAGED),
        ("have a pax header that is none", tar(&[entry(b"pax", b'x', b"", b"99 path=x\n"), file("f")]), DAMAGED),
    ]
}

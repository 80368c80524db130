//! Records that stand before entries of a tar and say more of them (pax, IEEE 1003.1).

use std::io;

use super::Stop;

/// One pax record.
pub(super) struct Record {
    pub(super) key: Vec<u8>,
    pub(super) value: Vec<u8>,
}

/// A decimal number without a sign.
pub(super) fn number(text: &[u8]) -> Option<u64> {
    std::str::from_utf8(text).ok()?.trim().parse().ok()
}

/// Takes pax records apart: `LENGTH KEY=VALUE` and a line end, all of it counted in the length.
pub(super) fn records(mut bytes: &[u8]) -> Result<Vec<Record>, Stop> {
    let mut all = Vec::new();
    while !bytes.is_empty() {
        let (record, rest) =
            record(bytes).ok_or_else(|| Stop::from(io::Error::other("a pax record in it is not whole")))?;
        all.push(record);
        bytes = rest;
    }
    Ok(all)
}

fn record(bytes: &[u8]) -> Option<(Record, &[u8])> {
    let blank = bytes.iter().position(|byte| *byte == b' ')?;
    let length = usize::try_from(number(&bytes[..blank])?).ok()?;
    let text = bytes.get(blank + 1..length)?.strip_suffix(b"\n")?;
    let equals = text.iter().position(|byte| *byte == b'=')?;
    let (key, value) = (text[..equals].to_vec(), text[equals + 1..].to_vec());
    Some((Record { key, value }, &bytes[length..]))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn records_are_as_long_as_they_say() {
        let all = records(b"17 comment=a\nb=c\n12 path=a/b\n").unwrap();
        let told: Vec<_> = all.iter().map(|record| (record.key.as_slice(), record.value.as_slice())).collect();
        assert_eq!(told, [(&b"comment"[..], &b"a\nb=c"[..]), (b"path", b"a/b")]);
        for wrong in
            [&b"12 path=a/b"[..], b"13 path=a/b\n", b"x path=a\n", b"99999999999999999999 a=b\n", b"5 a\n\n", b"3 \n"]
        {
            assert!(records(wrong).is_err(), "{wrong:?}");
        }
    }
}

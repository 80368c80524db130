//! Sparse files: those of old GNU archives, and versions 0.0, 0.1 and 1.0 of the extension to pax (GNU tar manual, appendix
//! "Storing Sparse Files"). Holes are written out as zeros.

use std::collections::VecDeque;
use std::io::{self, Read};

use super::records::{self, Record};
use super::{Refusal, Stop};

/// More stretches than this are no honest file.
const MOST: usize = 1 << 20;

/// What is said of a sparse file before its data.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub(super) struct Sparse {
    /// Its name, where the header's own is made up.
    pub(super) name: Option<Vec<u8>>,
    /// Its size with all holes, in bytes.
    pub(super) size: u64,
    /// Where data stands; `None` when that is told in front of the data.
    map: Option<Vec<(u64, u64)>>,
}

impl Sparse {
    /// What pax records say; `None` for a file without holes.
    pub(super) fn of_records(records: &[Record]) -> Result<Option<Self>, Refusal> {
        let (mut found, mut size, mut numbers, mut in_front) = (Self::default(), None, Vec::new(), false);
        for Record { key, value } in records {
            match key.strip_prefix(b"GNU.sparse.") {
                Some(b"name") => found.name = Some(value.clone()),
                Some(b"size" | b"realsize") => size = Some(number(value)?),
                Some(b"major") => in_front = number(value)? == 1,
                Some(b"offset" | b"numbytes") => numbers.push(number(value)?),
                Some(b"map") if value.is_empty() => numbers.clear(),
                Some(b"map") => {
                    numbers = value.split(|&byte| byte == b',').map(number).collect::<Result<_, _>>()?;
                }
                _ => {}
            }
        }
        let Some(size) = size else { return Ok(None) };
        found.size = size;
        found.map = if in_front { None } else { Some(pairs(&numbers)?) };
        Ok(Some(found))
    }

    /// A file of this size, with a map to which more is to be added.
    pub(super) fn sized(size: u64) -> Self {
        Self { name: None, size, map: Some(Vec::new()) }
    }

    /// Adds what a block of an old GNU archive says.
    pub(super) fn add(&mut self, stretches: &[tar::GnuSparseHeader]) -> Result<(), Stop> {
        let map = self.map.get_or_insert_default();
        for stretch in stretches.iter().filter(|stretch| !stretch.is_empty()) {
            map.push((stretch.offset()?, stretch.length()?));
        }
        if map.len() > MOST { Err(Refusal::Sparse.into()) } else { Ok(()) }
    }
}

fn number(text: &[u8]) -> Result<u64, Refusal> {
    records::number(text).ok_or(Refusal::Sparse)
}

fn pairs(numbers: &[u64]) -> Result<Vec<(u64, u64)>, Refusal> {
    if !numbers.len().is_multiple_of(2) || numbers.len() / 2 > MOST {
        return Err(Refusal::Sparse);
    }
    Ok(numbers.chunks(2).map(|pair| (pair[0], pair[1])).collect())
}

/// Reads a sparse file with its holes as zeros.
pub(super) struct Holes<R> {
    data: R,
    /// Stretches still to come: where they begin and end.
    left: VecDeque<(u64, u64)>,
    at: u64,
    size: u64,
}

impl<R: Read> Holes<R> {
    pub(super) fn read(mut data: R, sparse: Sparse) -> Result<Self, Stop> {
        let map = match sparse.map {
            Some(map) => map,
            None => map_in_front(&mut data)?,
        };
        let (mut left, mut end) = (VecDeque::new(), 0);
        for (start, length) in map {
            let stop = start.checked_add(length).filter(|stop| *stop <= sparse.size).ok_or(Refusal::Sparse)?;
            if start < end {
                return Err(Refusal::Sparse.into());
            }
            end = stop;
            left.push_back((start, stop));
        }
        Ok(Self { data, left, at: 0, size: sparse.size })
    }
}

/// Version 1.0: the count of stretches and then two numbers for each, a line each, filled up to a block of 512 bytes.
fn map_in_front(data: &mut impl Read) -> Result<Vec<(u64, u64)>, Stop> {
    let (mut numbers, mut line, mut read) = (Vec::new(), Vec::new(), 0u64);
    let mut wanted = 1;
    let mut byte = [0];
    while numbers.len() < wanted {
        data.read_exact(&mut byte)?;
        read += 1;
        if byte != *b"\n" {
            line.push(byte[0]);
            if line.len() > 20 {
                return Err(Refusal::Sparse.into());
            }
            continue;
        }
        numbers.push(number(&line)?);
        line.clear();
        if numbers.len() == 1 {
            let count = usize::try_from(numbers[0]).ok().filter(|count| *count <= MOST).ok_or(Refusal::Sparse)?;
            wanted = 1 + 2 * count;
        }
    }
    io::copy(&mut data.take(read.next_multiple_of(512) - read), &mut io::sink())?;
    Ok(pairs(&numbers[1..])?)
}

impl<R: Read> Read for Holes<R> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        while self.left.front().is_some_and(|(_, end)| *end == self.at) {
            self.left.pop_front();
        }
        let within = |room: u64| usize::try_from(room).unwrap_or(usize::MAX).min(buffer.len());
        let got = match self.left.front() {
            Some(&(start, end)) if start <= self.at => {
                let room = within(end - self.at);
                let got = self.data.read(&mut buffer[..room])?;
                if got == 0 && room > 0 {
                    return Err(io::ErrorKind::UnexpectedEof.into());
                }
                got
            }
            next => {
                let hole = within(next.map_or(self.size, |(start, _)| *start) - self.at);
                buffer[..hole].fill(0);
                hole
            }
        };
        self.at += got as u64;
        Ok(got)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn holes(data: &[u8], size: u64, map: Option<Vec<(u64, u64)>>) -> Result<Vec<u8>, Stop> {
        let mut out = Vec::new();
        Holes::read(data, Sparse { name: None, size, map })?.read_to_end(&mut out)?;
        Ok(out)
    }

    #[test]
    fn holes_are_zeros_and_stretches_stand_where_the_map_says() {
        let tide = b"\0\0ab\0c\0".to_vec();
        assert_eq!(holes(b"abc", 7, Some(vec![(2, 2), (5, 1), (7, 0)])).unwrap(), tide);
        let mut front = b"3\n2\n2\n5\n1\n7\n0\n".to_vec();
        front.resize(512, 0);
        front.extend(b"abc");
        assert_eq!(holes(&front, 7, None).unwrap(), tide);
        assert_eq!(holes(b"", 3, Some(vec![])).unwrap(), [0; 3]);
    }

    #[test]
    fn maps_that_overlap_or_lead_out_are_refused() {
        for map in [vec![(2, 2), (3, 1)], vec![(6, 2)], vec![(u64::MAX, 2)]] {
            assert!(matches!(holes(b"abc", 7, Some(map)), Err(Stop::Refused(Refusal::Sparse))));
        }
        for front in [&b"99999999999999999999\n"[..], b"-1\n", b"x\n", b"2000000\n"] {
            assert!(matches!(holes(front, 7, None), Err(Stop::Refused(Refusal::Sparse))), "{front:?}");
        }
        assert!(matches!(holes(b"3\n1", 7, None), Err(Stop::Damaged(_))));
        assert!(matches!(holes(b"a", 7, Some(vec![(2, 2)])), Err(Stop::Damaged(_))));
    }
}

//! 7z archives of any bytes.
#![no_main]

mod unpacked;

libfuzzer_sys::fuzz_target!(|bytes: &[u8]| unpacked::check("a.7z", bytes));

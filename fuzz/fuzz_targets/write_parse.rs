#![no_main]
//! Feeds `chestnut_fuzz::write_parse` with what a fuzzer makes up.

libfuzzer_sys::fuzz_target!(|bytes: &[u8]| chestnut_fuzz::write_parse(bytes));

#![no_main]
//! Feeds `chestnut_fuzz::feed` with what a fuzzer makes up.

libfuzzer_sys::fuzz_target!(|bytes: &[u8]| chestnut_fuzz::feed(bytes));

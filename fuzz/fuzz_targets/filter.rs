//! See `webtaxon_fuzz::filter`.
#![no_main]

libfuzzer_sys::fuzz_target!(|data: &[u8]| webtaxon_fuzz::filter(data));

//! See `webtaxon_fuzz::name`.
#![no_main]

libfuzzer_sys::fuzz_target!(|data: &[u8]| webtaxon_fuzz::name(data));

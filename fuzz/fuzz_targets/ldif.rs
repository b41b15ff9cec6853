//! See `webtaxon_fuzz::ldif`.
#![no_main]

libfuzzer_sys::fuzz_target!(|data: &[u8]| webtaxon_fuzz::ldif(data));

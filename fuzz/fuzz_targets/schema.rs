//! See `webtaxon_fuzz::schema`.
#![no_main]

libfuzzer_sys::fuzz_target!(|data: &[u8]| webtaxon_fuzz::schema(data));

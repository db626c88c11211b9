//! Requests of OTLP in protobuf: read, and searched for failures, within the room that the length of the body allows.
#![no_main]

#[path = "../otlp.rs"]
mod otlp;

libfuzzer_sys::fuzz_target!(|body: &[u8]| otlp::take(body, outcrop_otlp::Encoding::Protobuf));

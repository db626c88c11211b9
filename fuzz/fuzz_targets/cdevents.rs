//! CDEvents as they are announced.
#![no_main]

use outcrop_core::deploy::announced;

libfuzzer_sys::fuzz_target!(|body: &[u8]| {
    let Ok(value) = serde_json::from_slice::<serde_json::Value>(body) else { return };
    if let Ok(deploy) = announced(&value) {
        assert!(!deploy.service.is_empty() && !deploy.version.is_empty());
    }
});

use outcrop_core::Timestamp;
use outcrop_core::failure::{Limits, NO_GROUPS, find_in_logs, find_in_metrics, find_in_spans};
use outcrop_core::scrub;
use outcrop_otlp::{Encoding, Room, decode_logs, decode_metrics, decode_traces};

/// Takes a body as each signal, as the intake does.
pub fn take(body: &[u8], encoding: Encoding) {
    let received = Timestamp(1_795_000_000_000_000_000);
    let limits = || Limits { received, oldest: received.plus_millis(-30 * 86_400_000), scrubbing: &scrub::BUILT_IN,
        groups: &NO_GROUPS };
    let mut used = 0;
    let mut more = |bytes: usize| {
        used += bytes;
        used < 256 << 20
    };
    let mut room = Room::new(&mut more);
    if let Ok(read) = decode_traces(body, encoding, &mut room) {
        let found = find_in_spans(read.groups, limits());
        assert!(found.identities().all(|identity| !identity.service.is_empty()));
    }
    if let Ok(read) = decode_logs(body, encoding, &mut room) {
        let _found = find_in_logs(read.groups, limits());
    }
    if let Ok(read) = decode_metrics(body, encoding, &mut room) {
        let _found = find_in_metrics(read.groups, limits());
    }
    // What is read of a body is at most a constant number of times as large as the body.
    assert!(used <= 1_000 * (body.len() + 1_000), "{} bytes took {used}", body.len());
}

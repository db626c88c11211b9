//! Processor time of processes, from /proc.

use std::collections::HashMap;
use std::fs;

/// Microseconds that a process and all below it have used, those that have ended among them.
pub fn micros(pid: u32) -> f64 {
    let mut children: HashMap<u32, Vec<u32>> = HashMap::new();
    let mut ticks: HashMap<u32, u64> = HashMap::new();
    for entry in fs::read_dir("/proc").into_iter().flatten().flatten() {
        let Some(id) = entry.file_name().to_str().and_then(|name| name.parse::<u32>().ok()) else {
            continue;
        };
        let Ok(stat) = fs::read_to_string(entry.path().join("stat")) else {
            continue;
        };
        // The name stands in brackets and may hold anything: fields count from behind it (proc(5)).
        let Some((_, rest)) = stat.rsplit_once(") ") else {
            continue;
        };
        let fields: Vec<&str> = rest.split(' ').collect();
        let number = |at: usize| {
            fields
                .get(at)
                .and_then(|field| field.parse::<u64>().ok())
                .unwrap_or_default()
        };
        children
            .entry(u32::try_from(number(1)).unwrap_or_default())
            .or_default()
            .push(id);
        // utime, stime, and of children waited for.
        ticks.insert(id, (11..=14).map(number).sum());
    }
    let mut waiting = vec![pid];
    let mut sum = 0;
    while let Some(id) = waiting.pop() {
        sum += ticks.get(&id).copied().unwrap_or_default();
        waiting.extend(children.get(&id).into_iter().flatten());
    }
    // A tick is 10 ms on Linux (USER_HZ is 100 on every platform there).
    sum as f64 * 10_000.0
}

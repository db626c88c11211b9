//! Texts of stacks, of whatever runtime.
#![no_main]

use outcrop_core::stack;

libfuzzer_sys::fuzz_target!(|text: &str| {
    let Some(read) = stack::read(text) else { return };
    assert!(!read.exceptions.is_empty());
    let own = read.own_frame().map(|frame| frame.short());
    let frames = read.frame_count();
    let owned = read.into_owned();
    assert_eq!((owned.own_frame().map(|frame| frame.short()), owned.frame_count()), (own, frames));
});

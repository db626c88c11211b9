//! Stack texts of many runtimes, read into frames.
//!
//! A runtime is one file here: it implements [`Dialect`] and stands in [`DIALECTS`].

mod cpython;
mod d;
mod dialect;
mod dotnet;
mod elixir;
mod erlang;
mod frame;
mod gecko;
mod generic;
mod gnu_r;
mod go;
mod guile;
mod haskell;
mod jvm;
mod lisp;
mod lists;
mod lua;
mod nodejs;
mod perl;
mod php;
mod places;
mod racket;
mod ruby;
mod rust;
mod search;
mod tcl;
mod words;

pub use dialect::Dialect;

use frame::ends_with_any;

pub use frame::{Exception, Frame, MAX_EXCEPTIONS, MAX_FRAMES, Relation, Stack, base_name, short_path};

pub(crate) use erlang::class_and_atom as erlang_reason;

use std::borrow::Cow;

/// All runtimes whose stacks are read; the first that takes a text wins.
pub const DIALECTS: &[&dyn Dialect] = &[
    &cpython::CPython,
    &jvm::Jvm,
    &php::Php,
    &dotnet::DotNet,
    &nodejs::NodeJs,
    &ruby::Ruby,
    &go::Go,
    &rust::Rust,
    &lua::Lua,
    &elixir::Elixir,
    &erlang::Erlang,
    &perl::Perl,
    &gecko::Gecko,
    &d::D,
    &haskell::Haskell,
    &tcl::Tcl,
    &racket::Racket,
    &guile::Guile,
    &lisp::Lisp,
    &gnu_r::GnuR,
    &generic::Generic,
];

/// Reads a stack text, or says that no runtime known here wrote it.
///
/// # Example: a frame of CPython
/// ```
/// let text = "Traceback (most recent call last):\n  File \"/srv/fares/tariff.py\", line 26, in per_metre\n    x\nKeyError: 'a'";
/// let stack = outcrop_core::stack::read(text).unwrap();
/// assert_eq!(stack.exceptions[0].type_name, "KeyError");
/// assert_eq!(stack.exceptions[0].frames[0].function, "per_metre");
/// assert!(stack.exceptions[0].frames[0].own);
/// ```
#[must_use]
pub fn read(text: &str) -> Option<Stack<'_>> {
    DIALECTS.iter().find_map(|dialect| {
        let mut exceptions = dialect.read(text)?;
        exceptions.truncate(MAX_EXCEPTIONS);
        if exceptions.is_empty() {
            return None;
        }
        for exception in &mut exceptions {
            fold_recursion(&mut exception.frames);
            shorten(&mut exception.frames);
        }
        Some(Stack {
            runtime: Cow::Borrowed(dialect.runtime()),
            exceptions,
        })
    })
}

/// Whether a text says itself that nobody caught the exception: how runtimes introduce what ended a
/// thread or the process.
///
/// # Example: a crash, and a trace that a logger wrote
/// ```
/// assert!(outcrop_core::stack::is_crash("Exception in thread \"main\" java.lang.IllegalStateException: berth 7 is taken\n\tat a.B.c(B.java:1)"));
/// assert!(!outcrop_core::stack::is_crash("java.lang.IllegalStateException: berth 7 is taken\n\tat a.B.c(B.java:1)"));
/// ```
#[must_use]
pub fn is_crash(text: &str) -> bool {
    const BEGINNINGS: &[&str] = &[
        "Exception in thread ",
        "Fatal error: ",
        "PHP Fatal error: ",
        "Fatal Python error: ",
        "fatal error: ",
        "Unhandled ",
        "Uncaught ",
        "unhandled exception",
        "terminate called ",
        "terminating due to ",
        "[ERROR] FATAL UNHANDLED EXCEPTION",
        "libc++abi: terminating",
        "Thread crashed",
        "** (EXIT",
    ];
    let text = text.trim_start();
    let is_panic = text
        .strip_prefix("panic: ")
        .is_some_and(|rest| !rest.lines().next().unwrap_or_default().ends_with("[recovered]"));
    let is_rust = text.starts_with("thread '") && text.lines().next().is_some_and(|line| line.contains("panicked at "));
    // Node.js says so below, Nim in its last line.
    let says_last = || text.contains("\nNode.js v") || text.contains("\nError: unhandled exception: ");
    is_panic || is_rust || BEGINNINGS.iter().any(|beginning| text.starts_with(beginning)) || says_last()
}

/// Folds frames that repeat in a row into one with a count.
fn fold_recursion(frames: &mut Vec<Frame<'_>>) {
    frames.dedup_by(|next, kept| {
        let is_same = next.function == kept.function
            && next.file == kept.file
            && next.line == kept.line
            && next.module == kept.module;
        if is_same {
            kept.repeats = kept.repeats.saturating_add(next.repeats).saturating_add(1);
            kept.own |= next.own;
        }
        is_same
    });
}

fn shorten(frames: &mut Vec<Frame<'_>>) {
    if frames.len() > MAX_FRAMES {
        let outer = frames.len() - MAX_FRAMES / 2;
        frames.drain(MAX_FRAMES / 2..outer);
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;
    use rstest::rstest;

    use super::*;

    fn outline(text: &str) -> String {
        let Some(stack) = read(text) else {
            return "unread".to_owned();
        };
        let mut lines = vec![];
        for exception in &stack.exceptions {
            lines.push(format!(
                "{:?} {} | {}",
                exception.relation, exception.type_name, exception.message
            ));
            lines.extend(exception.frames.iter().map(|frame| {
                let repeats = if frame.repeats > 0 {
                    format!(" x{}", frame.repeats + 1)
                } else {
                    String::new()
                };
                format!("  {}{}{repeats}", if frame.own { "" } else { "~ " }, frame.short())
            }));
        }
        lines.join("\n")
    }

    #[rstest]
    #[case::python_chain("python_chain")]
    #[case::python_group("python_group")]
    #[case::python_recursion("python_recursion")]
    #[case::python_syntax_error("python_syntax_error")]
    #[case::node_async("node_async")]
    #[case::node_cause_by_logger("node_cause_by_logger")]
    #[case::node_cause_by_inspect("node_cause_by_inspect")]
    #[case::node_aggregate_inspected("node_aggregate_inspected")]
    #[case::node_crash("node_crash")]
    #[case::java_cause("java_cause")]
    #[case::go_panic("go_panic")]
    #[case::ruby_crash("ruby_crash")]
    #[case::ruby_cause_of_3_4("ruby_cause_of_3_4")]
    #[case::php_previous("php_previous")]
    #[case::php_by_its_sdk("php_by_its_sdk")]
    #[case::perl_handler("perl_handler")]
    #[case::lua_compare("lua_compare")]
    #[case::rust_thread_full("rust_thread_full")]
    #[case::mono_aggregate("mono_aggregate")]
    #[case::dotnet_async("dotnet_async")]
    #[case::elixir_task("elixir_task")]
    #[case::erlang_term("erlang_term")]
    #[case::erlang_crash_report("erlang_crash_report")]
    #[case::gecko_async("gecko_async")]
    #[case::d_chain("d_chain")]
    #[case::go_wrapped("go_wrapped")]
    #[case::guile_compiled("guile_compiled")]
    #[case::haskell_call_stack("haskell_call_stack")]
    #[case::haskell_pattern("haskell_pattern")]
    #[case::nim_last("nim_last")]
    #[case::ocaml_inlined("ocaml_inlined")]
    #[case::perl_first("perl_first")]
    #[case::prolog_backtrace("prolog_backtrace")]
    #[case::python_dump("python_dump")]
    #[case::r_calls("r_calls")]
    #[case::r_traceback("r_traceback")]
    #[case::racket_context("racket_context")]
    #[case::sbcl_error("sbcl_error")]
    #[case::tcl_command("tcl_command")]
    #[case::unknown_dart("unknown_dart")]
    #[case::unknown_swift("unknown_swift")]
    #[case::unknown_julia("unknown_julia")]
    #[case::unknown_ocaml("unknown_ocaml")]
    #[case::haskell_installed("haskell_installed")]
    #[case::unknown_cpp("unknown_cpp")]
    fn a_real_stack_is_read(#[case] name: &str) {
        let path = format!("{}/tests/stacks/{name}.txt", env!("CARGO_MANIFEST_DIR"));
        let text = std::fs::read_to_string(&path).unwrap();
        insta::with_settings!({snapshot_path => "../../tests/stacks", prepend_module_to_snapshot => false,
            omit_expression => true}, {
            insta::assert_snapshot!(name, outline(&text));
        });
    }

    #[rstest]
    #[case("panic: runtime error: index out of range\n\ngoroutine 1 [running]:", true)]
    #[case("panic: closed [recovered]\n\tpanic: closed\n\ngoroutine 1 [running]:", false)]
    #[case("thread 'main' panicked at src/main.rs:3:5:\nno berth", true)]
    #[case("PHP Fatal error:  Uncaught Exception: x in /srv/a.php:3", true)]
    #[case("Unhandled exception. System.Exception: x\n   at A.B()", true)]
    #[case(
        "/srv/a.js:3\n    throw x\n    ^\n\nError: x\n    at f (/srv/a.js:3:9)\n\nNode.js v20.20.2",
        true
    )]
    #[case("goroutine 7 [running]:\nmain.f()\n\t/srv/a.go:3 +0x1d", false)]
    #[case(
        "Traceback (most recent call last):\n  File \"a.py\", line 3, in f\nKeyError: 'a'",
        false
    )]
    #[case("", false)]
    fn a_crash_says_so_itself(#[case] text: &str, #[case] expected: bool) {
        assert_eq!(is_crash(text), expected);
    }

    proptest! {
        #[test]
        fn no_text_breaks_a_parser(text in "(\\PC|\n|File \"|Traceback \\(most recent call last\\):|    at |#0 \
            |\\[\\{a,b,1,\\[|Stack trace:|stack traceback:|:in `|panicked at |   0: |--->|<|>|@|\\*\\* \\(E\\)|caused \
            by: |\\| |\\+-|:1:2\\)|, line 3, in ){0,60}") {
            let _stack = read(&text);
        }
    }
}

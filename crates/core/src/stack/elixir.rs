//! Elixir: stack traces with and without their banner, and reports of processes that ended.

use std::borrow::Cow;

use super::search::{Search, lines, sign};
use super::{Dialect, Exception, Frame, ends_with_any};

pub(super) struct Elixir;

impl Dialect for Elixir {
    fn runtime(&self) -> &'static str {
        "elixir"
    }

    fn read<'a>(&self, text: &'a str) -> Option<Vec<Exception<'a>>> {
        if !sign!(".ex:").is_in(text)
            && !sign!(".exs:").is_in(text)
            && !sign!("** (").is_in(text)
            && !sign!(".erl:").is_in(text)
        {
            return None;
        }
        let mut exception = Exception::default();
        let mut is_in_message = false;
        for line in lines(text) {
            let content = line.trim();
            if let Some(frame) = frame(content) {
                exception.frames.push(frame);
                is_in_message = false;
            } else if let Some((name, message)) = banner(content) {
                if !exception.frames.is_empty() {
                    break;
                }
                // The last banner before the frames: `** (EXIT) an exception was raised:` stands above the real one.
                exception.type_name = Cow::Borrowed(name);
                exception.message = Cow::Borrowed(message);
                is_in_message = true;
            } else if is_in_message && !content.is_empty() {
                let message = exception.message.to_mut();
                message.push('\n');
                message.push_str(content);
            }
        }
        (!exception.frames.is_empty()).then(|| vec![exception])
    }
}

/// `** (KeyError) key :ebb not found`.
fn banner(content: &str) -> Option<(&str, &str)> {
    let at = content.find_mark("** (")?;
    content
        .get(at + 4..)?
        .split_once(')')
        .map(|(name, message)| (name, message.trim_start()))
}

const SOURCES: &[&str] = &[".ex", ".exs", ".erl", ".eex", ".heex"];

/// `(tides 2.4.0) lib/table.ex:60: Tides.Table.clear/1`.
fn frame(content: &str) -> Option<Frame<'_>> {
    let (app, rest) = match content.strip_prefix('(') {
        Some(rest) => rest.split_at_mark(") ")?,
        None => ("", content),
    };
    let (place, name) = rest.split_at_mark(": ")?;
    let (file, line) = place.rsplit_once(':')?;
    let line: u32 = line.parse().ok()?;
    if !ends_with_any(file, SOURCES) && file != "iex" {
        return None;
    }
    let (module, function) = names(name);
    let app = app.split(' ').next().unwrap_or(app);
    Some(Frame {
        function: Cow::Borrowed(function),
        module: Cow::Borrowed(module),
        file: Cow::Borrowed(file),
        line: Some(line),
        own: is_own(app, file),
        repeats: 0,
    })
}

/// `anonymous fn/1 in Tides.Table.slack/1` is (`Tides.Table`, `slack`).
fn names(name: &str) -> (&str, &str) {
    let name = name
        .rsplit_at_mark(" in ")
        .filter(|(before, _)| before.holds("fn/"))
        .map_or(name, |(_, outer)| outer);
    // Arguments stand in place of the arity where no clause matched.
    let name = name.split('(').next().unwrap_or(name);
    let name = name.rsplit_once('/').map_or(name, |(name, _)| name);
    let (module, function) = name.rsplit_once('.').unwrap_or(("", name));
    // A function defined by another's code: `-slack/1-fun-0-`.
    let function = function
        .trim_matches('"')
        .strip_prefix('-')
        .and_then(|rest| rest.split('/').next())
        .unwrap_or(function);
    (module.trim_start_matches(':'), function)
}

const LIBRARIES: &[&str] = &[
    "elixir",
    "eex",
    "ex_unit",
    "iex",
    "logger",
    "mix",
    "kernel",
    "stdlib",
    "erts",
    "compiler",
    "ssl",
    "crypto",
    "inets",
    "mnesia",
    "sasl",
    "public_key",
    "phoenix",
    "phoenix_html",
    "phoenix_live_view",
    "phoenix_pubsub",
    "phoenix_ecto",
    "plug",
    "plug_cowboy",
    "plug_crypto",
    "cowboy",
    "cowlib",
    "ranch",
    "bandit",
    "thousand_island",
    "ecto",
    "ecto_sql",
    "postgrex",
    "myxql",
    "tds",
    "db_connection",
    "decimal",
    "jason",
    "poison",
    "finch",
    "mint",
    "req",
    "tesla",
    "hackney",
    "httpoison",
    "gen_stage",
    "broadway",
    "oban",
    "absinthe",
    "telemetry",
    "opentelemetry",
    "opentelemetry_api",
    "nimble_pool",
    "nimble_options",
    "quantum",
    "swoosh",
    "commanded",
    "redix",
    "grpc",
    "amqp",
    "amqp_client",
    "rabbit_common",
    "brod",
    "ex_aws",
    "timex",
    "tzdata",
];

fn is_own(app: &str, file: &str) -> bool {
    !LIBRARIES.contains(&app)
        && !file.starts_with("deps/")
        && !file.holds("/deps/")
        && (!app.is_empty() || !ends_with_any(file, &[".erl"]) || file.contains('/'))
}

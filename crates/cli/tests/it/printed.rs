//! What each command prints over one small fixed data set, as text and as JSON, and the help of each.
//!
//! After a change of output: `cargo insta review`, or `INSTA_UPDATE=always cargo test -p outcrop --test it printed`.

use std::fmt::Write as _;
use std::sync::LazyLock;
use std::time::Duration;

use outcrop_testkit::{Running, recorded, restamped};
use regex::{Captures, Regex};
use serde_json::{Map, Value};

use crate::support::{eventually, service};

/// What differs from run to run, and what stands in its place: times, ages, durations, ids, addresses.
static VARYING: LazyLock<Vec<(Regex, &str)>> = LazyLock::new(|| {
    [
        (
            r"\b\d{4}-\d\d-\d\d[ T]\d\d:\d\d(:\d\d)?(\.\d+)?(Z|[+-]\d\d:\d\d)?( UTC)?",
            "(time)",
        ),
        (r"\b\d\d:\d\d UTC on \d+ [A-Z][a-z]+", "(time)"),
        (
            r"((?:hour of the day|weekday) \(UTC\)|minute of the hour) +\w+",
            "$1 (time)",
        ),
        (r"\b1\d{18}\b", "(nanoseconds)"),
        (r"\b[0-9a-f]{32}\b", "(id)"),
        (r"\b[0-9a-f]{16}\b", "(id)"),
        (r"\b[0-9a-f]{8}-[0-9a-f]{4}-[0-9a-f-]{22}\b", "(id)"),
        (r"purser\d+@", "purser@"),
        (r"pier-\d+\b", "pier-0"),
        (r"127\.0\.0\.1:\d+", "127.0.0.1:8471"),
        (r"\b\d+(\.\d+)? (B|KiB|MiB|GiB|TiB)\b", "(size)"),
        (r"\b\d+(\.\d+)? ?(µs|ms|s)\b", "(duration)"),
        (r"\b(now|\d+ min)( ago)?\b", "(age)"),
        (r"\bjust now\b", "(age)"),
    ]
    .map(|(pattern, put)| (Regex::new(pattern).unwrap(), put))
    .into()
});

/// Runs of spaces and lines: columns are as wide as what varies.
static SPACES: LazyLock<Regex> = LazyLock::new(|| Regex::new(r"(\S) {2,}").unwrap());

fn steady(text: &str) -> String {
    let text = VARYING.iter().fold(text.to_owned(), |text, (pattern, put)| {
        pattern.replace_all(&text, *put).into_owned()
    });
    let text = SPACES.replace_all(&text, |found: &Captures<'_>| format!("{}  ", &found[1]));
    text.lines().map(str::trim_end).collect::<Vec<_>>().join("\n")
}

/// Names of numbers that differ from run to run.
const MEASURED: [&str; 6] = ["ms", "micros", "bytes", "millis", "seconds", "minutes"];

/// A document with what varies taken out, and of each list its first two.
fn steady_json(name: &str, value: &Value) -> Value {
    match value {
        Value::String(text) => Value::String(steady(text)),
        Value::Array(items) => {
            let mut kept: Vec<Value> = items.iter().take(2).map(|item| steady_json(name, item)).collect();
            if items.len() > 2 {
                kept.push(Value::String(format!("… {} more", items.len() - 2)));
            }
            Value::Array(kept)
        }
        Value::Object(fields) => Value::Object(
            fields
                .iter()
                .map(|(name, value)| (name.clone(), steady_json(name, value)))
                .collect::<Map<_, _>>(),
        ),
        Value::Number(_) if MEASURED.iter().any(|unit| name.split('_').any(|word| word == *unit)) => {
            Value::String("(measured)".to_owned())
        }
        Value::Number(number) if number.is_f64() => Value::String(format!("{:.2}", number.as_f64().unwrap())),
        other => other.clone(),
    }
}

/// A service that holds a request through three services that failed, a job from a queue, a failing statement, a slow
/// one, log lines and load, and of which a deploy, a marker, a slice and a rule are known.
pub async fn fixed() -> Running {
    let running = service().start().await;
    let bodies = [
        "three-services-1-gangway.traces.json",
        "three-services-2-sailings.traces.pb",
        "three-services-3-fares.traces.pb",
        "three-services-4-gangway-logs.logs.json",
        "three-services-5-sailings-logs.logs.pb",
        "three-services-6-fares-logs.logs.pb",
        "queue-worker-berths.traces.json",
        "user-headers-gangway.traces.json",
        "metrics-gangway.metrics.json",
    ];
    for body in restamped(&bodies.map(recorded)) {
        assert_eq!(running.send(&body).await.status(), 200);
    }
    assert_eq!(
        running
            .post("/v1/traces")
            .header("content-type", "application/json")
            .body("{\"resourceSpans\": 7}")
            .send()
            .await
            .unwrap()
            .status(),
        400
    );
    for arguments in [
        "marker|record|database upgraded to 17|--kind|database|--environment|production",
        "slices|save|at-the-ramp|service = boarding",
        "services|set|fares|--customer|skerry.port",
        "drops|add|--where|service = tide-clock|--note|a trial",
        "scrubbing|remove|passport number",
        "key|create|trials|--environment|staging|--per-minute|20MiB",
    ] {
        let arguments: Vec<&str> = arguments.split('|').collect();
        let done = running.client(&arguments);
        assert!(
            done.status.success(),
            "{arguments:?}: {}",
            String::from_utf8_lossy(&done.stderr)
        );
    }
    // What jobs work out of what was taken is there when all of it is: what was refused, what an error brought about,
    // the services behind names.
    let origin = running.client_json(&["errors", "--service", "fares"])["items"][0]["ref"].take();
    let origin = origin.as_str().unwrap();
    let items = |arguments: &[&str], name: &str| running.client_json(arguments)[name].as_array().unwrap().clone();
    eventually("jobs have worked out what they do", Duration::from_mins(2), || {
        !items(&["refused"], "items").is_empty()
            && items(&["show", origin], "followed_by").len() == 2
            && items(&["calls"], "items")
                .iter()
                .all(|call| call["kind"] != "http" || call["to_service"].is_string())
    })
    .await;
    running
}

/// Commands that read, by the name of their snapshot. `REF`, `ID` and `TRACE` stand for an error, an occurrence of it
/// and its trace.
const READING: [(&str, &str); 31] = [
    ("errors", "errors"),
    ("errors_of_fares", "errors|--service|fares|--where|uncaught"),
    ("now", "now"),
    ("show", "show|REF"),
    ("show_attributes", "show|REF|--attributes"),
    ("why", "why|REF"),
    ("occurrences", "occurrences|REF"),
    ("occurrence", "occurrence|ID"),
    ("users", "users|REF"),
    ("trace", "trace|TRACE"),
    ("endpoints", "endpoints"),
    ("slow", "slow"),
    ("requests", "requests"),
    ("logs", "logs"),
    ("logs_templates", "logs|--templates"),
    ("calls", "calls"),
    ("statements", "statements"),
    ("instances", "instances"),
    ("find", "find|fares"),
    ("parts_service", "parts|service"),
    ("parts_file", "parts|file"),
    ("deploys", "deploys"),
    ("marker_list", "marker|list"),
    ("grouping_causes", "grouping|causes|REF"),
    ("grouping_changes", "grouping|changes"),
    ("refused", "refused"),
    ("services", "services"),
    ("key_list", "key|list"),
    ("slices", "slices"),
    ("drops", "drops"),
    ("scrubbing", "scrubbing"),
];

/// Commands that change something, in this order, and what they answer.
const ACTING: [(&str, &str); 8] = [
    ("take", "take|REF"),
    ("note", "note|REF|the tariff table of the new season is missing"),
    ("quiet", "quiet|REF|--for|2h"),
    ("settle", "settle|REF|2.4.1"),
    ("reopen", "reopen|REF"),
    ("undo", "undo|REF"),
    ("grouping_split", "grouping|split|REF|--by|endpoint|--dry-run"),
    (
        "deploy_record",
        "deploy|record|fares@2.4.1|--environment|production|--link|https://ci.skerry.example/7",
    ),
];

fn filled<'a>(arguments: &'a str, of: &'a [(&str, String); 3]) -> Vec<&'a str> {
    arguments
        .split('|')
        .map(|argument| {
            of.iter()
                .find(|(name, _)| *name == argument)
                .map_or(argument, |(_, value)| value.as_str())
        })
        .collect()
}

#[tokio::test(flavor = "multi_thread")]
async fn every_command_prints_what_it_did_before() {
    let running = fixed().await;
    let listed = running.client_json(&["errors", "--service", "fares"]);
    let reference = listed["items"][0]["ref"].as_str().unwrap().to_owned();
    let occurrences = running.client_json(&["occurrences", &reference]);
    let id = occurrences["items"][0]["id"].as_str().unwrap().to_owned();
    let trace = running.client_json(&["occurrence", &id])["trace_id"]
        .as_str()
        .unwrap()
        .to_owned();
    let of = [("REF", reference), ("ID", id), ("TRACE", trace)];
    let mut settings = insta::Settings::clone_current();
    settings.set_snapshot_path("snapshots/printed");
    settings.set_prepend_module_to_snapshot(false);
    let _bound = settings.bind_to_scope();
    let text = |arguments: &[&str]| {
        let output = running.client(arguments);
        let said = [output.stdout, output.stderr].map(|bytes| String::from_utf8(bytes).unwrap());
        format!(
            "{}\n(exit code {})",
            steady(&said.concat()),
            output.status.code().unwrap()
        )
    };
    for (name, arguments) in READING {
        let arguments = filled(arguments, &of);
        insta::assert_snapshot!(name, text(&arguments));
        let json = steady_json("", &running.client_json(&arguments));
        insta::assert_snapshot!(format!("{name}.json"), serde_json::to_string_pretty(&json).unwrap());
    }
    for (name, arguments) in ACTING {
        insta::assert_snapshot!(name, text(&filled(arguments, &of)));
    }
}

/// The help of a command, and of all below it, each under a heading.
fn help(command: &[&str], page: &mut String) {
    let text = help_of(command);
    let depth = if command.len() == 1 { "###" } else { "####" };
    writeln!(
        page,
        "\n{depth} `outcrop {}`\n\n```text\n{}\n```",
        command.join(" "),
        text.trim_end()
    )
    .unwrap();
    let below = text
        .lines()
        .skip_while(|line| *line != "Commands:")
        .skip(1)
        .take_while(|line| !line.is_empty());
    for name in names(below).filter(|name| *name != "help") {
        help(&[command, &[name]].concat(), page);
    }
}

/// The help of a command, as it stands where nothing is configured.
fn help_of(command: &[&str]) -> String {
    let output = std::process::Command::new(env!("CARGO_BIN_EXE_outcrop"))
        .args(command)
        .arg("--help")
        .env_clear()
        .output()
        .unwrap();
    assert!(output.status.success(), "{command:?}");
    let text = String::from_utf8(output.stdout).unwrap();
    text.lines().map(str::trim_end).collect::<Vec<_>>().join("\n")
}

/// The names in a list of commands, of which each begins a line.
fn names<'l>(lines: impl Iterator<Item = &'l str>) -> impl Iterator<Item = &'l str> {
    lines
        .filter_map(|line| line.strip_prefix("  "))
        .filter(|line| !line.starts_with(' '))
        .filter_map(|line| line.split(' ').next())
}

#[test]
fn the_reference_of_commands_holds_the_help_of_each() {
    let top = help_of(&[]);
    let mut page =
        "# Commands\n\nThe help of every command. A test compares this page with the binary; write it anew with\n\
        `OUTCROP_UPDATE=1 cargo test -p outcrop --test it the_reference_of_commands`.\n"
            .to_owned();
    let topics = ["Read:", "Decide:", "Act:", "Send:", "Set up:", "Run:"];
    for topic in topics {
        writeln!(page, "\n## {}", topic.trim_end_matches(':')).unwrap();
        let lines = top
            .lines()
            .skip_while(|line| *line != topic)
            .skip(1)
            .take_while(|line| !line.is_empty());
        for command in names(lines) {
            help(&[command], &mut page);
        }
    }
    let file = std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/reference/commands.md");
    if std::env::var_os("OUTCROP_UPDATE").is_some() {
        std::fs::write(&file, &page).unwrap();
    }
    assert!(
        std::fs::read_to_string(&file).unwrap_or_default() == page,
        "docs/reference/commands.md is out of date: OUTCROP_UPDATE=1 cargo test -p outcrop --test it the_reference"
    );
}

/// A setting: its option, what it takes, its environment variable, what holds without it, what it is for.
struct Setting {
    option: String,
    takes: String,
    variable: String,
    built_in: String,
    meaning: String,
}

impl Setting {
    /// Reads a line of help that begins with an option, with those that go on with it.
    fn read(lines: &[&str]) -> Option<Self> {
        let text = lines.iter().map(|line| line.trim()).collect::<Vec<_>>().join(" ");
        let note = |name: &str| Regex::new(&format!(r" *\[{name}: ([^\]]+?)=?\]")).unwrap();
        let (variable, built_in) = (note("env"), note("default"));
        let noted = |note: &Regex| note.captures(&text).map(|found| found[1].to_owned());
        let option = Regex::new("^--([a-z-]+) <([^>]+)> (.+)$").unwrap();
        let found = option.captures(&text)?;
        let bare = variable.replace(&found[3], "").into_owned();
        let meaning = built_in.replace(&bare, "");
        let meaning = meaning.trim().replace('|', "\\|");
        Some(Self {
            option: found[1].to_owned(),
            takes: found[2].to_owned(),
            variable: noted(&variable)?,
            built_in: noted(&built_in).unwrap_or_else(|| "none".to_owned()),
            meaning,
        })
    }
}

/// What stands above the tables of settings.
const CONFIGURATION: &str = "# Configuration

Every setting of `outcrop serve` can stand on the command line, in an environment variable or in a
file; the first of these that has it decides. A test compares this page with the binary; write it
anew with `OUTCROP_UPDATE=1 cargo test -p outcrop --test it the_reference`.

In the file (`--config`, TOML) a setting has its option's name, with `_` for `-`:

```toml
database_url = \"postgres://outcrop@127.0.0.1/outcrop\"
listen = \"0.0.0.0:443\"
tls_cert = \"/etc/outcrop/chain.pem\"
tls_key = \"/etc/outcrop/key.pem\"
occurrence_days = 14
log_bytes = \"20GiB\"
```

`outcrop config show` prints each setting with its value and where that comes from, `outcrop config
check` says file, line and setting where something is wrong, and starts nothing.
";

#[test]
fn the_reference_of_settings_holds_each_option_of_the_service() {
    let help = help_of(&["serve"]);
    let mut page = CONFIGURATION.to_owned();
    let mut count = 0;
    for (heading, title) in [
        ("Options:", "Where it is and what it takes"),
        ("What is kept:", "What is kept, and the rest"),
    ] {
        let lines: Vec<&str> = help
            .lines()
            .skip_while(|line| *line != heading)
            .skip(1)
            .take_while(|line| !line.is_empty())
            .collect();
        let begins: Vec<usize> = (0..lines.len())
            .filter(|at| {
                lines[*at].trim_start().starts_with('-') && lines[*at].len() - lines[*at].trim_start().len() < 8
            })
            .chain([lines.len()])
            .collect();
        writeln!(
            page,
            "\n## {title}\n\n| option | variable | without it | what it is |\n| --- | --- | --- | --- |"
        )
        .unwrap();
        for setting in begins
            .windows(2)
            .filter_map(|ends| Setting::read(&lines[ends[0]..ends[1]]))
        {
            count += 1;
            let Setting {
                option,
                takes,
                variable,
                built_in,
                meaning,
            } = setting;
            writeln!(
                page,
                "| `--{option} <{takes}>` | `{variable}` | {built_in} | {meaning} |"
            )
            .unwrap();
        }
    }
    assert!(count >= 20, "only {count} settings are found in:\n{help}");
    let file = std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/reference/configuration.md");
    if std::env::var_os("OUTCROP_UPDATE").is_some() {
        std::fs::write(&file, &page).unwrap();
    }
    assert!(
        std::fs::read_to_string(&file).unwrap_or_default() == page,
        "docs/reference/configuration.md is out of date: OUTCROP_UPDATE=1 cargo test -p outcrop --test it the_reference"
    );
}

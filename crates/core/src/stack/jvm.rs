//! The JVM: `printStackTrace` and the logging libraries that write like it.

use std::borrow::Cow;

use super::lists::{Beginnings, at_the_start};
use super::search::{Search, first_called, lines};
use super::{Dialect, Exception, Frame, Relation};

pub(super) struct Jvm;

impl Dialect for Jvm {
    fn runtime(&self) -> &'static str {
        "java"
    }

    fn read<'a>(&self, text: &'a str) -> Option<Vec<Exception<'a>>> {
        // `at` begins frames of other runtimes too: the first one decides.
        let first = first_called(text)?;
        frame(first)?;
        let mut done: Vec<Exception<'a>> = vec![];
        let mut current = Exception::default();
        for line in lines(text) {
            let content = line.trim();
            if let Some(frame) = content.strip_prefix("at ").and_then(frame) {
                current.frames.push(frame);
            } else if let Some((relation, head)) = follows(content) {
                push(&mut done, std::mem::take(&mut current));
                (current.type_name, current.message) = headline(head);
                current.relation = relation;
            } else if current.frames.is_empty() && !content.is_empty() {
                if current.type_name.is_empty() && current.message.is_empty() {
                    (current.type_name, current.message) = headline(content);
                } else {
                    let message = current.message.to_mut();
                    message.push('\n');
                    message.push_str(content);
                }
            }
        }
        push(&mut done, current);
        done.iter()
            .any(|exception| !exception.frames.is_empty())
            .then_some(done)
    }
}

fn push<'a>(done: &mut Vec<Exception<'a>>, exception: Exception<'a>) {
    if !exception.frames.is_empty() || !exception.type_name.is_empty() {
        done.push(exception);
    }
}

fn follows(content: &str) -> Option<(Relation, &str)> {
    let cause = content.strip_prefix("Caused by: ").map(|head| (Relation::Cause, head));
    cause.or_else(|| {
        content
            .strip_prefix("Suppressed: ")
            .map(|head| (Relation::Member, head))
    })
}

/// `Exception in thread "main" a.b.C: message`; a line that is no type is all message.
fn headline(content: &str) -> (Cow<'_, str>, Cow<'_, str>) {
    let content = match content.strip_prefix("Exception in thread \"") {
        Some(rest) => rest.split_once("\" ").map_or(rest, |(_, head)| head),
        None => content.strip_prefix("Caught: ").unwrap_or(content),
    };
    let (name, message) = content
        .split_at_mark(": ")
        .unwrap_or((content.trim_end_matches(':'), ""));
    let is_type = !name.is_empty()
        && name
            .chars()
            .all(|c| c.is_alphanumeric() || matches!(c, '_' | '$' | '.'));
    if is_type {
        (Cow::Borrowed(name), Cow::Borrowed(message))
    } else {
        (Cow::Borrowed(""), Cow::Borrowed(content))
    }
}

/// Endings of the source files of languages on the JVM.
const SOURCES: &[&str] = &[".java", ".kt", ".scala", ".groovy", ".clj"];

/// `java.base/java.lang.Thread.run(Thread.java:840) ~[?:?]`, without its `at `.
fn frame(content: &str) -> Option<Frame<'_>> {
    let (name, rest) = content.split_once('(')?;
    let (place, _) = rest.split_once(')')?;
    let (file, line) = match place.rsplit_once(':') {
        Some((file, line)) => (file, Some(line.parse().ok()?)),
        None => (place, None),
    };
    if !SOURCES.iter().any(|source| file.ends_with(source))
        && !matches!(file, "Native Method" | "Unknown Source" | "<generated>")
    {
        return None;
    }
    let (module, qualified) = name.rsplit_once('/').unwrap_or(("", name));
    let (class, method) = qualified.rsplit_once('.')?;
    Some(Frame {
        function: function(method),
        module: class_name(class),
        file: Cow::Borrowed(if file.ends_with(')') || !file.contains('.') {
            ""
        } else {
            file
        }),
        line,
        own: is_own(module, class),
        repeats: 0,
    })
}

/// `lambda$assign$0` is `assign`'s; numbers of accessors and bridges change from build to build.
fn function(method: &str) -> Cow<'_, str> {
    let name = method
        .strip_prefix("lambda$")
        .and_then(|rest| rest.rsplit_once('$'))
        .map_or(method, |(name, _)| name);
    Cow::Borrowed(name.trim_end_matches(|c: char| c.is_ascii_digit() || c == '$'))
}

/// The class without its package, and without the names that proxies and anonymous classes are given at run time.
fn class_name(class: &str) -> Cow<'_, str> {
    let simple = class.rsplit('.').next().unwrap_or(class);
    let simple = simple.before_mark("$$");
    Cow::Borrowed(simple.trim_end_matches(|c: char| c.is_ascii_digit() || c == '$'))
}

/// The runtime's modules, the languages' and the well-known libraries' packages are the library's.
fn is_own(module: &str, class: &str) -> bool {
    static LIBRARIES: Beginnings = Beginnings::new(|| {
        at_the_start(&[
            "java.",
            "javax.",
            "jakarta.",
            "jdk.",
            "sun.",
            "com.sun.",
            "kotlin.",
            "kotlinx.",
            "scala.",
            "clojure.",
            "groovy.",
            "org.codehaus.",
            "akka.",
            "play.",
            "org.springframework.",
            "org.apache.",
            "org.hibernate.",
            "org.eclipse.",
            "org.postgresql.",
            "org.slf4j.",
            "org.jboss.",
            "org.junit.",
            "com.fasterxml.",
            "com.google.",
            "com.zaxxer.",
            "com.mysql.",
            "io.netty.",
            "io.opentelemetry.",
            "io.micrometer.",
            "io.grpc.",
            "io.undertow.",
            "io.vertx.",
            "io.quarkus.",
            "io.micronaut.",
            "okhttp3.",
            "reactor.",
            "ch.qos.",
            "net.bytebuddy.",
            "oracle.",
            "redis.",
            "ring.",
        ])
    });
    let is_runtime_module = module.starts_with("java.") || module.starts_with("jdk.");
    let is_proxy = class.starts_with("$Proxy") || class.holds(".$Proxy");
    !is_runtime_module && !is_proxy && !LIBRARIES.begin(class)
}

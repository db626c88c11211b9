//! Stack texts as the runtimes write them: own frames given innermost last in Python, first elsewhere; library frames
//! around them. The version moves the lines, as deploys do.

type Own<'a> = &'a [(&'a str, &'a str, u32)];

/// Lines shift a little from version to version.
fn shift(version: &str) -> u32 {
    version.bytes().map(u32::from).sum::<u32>() % 7
}

pub fn python(headline: &str, own: Own<'_>, version: &str) -> String {
    let mut text = String::from(
        "Traceback (most recent call last):\n  \
         File \"/srv/skerry/venv/lib/python3.11/site-packages/opentelemetry/instrumentation/wsgi/__init__.py\", line \
         633, in __call__\n    \
         iterable = self.wsgi(environ, _start_response)\n  \
         File \"/srv/skerry/venv/lib/python3.11/site-packages/flask/app.py\", line 1511, in wsgi_app\n    response = \
         self.full_dispatch_request()\n  \
         File \"/srv/skerry/venv/lib/python3.11/site-packages/flask/app.py\", line 902, in dispatch_request\n    \
         return self.ensure_sync(self.view_functions[rule.endpoint])(**view_args)\n",
    );
    for (function, file, line) in own {
        text.push_str(&frame(&format!(
            "  File \"/srv/skerry/fares/{file}\", line {}, in {function}",
            line + shift(version)
        )));
    }
    text + headline
}

fn frame(line: &str) -> String {
    format!("{line}\n")
}

pub fn node(headline: &str, own: Own<'_>, version: &str) -> String {
    let mut text = frame(headline);
    for (function, file, line) in own {
        text.push_str(&frame(&format!(
            "    at {function} (/srv/skerry/gangway/{file}:{}:17)",
            line + shift(version)
        )));
    }
    text + "    at Layer.handle [as handle_request] \
        (/srv/skerry/gangway/node_modules/express/lib/router/layer.js:95:5)\n    \
            at next (/srv/skerry/gangway/node_modules/express/lib/router/route.js:149:13)\n    \
            at process.processTicksAndRejections (node:internal/process/task_queues:95:5)"
}

pub fn java(headline: &str, package: &str, own: Own<'_>, version: &str) -> String {
    let mut text = frame(headline);
    for (function, file, line) in own {
        text.push_str(&frame(&format!(
            "\tat {package}.{function}({file}:{})",
            line + shift(version)
        )));
    }
    text + "\tat java.base/java.lang.reflect.Method.invoke(Method.java:569)\n\
            \tat org.springframework.web.servlet.DispatcherServlet.doDispatch(DispatcherServlet.java:1089)\n\
            \tat jakarta.servlet.http.HttpServlet.service(HttpServlet.java:564)\n\
            \tat java.base/java.lang.Thread.run(Thread.java:840)"
}

pub fn go(own: Own<'_>, version: &str) -> String {
    let mut text = String::from(
        "goroutine 118 [running]:\nruntime/debug.Stack()\n\t/usr/local/go/src/runtime/debug/stack.go:26 +0x5e\n",
    );
    for (function, file, line) in own {
        text.push_str(&frame(&format!(
            "{function}(0xc00021a000, {{0x7f1c, 0x18}})\n\t/src/stowage/{file}:{} +0x1a5",
            line + shift(version)
        )));
    }
    text + "net/http.HandlerFunc.ServeHTTP(0xc0001e8000, {0x8a3f60, 0xc0002b40e0}, \
        0xc00020e500)\n\t/usr/local/go/src/net/http/server.go:2220 +0x29\n\
            net/http.(*conn).serve(0xc00019e000)\n\t/usr/local/go/src/net/http/server.go:2102 +0x625"
}

pub fn ruby(headline: &str, own: Own<'_>, version: &str) -> String {
    let place = |(function, file, line): &(&str, &str, u32)| {
        format!("/srv/skerry/boarding/{file}:{}:in `{function}'", line + shift(version))
    };
    let mut text = String::new();
    for (at, own) in own.iter().enumerate() {
        text.push_str(&frame(&if at == 0 {
            format!("{}: {headline}", place(own))
        } else {
            format!("\tfrom {}", place(own))
        }));
    }
    text + "\tfrom /usr/local/bundle/gems/rack-3.1.8/lib/rack/method_override.rb:28:in `call'\n\tfrom \
        /usr/local/bundle/gems/puma-6.5.0/lib/puma/thread_pool.rb:167:in `block in spawn_thread'"
}

pub fn rust(own: Own<'_>, version: &str) -> String {
    let mut text = String::from(
        "   0: std::backtrace::Backtrace::create\n             at \
         /rustc/9fc6b43126469e3858e2fe86cafb4f0fd5068869/library/std/src/backtrace.rs:331:13\n",
    );
    for (at, (function, file, line)) in own.iter().enumerate() {
        text.push_str(&frame(&format!(
            "   {}: {function}\n             at ./{file}:{}:9",
            at + 1,
            line + shift(version)
        )));
    }
    text + "   3: tokio::runtime::task::core::Core<T,S>::poll\n             at \
        /usr/local/cargo/registry/src/tokio-1.47.1/src/runtime/task/core.rs:365:24"
}

pub fn php(message: &str, own: Own<'_>, version: &str) -> String {
    let mut text = frame(&format!("MailboxFull: {message}"));
    for (function, file, line) in own {
        text.push_str(&frame(&format!(
            " at {}({}:{})",
            function.replace("->", "."),
            file.rsplit('/').next().unwrap_or(file),
            line + shift(version)
        )));
    }
    text + " at Slim.Handlers.Strategies.RequestResponse.__invoke(Route.php:363)\n at Slim.App.run(App.php:199)"
}

pub fn dotnet(headline: &str, own: Own<'_>, version: &str) -> String {
    let mut text = frame(headline);
    for (function, file, line) in own {
        text.push_str(&frame(&format!(
            "   at {function} in /src/Skerry.Ledger/{file}:line {}",
            line + shift(version)
        )));
    }
    text + "   at Microsoft.AspNetCore.Routing.EndpointMiddleware.Invoke(HttpContext httpContext)"
}

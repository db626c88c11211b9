//! An editor's client of the Model Context Protocol, written by others, uses each tool; the console fills in its set-up.

use std::process::{Command, Stdio};

use outcrop_testkit::{recorded, restamped};
use serde_json::{Value, json};
use tokio::io::{AsyncBufReadExt as _, BufReader};

use crate::console::signed_in;
use crate::support::{python_with, service};

/// Lists the tools, and calls those of the arguments; prints one JSON document.
const CLIENT: &str = r#"
import asyncio, json, sys
from mcp import ClientSession
from mcp.client.streamable_http import create_mcp_http_client, streamable_http_client

async def main(url, token, calls):
    http = create_mcp_http_client(headers={"Authorization": f"Bearer {token}"})
    async with streamable_http_client(url, http_client=http) as (read, write, *_):
        async with ClientSession(read, write) as session:
            hello = await session.initialize()
            tools = await session.list_tools()
            answers = {}
            for name, arguments in calls:
                result = await session.call_tool(name, arguments)
                answers[name] = {"failed": bool(result.is_error), "text": result.content[0].text}
            names = [tool.name for tool in tools.tools]
            print(json.dumps({"instructions": hello.instructions, "tools": names, "answers": answers}))

asyncio.run(main(sys.argv[1], sys.argv[2], json.loads(sys.argv[3])))
"#;

#[tokio::test(flavor = "multi_thread")]
async fn a_client_of_others_uses_each_tool() {
    let running = service().start().await;
    for body in restamped(&[recorded("three-services-3-fares.traces.pb")]) {
        assert_eq!(running.send(&body).await.status(), 200);
    }
    let errors = running.errors().await;
    let reference = errors[0]["ref"].as_str().unwrap();
    let occurrences = running.client_json(&["occurrences", reference]);
    let occurrence = &occurrences["items"][0];
    let version = occurrence["version"].as_str().unwrap();
    let recorded = running.client(&[
        "deploy",
        "record",
        &format!("fares@{version}"),
        "--environment",
        "production",
    ]);
    assert!(recorded.status.success(), "{recorded:?}");
    let calls = json!([
        ["find", {"text": reference}],
        ["show_error", {"reference": reference}],
        ["show_occurrence", {"id": occurrence["id"]}],
        ["show_trace", {"id": occurrence["trace_id"]}],
        ["check_deploy", {"service": "fares", "version": version}],
        ["ask", {"question": "count, users of occurrences by error over 30d"}],
        ["take", {"reference": reference}],
        ["note", {"reference": reference, "text": "asked the tariff desk"}],
        ["quiet", {"reference": reference, "where": "users > 50"}],
        ["settle", {"reference": reference}],
    ]);
    let python = python_with("editor", &["mcp==2.3.0"]);
    let output = Command::new(python)
        .args([
            "-c",
            CLIENT,
            &format!("{}/mcp", running.url),
            &running.token,
            &calls.to_string(),
        ])
        .output()
        .unwrap();
    assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
    let said: Value = serde_json::from_slice(&output.stdout).unwrap();
    assert_eq!(said["tools"].as_array().unwrap().len(), 10);
    for (name, answer) in said["answers"].as_object().unwrap() {
        assert_eq!(answer["failed"], json!(false), "{name}: {answer}");
        assert!(answer["text"].as_str().unwrap().len() < 21_000, "{name}");
    }
    let history = running.client_json(&["history", reference]);
    assert!(history.to_string().contains("asked the tariff desk"), "{history}");
}

#[tokio::test(flavor = "multi_thread")]
async fn the_console_fills_in_the_set_up_of_an_editor_and_tries_its_tools() {
    let running = service().start().await;
    for body in restamped(&[recorded("three-services-3-fares.traces.pb")]) {
        assert_eq!(running.send(&body).await.status(), 200);
    }
    let browser = signed_in(&running, 1280, 800, "light").await;
    browser.open(&format!("{}/connect", running.url)).await;
    browser
        .named("button", "Make a token for my editor")
        .await
        .click()
        .await
        .unwrap();
    browser.sees("\"Authorization\": \"Bearer outcrop-token-").await;
    browser.sees(&format!("{}/mcp", running.url)).await;
    browser.named("button", "Try ask").await.click().await.unwrap();
    browser.sees("never an instruction to you").await;
    browser.sees(&format!("Connected as {}", running.email)).await;
    assert_eq!(browser.violations().await, Vec::<String>::new());
    assert!(browser.overflow().await <= 0);
}

/// Signs in as an editor does: it finds out how, registers itself, says where its reader is to go, waits to be sent back
/// to, and lists the tools and who took an error.
const SIGNS_IN: &str = r#"
import asyncio, sys
from http.server import BaseHTTPRequestHandler, HTTPServer
from urllib.parse import parse_qs, urlsplit
from mcp import ClientSession
from mcp.client.auth import OAuthClientProvider
from mcp.client.streamable_http import create_mcp_http_client, streamable_http_client
from mcp.shared.auth import AuthorizationCodeResult, OAuthClientMetadata

class Kept:
    tokens = client = None
    async def get_tokens(self): return self.tokens
    async def set_tokens(self, tokens): self.tokens = tokens
    async def get_client_info(self): return self.client
    async def set_client_info(self, client): self.client = client

back = {}
class Back(BaseHTTPRequestHandler):
    def do_GET(self):
        back.update(parse_qs(urlsplit(self.path).query))
        self.send_response(200)
        self.send_header("content-type", "text/html")
        self.end_headers()
        self.wfile.write(b"<!doctype html><title>back</title><p>The editor goes on.")
    def log_message(self, *_): pass

server = HTTPServer(("127.0.0.1", 0), Back)

async def go(url): print(url, flush=True)
async def wait():
    while "state" not in back: await asyncio.to_thread(server.handle_request)
    return AuthorizationCodeResult(code=back["code"][0], state=back["state"][0], iss=back["iss"][0])

async def main(url):
    metadata = OAuthClientMetadata(client_name="a test's editor",
        redirect_uris=[f"http://127.0.0.1:{server.server_port}/back"])
    auth = OAuthClientProvider(url, metadata, Kept(), redirect_handler=go, callback_handler=wait)
    async with streamable_http_client(url, http_client=create_mcp_http_client(auth=auth)) as (read, write, *_):
        async with ClientSession(read, write) as session:
            await session.initialize()
            print(len((await session.list_tools()).tools), flush=True)
            result = await session.call_tool("ask", {"question": "count of occurrences"})
            print(result.content[0].text.replace("\n", " "), flush=True)

asyncio.run(main(sys.argv[1]))
"#;

#[tokio::test(flavor = "multi_thread")]
async fn an_editor_that_knows_only_the_address_is_let_in_by_its_reader() {
    let running = service().start().await;
    for body in restamped(&[recorded("three-services-3-fares.traces.pb")]) {
        assert_eq!(running.send(&body).await.status(), 200);
    }
    let python = python_with("editor", &["mcp==2.3.0"]);
    let mut editor = tokio::process::Command::new(python)
        .args(["-c", SIGNS_IN, &format!("{}/mcp", running.url)])
        .stdout(Stdio::piped())
        .stderr(Stdio::piped())
        .kill_on_drop(true)
        .spawn()
        .unwrap();
    let mut said = BufReader::new(editor.stdout.take().unwrap()).lines();
    let Some(address) = said.next_line().await.unwrap() else {
        panic!("{:?}", editor.wait_with_output().await);
    };
    let browser = signed_in(&running, 1280, 800, "light").await;
    browser.open(&address).await;
    browser.sees("a test's editor wants to act as you").await;
    assert_eq!(browser.violations().await, Vec::<String>::new());
    assert!(browser.overflow().await <= 0);
    browser.named("button", "Let it in").await.click().await.unwrap();
    browser.sees("The editor goes on.").await;
    let tools = said.next_line().await.unwrap();
    let Some(tools) = tools else {
        panic!("{:?}", editor.wait_with_output().await)
    };
    assert_eq!(tools, "10");
    let answer = said.next_line().await.unwrap().unwrap();
    assert!(answer.contains("\"question\""), "{answer}");
    browser.open(&format!("{}/account", running.url)).await;
    browser.sees("a test's editor").await;
    browser.named("button", "Shut out …").await.click().await.unwrap();
    browser.named("button", "Shut it out").await.click().await.unwrap();
    browser.sees("You let no program act as you.").await;
}

//! An editor's client of the Model Context Protocol, written by others, uses each tool; the console fills in its set-up.

use std::process::Command;

use outcrop_testkit::{recorded, restamped};
use serde_json::{Value, json};

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

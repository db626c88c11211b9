use std::io::BufRead;
fn main() {
    for line in std::io::stdin().lock().lines() {
        let v: serde_json::Value = serde_json::from_str(&line.unwrap()).unwrap();
        let s = |k: &str| v[k].as_str().unwrap_or("");
        let d = outcrop_core::grouping::Described::new(s("type"), s("message"), s("stacktrace"));
        let g = d.group();
        println!("{}", serde_json::json!({"id": v["id"], "group": g.key.to_string(), "title": g.title, "own_frame": g.own_frame, "runtime": d.stack.as_ref().map(|s| s.runtime.to_string())}));
    }
}

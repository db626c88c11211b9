use std::io::BufRead;
fn main() {
    let want: Vec<String> = std::env::args().skip(1).collect();
    for line in std::io::stdin().lock().lines() {
        let r: serde_json::Value = serde_json::from_str(&line.unwrap()).unwrap();
        let t = |n: &str| r[n].as_str().unwrap_or_default();
        if !want.iter().any(|w| t("label").contains(w.as_str())) { continue; }
        println!("== {} {}", t("label"), t("version"));
        let d = outcrop_core::grouping::Described::new(t("type"), t("message"), t("stacktrace"));
        match &d.stack {
            None => println!("unread"),
            Some(s) => for e in &s.exceptions { println!("[{}] {:?} {} | {}", s.runtime, e.relation, e.type_name, e.message);
                for f in &e.frames { println!("   {}{}", if f.own {""} else {"~ "}, f.short()); } }
        }
        println!("   key: {:?}", d.explain().counted.iter().map(|p| p.text.clone()).collect::<Vec<_>>());
    }
}

//! Questions that the console and the docs begin with.

use outcrop_core::question::read;

#[test]
fn every_question_that_the_console_and_the_docs_offer_is_read() {
    let ready = include_str!("../../../../console/src/parts/question-words.ts");
    let (_, list) = ready.split_once("READY").expect("a list of questions");
    let offered = list
        .split('"')
        .filter(|text| text.contains(" of ") && !text.ends_with('?'));
    let docs = include_str!("../../../../docs/reference/questions.md");
    let written = docs.lines().filter_map(|line| line.strip_prefix("    "));
    let written = written.filter(|line| line.starts_with("count"));
    let mut count = 0;
    for text in offered.chain(written).filter(|text| !text.contains("occurences")) {
        read(text).unwrap_or_else(|mistake| panic!("{}", mistake.marked(text)));
        count += 1;
    }
    assert!(count >= 10, "{count}");
}

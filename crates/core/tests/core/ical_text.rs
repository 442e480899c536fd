//! Reading and writing loses nothing.

use chestnut_core::ical::{
    Bound, Component, Limits, ParseError, ParseProblem, fold_line, parse, parse_one, write,
};
use proptest::prelude::*;

use crate::generate;

fn read(text: &str) -> Component<'_> {
    parse_one(text.as_bytes(), &Limits::default()).expect("a calendar")
}

#[test]
fn lines_are_read_in_every_form_that_is_met() {
    let text = "\u{feff}begin:vcalendar\nBEGIN:VEVENT\r\nsummary;language=sl:Obiranje\r\n\tjabolk\r\n\r\nX-A;P=\"a;b:c\",d;Q=^n^^^':x:y;z\r\nEND:vevent\nEND:VCALENDAR";
    let calendar = read(text);
    let event = calendar.components().next().expect("an event");
    let summary = event.property("SUMMARY").expect("found whatever its case");
    assert_eq!((summary.name(), summary.value()), ("summary", "Obiranjejabolk"));
    assert_eq!(summary.param("LANGUAGE").as_deref(), Some("sl"));
    let x = event.property("X-A").expect("an unknown property");
    let params: Vec<Vec<String>> = x.params().map(|p| p.values().map(|v| v.into_owned()).collect()).collect();
    assert_eq!(params, [vec!["a;b:c".to_owned(), "d".to_owned()], vec!["\n^\"".to_owned()]]);
    assert_eq!(x.value(), "x:y;z");
}

#[test]
fn a_fold_inside_a_character_is_undone_and_not_made_again() {
    let folded = b"BEGIN:VCALENDAR\r\nX-A:k\xc5\r\n \xa1o\r\nEND:VCALENDAR\r\n";
    let calendar = parse_one(folded, &Limits::default()).expect("a calendar");
    assert_eq!(calendar.value("X-A"), Some("kšo"));
    let long = format!("X-A:{}", "š".repeat(100));
    let mut out = String::new();
    fold_line(&long, &mut out);
    assert!(out.lines().all(|line| line.len() <= 75), "{out}");
    assert_eq!(out.replace("\r\n ", "").trim_end(), long);
}

#[test]
fn faults_are_told_with_line_and_column() {
    let table: [(&[u8], usize, usize, ParseProblem); 12] = [
        (b"", 1, 1, ParseProblem::NotCalendar),
        (b"<html>", 1, 1, ParseProblem::NotCalendar),
        (b"BEGIN:VCALENDAR\r\nno colon here\r\nEND:VCALENDAR\r\n", 2, 14, ParseProblem::NoColon),
        (b"BEGIN:VCALENDAR\r\n:no name\r\nEND:VCALENDAR\r\n", 2, 1, ParseProblem::NoColon),
        (b"BEGIN:VCALENDAR\r\n\r\n BEGIN:VEVENT\r\nEND:VCALENDAR\r\n", 2, 1, ParseProblem::NoColon),
        (b"BEGIN:VCALENDAR\r\nBEGIN:\r\nEND:\r\nEND:VCALENDAR\r\n", 2, 7, ParseProblem::NoName),
        (b"BEGIN:VCALENDAR\r\nBEGIN: a b\r\nEND:a b\r\nEND:VCALENDAR\r\n", 2, 7, ParseProblem::NoName),
        (b"BEGIN:VCALENDAR\r\nBEGIN:VEVENT\r\nUID:1\r\n", 3, 1, ParseProblem::CutOff("VEVENT".into())),
        (
            b"BEGIN:VCALENDAR\nEND:VEVENT\n",
            2,
            1,
            ParseProblem::WrongEnd { found: "VEVENT".into(), expected: "VCALENDAR".into() },
        ),
        (b"BEGIN:VCALENDAR\nEND:VCALENDAR\nX:1\n", 3, 1, ParseProblem::Outside),
        (b"BEGIN:VCALENDAR\nX-A:ok\nX-B:\xff\nEND:VCALENDAR\n", 3, 5, ParseProblem::NotUtf8),
        (
            b"BEGIN:VCALENDAR\nBEGIN:A\nBEGIN:B\nEND:B\nEND:A\nEND:VCALENDAR\n",
            3,
            1,
            ParseProblem::TooMuch { what: Bound::Depth, limit: 2 },
        ),
    ];
    let limits = Limits { depth: 2, ..Limits::default() };
    for (text, line, column, problem) in table {
        assert_eq!(parse(text, &limits), Err(ParseError { line, column, problem }));
    }
    for limits in [Limits { line: 10, ..limits }, Limits { lines: 1, ..limits }] {
        let error = parse(b"BEGIN:VCALENDAR\r\nEND:VCALENDAR\r\n", &limits).expect_err("over a limit");
        assert!(matches!(error.problem, ParseProblem::TooMuch { .. }));
    }
}

proptest! {
    #[test]
    fn what_is_written_is_read_back_the_same(entry in generate::entry()) {
        let text = write(entry.object());
        prop_assert!(text.split("\r\n").all(|line| line.len() <= 75));
        prop_assert_eq!(&read(&text).into_owned(), entry.object());
        // With other line ends and folds it is still the same.
        let unfolded = text.replace("\r\n ", "").replace("\r\n", "\n");
        prop_assert_eq!(&read(&unfolded).into_owned(), entry.object());
    }

    #[test]
    fn no_bytes_make_it_panic(bytes in prop::collection::vec(any::<u8>(), 0..200), cut in 0..400_usize) {
        drop(parse(&bytes, &Limits::default()));
        let mut text = b"BEGIN:VCALENDAR\r\nBEGIN:VEVENT\r\nUID;X=\"1:2\r\n ;:\r\nEND:VEVENT\r\n".to_vec();
        text.truncate(cut);
        text.extend(bytes);
        drop(parse(&text, &Limits::default()));
    }
}

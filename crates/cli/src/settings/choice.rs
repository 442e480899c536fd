//! `only = { … }` and `skip = { … }` of a route.

use chestnut_core::{Test, Words};

use super::reader::Section;
use crate::failure::Failure;
use crate::words::Problem;

type MakeTest = fn(bool) -> Test;

/// Reads the tests of one table. `declined = false` and the like in `skip` could be read both ways, and are refused.
pub(super) fn tests(section: &Section<'_>, is_only: bool) -> Result<Vec<Test>, Failure> {
    let mut tests = Vec::new();
    let list = |key: &str| match section.text(key) {
        Ok(Some(one)) => Ok(Some(vec![one])),
        Ok(None) => Ok(None),
        Err(_) => section.texts(key),
    };
    tests.extend(list("categories")?.map(Test::Categories));
    if let Some(texts) = list("words")? {
        let words = texts.iter().map(|text| {
            Words::parse(text).map_err(|pattern| {
                section.wrong("words", Problem::NotPattern { text, why: &pattern.to_string() })
            })
        });
        tests.push(Test::Words(words.collect::<Result<_, _>>()?));
    }
    let flags: [(&str, MakeTest); 6] = [
        ("all-day", Test::AllDay),
        ("declined", Test::Declined),
        ("cancelled", Test::Cancelled),
        ("tentative", Test::Tentative),
        ("free", Test::Free),
        ("private", Test::Private),
    ];
    for (key, test) in flags {
        if section.has(key) {
            let wanted = section.flag(key)?;
            if !is_only && !wanted {
                return Err(section.wrong(key, Problem::SkipsNothing(key)));
            }
            tests.push(test(wanted));
        }
    }
    tests.extend(list("organiser")?.map(Test::Organiser));
    Ok(tests)
}

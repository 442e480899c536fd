//! The demonstration needs nothing but the program.

use std::io::{BufRead as _, BufReader};
use std::path::Path;
use std::process::Stdio;

use chestnut_testkit::hermetic;
use tempfile::TempDir;

use crate::set_up::{PROGRAM, Told};

#[test]
fn it_shows_the_whole_job_and_leaves_nothing_behind() {
    let folder = TempDir::new().expect("a folder");
    let run = |arguments: &[&str]| {
        let mut command = hermetic(Path::new(PROGRAM), folder.path());
        Told::of(command.env("TMPDIR", folder.path()).args(arguments).output().expect("it runs"))
    };
    let told = run(&["demo"]);
    assert_eq!((told.code, told.err.as_str()), (0, ""), "{}", told.out);
    for expected in [
        "$ chestnut account test",
        "$ chestnut preview",
        "1 entry without UID: recognised by title",
        "135 to create",
        "updated  ",
        "second round",
        "deleted  ",
        "nothing to do",
        "$ chestnut sync press-times --yes",
        "market ↔ phones",
        "With ladders: picking crew",
        "$ chestnut history",
    ] {
        assert!(told.out.contains(expected), "{expected} is missing in {}", told.out);
    }
    assert_eq!(std::fs::read_dir(folder.path()).expect("the folder").count(), 0);
    // On other days of the year as well: its bookings move with them, across a new year and a changed clock.
    for day in ["2026-11-23T17:04:00Z", "2027-03-21T08:00:00Z", "2028-02-29T23:30:00Z"] {
        let mut command = hermetic(Path::new(PROGRAM), folder.path());
        let command = command.env("TMPDIR", folder.path()).env("CHESTNUT_NOW", day).arg("demo");
        let told = Told::of(command.output().expect("it runs"));
        assert_eq!(told.code, 0, "on {day}: {}", told.out);
    }
    let steps = run(&["demo", "--json"]).json();
    assert_eq!(steps["steps"].as_array().map(Vec::len), Some(18));
}

#[test]
fn kept_it_can_be_explored_with_the_ordinary_commands() {
    let folder = TempDir::new().expect("a folder");
    let mut demo = hermetic(Path::new(PROGRAM), folder.path())
        .args(["demo", "orchard", "--keep"])
        .stdout(Stdio::piped())
        .spawn()
        .expect("it starts");
    let lines = BufReader::new(demo.stdout.take().expect("its output")).lines();
    let told: Vec<String> =
        lines.map_while(Result::ok).take_while(|line| !line.contains("Press Ctrl-C")).collect();
    assert!(told.iter().any(|line| line.trim() == "chestnut status"), "{told:#?}");
    let status = hermetic(Path::new(PROGRAM), &folder.path().join("orchard")).arg("sync").output();
    let status = Told::of(status.expect("it runs"));
    demo.kill().expect("it is stopped");
    demo.wait().expect("it ends");
    assert_eq!(status.code, 0, "{status:?}");
    assert!(status.out.contains("nothing to do"), "{status:?}");
    // A second demonstration does not overwrite what is there.
    let again = hermetic(Path::new(PROGRAM), folder.path()).args(["demo", "orchard"]).output();
    assert_eq!(Told::of(again.expect("it runs")).code, 2);
}

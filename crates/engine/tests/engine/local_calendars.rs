//! Files and folders that receive copies: cut off anywhere, and written by others at the same time.

use std::cell::Cell;
use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

use chestnut_core::CalendarText;
use chestnut_core::ical::Limits;
use chestnut_engine::{
    Calendar, FileCalendar, FolderCalendar, Observer, Phase, Progress, RunError, RunOptions, RunReport,
    Silent, run_route,
};
use chestnut_testkit::World;
use jiff::Timestamp;
use tempfile::TempDir;

const OWN: &str = "BEGIN:VCALENDAR\r\nVERSION:2.0\r\nPRODID:-//orchard//EN\r\nX-WR-CALNAME:Kiosk\r\nBEGIN:VEVENT\r\nUID:own\r\nDTSTART:20261010T080000Z\r\nSUMMARY:Own\r\nEND:VEVENT\r\nEND:VCALENDAR\r\n";

/// A place on this machine, as a file or a folder.
struct Place {
    folder: TempDir,
    is_folder: bool,
}

impl Place {
    fn new(is_folder: bool) -> Self {
        let place = Self { folder: TempDir::new().expect("a folder"), is_folder };
        let own = if is_folder { place.path().join("own.ics") } else { place.path() };
        if is_folder {
            std::fs::create_dir(place.path()).expect("a folder");
        }
        std::fs::write(own, OWN).expect("written");
        place
    }

    fn path(&self) -> PathBuf {
        self.folder.path().join(if self.is_folder { "shelf" } else { "kiosk.ics" })
    }

    fn calendar(&self) -> Calendar {
        match self.is_folder {
            true => Calendar::Folder(FolderCalendar::new(self.path(), true)),
            false => Calendar::File(FileCalendar::new(self.path(), true)),
        }
    }

    fn files(&self) -> Vec<PathBuf> {
        let folder = if self.is_folder { self.path() } else { self.folder.path().to_owned() };
        let files = std::fs::read_dir(folder).expect("the folder").map_while(Result::ok);
        files.map(|file| file.path()).collect()
    }

    /// What stands there: titles and texts by UID.
    fn entries(&self) -> BTreeMap<String, String> {
        let read = |path: &PathBuf| {
            let bytes = std::fs::read(path).expect("readable");
            CalendarText::read(&bytes, None, &Limits::default()).expect("a whole calendar")
        };
        let texts: Vec<_> = self.files().iter().map(read).collect();
        let all = texts.iter().flat_map(CalendarText::entries);
        all.map(|e| (e.uid().to_string(), format!("{} {:?}", e.title(), e.meaning().fingerprint()))).collect()
    }
}

fn sync(world: &World, place: &Place, observer: &dyn Observer) -> Result<RunReport, RunError> {
    let mut route = world.route();
    route.ends[1].calendar = place.calendar();
    let store = world.store();
    let now = Timestamp::from_second(1_791_187_200).expect("a moment");
    let options = RunOptions { names_all: true, ..RunOptions::at(now) };
    let runtime = tokio::runtime::Builder::new_current_thread().enable_time().start_paused(true).build();
    runtime.expect("a runtime").block_on(run_route(&route, &store, &options, observer))
}

fn changed(world: &World) {
    let source = &world.source;
    world.edit(source, "orchard-0000.ics", "SUMMARY:", "SUMMARY:Changed ");
    world.delete(source, "orchard-0001.ics");
    world.add_entries(12..14);
}

#[test]
fn cut_off_anywhere_the_next_run_ends_where_an_undisturbed_one_would_have() {
    for is_folder in [false, true] {
        for second in [false, true] {
            let prepare = |world: &World, place: &Place| {
                if second {
                    sync(world, place, &Silent).expect("a first run");
                    changed(world);
                }
            };
            let (world, undisturbed) = (World::new(12), Place::new(is_folder));
            prepare(&world, &undisturbed);
            sync(&world, &undisturbed, &Silent).expect("a run");
            let expected = undisturbed.entries();
            assert!(expected.len() > 10 && expected.contains_key("own"), "{expected:#?}");
            for step in 0.. {
                let (world, place) = (World::new(12), Place::new(is_folder));
                prepare(&world, &place);
                world.kill_at(Some(step), false);
                // What a killed run returns, nobody is there to see.
                drop(sync(&world, &place, &Silent));
                if !world.was_killed() {
                    assert!(step > 8, "{step}");
                    break;
                }
                world.kill_at(None, false);
                let report = sync(&world, &place, &Silent).expect("a run");
                assert!(report.error.is_none(), "step {step}: {:?}", report.error);
                assert_eq!(place.entries(), expected, "folder: {is_folder}, step {step}");
                let again = sync(&world, &place, &Silent).expect("a run");
                assert!(again.changes.is_empty(), "step {step}: {:?}", again.changes);
            }
        }
    }
}

/// Somebody else who writes at the worst moment: between reading and writing, once or each time.
struct Meddler<'p> {
    path: &'p Path,
    times: Cell<usize>,
}

impl Observer for Meddler<'_> {
    fn progress(&self, progress: Progress) {
        if progress.phase == Phase::Surveying || self.times.get() == 0 {
            return;
        }
        self.times.set(self.times.get() - 1);
        let text = std::fs::read_to_string(self.path).expect("readable");
        let number = self.times.get();
        let event = format!(
            "BEGIN:VEVENT\r\nUID:meddler-{number}\r\nDTSTART:20261011T080000Z\r\nSUMMARY:Theirs\r\nEND:VEVENT\r\nEND:VCALENDAR"
        );
        std::fs::write(self.path, text.replace("END:VCALENDAR", &event)).expect("written");
    }
}

#[test]
fn what_others_write_between_reading_and_writing_is_kept() {
    for times in [1, 2, 30] {
        let (world, place) = (World::new(12), Place::new(false));
        let path = place.path();
        // A process that is gone left something behind.
        std::fs::write(path.with_file_name(".kiosk.ics.999999999-0.chestnut"), "half").expect("written");
        let meddler = Meddler { path: &path, times: Cell::new(times) };
        let report = sync(&world, &place, &meddler).expect("a run");
        assert!(report.error.is_none(), "{:?}", report.error);
        let written = times - meddler.times.get();
        changed(&world);
        sync(&world, &place, &meddler).expect("a run");
        sync(&world, &place, &Silent).expect("a run");
        let entries = place.entries();
        let theirs = entries.keys().filter(|uid| uid.starts_with("meddler-")).count();
        assert!(written > 0 && theirs == times - meddler.times.get(), "{theirs} of {times}");
        assert_eq!(entries.len() - theirs, 14, "{entries:#?}");
        assert!(std::fs::read_to_string(&path).expect("readable").contains("X-WR-CALNAME:Kiosk"));
        // No temporary file is left behind.
        assert_eq!(place.files().len(), 1);
    }
}

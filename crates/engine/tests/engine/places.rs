//! Where the calendars of the histories stand: on servers, in files, in folders; and how others change them there.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

use chestnut_core::ical::Limits;
use chestnut_core::{CalendarText, Entry};
use chestnut_engine::{Calendar, FileCalendar, FolderCalendar};
use chestnut_testkit::{End, World};

/// Where a calendar stands.
#[derive(Debug)]
pub(crate) enum Place {
    Server(End),
    File(PathBuf),
    Folder(PathBuf),
}

impl Place {
    /// What stands there, by a name.
    pub(crate) fn texts(&self) -> BTreeMap<String, String> {
        match self {
            Self::Server(end) => end.server.borrow().texts(&end.path),
            Self::File(path) => {
                let bytes = std::fs::read(path).expect("readable");
                let text = CalendarText::read(&bytes, None, &Limits::default()).expect("a whole calendar");
                let entries = text.entries();
                entries.map(|e| (e.uid().to_string(), e.caldav_text(jiff::Timestamp::UNIX_EPOCH))).collect()
            }
            Self::Folder(path) => {
                let files =
                    std::fs::read_dir(path).expect("readable").map(|file| file.expect("a file").path());
                let name = |path: &Path| path.file_name().expect("a name").to_string_lossy().into_owned();
                files.map(|path| (name(&path), std::fs::read_to_string(&path).expect("readable"))).collect()
            }
        }
    }

    /// Puts, or with nothing removes, something as another client would.
    pub(crate) fn set(&self, world: &World, name: &str, text: Option<&str>) {
        match (self, text) {
            (Self::Server(end), Some(text)) => world.write(end, name, text),
            (Self::Server(end), None) => world.delete(end, name),
            (Self::Folder(path), Some(text)) => std::fs::write(path.join(name), text).expect("written"),
            (Self::Folder(path), None) => std::fs::remove_file(path.join(name)).expect("removed"),
            (Self::File(path), text) => {
                let mut texts = self.texts();
                let uid = text.map(|text| parse(text).uid().to_string());
                texts.remove(uid.as_deref().unwrap_or(name));
                texts.extend(text.map(|text| (String::new(), text.to_owned())));
                let inner = |text: &String| {
                    let (begin, end) = (text.find("BEGIN:VEVENT"), text.find("END:VCALENDAR"));
                    text[begin.expect("an event")..end.expect("an end")].to_owned()
                };
                let all: String = texts.values().map(inner).collect();
                std::fs::write(path, whole(&all)).expect("written");
            }
        }
    }

    /// What makes the calendar as an end of a route has it, where it is no server's.
    pub(crate) fn local(&self) -> Option<Local> {
        match self {
            Self::Server(_) => None,
            Self::File(path) => Some(Local { path: path.clone(), is_folder: false }),
            Self::Folder(path) => Some(Local { path: path.clone(), is_folder: true }),
        }
    }
}

/// A file or a folder.
pub(crate) struct Local {
    path: PathBuf,
    is_folder: bool,
}

impl Local {
    pub(crate) fn calendar(&self) -> Calendar {
        match self.is_folder {
            false => Calendar::File(FileCalendar::new(self.path.clone(), true)),
            true => Calendar::Folder(FolderCalendar::new(self.path.clone(), true)),
        }
    }
}

pub(crate) fn whole(components: &str) -> String {
    format!("BEGIN:VCALENDAR\r\nVERSION:2.0\r\nPRODID:-//orchard//EN\r\n{components}END:VCALENDAR\r\n")
}

pub(crate) fn parse(text: &str) -> Entry {
    Entry::parse(text, &Limits::default()).expect("an entry")
}

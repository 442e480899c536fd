//! `watch --print-unit`: a unit for systemd.

use std::path::{Path, PathBuf};

use crate::args::Common;
use crate::exit_code::ExitCode;
use crate::failure::Failure;
use crate::io::Io;
use crate::open::{load, state_path};
use crate::settings::{ConfigurationText, Place, Settings};
use crate::words::{of_file, state_written, unit_text};

/// Prints a unit that may write where it must, and nowhere else.
pub(crate) fn print(common: &Common, io: &mut Io<'_>) -> Result<ExitCode, Failure> {
    let settings = load(common, io)?;
    let whole = |path: &Path| std::path::absolute(path).map_err(|system| of_file(path, &system));
    let configuration = whole(&settings.path)?;
    let state = whole(&state_path(common, &settings))?;
    if common.state.is_some() {
        // Else whoever asks for the status later looks at another state than the one the unit works with.
        if whole(&settings.state_path())? != state {
            let mut text = ConfigurationText::read(&settings.path)?;
            text.set_at_top("state", &state.display().to_string());
            text.save()?;
            io.say(&state_written(&configuration, &state))?;
        }
    }
    let program = std::env::current_exe()?;
    let key = whole(&settings.key_path())?;
    let mut writes = vec![folder(&configuration), folder(&state), folder(&key)];
    writes.extend(local_folders(&settings, &folder(&configuration)));
    writes.sort();
    writes.dedup();
    let text = unit_text(&program, &configuration, &writes, owner(&folder(&configuration)).as_deref());
    io.out.write_all(text.as_bytes())?;
    Ok(ExitCode::Ok)
}

fn folder(path: &Path) -> PathBuf {
    path.parent().unwrap_or(Path::new("/")).to_owned()
}

/// To whom a folder belongs, by name where this machine knows one; `None` where that is root.
#[cfg(unix)]
fn owner(folder: &Path) -> Option<String> {
    use std::os::unix::fs::MetadataExt as _;

    let number = std::fs::metadata(folder).ok().map(|about| about.uid()).filter(|number| *number != 0)?;
    let number = number.to_string();
    let users = std::fs::read_to_string("/etc/passwd").unwrap_or_default();
    let mut names = users.lines().filter_map(|line| {
        let mut fields = line.split(':');
        let name = fields.next()?;
        (fields.nth(1)? == number).then_some(name)
    });
    Some(names.next().map_or(number.clone(), str::to_owned))
}

#[cfg(not(unix))]
fn owner(_folder: &Path) -> Option<String> {
    None
}

/// Folders that routes write to.
fn local_folders(settings: &Settings, base: &Path) -> Vec<PathBuf> {
    let written: Vec<&String> = settings.routes.values().flat_map(|route| route.writes()).collect();
    let place = |name: &&String| match &settings.calendars[name.as_str()].place {
        Place::File(path) => Some(folder(&base.join(path))),
        Place::Folder(path) => Some(base.join(path)),
        Place::Path(_) | Place::Name(_) | Place::Feed(_) | Place::FreeBusy(_) => None,
    };
    written.iter().filter_map(place).collect()
}

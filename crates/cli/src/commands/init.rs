//! `chestnut init`: a commented configuration to start from; with `--ask`, one that works.

use std::path::{Path, PathBuf};

use crate::args::Common;
use crate::exit_code::ExitCode;
use crate::failure::Failure;
use crate::io::{Io, show};
use crate::open::configuration_path;
use crate::report::init::Report;
use crate::words::{cannot_be_written, configuration_written, first_configuration, is_there_already};

pub(crate) fn run(file: Option<&Path>, common: &Common, io: &mut Io<'_>) -> Result<ExitCode, Failure> {
    let path = file.map_or_else(|| configuration_path(common, io), |file| Ok(PathBuf::from(file)))?;
    write_new(&path)?;
    let report = Report { configuration: path.display().to_string() };
    show(common, io, &report, || configuration_written(&report.configuration))?;
    Ok(ExitCode::Ok)
}

fn write_new(path: &Path) -> Result<(), Failure> {
    use std::io::Write as _;
    if let Some(folder) = path.parent().filter(|folder| !folder.as_os_str().is_empty()) {
        std::fs::create_dir_all(folder)?;
    }
    let made = std::fs::OpenOptions::new().write(true).create_new(true).open(path);
    let mut file = made.map_err(|e| match e.kind() {
        std::io::ErrorKind::AlreadyExists => is_there_already(path),
        _ => cannot_be_written(path, &e),
    })?;
    Ok(file.write_all(first_configuration().as_bytes())?)
}

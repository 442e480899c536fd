//! `chestnut init`: a commented configuration to start from; with `--ask`, one that works.

use std::path::{Path, PathBuf};

use crate::args::Common;
use crate::exit_code::ExitCode;
use crate::failure::Failure;
use crate::io::{Io, show, write_new};
use crate::open::configuration_path;
use crate::report::init::Report;
use crate::words::{cannot_be_written, configuration_written, first_configuration, is_there_already};

pub(crate) fn run(file: Option<&Path>, common: &Common, io: &mut Io<'_>) -> Result<ExitCode, Failure> {
    let path = file.map_or_else(|| configuration_path(common, io), |file| Ok(PathBuf::from(file)))?;
    write(&path)?;
    let report = Report { configuration: path.display().to_string() };
    show(common, io, &report, || configuration_written(&report.configuration))?;
    Ok(ExitCode::Ok)
}

fn write(path: &Path) -> Result<(), Failure> {
    if let Some(folder) = path.parent().filter(|folder| !folder.as_os_str().is_empty()) {
        std::fs::create_dir_all(folder)?;
    }
    write_new(path, &first_configuration()).map_err(|system| match system.kind() {
        std::io::ErrorKind::AlreadyExists => is_there_already(path),
        _ => cannot_be_written(path, &system),
    })
}

//! Where secrets are kept, and reading them.

use std::path::{Path, PathBuf};

use secrecy::SecretString;

use super::reader::Section;
use crate::environment::Environment;
use crate::failure::Failure;
use crate::words::{
    CommandTrouble, Open, Problem, keyring_gives_none, lacking_secret, no_credentials, others_may_read,
    secret_command_failed, secret_file_unreadable, secret_is_empty, variable_not_set,
};

/// Where a secret is kept.
#[derive(Debug, Clone)]
pub(crate) enum SecretSource {
    Env(String),
    File(PathBuf),
    Command(Vec<String>),
    Keyring(String),
    /// What a service manager hands over, by its name.
    Credential(String),
    /// In the configuration itself: asked for in so many words.
    Plain(SecretString),
}

pub(super) fn secret_source(section: &Section<'_>) -> Result<SecretSource, Failure> {
    section.allow(&["env", "file", "command", "keyring", "credential", "plain-text"])?;
    if section.table.len() != 1 {
        return Err(lacking_secret(section.source.at(section.at), &section.name));
    }
    if let Some(name) = section.text("env")? {
        return Ok(SecretSource::Env(name));
    }
    if let Some(path) = section.text("file")? {
        return Ok(SecretSource::File(PathBuf::from(path)));
    }
    if let Some(name) = section.text("keyring")? {
        return Ok(SecretSource::Keyring(name));
    }
    if let Some(name) = section.text("credential")? {
        let is_name = !name.is_empty() && !name.contains(['/', '\\']) && !name.starts_with('.');
        return match is_name {
            true => Ok(SecretSource::Credential(name)),
            false => Err(section.wrong("credential", Problem::NotNameOfCredential)),
        };
    }
    if let Some(text) = section.text("plain-text")? {
        // A configuration that holds a secret may not be read by others.
        check_private(section.source.path, &Open::Configuration(&section.name))?;
        return Ok(SecretSource::Plain(SecretString::from(text)));
    }
    let words = section.texts("command")?.filter(|words| !words.is_empty());
    words.map(SecretSource::Command).ok_or_else(|| section.wrong("command", Problem::NoProgram))
}

/// Reads `env:NAME`, `file:PATH`, `command:PROGRAM WORDS`, `keyring` or `keyring:NAME`; `name` is what the keyring
/// calls it where nothing else is said.
pub(crate) fn typed_secret(text: &str, name: &str) -> Option<SecretSource> {
    let (how, rest) = text.split_once(':').unwrap_or((text, ""));
    match (how, rest) {
        ("keyring", "") => Some(SecretSource::Keyring(name.to_owned())),
        (_, "") => None,
        ("keyring", name) => Some(SecretSource::Keyring(name.to_owned())),
        ("env", name) => Some(SecretSource::Env(name.to_owned())),
        ("file", path) => Some(SecretSource::File(PathBuf::from(path))),
        ("command", line) => {
            Some(SecretSource::Command(line.split_whitespace().map(str::to_owned).collect()))
        }
        _ => None,
    }
}

/// Reads a secret: its first line. `owner` says whose it is (`account packhouse`), `what` what it is (`password`).
pub(crate) fn read_secret(
    owner: &str,
    what: &str,
    source: &SecretSource,
    base: &Path,
    environment: &Environment,
) -> Result<SecretString, Failure> {
    let text = match source {
        SecretSource::Env(name) => {
            environment.get(name).ok_or_else(|| variable_not_set(owner, what, name))?
        }
        SecretSource::File(path) => secret_file(owner, what, &base.join(path))?,
        SecretSource::Command(words) => secret_command(owner, what, words)?,
        SecretSource::Keyring(name) => {
            super::keyring::read(name).map_err(|words| keyring_gives_none(owner, what, name, &words))?
        }
        SecretSource::Credential(name) => {
            let folder = environment.path("CREDENTIALS_DIRECTORY");
            let folder = folder.ok_or_else(|| no_credentials(owner, what, name))?;
            let path = folder.join(name);
            std::fs::read_to_string(&path).map_err(|e| secret_file_unreadable(owner, what, &path, &e))?
        }
        SecretSource::Plain(secret) => return Ok(secret.clone()),
    };
    let first = text.lines().next().unwrap_or_default();
    if first.is_empty() {
        return Err(secret_is_empty(owner, what));
    }
    Ok(SecretString::from(first.to_owned()))
}

fn secret_file(owner: &str, what: &str, path: &Path) -> Result<String, Failure> {
    check_private(path, &Open::Secret { owner, what })?;
    std::fs::read_to_string(path).map_err(|e| secret_file_unreadable(owner, what, path, &e))
}

/// Refuses a file that others may read, with the command that mends it; who is in the group of a file that is root's is
/// meant to. A file that is not there passes.
pub(crate) fn check_private(path: &Path, what: &Open<'_>) -> Result<(), Failure> {
    #[cfg(unix)]
    {
        use std::os::unix::fs::MetadataExt as _;
        let (mode, user) = std::fs::metadata(path).map_or((0, 0), |about| (about.mode(), about.uid()));
        // A file of root's is handed to a service by its group.
        let of_others = if user == 0 { 0o037 } else { 0o077 };
        if mode & of_others != 0 {
            return Err(others_may_read(path, what));
        }
    }
    Ok(())
}

fn secret_command(owner: &str, what: &str, words: &[String]) -> Result<String, Failure> {
    let failed = |why: CommandTrouble| secret_command_failed(owner, what, &words[0], &why);
    let output = std::process::Command::new(&words[0]).args(&words[1..]).output();
    let output = output.map_err(|e| failed(CommandTrouble::NotRun(e)))?;
    if !output.status.success() {
        return Err(failed(CommandTrouble::Failed(output.status)));
    }
    String::from_utf8(output.stdout).map_err(|_| failed(CommandTrouble::NotText))
}

/// Puts a new file in its place that only its owner may read: whole, or, where there is one already, not at all.
pub(crate) fn write_private(path: &Path, text: &str) -> std::io::Result<()> {
    let temporary = write_beside(path, text)?;
    let placed = match std::fs::hard_link(&temporary, path) {
        Err(e) if e.kind() != std::io::ErrorKind::AlreadyExists && !path.exists() => {
            // A file system without links.
            std::fs::rename(&temporary, path)
        }
        placed => placed,
    };
    // It has another name now, or is of no use.
    drop(std::fs::remove_file(&temporary));
    placed
}

/// Writes a text that only its owner may read under another name, to be put in its place; what a process that is gone
/// left there goes.
fn write_beside(path: &Path, text: &str) -> std::io::Result<PathBuf> {
    let temporary = path.with_added_extension(format!("{}.new", std::process::id()));
    drop(std::fs::remove_file(&temporary));
    write_alone(&temporary, text)?;
    Ok(temporary)
}

/// Writes a new file that only its owner may read.
pub(super) fn write_alone(path: &Path, text: &str) -> std::io::Result<()> {
    use std::io::Write as _;
    let mut options = std::fs::OpenOptions::new();
    options.write(true).create_new(true);
    #[cfg(unix)]
    {
        use std::os::unix::fs::OpenOptionsExt as _;
        options.mode(0o600);
    }
    let mut file = options.open(path)?;
    file.write_all(text.as_bytes())?;
    file.sync_all()
}

/// Puts a text that only its owner may read in the place of another, in one step.
pub(crate) fn replace_private(path: &Path, text: &str) -> std::io::Result<()> {
    std::fs::rename(write_beside(path, text)?, path)
}

/// Where a typed password is kept, beside the configuration.
pub(crate) fn password_file(account: &str) -> String {
    format!("{account}.password")
}

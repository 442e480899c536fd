//! A folder with a configuration of one's own, the program, and servers that answer with any bytes at all.

use std::io::{BufRead as _, BufReader, Read as _, Write as _};
use std::net::{TcpListener, TcpStream};
use std::path::{Path, PathBuf};
use std::process::Command;
use std::sync::Arc;
use std::time::Duration;

use chestnut_testkit::hermetic;
use tempfile::TempDir;

use crate::set_up::{PROGRAM, Told};

/// Where somebody sits down with the program.
pub(crate) struct Desk {
    pub(crate) folder: TempDir,
}

impl Desk {
    /// An empty folder, but for a private password file.
    pub(crate) fn new() -> Self {
        let desk = Self { folder: TempDir::new().expect("a folder") };
        desk.private("office.password", "office-pw\n");
        desk.private("chestnut.key", &"7b".repeat(32));
        desk
    }

    pub(crate) fn path(&self, name: &str) -> PathBuf {
        self.folder.path().join(name)
    }

    pub(crate) fn write(&self, name: &str, text: impl AsRef<[u8]>) {
        std::fs::write(self.path(name), text).expect("written");
    }

    pub(crate) fn read(&self, name: &str) -> String {
        std::fs::read_to_string(self.path(name)).expect(name)
    }

    pub(crate) fn private(&self, name: &str, text: &str) {
        self.write(name, text);
        self.rights(name, 0o600);
    }

    pub(crate) fn rights(&self, name: &str, mode: u32) {
        #[cfg(unix)]
        {
            use std::os::unix::fs::PermissionsExt as _;
            let rights = std::fs::Permissions::from_mode(mode);
            std::fs::set_permissions(self.path(name), rights).expect("rights");
        }
    }

    /// One account, with more lines where wanted.
    pub(crate) fn account(&self, url: &str, more: &str) {
        self.write(
            "chestnut.toml",
            format!(
                "timezone = \"Europe/Ljubljana\"\n\n[account.packhouse]\nurl = \"{url}\"\nuser = \"office\"\npassword = {{ file = \"office.password\" }}\n{more}\n"
            ),
        );
    }

    pub(crate) fn command(&self, arguments: &[&str]) -> Command {
        let mut command = hermetic(Path::new(PROGRAM), self.folder.path());
        command.args(crate::set_up::begun(arguments));
        command
    }

    pub(crate) fn run(&self, arguments: &[&str]) -> Told {
        self.run_with(arguments, &[])
    }

    pub(crate) fn run_with(&self, arguments: &[&str], variables: &[(&str, &str)]) -> Told {
        let mut command = self.command(arguments);
        command.envs(variables.iter().copied());
        Told::of(command.output().expect("the program runs"))
    }

    pub(crate) fn ok(&self, arguments: &[&str]) -> Told {
        let told = self.run(arguments);
        assert_eq!(told.code, 0, "{arguments:?}: {told:?}");
        told
    }
}

/// What a server sends.
pub(crate) enum Part {
    Bytes(Vec<u8>),
    Pause(Duration),
    /// The same again and again, until nobody listens.
    Forever(Vec<u8>),
}

/// Answers each request with what `script` says to its first lines; returns the address.
pub(crate) fn raw_server(script: impl Fn(&str) -> Vec<Part> + Send + Sync + 'static) -> String {
    let listener = TcpListener::bind("127.0.0.1:0").expect("a port");
    let address = listener.local_addr().expect("an address");
    let script = Arc::new(script);
    std::thread::spawn(move || {
        for stream in listener.incoming().map_while(Result::ok) {
            let script = Arc::clone(&script);
            std::thread::spawn(move || drop(answer(stream, &*script)));
        }
    });
    format!("http://{address}/")
}

fn answer(mut stream: TcpStream, script: &dyn Fn(&str) -> Vec<Part>) -> std::io::Result<()> {
    let mut reader = BufReader::new(stream.try_clone()?);
    let mut head = String::new();
    while !head.ends_with("\r\n\r\n") {
        if reader.read_line(&mut head)? == 0 {
            return Ok(());
        }
    }
    let length = head.to_lowercase();
    let length = length.lines().find_map(|line| line.strip_prefix("content-length:")?.trim().parse().ok());
    let mut body = vec![0; length.unwrap_or(0)];
    reader.read_exact(&mut body)?;
    for part in script(&head) {
        match part {
            Part::Bytes(bytes) => stream.write_all(&bytes)?,
            Part::Pause(pause) => std::thread::sleep(pause),
            Part::Forever(bytes) => loop {
                stream.write_all(&bytes)?;
            },
        }
    }
    Ok(())
}

/// A whole answer with a body.
pub(crate) fn reply(status: u16, headers: &str, body: &str) -> Vec<Part> {
    let length = body.len();
    let text = format!(
        "HTTP/1.1 {status} Whatever\r\nContent-Length: {length}\r\nConnection: close\r\n{headers}\r\n{body}"
    );
    vec![Part::Bytes(text.into_bytes())]
}

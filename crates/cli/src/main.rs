//! `chestnut`: keeps calendars on different servers and clients in step, and proves that it did.

fn main() -> std::process::ExitCode {
    chestnut::run_program().into()
}

//! A world of calendars for tests: two simulated servers in memory, a clock, a fuse that kills a run at any
//! step, and sample entries. Never published.

mod command;
mod dice;
mod objects;
pub mod postgres;
mod process;
mod world;

pub use command::{hermetic, shell_words, standin_now};
pub use dice::Dice;
pub use objects::add_object;
pub use process::OpenState;
pub use world::{End, World, block_on, quick_folder, text_of, titles};

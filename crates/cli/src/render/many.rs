//! Long lists, shortened to what a person has to see.

/// More lines are summarised, on a terminal.
const MANY: usize = 40;

/// What is shown of a list, and how many are not: of many, those that are `loud` come first.
pub(crate) fn summarised<T>(list: &[T], all: bool, is_loud: impl Fn(&T) -> bool) -> (Vec<&T>, usize) {
    if all || list.len() <= MANY {
        return (list.iter().collect(), 0);
    }
    let mut shown: Vec<&T> = list.iter().filter(|one| is_loud(one)).take(MANY).collect();
    if shown.is_empty() {
        shown = list.iter().take(MANY / 4).collect();
    }
    let hidden = list.len() - shown.len();
    (shown, hidden)
}

/// How many more there are, and the command that shows them.
pub(crate) fn and_more(hidden: usize, command: &str) -> String {
    if hidden == 0 { String::new() } else { format!("  … and {hidden} more: {command} -v\n") }
}

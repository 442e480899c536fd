//! A route that is about to be written down: what is asked about it, in the order in which people think of it, and what
//! its first run would do.

use chestnut_engine::{RunOptions, Silent, preview_route};
use chestnut_store::Store;
use toml_edit::{Array, InlineTable, Value};

use crate::args::Carried;
use crate::failure::Failure;
use crate::io::Io;
use crate::open::block_on;
use crate::questions::Questions;
use crate::render::human::preview::first_summary;
use crate::settings::{Connections, Settings, route_key};
use crate::words::{
    HOW_FAR, REACHES, SHOWS, TASKS_TOO, WHICH_DETAILS, comes_back, deletes_too, deletes_too_both_ways,
    who_looks_there,
};

/// What a route between two calendars does; what is `None` is asked about, where somebody can be asked.
#[derive(Debug, Default)]
pub(crate) struct Wishes {
    pub(crate) carry: Option<Carried>,
    pub(crate) is_two_way: Option<bool>,
    /// How far back and ahead, each as it was typed.
    pub(crate) reach: Option<(Option<String>, Option<String>)>,
    pub(crate) keeps_deletions: Option<bool>,
    pub(crate) takes_tasks: Option<bool>,
}

impl Wishes {
    /// Asks for what is not said yet. Changes come back only into a calendar that can be written.
    pub(crate) fn ask(
        &mut self,
        (from, to): (&str, &str),
        settings: &Settings,
        questions: &mut Questions,
    ) -> Result<(), Failure> {
        if self.carry.is_none() {
            self.carry = Some(match questions.choose(&who_looks_there(to), &SHOWS.map(str::to_owned))? {
                0 => Carried::Everything,
                1 => some_details(questions)?,
                _ => Carried::Busy,
            });
        }
        let source = settings.calendars.get(from);
        let can_come_back = source.is_some_and(|calendar| !calendar.place.is_read_only());
        if self.is_two_way.is_none() {
            let asks = can_come_back && self.carry != Some(Carried::Busy);
            self.is_two_way = Some(asks && questions.yes(&comes_back(from, to), false)?);
        }
        let is_two_way = self.is_two_way == Some(true);
        if self.reach.is_none() {
            let words = REACHES.map(|(words, _)| words.to_owned());
            let (_, reach) = REACHES[questions.choose(HOW_FAR, &words)?];
            self.reach = reach.map(|(past, ahead)| (Some(past.to_owned()), Some(ahead.to_owned())));
        }
        if self.keeps_deletions.is_none() {
            let question = if is_two_way { deletes_too_both_ways() } else { deletes_too(from) };
            self.keeps_deletions = Some(!questions.yes(&question, true)?);
        }
        if self.takes_tasks.is_none() {
            self.takes_tasks = Some(questions.yes(TASKS_TOO, false)?);
        }
        Ok(())
    }

    /// What the configuration says of it.
    pub(crate) fn keys(&self, ends: &[String]) -> Vec<(&'static str, Value)> {
        let mut keys: Vec<(&str, Value)> = match ends {
            [from, to] if self.is_two_way != Some(true) => {
                vec![("from", Value::from(from)), ("to", Value::from(to))]
            }
            ends => vec![("between", Value::from(ends.iter().cloned().collect::<Array>()))],
        };
        keys.push((
            "carry",
            match &self.carry {
                None | Some(Carried::Everything) => Value::from("everything"),
                Some(Carried::Busy) => Value::from("busy"),
                Some(Carried::Details(details)) => {
                    let words: Array = details.iter().map(|detail| detail.word()).collect();
                    Value::from(InlineTable::from_iter([("details", Value::from(words))]))
                }
            },
        ));
        if self.takes_tasks == Some(true) {
            let mut only = InlineTable::new();
            only.insert("kinds", Value::Array(["events", "tasks"].into_iter().collect()));
            keys.push(("only", Value::InlineTable(only)));
        }
        if let Some((past, ahead)) = &self.reach {
            let mut window = InlineTable::new();
            for (key, reach) in [("past", past), ("ahead", ahead)] {
                if let Some(reach) = reach {
                    window.insert(key, Value::from(reach));
                }
            }
            keys.push(("window", Value::from(window)));
        }
        if let Some(keeps) = self.keeps_deletions {
            keys.push(("deletions", Value::from(if keeps { "keep" } else { "carry" })));
        }
        keys
    }
}

/// Asks which details go along, until all of them are some.
fn some_details(questions: &mut Questions) -> Result<Carried, Failure> {
    loop {
        match Carried::read(&questions.text(WHICH_DETAILS, Some("title, location"))?) {
            Ok(carried) => return Ok(carried),
            Err(words) => questions.tell(&words)?,
        }
    }
}

/// What the first run of a route would do, in numbers: what cannot be read is no route.
pub(crate) fn first_run(
    name: &str,
    settings: &Settings,
    store: &Store,
    io: &Io<'_>,
) -> Result<String, Failure> {
    let key = route_key(settings, store, false)?;
    let connections = Connections::new(settings, &io.environment);
    let options = RunOptions::at(io.environment.now()?);
    let mut summary = String::new();
    for (name, route) in settings.chosen_routes(&[name.to_owned()])? {
        let preview = block_on(async {
            let ready = connections.route(name, route, &key).await?;
            Ok::<_, Failure>(preview_route(&ready, store, &options, &Silent).await?)
        })??;
        summary += &first_summary(name, route, &preview);
    }
    Ok(summary)
}

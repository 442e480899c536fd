//! What would make a server write to people waits for a person: which steps of a verdict that are, and what is asked.

use chestnut_core::{LeftOut, Mail, People, Scheduler, hex, with_own_details, without_people};
use chestnut_store::HeldItem;
use serde::{Deserialize, Serialize};

use crate::case::{Asked, Case, Question, Stands};
use crate::decide::{Decider, Step, Verdict, Withheld};

/// What a person is asked: what would be done where, which makes a server write to people.
#[derive(Debug, Serialize, Deserialize)]
pub(crate) struct MailQuestion {
    kind: String,
    pub(crate) changes: Vec<MailChange>,
    /// What exactly: what an answer counts for.
    pub(crate) keys: Vec<String>,
}

/// One of these changes.
#[derive(Debug, Serialize, Deserialize)]
pub(crate) struct MailChange {
    pub(crate) calendar: String,
    /// What stands there.
    pub(crate) before: Option<String>,
    /// What is to stand there; `None` where it is to be deleted.
    pub(crate) after: Option<String>,
}

impl MailQuestion {
    const KIND: &str = "mail";
    /// The answer that lets it through.
    pub(crate) const SEND: &str = "send";

    /// Reads it out of what waits; `None` where that is another question.
    pub(crate) fn of(item: &HeldItem) -> Option<Self> {
        serde_json::from_str(&item.details).ok().filter(|read: &Self| read.kind == Self::KIND)
    }

    /// What to ask about a case; `names` are those of its calendars.
    pub(crate) fn about(case: &Case, verdict: &Verdict, names: &[&str]) -> Self {
        let mut question = Self { kind: Self::KIND.to_owned(), changes: Vec::new(), keys: Vec::new() };
        for (side, step) in verdict.steps.iter().enumerate() {
            let Step::Hold(withheld) = step else { continue };
            question.keys.push(key(case, side, withheld));
            question.changes.push(MailChange {
                calendar: names[side].to_owned(),
                before: case.places[side].stands.text().map(|text| text.text),
                after: match withheld {
                    Withheld::Write(writing) => Some(writing.text.clone()),
                    Withheld::Delete => None,
                },
            });
        }
        question
    }
}

/// What a person says yes or no to: this text there, or the deletion of this one.
fn key(case: &Case, side: usize, withheld: &Withheld) -> String {
    let print = match withheld {
        Withheld::Write(writing) => Some(writing.view),
        Withheld::Delete => case.places[side].stands.entry().map(|entry| entry.meaning().fingerprint()),
    };
    let print = print.map_or_else(String::new, |print| hex(&print.0));
    let kind = if matches!(withheld, Withheld::Write(_)) { "write" } else { "delete" };
    format!("{side} {kind} {print}")
}

impl Decider<'_> {
    /// What deleting an entry from a calendar could make its server send.
    pub(crate) fn mail_of_deletion(&self, case: &Case, side: usize) -> Mail {
        self.mail(case, side, None)
    }

    fn mail(&self, case: &Case, side: usize, after: Option<&chestnut_core::Entry>) -> Mail {
        if self.rule.carry.people == People::Invite {
            return Mail::Never;
        }
        let facts = &self.facts[side];
        let scheduling = self.policy.scheduling(side);
        if !scheduling.may_write() {
            return Mail::Never;
        }
        let scheduler = Scheduler {
            scheduling,
            me: self.policy.me(),
            honours_agent: facts.honours_agent,
            obeys_no_reply: facts.auto_schedules,
        };
        match &case.places[side].stands {
            // Nobody can tell whom it names.
            Stands::Unreadable(_) | Stands::Unread(_) | Stands::Unknown(_) => Mail::Perhaps,
            stands => scheduler.mail(stands.entry(), after),
        }
    }

    /// Takes out of a verdict what would make a server write to people, but for what a person allowed: it waits for
    /// them. What is created goes without people.
    pub(crate) fn silenced(&self, case: &Case, verdict: Verdict) -> Verdict {
        let mut verdict = verdict;
        for side in 0..verdict.steps.len() {
            let withheld = match &mut verdict.steps[side] {
                Step::Write(writing) => match self.mail(case, side, Some(&writing.entry)) {
                    Mail::Never | Mail::UnlessTold => continue,
                    Mail::WithPeople => {
                        if let Some(entry) = without_people(&writing.entry) {
                            writing.say(entry, self.now);
                            writing.partly.without_people = true;
                        }
                        continue;
                    }
                    Mail::OfOwnDetails => {
                        let standing = case.places[side].stands.entry();
                        let own = standing.and_then(|standing| with_own_details(standing, &writing.entry));
                        own.into_iter().for_each(|entry| writing.say(entry, self.now));
                        continue;
                    }
                    Mail::Perhaps => Withheld::Write(writing.clone()),
                },
                Step::Delete(_) => match self.mail_of_deletion(case, side) {
                    Mail::Never | Mail::UnlessTold => continue,
                    Mail::OfOwnDetails | Mail::WithPeople | Mail::Perhaps => Withheld::Delete,
                },
                Step::Leave | Step::Accept | Step::LetGo | Step::Hold(_) | Step::Spare(_) => continue,
            };
            let allowed = match &case.asked {
                Some(Asked { question: Question::Mail { keys, sends }, is_answered: true }) => {
                    keys.contains(&key(case, side, &withheld)).then_some(*sends)
                }
                _ => None,
            };
            verdict.steps[side] = match (allowed, withheld) {
                (Some(true), _) => continue,
                (Some(false), Withheld::Write(writing)) => {
                    verdict.lacking = Some(LeftOut::WouldMail);
                    Step::Spare(writing)
                }
                // It stays there, and is deleted nowhere else either.
                (Some(false), Withheld::Delete) => return self.silenced(case, self.keeping(case)),
                (None, withheld) => Step::Hold(withheld),
            };
        }
        verdict
    }
}

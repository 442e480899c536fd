//! Why a preview would do something.

use chestnut_engine::Why;

/// Says in words why the next sync would do something; what is left out keeps its key.
pub(crate) fn why_words(why: &Why) -> String {
    let words = match why {
        Why::Alike => "it stands there already, and says the same",
        Why::Differs => "it stands there already, and says something else",
        Why::New => "new at the source",
        Why::Changed => "changed at the source",
        Why::FarEdit => "changed on the far side; it is put right again",
        Why::CopyGone => "the copy is gone on the far side",
        Why::SourceGone => "it is gone at the source",
        Why::Stranger => "it is no copy, and strangers are removed",
        Why::Past => "it is over, and past copies are removed",
        Why::NewElsewhere => "new elsewhere",
        Why::ChangedElsewhere => "changed elsewhere",
        Why::ComesBack => "deleted there, and changed elsewhere",
        Why::WouldMail { deletes: false } => "a change of it could make the server write to people",
        Why::WouldMail { deletes: true } => "its deletion could make the server write to people",
        Why::DeletedElsewhere => "it was deleted elsewhere",
        Why::NotTaken(reason) => return format!("no longer taken: {}", reason.key()),
        Why::Disagree(fields) => return format!("calendars disagree about {}", fields.join(", ")),
        Why::LeftOut(key) => key,
    };
    words.to_owned()
}

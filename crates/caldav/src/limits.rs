//! How much of a server's answer is read: past these bounds it is refused, with the bound named.

/// Elements inside one another.
pub(crate) const DEPTH: usize = 48;
/// Attributes of one element.
pub(crate) const ATTRIBUTES: usize = 64;
/// Bytes of a name, of an element or an attribute.
pub(crate) const NAME: usize = 1_000;
/// Elements of one response of a multistatus, or of another document.
pub(crate) const ELEMENTS: usize = 50_000;
/// Bytes of text in one response of a multistatus, or in another document.
pub(crate) const RESPONSE: usize = 16 << 20;
/// Responses to one question.
pub(crate) const RESPONSES: usize = 500_000;
/// Characters that are quoted of what a server says.
pub(crate) const QUOTE: usize = 200;

/// The beginning of what a server says, without control characters.
pub(crate) fn quote(text: &str) -> String {
    text.chars().filter(|c| !c.is_control()).take(QUOTE).collect()
}

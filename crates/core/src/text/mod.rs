//! Text: what is shown of words that others wrote, and what is taken out of them.

pub mod display_text;
pub mod sent_secrets;

//! What stands in front of pages: the help, lists, lines of text, forms. Every page can put them there.

pub mod certificate;
pub mod channels;
pub mod help;
pub mod line;
pub mod picker;
pub mod sign_in;
pub mod stream_key;

//! Keys of many names in sequence: siblings usually follow each other, so their common parent is parsed once.

use super::{DEEPEST, Dn, DnError, DnKey, LONGEST};

/// Computes keys. The cached parent only saves time: the keys are those of [`Dn::key`].
#[derive(Clone, Debug, Default)]
pub struct KeyReader {
    /// The last parent, as written, and its key.
    parent: Option<(Box<str>, DnKey)>,
}

impl KeyReader {
    /// The key of a name in the string form (RFC 4514 §3).
    ///
    /// # Errors
    /// As [`Dn::parse`].
    pub fn key(&mut self, text: &str) -> Result<DnKey, DnError> {
        // An escaped comma belongs to the value.
        let split = text.split_once(',').filter(|(own, _)| !own.contains('\\') && text.len() <= LONGEST);
        if let (Some((own, rest)), Some((parent, above))) = (split, &self.parent)
            && **parent == *rest
            && let Ok(own) = Dn::parse(own)
            && own.depth() == 1
        {
            let mut key = String::with_capacity(above.0.len() + text.len() - rest.len());
            key.push_str(&above.0);
            own.write_key(&mut key);
            return Ok(DnKey(key.into_boxed_str()));
        }
        let key = Dn::parse(text)?.key();
        let above = key.parent().filter(|above| above.depth() < DEEPEST);
        self.parent = split.zip(above).map(|((_, rest), above)| (rest.into(), above));
        Ok(key)
    }
}

//! Files as a plan's edits will leave them.

use bstr::{BStr, BString};

use super::ConfigFiles;
use crate::text_edit::TextEdit;

/// The files of a tree, some of them edited.
pub(crate) struct EditedFiles<'f> {
    /// As they are.
    pub files: &'f dyn ConfigFiles,
    /// What is edited, in this order.
    pub edits: Vec<&'f TextEdit>,
}

impl ConfigFiles for EditedFiles<'_> {
    fn read(&self, path: &BStr) -> Result<Option<Vec<u8>>, String> {
        let mut text = self.files.read(path)?;
        let is_it = |edit: &&&TextEdit| edit.path.as_slice().strip_prefix(b"/") == Some(path);
        for edit in self.edits.iter().filter(is_it) {
            let edited = edit.apply(text.as_deref().unwrap_or_default());
            text = Some(edited.map_err(|why| why.to_string())?);
        }
        Ok(text)
    }

    fn named(&self, pattern: &BStr) -> Result<Vec<BString>, String> {
        self.files.named(pattern)
    }
}

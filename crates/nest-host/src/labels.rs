//! Security labels of a tree: which file contexts it has, what files carry, and setting them:
//! on an image too, where the kernel at hand knows nothing of them.
//!
//! - `kernel`: what the kernel's own policy says, selinux(8)

mod kernel;

use std::os::fd::{AsFd, BorrowedFd};
use std::sync::Arc;

use bstr::{BStr, BString, ByteSlice};
use nest_core::configuration::ConfigFiles;
use nest_core::labels::{self, ATTRIBUTE, Carried, FileContexts, Label, Labelling};
use nest_core::value::FileKind;
use rustix::fs::{OFlags, XattrFlags};
use rustix::io::Errno;

use crate::configuration::Files;
use crate::place::by_handle;
use crate::tree::{FoundLabels, Tree, path_of};
use crate::undone::Undone;
use crate::words::why;

/// Where the settings and the contexts are.
const FOLDER: &str = "/etc/selinux";

/// What is known of the labels of a tree, looked up when it is first asked for.
fn of(tree: &Tree) -> &FoundLabels {
    tree.found_labels(|| read(tree))
}

fn read(tree: &Tree) -> FoundLabels {
    let files = Files(tree);
    let settings = match files.read("/etc/selinux/config".into()) {
        Ok(settings) => settings.unwrap_or_default(),
        Err(why) => {
            return FoundLabels {
                fault: Some(format!("/etc/selinux/config {why}")),
                ..FoundLabels::default()
            };
        }
    };
    let setting = |name: &str| {
        let lines = settings.lines().map(ByteSlice::trim);
        let values = lines.filter_map(|line| line.strip_prefix(name.as_bytes()));
        let values = values.filter_map(|rest| rest.trim_start().strip_prefix(b"="));
        values.map(|value| BString::from(value.trim())).next_back()
    };
    let mode = setting("SELINUX").unwrap_or_default().to_ascii_lowercase();
    if mode == b"disabled" {
        return FoundLabels::default();
    }
    let enforcing = mode == b"enforcing";
    let named = setting("SELINUXTYPE");
    let read = |policy: &BStr| {
        let folder: BString = [FOLDER.as_bytes(), b"/", policy, b"/contexts"].concat().into();
        FileContexts::read(&files, folder.as_bstr())
    };
    let plain =
        |name: &BString| !name.is_empty() && !name.contains(&b'/') && !name.starts_with(b".");
    let mut found = named.filter(plain).map_or(Ok(None), |named| read(named.as_bstr()));
    if matches!(found, Ok(None)) {
        // Where the settings name none that is there, the only one is meant.
        let entries = tree.entries(FOLDER).unwrap_or_default();
        let mut all = entries.iter().filter_map(|(name, _)| read(name.as_bstr()).transpose());
        found = match (all.next(), all.next()) {
            (Some(_), Some(_)) => {
                Err(format!("{FOLDER} holds several policies, and its config names none of them"))
            }
            (one, _) => one.transpose(),
        };
    }
    match found {
        Ok(contexts) => {
            let contexts = contexts.map(Arc::new);
            FoundLabels { enforcing: enforcing && contexts.is_some(), contexts, fault: None }
        }
        Err(fault) => FoundLabels { fault: Some(fault), ..FoundLabels::default() },
    }
}

/// Sets the labels of what is made at a path and below it.
#[derive(Debug)]
pub struct Labeller {
    labelling: Option<Arc<Labelling>>,
    fault: Option<String>,
}

impl Labeller {
    /// For what is made at a path and below it.
    pub fn below(tree: &Tree, path: &[u8]) -> Self {
        let FoundLabels { contexts, fault, .. } = of(tree);
        let labelling = contexts.as_ref().map(|contexts| contexts.below(path));
        Labeller { labelling, fault: fault.clone() }
    }

    /// Whether nothing has a label there.
    pub fn sets_nothing(&self) -> bool {
        self.labelling.is_none()
    }

    /// Gives a fresh file the label that belongs at a path. What can't be done is noted, as
    /// something of `what`.
    ///
    /// # Errors
    /// The system's, where the file itself is in trouble.
    pub fn set(
        &self,
        file: impl AsFd,
        (path, kind): (&[u8], FileKind),
        what: &str,
        undone: &mut Vec<Undone>,
    ) -> Result<(), Errno> {
        let Some(label) = self.labelling.as_ref().and_then(|all| all.of(path, kind)) else {
            return Ok(());
        };
        let value = label.as_attribute();
        let set = match rustix::fs::fsetxattr(&file, ATTRIBUTE, &value, XattrFlags::empty()) {
            // Opened for its path alone, as a link is.
            Err(Errno::BADF) => {
                let named = by_handle(file.as_fd());
                rustix::fs::setxattr(&named[..], ATTRIBUTE, &value, XattrFlags::empty())
            }
            set => set,
        };
        let Err(error) = set else { return Ok(()) };
        // The kernel gave it the right one, or it has it from the file that it replaces.
        if carried(file.as_fd()).is_ok_and(|carried| carried.as_ref() == Some(label)) {
            return Ok(());
        }
        let what = match kind {
            FileKind::Directory if !what.is_empty() => {
                format!("{what}: its label and those below it")
            }
            _ => format!("{what}: its label, {label}"),
        };
        let note = match error {
            Errno::PERM | Errno::ACCESS => Undone::Right(what),
            Errno::NOTSUP | Errno::NOSPC => Undone::FileSystem(what),
            Errno::INVAL => Undone::Policy(what),
            // A link is reached by way of /proc.
            Errno::NOENT => Undone::Unreachable(what),
            error => return Err(error),
        };
        if !undone.contains(&note) {
            undone.push(note);
        }
        Ok(())
    }

    /// What has to be told: lines that might be about what was made there, but can't be
    /// understood.
    pub fn notes(&self) -> Vec<String> {
        let lines = self.labelling.iter().filter_map(|labelling| labelling.faults_in_words());
        let fault = self.fault.iter().map(|fault| format!("no security label is set: {fault}"));
        lines.chain(fault).collect()
    }
}

/// The label of an opened file, be it opened for its path alone.
fn carried(file: BorrowedFd<'_>) -> Result<Option<Label>, Errno> {
    let mut value = [0; 4096];
    let read = match rustix::fs::fgetxattr(file, ATTRIBUTE, &mut value) {
        Err(Errno::BADF) => rustix::fs::getxattr(&by_handle(file)[..], ATTRIBUTE, &mut value),
        read => read,
    };
    match read {
        Ok(length) => Ok(Label::parse(&value[..length])),
        Err(Errno::NODATA | Errno::NOTSUP) => Ok(None),
        Err(error) => Err(error),
    }
}

/// The labels as planners and rules ask for them.
#[derive(Debug, Clone, Copy)]
pub struct Carrying<'t>(pub &'t Tree);

impl labels::Labels for Carrying<'_> {
    fn contexts(&self) -> Result<Option<&Arc<FileContexts>>, String> {
        let found = of(self.0);
        match &found.fault {
            Some(fault) => Err(fault.clone()),
            None => Ok(found.contexts.as_ref()),
        }
    }

    fn carried(&self, path: &BStr) -> Result<Option<Label>, String> {
        let flags = OFlags::PATH | OFlags::CLOEXEC;
        match self.0.open_file(path_of(path), flags) {
            Ok(file) => carried(file.as_fd()).map_err(|error| match error {
                Errno::NOENT => "there is no /proc to look at its label by".to_owned(),
                error => why(error),
            }),
            Err(Errno::NOENT) => Ok(None),
            Err(error) => Err(why(error)),
        }
    }

    fn keeps_ssh_out(&self, path: &BStr, kind: FileKind) -> Option<Carried> {
        let found = of(self.0);
        let contexts = found.contexts.as_ref()?;
        let carried = labels::Labels::carried(self, path).ok()?;
        if self.0.is_live() {
            let carried = carried?;
            let keeps_out = kernel::keeps_ssh_out(&carried, kind);
            return keeps_out.then_some(Carried::Label(carried));
        }
        // A tree without any label gets them all when it is first started.
        let is_labelled = || {
            let root = labels::Labels::carried(self, "/".into());
            root.is_ok_and(|label| label.is_some())
        };
        if !found.enforcing || !is_labelled() {
            return None;
        }
        contexts.seems_closed_to_ssh(path, kind, carried.as_ref())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn tree(files: &[(&str, &str)]) -> (tempfile::TempDir, Tree) {
        let folder = tempfile::tempdir().unwrap();
        for (path, text) in files {
            let path = folder.path().join(path);
            std::fs::create_dir_all(path.parent().unwrap()).unwrap();
            std::fs::write(path, text).unwrap();
        }
        let tree = Tree::open(folder.path()).unwrap();
        (folder, tree)
    }

    const LINES: &str = "/home/[^/]+ -d u:object_r:user_home_dir_t:s0\n";

    fn label_of_a_home(files: &[(&str, &str)]) -> Result<Option<String>, String> {
        let (_folder, tree) = tree(files);
        let found = read(&tree);
        match (found.fault, found.contexts) {
            (Some(fault), _) => Err(fault),
            (None, contexts) => Ok(contexts.and_then(|contexts| {
                let labelling = contexts.below(b"/home/maren");
                Some(labelling.of(b"/home/maren", FileKind::Directory)?.to_string())
            })),
        }
    }

    #[test]
    fn the_policy_that_the_settings_name_is_gone_by() {
        let (default, other) = (
            "etc/selinux/default/contexts/files/file_contexts",
            "etc/selinux/other/contexts/files/file_contexts",
        );
        let config = "etc/selinux/config";
        let found = Ok(Some("u:object_r:user_home_dir_t:s0".to_owned()));
        assert_eq!(label_of_a_home(&[]), Ok(None));
        assert_eq!(label_of_a_home(&[(default, LINES)]), found);
        assert_eq!(label_of_a_home(&[(default, LINES), (config, "SELINUX=disabled\n")]), Ok(None));
        let named = "# of the harbour\nSELINUX = enforcing\nSELINUXTYPE=default\n";
        assert_eq!(label_of_a_home(&[(default, LINES), (other, "\n"), (config, named)]), found);
        let gone = "SELINUXTYPE=gone\n";
        assert_eq!(label_of_a_home(&[(default, LINES), (config, gone)]), found);
        let climbing = "SELINUXTYPE=../etc\n";
        assert_eq!(label_of_a_home(&[(default, LINES), (config, climbing)]), found);
        let told = "/etc/selinux holds several policies, and its config names none of them";
        assert_eq!(label_of_a_home(&[(default, LINES), (other, LINES)]), Err(told.to_owned()));
    }
}

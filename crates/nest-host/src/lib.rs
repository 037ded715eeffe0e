//! The effects of Copper Nest on a real tree.
//!
//! - [`tree`]: the opened root; every path is resolved inside it.
//! - [`lock`]: the account-file lock that the C library's programs take too.
//! - [`store`]: loading a book.
//! - [`state`]: the state folder, by names that are one plain component each.
//! - [`untrusted`]: the one opener of files that somebody else may have made.
//! - [`journal`], [`effect`]: what a change does to the disk, written down first.
//! - [`stage`], [`home`], [`copy`], [`reown`]: making what is new, beside the old.
//! - [`commit`]: carrying a plan out, whole or not at all.
//! - [`recover`]: finishing or rolling back what a crash left.
//! - [`changes`], [`retired`], [`suspended`]: what was done, the numbers of deleted
//!   accounts, and how suspended ones were.
//! - [`kept`], [`archive`]: deleted accounts, and homes packed into one file.
//! - [`packed`]: documents in less room.
//! - [`secrets`]: salts and passwords.
//! - [`surroundings`]: what planners and rules ask about the world.
//! - [`walk`], [`processes`]: whose the files and the processes are.
//! - [`system_log`], [`audit`]: what is told of a change to the system's log, and to the kernel's.
//!
//! Nothing here knows what a user or a group is: plans come from `nest-core`,
//! and are made of edits and steps.
//!
//! # Example
//!
//! The account files of a tree are loaded, and asked about:
//!
//! ```
//! use nest_core::book::Lookups;
//! use nest_core::value::Uid;
//! use nest_host::{store, tree::Tree};
//!
//! let folder = tempfile::tempdir()?;
//! std::fs::create_dir(folder.path().join("etc"))?;
//! std::fs::write(folder.path().join("etc/passwd"), "maren:x:1004:1004::/home/maren:/bin/sh\n")?;
//! std::fs::write(folder.path().join("etc/group"), "maren:x:1004:\n")?;
//!
//! let tree = Tree::open(folder.path())?;
//! let loaded = store::load(&tree, &Lookups::few().user(b"maren"), false)?;
//! let (_, maren) = loaded.book.user(b"maren").expect("the line was loaded");
//! assert_eq!(maren.uid(), Some(Uid(1004)));
//! # Ok::<(), Box<dyn std::error::Error>>(())
//! ```

pub mod archive;
pub mod audit;
pub mod changes;
pub mod commit;
mod configuration;
pub mod copy;
pub mod digest;
pub mod effect;
pub mod found;
pub mod home;
pub mod interrupt;
pub mod inventory;
pub mod journal;
pub mod kept;
pub mod labels;
pub mod lock;
mod mentions;
mod mounts;
pub mod packed;
pub mod place;
pub mod processes;
mod read;
pub mod recover;
pub mod reown;
pub mod retired;
pub mod secrets;
mod sign_in_logs;
mod skeleton;
pub mod stage;
pub mod state;
pub mod store;
pub mod surroundings;
mod survey;
pub mod suspended;
pub mod system_log;
pub mod tree;
pub mod undone;
mod unread;
pub mod untrusted;
pub mod walk;
pub mod watcher;
mod words;
pub mod zone;

//! Who can become root, and how: by uid 0, by sudo or doas, by a group that amounts to it, by a
//! key of root's.
//!
//! - `doas`: what doas.conf(5) gives

mod doas;

use std::collections::{BTreeSet, HashSet};

use bstr::{BStr, BString, ByteSlice};

use crate::account::{Account, AccountIndex};
use crate::configuration::Place;
use crate::context::PlanContext;
use crate::sign_in::{KeyFound, keys_found};
use crate::sudo::{AskedFor, Asker, Gives, Grant, Named, Sudoers};
use crate::surroundings::Program;
use crate::table::{File, Group, Passwd, Record};
use crate::value::{Gid, Uid};

pub use self::doas::Doas;

/// By what an account can become root.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum By {
    /// Its uid is 0.
    Root,
    /// A line of sudoers.
    Sudo(Place, BString),
    /// A line of doas.conf.
    Doas(Place, BString),
    /// It is in a group that amounts to root.
    Group(BString),
    /// Root lets this key in.
    Key(KeyFound),
}

/// A way in which an account can become root.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Way {
    /// By what.
    pub by: By,
    /// The line, where one gives it.
    pub text: BString,
    /// What may be run.
    pub gives: Gives,
    /// Whose password is asked.
    pub asks: AskedFor,
}

impl Way {
    fn whole(by: By, asks: AskedFor) -> Self {
        Way { by, text: "".into(), gives: Gives::Everything { but: Vec::new() }, asks }
    }

    fn granted(grant: Grant, by: fn(Place, BString) -> By) -> Self {
        let Grant { place, text, by: word, gives, asks } = grant;
        Way { by: by(place, word), text, gives, asks }
    }

    /// Whether it comes to all that root can do, without knowing root's password.
    pub fn amounts_to_root(&self) -> bool {
        matches!(self.gives, Gives::Everything { .. }) && self.asks != AskedFor::Root
    }
}

/// What gives power over a machine.
pub struct Powers<'a> {
    context: PlanContext<'a>,
    /// What sudo is configured to do.
    pub sudo: Sudoers,
    /// What doas is configured to do.
    pub doas: Doas,
    /// Whether the programs are there, and may make somebody root.
    pub has_sudo: bool,
    /// The same of doas.
    pub has_doas: bool,
    now: BString,
}

/// So many accounts are looked up one by one.
const FEW: usize = 64;

/// Where the programs are.
const SUDO: [&str; 3] = ["/usr/bin/sudo", "/bin/sudo", "/usr/local/bin/sudo"];
const DOAS: [&str; 3] = ["/usr/bin/doas", "/bin/doas", "/usr/local/bin/doas"];

impl<'a> Powers<'a> {
    /// Reads what there is.
    pub fn of(context: PlanContext<'a>) -> Self {
        let files = context.world.configuration();
        let is_there = |paths: &[&str]| {
            paths.iter().any(|path| context.world.program((*path).into()) == Program::Fine)
        };
        Powers {
            context,
            sudo: Sudoers::read(files, context.world.host()),
            doas: Doas::read(files),
            has_sudo: is_there(&SUDO),
            has_doas: is_there(&DOAS),
            // A day is as near as is known: what ends today has not ended.
            now: format!("{}000000", context.today.to_string().replace('-', "")).into(),
        }
    }

    /// The ways of one account.
    pub fn ways(&self, account: &Account<'_>) -> Vec<Way> {
        let user = account.user;
        let mut ways = Vec::new();
        if user.uid() == Some(Uid::ROOT) {
            ways.push(Way::whole(By::Root, AskedFor::Own));
            let keys = keys_found(self.context, user).into_iter().filter(|key| key.works());
            ways.extend(keys.map(|key| Way::whole(By::Key(key), AskedFor::Nobody)));
        }
        let groups = || account.gids();
        let asker = Asker { name: user.name, uid: user.uid(), groups: &groups };
        // Root needs neither.
        if user.uid() != Some(Uid::ROOT) {
            if self.has_sudo {
                let grants = self.sudo.grants(&asker, self.now.as_ref());
                ways.extend(grants.into_iter().map(|grant| Way::granted(grant, By::Sudo)));
            }
            if self.has_doas {
                let grants = self.doas.grants(&asker);
                ways.extend(grants.into_iter().map(|grant| Way::granted(grant, By::Doas)));
            }
            let listed = account.groups.iter().map(|group| group.name).chain(account.primary);
            let mut like_root: Vec<&[u8]> = Vec::new();
            for name in listed.filter(|name| self.context.policy.is_like_root(name)) {
                if !like_root.contains(&name) {
                    like_root.push(name);
                }
            }
            let whole = |name: &[u8]| Way::whole(By::Group(name.into()), AskedFor::Nobody);
            ways.extend(like_root.into_iter().map(whole));
        }
        ways
    }

    /// Every account that may have a way, in the order of the file.
    pub fn accounts(&self) -> Vec<Account<'a>> {
        let book = self.context.book;
        let like_root = self.context.policy.admins_like_root.iter();
        let like_root = like_root.flat_map(|name| book.named(File::Group, name.as_bytes()));
        let like_root = like_root.filter_map(|line| Group::read(line.record()));
        let mut gids: BTreeSet<Gid> = like_root.filter_map(|group| group.gid()).collect();
        let (mut names, mut uids): (HashSet<BString>, _) =
            (HashSet::new(), HashSet::from([Uid::ROOT]));
        let mut everybody = false;
        let by_sudo = self.sudo.named().into_iter().filter(|_| self.has_sudo);
        let by_doas = self.doas.named().into_iter().filter(|_| self.has_doas);
        for (named, _) in by_sudo.chain(by_doas) {
            match named {
                Named::User(name) => _ = names.insert(name),
                Named::Uid(uid) => _ = uids.insert(uid),
                Named::Group(name) => {
                    gids.extend(book.group(&name).and_then(|(_, group)| group.gid()))
                }
                Named::Gid(gid) => _ = gids.insert(gid),
                Named::Everybody => everybody = true,
            }
        }
        for group in book.groups.records().map(|(_, group)| group) {
            if group.gid().is_some_and(|gid| gids.contains(&gid)) {
                names.extend(group.members().map(BString::from));
            }
        }
        let is_one = |user: &Passwd<'_>| {
            everybody
                || user.uid().is_some_and(|uid| uids.contains(&uid))
                || user.gid().is_some_and(|gid| gids.contains(&gid))
                || names.contains(BStr::new(user.name))
        };
        let policy = self.context.policy;
        let users = || book.users.records().map(|(_, user)| user).filter(is_one);
        // Of few each is looked up; of many all are gone through once.
        match users().nth(FEW).is_none() {
            true => users().map(|user| Account::gather(book, policy, user)).collect(),
            false => {
                let all = AccountIndex::new(book, policy);
                all.accounts().filter(|account| is_one(&account.user)).collect()
            }
        }
    }

    /// Whether a group that is said to administer is given everything; why not, in words.
    pub fn group_fault(&self, name: &BStr) -> Option<String> {
        let gid = self.context.book.group(name)?.1.gid()?;
        let groups = || vec![(gid, name.as_bytes())];
        let asker = Asker { name: b"", uid: None, groups: &groups };
        let whole = |grants: Vec<Grant>| {
            grants
                .iter()
                .any(|grant| matches!(grant.gives, Gives::Everything { .. } | Gives::Unknown(_)))
        };
        let by_sudo = whole(self.sudo.grants(&asker, self.now.as_ref()));
        let by_doas = whole(self.doas.grants(&asker));
        match (by_sudo && self.has_sudo || by_doas && self.has_doas, by_sudo, by_doas) {
            (true, ..) => None,
            _ if !self.sudo.unread.is_empty() => None,
            (false, true, _) => Some("sudo is not installed".to_owned()),
            (false, false, true) => Some("doas is not installed".to_owned()),
            (false, false, false) => {
                Some(format!("no line of sudoers gives everything to %{name}"))
            }
        }
    }

    /// Lines that can't be judged, and what could not be read.
    pub fn unclear(&self) -> Vec<String> {
        let faulty = self
            .sudo
            .faulty
            .iter()
            .map(|(place, text)| format!("{place} is no line that sudo understands: {text}"));
        let doas = self.doas.faulty.iter().map(|(place, text)| {
            format!("{place} is no line that doas understands, and it does nothing then: {text}")
        });
        let unread = self.sudo.unread.iter().chain(&self.doas.unread).cloned();
        faulty.chain(doas).chain(unread).collect()
    }
}

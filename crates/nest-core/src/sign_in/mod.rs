//! Can this account sign in, and if not, why not?
//!
//! The order and meaning of the aging fields are those of shadow(5), as the
//! system's authentication modules apply them.

mod answer;
mod keys;
mod obstacle;
mod window;
mod words;

use std::cell::OnceCell;
use std::collections::{BTreeMap, BTreeSet};

use bstr::{BStr, BString, ByteSlice};

pub use self::answer::SignIn;
pub use self::keys::KeyFound;
use self::keys::{KeyOwner, judge_file, keys_in};
pub(crate) use self::keys::{KeyPlace, key_places};
pub use self::obstacle::Obstacle;
pub use self::window::window_of;
use crate::account::{Account, turns_away};
use crate::book::ShadowFile;
use crate::change::TextEdit;
use crate::context::PlanContext;
use crate::ssh::{Refused, Rules, Visitor};
use crate::surroundings::{Keys, Program, Surroundings};
use crate::table::{Passwd, Shadow};
use crate::value::{Day, Gid, KeyLine, PasswordField, Uid, key_lines};
use crate::windows::Windows;

/// Judges an account whose groups are known.
pub fn sign_in_of(context: PlanContext<'_>, account: &Account<'_>) -> SignIn {
    let (user, shadow) = (account.user, account.shadow);
    Question { context, windows: None, user, shadow, groups: &|| account.gids() }.answer()
}

/// Judges an account by its lines; the groups are those of the book.
pub(crate) fn sign_in<'a>(
    context: PlanContext<'a>,
    user: Passwd<'a>,
    shadow: Option<Shadow<'a>>,
) -> SignIn {
    let groups = || gids_of(context, &user, user.name);
    Question { context, windows: None, user, shadow, groups: &groups }.answer()
}

/// Whether something lets an account in for more than a fixed command.
pub(crate) fn can_work<'a>(context: PlanContext<'a>, user: Passwd<'a>) -> bool {
    sign_in_by_book(context, user).is_free()
}

/// Judges an account by the lines that the book has.
pub(crate) fn sign_in_by_book<'a>(context: PlanContext<'a>, user: Passwd<'a>) -> SignIn {
    let shadow = context.book.shadow(user.name).map(|(_, shadow)| shadow);
    sign_in(context, user, shadow)
}

/// The keys of an account that the SSH server would go by.
pub(crate) fn keys_of<'a>(context: PlanContext<'a>, user: Passwd<'a>) -> Keys {
    let groups = || gids_of(context, &user, user.name);
    let question = Question { context, windows: None, user, shadow: None, groups: &groups };
    question.keys(&question.rules())
}

/// Each key of an account, at the places where the SSH server looks, and what keeps it from
/// working.
pub fn keys_found<'a>(context: PlanContext<'a>, user: Passwd<'a>) -> Vec<KeyFound> {
    let groups = || gids_of(context, &user, user.name);
    let question = Question { context, windows: None, user, shadow: None, groups: &groups };
    question.keys_found(&question.rules())
}

/// The lines of the files that the SSH server looks at for the keys of an account; nothing where
/// there are none.
///
/// # Errors
/// Why one can't be read, in words.
pub fn keys_in_files<'a>(
    context: PlanContext<'a>,
    user: Passwd<'a>,
) -> Result<Option<String>, String> {
    let mut lines: Vec<String> = Vec::new();
    for place in places_of_keys(context, user) {
        let path = place.path(BStr::new(user.home));
        let unfit = |why: String| format!("{path} {why}");
        let Some(text) = context.world.key_file(path.as_bstr()).text.map_err(unfit)? else {
            continue;
        };
        let text = String::from_utf8(text).map_err(|_| unfit("is not UTF-8".to_owned()))?;
        let held = key_lines(text.as_bytes(), context.today);
        let line = |key: KeyLine| text.lines().nth(key.line - 1).map(|line| line.trim().to_owned());
        lines.extend(held.into_iter().filter_map(line));
    }
    Ok((!lines.is_empty()).then(|| lines.join("\n")))
}

/// The files that the SSH server looks at for the keys of an account, in its order.
pub(crate) fn places_of_keys<'a>(context: PlanContext<'a>, user: Passwd<'a>) -> Vec<KeyPlace> {
    let groups = || gids_of(context, &user, user.name);
    let question = Question { context, windows: None, user, shadow: None, groups: &groups };
    key_places(&question.rules(), user.name, user.uid())
}

/// The gids of an account, each with the name that it has: that of the first group with it.
pub(crate) fn gids_of<'a>(
    context: PlanContext<'a>,
    user: &Passwd<'_>,
    name: &[u8],
) -> Vec<(Gid, &'a [u8])> {
    let book = context.book;
    let listed = book.groups_listing(name).into_iter().filter_map(|(_, group)| group.gid());
    let gids: BTreeSet<u32> = listed.chain(user.gid()).map(u32::from).collect();
    let mut named = BTreeMap::new();
    for (_, group) in book.groups_of_gids(&gids) {
        if let Some(gid) = group.gid() {
            named.entry(gid).or_insert(group.name);
        }
    }
    named.into_iter().collect()
}

/// What is asked: whether an account can sign in.
pub(crate) struct Question<'q, 'a> {
    pub context: PlanContext<'a>,
    /// The rules about hours and places, where they are not those of the tree as it is.
    pub windows: Option<&'q Windows>,
    pub user: Passwd<'a>,
    pub shadow: Option<Shadow<'a>>,
    /// The gids that it has, with their names: asked for where they matter.
    pub groups: &'q dyn Fn() -> Vec<(Gid, &'a [u8])>,
}

impl Question<'_, '_> {
    /// What the SSH server says to the account.
    pub fn rules(&self) -> Rules {
        let find_groups =
            || (self.groups)().into_iter().map(|(_, name)| BString::from(name)).collect();
        let (name, uid) = (self.user.name, self.user.uid());
        let visitor = Visitor { name, uid, find_groups: &find_groups, groups: OnceCell::new() };
        self.context.world.ssh().rules(&visitor)
    }

    /// The keys that it has now.
    pub fn keys(&self, rules: &Rules) -> Keys {
        let uid = self.user.uid().unwrap_or(Uid(u32::MAX));
        let home = BStr::new(self.user.home);
        let places = key_places(rules, self.user.name, self.user.uid());
        let mut all = Keys::NONE;
        for (at, place) in places.iter().enumerate() {
            all = all.and(self.keys_at(place, home, uid, rules, None));
            // Where there is no home there is nothing in it.
            let first = at == 0 && all == Keys::NONE;
            if first && matches!(self.context.world.facts(home), Ok(None)) {
                let elsewhere = places.iter().filter(|place| matches!(place, KeyPlace::At(_)));
                let found = elsewhere.map(|place| self.keys_at(place, home, uid, rules, None));
                let found = found.fold(Keys::NONE, Keys::and);
                return if found == Keys::NONE { Keys::NoHome } else { found };
            }
        }
        all
    }

    /// The keys at one place, for a home that stands at `home` and files that carry `uid`; as
    /// an edit will leave them, where there is one.
    pub fn keys_at(
        &self,
        place: &KeyPlace,
        home: &BStr,
        uid: Uid,
        rules: &Rules,
        edit: Option<&TextEdit>,
    ) -> Keys {
        let path = place.path(home);
        let mut file = self.context.world.key_file(path.as_bstr());
        if let (Some(edit), Ok(text)) = (edit, &mut file.text) {
            // What can't be edited as planned is refused when it is carried out.
            *text = edit.apply(text.as_deref().unwrap_or_default()).ok();
        }
        let judge = |owner: &KeyOwner<'_>| {
            judge_file(path.as_bstr(), &file, rules, owner, self.context.today)
        };
        self.as_owner(home, uid, judge)
    }

    /// Each key that it has now, with what keeps it from working.
    fn keys_found(&self, rules: &Rules) -> Vec<KeyFound> {
        let uid = self.user.uid().unwrap_or(Uid(u32::MAX));
        let home = BStr::new(self.user.home);
        let (world, today) = (self.context.world, self.context.today);
        let places = key_places(rules, self.user.name, self.user.uid());
        let found = places.iter().flat_map(|place| {
            let path = place.path(home);
            let file = world.key_file(path.as_bstr());
            let found = |owner: &KeyOwner<'_>| keys_in(path.as_bstr(), &file, rules, owner, today);
            self.as_owner(home, uid, found)
        });
        found.collect()
    }

    /// Asks something of files of keys as their owner.
    fn as_owner<T>(&self, home: &BStr, uid: Uid, ask: impl FnOnce(&KeyOwner<'_>) -> T) -> T {
        let PlanContext { book, world, .. } = self.context;
        ask(&KeyOwner {
            uid,
            home,
            is_in: &|gid| (self.groups)().iter().any(|(of, _)| *of == gid),
            is_private: &|gid, owner| {
                world.ssh().trusts_private_groups() && book.is_private_group(gid, uid, owner)
            },
            owners_are_real: world.owners_are_real().is_ok(),
        })
    }

    fn answer(&self) -> SignIn {
        let rules = self.rules();
        self.judge(&rules, self.keys(&rules))
    }

    /// The answer where it is known which keys there are, or will be.
    pub fn judge(&self, rules: &Rules, keys: Keys) -> SignIn {
        let PlanContext { book, today, world, .. } = self.context;
        let user = &self.user;
        let mut answer = SignIn { pam: rules.pam, ..SignIn::default() };
        answer.may_differ.clone_from(&rules.may_differ);
        if let Some(shadow) = &self.shadow {
            judge_aging(shadow, today, rules, &mut answer);
        }
        judge_shell(user, world, &mut answer.both);
        if let Some(path) = world.nologin().filter(|_| user.uid() != Some(Uid::ROOT)) {
            // Without those modules the SSH server knows of one of the files.
            let both = rules.pam || path == "etc/nologin";
            let obstacles = if both { &mut answer.both } else { &mut answer.console };
            obstacles.push(Obstacle::Nologin(path));
        }
        let field = match (user.is_shadowed(), &self.shadow) {
            (true, Some(shadow)) => Ok(shadow.password),
            (true, None) => Err(match book.shadow_file() {
                ShadowFile::Read => Obstacle::NoShadowLine,
                ShadowFile::Missing => Obstacle::NoShadowFile,
                ShadowFile::Unreadable => Obstacle::Unknown("etc/shadow can't be read".to_owned()),
            }),
            (false, _) => Ok(user.password),
        };
        match field {
            Err(obstacle) => answer.password.push(obstacle),
            Ok(field) => {
                if !rules.pam && field.starts_with(b"!") {
                    answer.key.push(Obstacle::LockedForKeys);
                }
                match PasswordField::read(field) {
                    PasswordField::None => answer.password.push(Obstacle::NoPassword),
                    PasswordField::Locked(_) => answer.password.push(Obstacle::Locked),
                    PasswordField::Never => answer.password.push(Obstacle::NoMatch(marker(field))),
                    PasswordField::Open => answer.open = true,
                    PasswordField::Set(_) => {}
                }
            }
        }
        judge_ssh(rules, &mut answer);
        self.judge_window(rules, &mut answer);
        match keys {
            Keys::NONE => answer.key.push(no_key(rules, user)),
            Keys::Count { usable, forced } => (answer.keys, answer.forced) = (usable, forced),
            Keys::NoHome => answer.key.push(Obstacle::NoHome(user.home.into())),
            Keys::Ignored(why) => answer.key.push(Obstacle::KeysIgnored(why)),
            Keys::Unknown(why) => answer.key.push(Obstacle::Unknown(why)),
        }
        answer
    }
}

/// That there is no key, by where one is looked for.
fn no_key(rules: &Rules, user: &Passwd<'_>) -> Obstacle {
    if rules.files == Rules::default().files {
        return Obstacle::NoKey([user.home, b"/.ssh"].concat().into());
    }
    let places = key_places(rules, user.name, user.uid());
    let paths: Vec<BString> = places.iter().map(|place| place.path(user.home.into())).collect();
    match paths.as_slice() {
        [] => Obstacle::Ssh("the SSH server looks for none (AuthorizedKeysFile none)".to_owned()),
        paths => Obstacle::NoKey(bstr::join(" or ", paths).into()),
    }
}

/// What the SSH server has against an account.
fn judge_ssh(rules: &Rules, answer: &mut SignIn) {
    if let Some(refused) = &rules.refuses {
        let obstacle = match refused {
            Refused::Says(why) => Obstacle::Ssh(why.clone()),
            Refused::Unknown(why) => Obstacle::Unknown(why.clone()),
        };
        answer.key.push(obstacle.clone());
        answer.ssh_password.push(obstacle);
    }
    answer.key.extend(rules.key.clone().map(Obstacle::Ssh));
    let empty = rules.empty_password.as_ref().filter(|_| answer.open);
    let password = rules.password.iter().chain(empty).cloned();
    answer.ssh_password.extend(password.map(Obstacle::Ssh));
}

/// The field if it is a plain marker; else it might be a hash.
fn marker(field: &[u8]) -> BString {
    if PasswordField::is_harmless(field) { field.into() } else { crate::secret::HIDDEN.into() }
}

fn judge_aging(shadow: &Shadow<'_>, today: Day, rules: &Rules, answer: &mut SignIn) {
    let aging = shadow.aging();
    if let Some(expires) = aging.expires.filter(|expires| *expires <= today) {
        answer.both.push(Obstacle::Expired(expires));
    }
    // Where the day of the last change is left out, it counts as the day before the first.
    match aging.changed.unwrap_or(-1) {
        0 => answer.must_change = true,
        // A change in the future: aging is passed over.
        changed if changed <= today.0 => {
            let Some(renew) = aging.renew else { return };
            let due = changed.saturating_add(renew);
            let last = aging.late.map(|late| due.saturating_add(late));
            if let Some(last) = last.filter(|last| *last < today.0) {
                // Without the system's modules the SSH server has no notion of grace.
                let obstacles = if rules.pam { &mut answer.both } else { &mut answer.console };
                obstacles.push(Obstacle::TooOld(Day(last)));
                answer.must_change = !rules.pam;
            } else {
                answer.must_change = due < today.0;
            }
        }
        _ => {}
    }
}

fn judge_shell(user: &Passwd<'_>, world: &dyn Surroundings, both: &mut Vec<Obstacle>) {
    let shell: BString = user.effective_shell().into();
    if turns_away(&shell) {
        both.push(Obstacle::NoLoginShell(shell));
        return;
    }
    match world.program(shell.as_ref()) {
        Program::Fine | Program::Unknown => {}
        Program::Missing => both.push(Obstacle::ShellMissing(shell)),
        Program::NotExecutable => both.push(Obstacle::ShellNotExecutable(shell)),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::book::tests::book;
    use crate::policy::Policy;
    use crate::surroundings::Facts;
    use crate::table::File;
    use crate::test_support::World;
    use crate::value::FileKind;

    const HASH: &str = "$6$saltsalt$abcdefghijklmnop";

    fn judge(shell: &str, shadow: Option<&str>, world: &World) -> SignIn {
        let passwd = format!("maren:x:1004:1004::/home/maren:{shell}\n");
        let shadow = shadow.map(|line| format!("{line}\n")).unwrap_or_default();
        let group = "maren:x:1004:\nhatch:x:1005:maren\npilots:x:210:\n";
        let texts = [(File::Passwd, &passwd[..]), (File::Group, group), (File::Shadow, &shadow)];
        let (book, policy) = (book(&texts), Policy::default());
        let context =
            PlanContext { book: &book, policy: &policy, world, today: Day(20781), change: None };
        sign_in_by_book(context, book.user(b"maren").unwrap().1)
    }

    fn reasons(shadow: &str) -> Vec<String> {
        let world = World { keys: 1, ..World::default() };
        judge("/bin/sh", Some(&shadow.replace("H", HASH)), &world).reasons()
    }

    #[test]
    fn each_field_that_keeps_an_account_out_is_a_reason() {
        assert_eq!(reasons("maren:H:20000::::::"), [""; 0]);
        assert_eq!(reasons("maren:!:20000::::::"), ["no password is set"]);
        assert_eq!(reasons("maren:!H:20000::::::"), ["the password is locked"]);
        assert_eq!(reasons("maren:*:20000::::::"), ["the password field (*) matches no password"]);
        assert_eq!(reasons("maren:H:20000:::::20781:"), ["the account expired on 2026-11-24"]);
        assert_eq!(reasons("maren:H:20000:::::20782:"), [""; 0]);
        assert_eq!(
            reasons("maren:H:20700:0:50:7:30::"),
            ["the password is too old: it had to be changed by 2026-11-23"]
        );
        assert_eq!(reasons("maren:H:20700:0:50:7:31::"), [""; 0]);
    }

    #[test]
    fn an_old_password_must_be_changed_and_a_future_one_need_not() {
        let world = World::default();
        let must = |line: &str| judge("/bin/sh", Some(line), &world).must_change;
        assert!(must("maren:x:0::::::") && must("maren:x:20700:0:50:7:::"));
        assert!(must("maren:x::0:50:7:::") && !must("maren:x::0::7:::"));
        assert!(!must("maren:x:20731:0:50:7:::") && !must("maren:x:20800:0:1:7:::"));
    }

    #[test]
    fn shells_keys_and_the_machine_count_too() {
        let mut world = World { keys: 2, ..World::default() };
        let fine = judge("", Some("maren::20000::::::"), &world);
        assert!(fine.by_password() && fine.by_key() && fine.open);
        let closed = judge("/usr/sbin/nologin", Some("maren:!:1::::::"), &world);
        assert!(!closed.by_key());
        assert_eq!(closed.both[0].to_string(), "the shell /usr/sbin/nologin lets nobody in");
        world.missing_programs.push("/bin/fish".into());
        assert_eq!(
            judge("/bin/fish", None, &world).reasons()[0],
            "the shell /bin/fish does not exist"
        );
        assert_eq!(judge("", None, &world).password, [Obstacle::NoShadowLine]);
        world.keys = 0;
        assert_eq!(judge("", None, &world).key[0].to_string(), "the home /home/maren is missing");
        let (kind, uid, gid) = (FileKind::Directory, Uid(1004), Gid(1004));
        world.facts.insert("/home/maren".into(), Ok(Facts { kind, uid, gid, mode: 0o755 }));
        assert_eq!(judge("", None, &world).key[0].to_string(), "/home/maren/.ssh holds none");
        world.nologin = true;
        assert_eq!(judge("", None, &world).both, [Obstacle::Nologin("etc/nologin")]);
    }
}

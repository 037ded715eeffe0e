//! Accounts as lines of the files. Of many accounts the lines are written by several
//! threads, once their numbers are chosen.

use bstr::{BStr, BString};
use hashbrown::HashMap;

use crate::account::NewShadow;
use crate::change::{Caution, Label, Step, Subject};
use crate::context::PlanContext;
use crate::drafting::{check_new_name, plan_home};
use crate::ownership::Owner;
use crate::plan::users::create_user::batch::{AccountIds, Ranges, keep, makes_private_group};
use crate::plan::users::create_user::belongings::Shell;
use crate::refusal::Refusal;
use crate::request::CreateUser;
use crate::table::File;
use crate::value::Gid;

/// What was written of some accounts.
#[derive(Default)]
pub(crate) struct AccountLines {
    /// The lines of each file, each followed by a newline.
    lines: [Vec<u8>; 6],
    pub(crate) steps: Vec<Step>,
    pub(crate) cautions: Vec<Caution>,
    /// What is wrong with shells that were looked at.
    pub(crate) shells: HashMap<BString, Shell>,
}

/// So long is the line of an account, about, in the file in which it is longest.
const LINE: usize = 96;

impl AccountLines {
    /// Nothing, with room for so many accounts.
    pub fn with_room(accounts: usize) -> Self {
        let lines = std::array::from_fn(|_| Vec::with_capacity(accounts * LINE));
        AccountLines { lines, ..AccountLines::default() }
    }

    /// Adds a line, by its fields.
    pub(crate) fn add(&mut self, file: File, fields: &[&[u8]]) {
        let text = &mut self.lines[file as usize];
        text.reserve(fields.iter().map(|field| field.len() + 1).sum());
        for (at, field) in fields.iter().enumerate() {
            if at > 0 {
                text.push(b':');
            }
            text.extend_from_slice(field);
        }
        text.push(b'\n');
    }

    /// The lines of the files that have some, without the last newline.
    pub(crate) fn take_lines(&mut self) -> impl Iterator<Item = (File, Vec<u8>)> + use<> {
        let lines = std::mem::take(&mut self.lines);
        File::ALL.into_iter().zip(lines).filter_map(|(file, mut lines)| {
            lines.pop()?;
            Some((file, lines))
        })
    }
}

/// Writes accounts.
#[derive(Clone)]
pub(crate) struct Writer<'a> {
    pub context: PlanContext<'a>,
    pub(crate) shadow: NewShadow,
}

impl<'a> Writer<'a> {
    pub fn new(context: PlanContext<'a>) -> Self {
        Writer { context, shadow: NewShadow::new(context.policy, context.today) }
    }

    /// Whether the name can be had.
    pub fn look_at_name(
        &self,
        request: &CreateUser,
        name: &BStr,
        written: &mut AccountLines,
        wrong: &mut Vec<Refusal>,
    ) {
        let private = makes_private_group(self.context, request);
        let group_way = || format!("create user {name} --primary {name}");
        let cautions = check_new_name(self.context, name, private, "", group_way);
        let cautions = cautions.map_err(|mut refusal| {
            refusal.what = format!("{name} was not created");
            refusal
        });
        written.cautions.extend(keep(wrong, cautions).unwrap_or_default());
    }

    /// Writes an account whose numbers are chosen.
    #[allow(clippy::too_many_arguments)]
    pub fn write(
        &self,
        request: &CreateUser,
        name: &BStr,
        hash: Option<&BString>,
        numbers: &AccountIds,
        subject: &mut Subject,
        written: &mut AccountLines,
        wrong: &mut Vec<Refusal>,
    ) {
        let AccountIds { uid, primary, ranges } = numbers;
        let policy = self.context.policy;
        let owner = Owner { uid: *uid, gid: primary.gid };
        let home = keep(wrong, plan_home(self.context, request, name, owner, subject));
        let shell = keep(wrong, self.choose_shell(request, name, subject, written));
        self.write_ranges(request, name, ranges, subject, written);
        keep(wrong, self.write_shadow(request, (name, *uid), hash, subject, written));
        let (Some(home), Some(shell)) = (home, shell) else { return };
        written.steps.extend(home.steps);
        written.cautions.extend(home.cautions);
        let full_name: &[u8] = request.full_name.as_ref().map_or(b"", |name| name);
        let gecos = request.details.as_ref().filter(|details| details.gecos.asks());
        let gecos = gecos.map(|details| details.gecos.over(Some(full_name), b""));
        let gecos: &[u8] = gecos.as_ref().map_or(full_name, |gecos| gecos);
        let password: &[u8] = if self.context.book.shadow.is_some() { b"x" } else { b"!" };
        let (mut uid_text, mut gid_text) = (itoa::Buffer::new(), itoa::Buffer::new());
        let (uid_text, gid_text) = (uid_text.format(uid.0), gid_text.format(primary.gid.0));
        let (uid_text, gid_text) = (uid_text.as_bytes(), gid_text.as_bytes());
        let fields = [name, password, uid_text, gid_text, gecos, &home.field, shell];
        written.add(File::Passwd, &fields);
        if primary.private {
            self.write_group(name, primary.gid, None, written);
        }
        if policy.mail_create && !request.service {
            self.make_mail(name, owner, subject, written);
        }
    }

    /// Writes a group that nobody is in yet, with what stands for its password if that is
    /// anything.
    pub fn write_group(
        &self,
        name: &BStr,
        gid: Gid,
        secret: Option<&BString>,
        written: &mut AccountLines,
    ) {
        let has_gshadow = self.context.book.gshadow.is_some();
        let password: &[u8] = if has_gshadow { b"x" } else { b"!" };
        let mut gid_text = itoa::Buffer::new();
        let gid_text = gid_text.format(gid.0).as_bytes();
        written.add(File::Group, &[name, password, gid_text, b""]);
        if has_gshadow {
            let secret = secret.map_or(&b"!"[..], |secret| secret);
            written.add(File::Gshadow, &[name, secret, b"", b""]);
        }
    }

    fn write_ranges(
        &self,
        request: &CreateUser,
        name: &BStr,
        ranges: &Ranges,
        subject: &mut Subject,
        written: &mut AccountLines,
    ) {
        let given = match ranges {
            Ranges::None | Ranges::NoFiles => &[][..],
            Ranges::AsAsked => &request.spans,
            Ranges::Given(span) => std::slice::from_ref(span),
        };
        for file in [File::Subuid, File::Subgid] {
            for span in given {
                let (mut first, mut count) = (itoa::Buffer::new(), itoa::Buffer::new());
                let (first, count) = (first.format(span.first()), count.format(span.count()));
                written.add(file, &[name, first.as_bytes(), count.as_bytes()]);
            }
        }
        match ranges {
            Ranges::None if request.ranges.is_none() => {}
            Ranges::None => subject.decide(Label::RANGES, "none", "as asked"),
            Ranges::NoFiles => {
                subject.decide(Label::RANGES, "none", "this tree has no etc/subuid and etc/subgid");
            }
            Ranges::AsAsked => subject.decide_with(Label::RANGES, || {
                let spans: Vec<String> = given.iter().map(ToString::to_string).collect();
                (spans.join(", "), "as asked")
            }),
            Ranges::Given(span) => {
                subject.decide_with(Label::RANGES, || (span.to_string(), ""));
            }
        }
    }
}

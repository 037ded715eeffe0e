//! White space at the end of a line that keeps somebody out: whether it is taken away is for
//! the administrator to say.

use bstr::ByteSlice;

use super::{Command, Remedy};
use crate::account::turns_away;
use crate::book::Book;
use crate::context::PlanContext;
use crate::table::{File, Passwd, Record, Shadow};
use crate::value::PasswordField;

/// What the white space at the end of a line keeps out, and taking it away would let in.
pub(super) enum TrailingChoice<'l> {
    /// A user: with it the shell can't be started.
    Shell { user: &'l [u8], shell: &'l [u8], line: &'l [u8] },
    /// Somebody in a list: with it the name is another one.
    Member { member: &'l [u8], line: &'l [u8] },
    /// Whoever has the password: with it the C library passes the line over.
    Password,
}

/// What the end of a line decides about; nothing where it makes no difference to anybody.
pub(super) fn trailing_choice<'l>(
    book: &Book,
    file: File,
    line: &'l [u8],
) -> Option<TrailingChoice<'l>> {
    let line = line.trim_start_with(|c| matches!(c, ' ' | '\t' | '\r'));
    let trimmed = line.trim_end_with(|c| matches!(c, ' ' | '\t' | '\r'));
    if trimmed.len() == line.len() {
        return None;
    }
    match file {
        File::Passwd => {
            let user = Passwd::read(trimmed)?;
            let shell = user.effective_shell();
            let lets_in = !turns_away(shell);
            lets_in.then_some(TrailingChoice::Shell { user: user.name, shell, line: trimmed })
        }
        File::Group | File::Gshadow => {
            let list = trimmed.rsplit(|byte| *byte == b':').next()?;
            let mut names = list.rsplit(|byte| *byte == b',').map(<[u8]>::trim_ascii);
            let member = names.next().filter(|member| !member.is_empty())?;
            let is_new = names.all(|other| other != member)
                && book.names().find(File::Passwd, member).is_some();
            is_new.then_some(TrailingChoice::Member { member, line: trimmed })
        }
        File::Shadow => {
            let field = Shadow::read(trimmed)?.field();
            matches!(field, PasswordField::Set(_) | PasswordField::Open)
                .then_some(TrailingChoice::Password)
        }
        File::Subuid | File::Subgid => None,
    }
}

impl TrailingChoice<'_> {
    /// The message of the finding, with what depends on it, and both choices.
    pub fn told(
        &self,
        context: PlanContext<'_>,
        file: File,
        number: usize,
        message: &str,
    ) -> (String, Vec<Remedy>) {
        let place = format!("{}:{number}", file.path());
        let set = |line: &[u8]| Command::own([b"repair", b"--set", place.as_bytes(), line]);
        let message = message.trim_end_matches('.');
        match *self {
            TrailingChoice::Shell { user, shell, line } => {
                let (name, path) = (user.as_bstr(), shell.as_bstr());
                let nobody = context.policy.services_shell.as_bytes();
                let out = Command::own([b"change", b"user", user, b"--shell", nobody]);
                let message = format!("{message}: {name} can't sign in with that shell.");
                let ways = vec![
                    Remedy::or(format!("if {name} is to sign in with {path}"), set(line)),
                    Remedy::or(format!("if {name} is to stay out"), out),
                ];
                (message, ways)
            }
            TrailingChoice::Member { member, line } => {
                let name = member.as_bstr();
                let list = line.len() - member.len();
                let without = line[..list].trim_end_with(|c| c == ',');
                let message = format!("{message}: {name} is not in the group by that name.");
                let ways = vec![
                    Remedy::or(format!("if {name} is to be in it"), set(line)),
                    Remedy::or(format!("if {name} is not"), set(without)),
                ];
                (message, ways)
            }
            TrailingChoice::Password => {
                let message = format!(
                    "{message}: the C library passes the line over, and the password with it."
                );
                let set = format!(
                    "write the line without it, if the password is to count: repair --set {place} -"
                );
                let out = Remedy::or("if it is not to", Remedy::taking_out(file, number));
                (message, [Remedy::by_hand(set), vec![out]].concat())
            }
        }
    }
}

//! What there is to say about a password that an account gets, by whichever command.

use bstr::BStr;

use crate::account::AccountKind;
use crate::change::Caution;
use crate::value::PasswordField;

/// What is to be known about a password field that an account of this kind gets.
pub(crate) fn password_cautions(name: &BStr, kind: AccountKind, field: &[u8]) -> Vec<Caution> {
    let (PasswordField::Set(scheme) | PasswordField::Locked(scheme)) = PasswordField::read(field)
    else {
        return Vec::new();
    };
    let mut cautions = Vec::new();
    if scheme.is_weak() {
        cautions.push(Caution::WeakHash { name: name.to_owned(), scheme: scheme.name() });
    }
    if kind == AccountKind::Service {
        cautions.push(Caution::ServicePassword { name: name.to_owned() });
    }
    cautions
}

//! The password field of `shadow` (and, in old trees, of `passwd`).

use strum::IntoStaticStr;

/// What a password field means for signing in.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum PasswordField {
    /// `!` or `!!`: none was ever set.
    None,
    /// `!` and a hash: a password is set, and locked.
    Locked(Scheme),
    /// `*`, or anything else that no password can match.
    Never,
    /// Empty: signing in needs no password at all.
    Open,
    /// A hash.
    Set(Scheme),
}

/// How a password hash was made, told by its form. The forms are those of
/// crypt(5).
#[derive(Debug, Clone, Copy, PartialEq, Eq, IntoStaticStr)]
#[strum(serialize_all = "lowercase")]
pub enum Scheme {
    /// `$y$`
    Yescrypt,
    /// `$gy$`
    #[strum(serialize = "gost-yescrypt")]
    GostYescrypt,
    /// `$7$`
    Scrypt,
    /// `$2a$`, `$2b$`, `$2x$`, `$2y$`
    Bcrypt,
    /// `$6$`
    Sha512,
    /// `$5$`
    Sha256,
    /// `$sha1`
    Sha1,
    /// `$md5`
    SunMd5,
    /// `$1$`
    Md5,
    /// `$3$`
    Nt,
    /// `_` and 19 characters
    BsdiDes,
    /// 13 characters
    Des,
}

impl Scheme {
    /// Whether passwords hashed so are guessed by trying: the hash is too quick to
    /// make, or the salt too short.
    pub fn is_weak(self) -> bool {
        use Scheme::{BsdiDes, Des, Md5, Nt, Sha1, SunMd5};
        matches!(self, Md5 | SunMd5 | Sha1 | Nt | BsdiDes | Des)
    }

    /// The scheme of a hash, or `None` when it has no known form.
    pub fn of(hash: &[u8]) -> Option<Self> {
        const PREFIXES: [(&[u8], Scheme); 13] = [
            (b"$y$", Scheme::Yescrypt),
            (b"$gy$", Scheme::GostYescrypt),
            (b"$7$", Scheme::Scrypt),
            (b"$2a$", Scheme::Bcrypt),
            (b"$2b$", Scheme::Bcrypt),
            (b"$2x$", Scheme::Bcrypt),
            (b"$2y$", Scheme::Bcrypt),
            (b"$6$", Scheme::Sha512),
            (b"$5$", Scheme::Sha256),
            (b"$sha1", Scheme::Sha1),
            (b"$md5", Scheme::SunMd5),
            (b"$1$", Scheme::Md5),
            (b"$3$", Scheme::Nt),
        ];
        if let Some((_, scheme)) = PREFIXES.iter().find(|(prefix, _)| hash.starts_with(prefix)) {
            return (hash.len() > 12).then_some(*scheme);
        }
        let itoa64 = |bytes: &[u8]| {
            bytes.iter().all(|b| b.is_ascii_alphanumeric() || matches!(b, b'.' | b'/'))
        };
        match hash {
            [b'_', rest @ ..] if rest.len() == 19 && itoa64(rest) => Some(Scheme::BsdiDes),
            _ if hash.len() == 13 && itoa64(hash) => Some(Scheme::Des),
            _ => None,
        }
    }

    /// The name of the scheme, as crypt(5) spells it.
    pub fn name(self) -> &'static str {
        self.into()
    }
}

/// Why nothing matches a password field that is not meant to be so.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum FieldFault {
    /// It seems to be the password itself.
    Plain,
    /// A hash of this scheme is longer.
    CutOff(&'static str),
    /// It begins as a hash does, of no scheme that crypt(5) knows.
    UnknownScheme,
}

impl PasswordField {
    /// Why no password can match the field; nothing where that is meant, or where one can.
    ///
    /// ```
    /// use nest_core::value::{FieldFault, PasswordField};
    /// assert_eq!(PasswordField::fault(b"letmein"), Some(FieldFault::Plain));
    /// assert_eq!(PasswordField::fault(b"*"), None);
    /// ```
    pub fn fault(field: &[u8]) -> Option<FieldFault> {
        // The shortest that each scheme makes, see crypt(5).
        const SHORTEST: [(&[u8], usize, &str); 12] = [
            (b"$y$", 49, "yescrypt"),
            (b"$gy$", 50, "gost-yescrypt"),
            (b"$7$", 58, "scrypt"),
            (b"$2a$", 60, "bcrypt"),
            (b"$2b$", 60, "bcrypt"),
            (b"$2x$", 60, "bcrypt"),
            (b"$2y$", 60, "bcrypt"),
            (b"$6$", 91, "sha512"),
            (b"$5$", 48, "sha256"),
            (b"$sha1", 50, "sha1"),
            (b"$md5", 30, "sunmd5"),
            (b"$1$", 27, "md5"),
        ];
        if PasswordField::is_harmless(field) || matches!(field.first(), None | Some(b'!' | b'*')) {
            return None;
        }
        let known = SHORTEST.iter().find(|(prefix, ..)| field.starts_with(prefix));
        if let Some((_, shortest, name)) = known {
            return (field.len() < *shortest).then_some(FieldFault::CutOff(name));
        }
        match (field, Scheme::of(field)) {
            (_, Some(_)) => None,
            ([b'$', ..], None) => Some(FieldFault::UnknownScheme),
            // Words in capitals are marks that lock.
            (_, None) if field.iter().all(|byte| matches!(byte, b'A'..=b'Z' | b'_' | b'-')) => None,
            (_, None) => Some(FieldFault::Plain),
        }
    }

    /// What the field says.
    ///
    /// ```
    /// use nest_core::value::PasswordField;
    /// assert_eq!(PasswordField::read(b""), PasswordField::Open);
    /// assert_eq!(PasswordField::read(b"!"), PasswordField::None);
    /// ```
    pub fn read(field: &[u8]) -> Self {
        match field {
            b"" => PasswordField::Open,
            [b'!', ..] => {
                let hash = &field[field.iter().take_while(|byte| **byte == b'!').count()..];
                match Scheme::of(hash) {
                    Some(scheme) => PasswordField::Locked(scheme),
                    None => PasswordField::None,
                }
            }
            _ => match Scheme::of(field) {
                Some(scheme) => PasswordField::Set(scheme),
                None => PasswordField::Never,
            },
        }
    }

    /// One word for machine-readable output: set, none, locked, never or open.
    pub fn state(self) -> &'static str {
        match self {
            PasswordField::None => "none",
            PasswordField::Locked(_) => "locked",
            PasswordField::Never => "never",
            PasswordField::Open => "open",
            PasswordField::Set(_) => "set",
        }
    }

    /// The scheme of the hash, when the field holds one.
    pub fn scheme(self) -> Option<Scheme> {
        match self {
            PasswordField::Set(scheme) | PasswordField::Locked(scheme) => Some(scheme),
            _ => None,
        }
    }

    /// Whether the text may be shown: it holds no hash and nothing that could
    /// be one.
    pub fn is_harmless(field: &[u8]) -> bool {
        matches!(field, b"" | b"!" | b"!!" | b"*" | b"!*" | b"x" | b"*LK*" | b"!x")
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn fields_are_told_apart() {
        let yescrypt = b"$y$j9T$TQrrklxsv3nFULfgn4vfq1$uF6Yp8T5sCFlkFK8AI5yNLvAOEZl4Pn70F8hFaZBvz2";
        let locked = [b"!", yescrypt.as_slice()].concat();
        for (field, state, scheme) in [
            (b"".as_slice(), "open", None),
            (b"!", "none", None),
            (b"!!", "none", None),
            (b"!*", "none", None),
            (b"*", "never", None),
            (b"x", "never", None),
            (b"$y$", "never", None),
            (yescrypt, "set", Some("yescrypt")),
            (&locked, "locked", Some("yescrypt")),
            (b"$6$saltsalt$abcdefgh", "set", Some("sha512")),
            (b"$2b$05$abcdefghijklmnopqrstuv", "set", Some("bcrypt")),
            (b"ab0123456789.", "set", Some("des")),
            (b"_J9..rasmBYk8r9AiWNc", "set", Some("bsdides")),
        ] {
            let read = PasswordField::read(field);
            assert_eq!((read.state(), read.scheme().map(Scheme::name)), (state, scheme));
        }
    }

    #[test]
    fn only_markers_are_harmless() {
        assert!(PasswordField::is_harmless(b"!") && PasswordField::is_harmless(b""));
        assert!(!PasswordField::is_harmless(b"ab0123456789."));
        assert!(!PasswordField::is_harmless(b"!$6$a$b"));
        assert!(!PasswordField::is_harmless(b"letmein"));
    }
}

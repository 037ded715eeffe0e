//! Making password hashes, and judging the form of ready ones. The forms are those
//! of crypt(5).

use bstr::ByteSlice;
use yescrypt::{CustomizedPasswordHasher, PasswordHasher, Yescrypt};

use super::Scheme;

/// How many bytes of salt a hash is made with.
pub const SALT: usize = 16;

/// The longest password the C library takes, in bytes (crypt(3)).
pub const MOST_PASSWORD: usize = 511;

/// The longest hash the C library reads, in bytes (crypt(3)).
const MOST_HASH: usize = 383;

/// The schemes that new hashes are made by.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum NewScheme {
    /// yescrypt, as current C libraries recommend it.
    Yescrypt,
    /// SHA-512, for C libraries that know no yescrypt.
    Sha512,
}

/// Why a password can't be one, or a hash none, in words that follow "the
/// password" or "the hash".
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum PasswordFault {
    /// Nothing.
    #[error("is empty: to allow signing in without one is never right")]
    Empty,
    /// More than the C library takes.
    #[error("has {0} bytes, and the C library takes {MOST_PASSWORD} at the most")]
    TooLong(usize),
    /// A byte that ends a text.
    #[error("holds {0}, at which the C library or the prompt would stop reading")]
    Stops(&'static str),
    /// No scheme, or not its form.
    #[error("has no form that the C library knows")]
    UnknownHash,
    /// A scheme, but not its form.
    #[error("is no whole {0} hash")]
    BrokenHash(&'static str),
    /// It could not be made.
    #[error("could not be hashed")]
    NotHashed,
}

/// Judges a password, as far as the C library goes.
///
/// # Errors
/// [`PasswordFault`] where the C library would cut or refuse the password.
pub fn check_password(password: &[u8]) -> Result<(), PasswordFault> {
    if password.is_empty() {
        return Err(PasswordFault::Empty);
    }
    if password.len() > MOST_PASSWORD {
        return Err(PasswordFault::TooLong(password.len()));
    }
    for (byte, what) in [(0, "a NUL byte"), (b'\n', "a line end"), (b'\r', "a carriage return")] {
        if password.contains(&byte) {
            return Err(PasswordFault::Stops(what));
        }
    }
    Ok(())
}

/// Makes the hash of a password, with a salt from outside.
///
/// # Errors
/// [`PasswordFault`] where the password can't be hashed by that scheme.
pub fn hash_password(
    scheme: NewScheme,
    password: &[u8],
    salt: &[u8; SALT],
) -> Result<String, PasswordFault> {
    check_password(password)?;
    match scheme {
        NewScheme::Yescrypt => {
            let hash = Yescrypt::default().hash_password_with_salt(password, salt);
            hash.map(|hash| hash.as_str().to_owned()).map_err(|_| PasswordFault::NotHashed)
        }
        NewScheme::Sha512 => {
            // The C library reads 16 characters of this scheme's salt, which are
            // what 12 bytes are written as.
            let text = &salt[..12];
            let params = sha_crypt::Params::RECOMMENDED;
            let hasher = sha_crypt::ShaCrypt::new(sha_crypt::Algorithm::Sha512Crypt, params);
            let hash = hasher.hash_password_customized(password, text, None, None, params);
            hash.map(|hash| hash.as_str().to_owned()).map_err(|_| PasswordFault::NotHashed)
        }
    }
}

const ITOA64: &[u8; 64] = b"./0123456789ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz";

/// Judges a ready hash by its form; returns its scheme.
///
/// # Errors
/// [`PasswordFault`] where the text has no form of a hash that the C library can check.
pub fn check_hash(hash: &[u8]) -> Result<Scheme, PasswordFault> {
    if hash.is_empty() {
        return Err(PasswordFault::Empty);
    }
    let plain = |byte: &u8| byte.is_ascii_graphic() && !matches!(byte, b':' | b'!' | b'*');
    if !hash.iter().all(plain) || hash.len() > MOST_HASH {
        return Err(PasswordFault::UnknownHash);
    }
    let scheme = Scheme::of(hash).ok_or(PasswordFault::UnknownHash)?;
    let parts: Vec<&[u8]> = hash.split_str("$").collect();
    let last = parts.last().copied().unwrap_or_default();
    let of_length = |length: usize| last.len() == length && is_itoa64(last);
    let whole = match scheme {
        Scheme::Yescrypt | Scheme::GostYescrypt => parts.len() == 5 && of_length(43),
        Scheme::Scrypt => parts.len() == 4 && of_length(43),
        Scheme::Sha512 => matches!(parts.len(), 4 | 5) && of_length(86),
        Scheme::Sha256 => matches!(parts.len(), 4 | 5) && of_length(43),
        Scheme::Bcrypt => hash.len() == 60 && of_length(53),
        Scheme::Md5 => parts.len() == 4 && of_length(22),
        Scheme::Nt => last.len() == 32,
        Scheme::Sha1 | Scheme::SunMd5 => parts.len() >= 4,
        Scheme::BsdiDes | Scheme::Des => true,
    };
    if whole { Ok(scheme) } else { Err(PasswordFault::BrokenHash(scheme.name())) }
}

/// Whether a password field is one of those that systems are shipped with so that no password
/// matches: it begins with `!` or `*`, and holds no hash.
pub fn is_lock(field: &[u8]) -> bool {
    let plain = |byte: &u8| byte.is_ascii_graphic() && !matches!(byte, b':' | b'$');
    let marked = matches!(field.first(), Some(b'!' | b'*'));
    let holds_hash = field.strip_prefix(b"!").is_some_and(|rest| check_hash(rest).is_ok());
    marked && field.iter().all(plain) && field.len() <= MOST_LOCK && !holds_hash
}

/// Longer than such a mark is none.
const MOST_LOCK: usize = 32;

fn is_itoa64(text: &[u8]) -> bool {
    text.iter().all(|byte| ITOA64.contains(byte))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn hashes_have_the_form_of_their_scheme() {
        let made = |scheme| hash_password(scheme, b"ebb and flood", &[7; SALT]).unwrap();
        let yescrypt = made(NewScheme::Yescrypt);
        assert!(yescrypt.starts_with("$y$j9T$"), "{yescrypt}");
        assert_eq!(check_hash(yescrypt.as_bytes()), Ok(Scheme::Yescrypt));
        let sha512 = made(NewScheme::Sha512);
        assert!(sha512.starts_with("$6$"), "{sha512}");
        assert_eq!(check_hash(sha512.as_bytes()), Ok(Scheme::Sha512));
        let other = hash_password(NewScheme::Sha512, b"ebb and flood", &[8; SALT]).unwrap();
        assert_ne!(sha512, other);
    }

    #[test]
    fn passwords_that_the_c_library_would_cut_are_refused() {
        assert_eq!(check_password(b""), Err(PasswordFault::Empty));
        assert_eq!(check_password(&[b'x'; 511]), Ok(()));
        assert_eq!(check_password(&[b'x'; 512]), Err(PasswordFault::TooLong(512)));
        assert_eq!(check_password(b"a\0b"), Err(PasswordFault::Stops("a NUL byte")));
        assert_eq!(check_password(b"a\nb"), Err(PasswordFault::Stops("a line end")));
        assert_eq!(check_password(b"\xff\xfe latin"), Ok(()));
    }

    #[test]
    fn broken_hashes_are_told_from_unknown_ones() {
        let sha = format!("$6$salt${}", "a".repeat(86));
        assert_eq!(check_hash(sha.as_bytes()), Ok(Scheme::Sha512));
        assert_eq!(check_hash(&sha.as_bytes()[..60]), Err(PasswordFault::BrokenHash("sha512")));
        for unknown in ["plain", "$9$salt$hash", "a:b", "$6$sa lt$x", "!$6$salt$x"] {
            assert_eq!(
                check_hash(unknown.as_bytes()),
                Err(PasswordFault::UnknownHash),
                "{unknown}"
            );
        }
        assert_eq!(check_hash(b""), Err(PasswordFault::Empty));
    }
}

//! Salts and passwords, from the system's generator of random numbers.

use nest_core::value::{NewScheme, PasswordFault, SALT, hash_password};
use zeroize::Zeroizing;

use crate::tree::Tree;

/// Characters that nobody takes for one another.
const LETTERS: &[u8] = b"abcdefghijkmnpqrstuvwxyz23456789";
/// How many of them a password has: 5 bits each, 100 in all.
const LENGTH: usize = 20;
/// A hyphen after so many.
const GROUP: usize = 5;

/// The scheme of new hashes: that of the policy, or the best that the tree's C
/// library knows. musl's knows no yescrypt.
pub fn scheme(tree: &Tree, policy: &str) -> NewScheme {
    let musl = || {
        let loaders = ["x86_64", "aarch64", "i386", "armhf", "riscv64", "s390x", "powerpc64le"];
        let mut loaders = loaders.iter().map(|machine| format!("lib/ld-musl-{machine}.so.1"));
        loaders.any(|loader| tree.stat(&loader).is_ok())
    };
    match policy {
        "sha512" => NewScheme::Sha512,
        "yescrypt" => NewScheme::Yescrypt,
        _ if musl() => NewScheme::Sha512,
        _ => NewScheme::Yescrypt,
    }
}

/// Makes a hash with a fresh salt.
///
/// # Errors
/// [`PasswordFault`], also when there is no randomness to be had.
pub fn hash(scheme: NewScheme, password: &[u8]) -> Result<String, PasswordFault> {
    let mut salt = [0; SALT];
    getrandom::fill(&mut salt).map_err(|_| PasswordFault::NotHashed)?;
    hash_password(scheme, password, &salt)
}

/// A strong password.
///
/// # Errors
/// [`PasswordFault`] when there is no randomness to be had.
pub fn generate() -> Result<Zeroizing<String>, PasswordFault> {
    let mut bytes = Zeroizing::new([0u8; LENGTH]);
    getrandom::fill(&mut bytes[..]).map_err(|_| PasswordFault::NotHashed)?;
    let mut password = Zeroizing::new(String::with_capacity(LENGTH + LENGTH / GROUP));
    for (at, byte) in bytes.iter().enumerate() {
        if at > 0 && at % GROUP == 0 {
            password.push('-');
        }
        password.push(char::from(LETTERS[usize::from(byte % 32)]));
    }
    Ok(password)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn generated_passwords_are_long_and_never_the_same() {
        assert_eq!(LETTERS.len(), 32, "a remainder would favour some letters");
        let (one, other) = (generate().unwrap(), generate().unwrap());
        assert_eq!(one.len(), 23);
        assert!(*one != *other);
        assert_eq!(nest_core::value::strength(one.as_bytes(), &[]).score, 4);
    }

    #[test]
    fn the_scheme_is_what_the_tree_can_read() {
        let place = tempfile::tempdir().unwrap();
        let tree = Tree::open(place.path()).unwrap();
        assert_eq!(scheme(&tree, "auto"), NewScheme::Yescrypt);
        std::fs::create_dir(place.path().join("lib")).unwrap();
        std::fs::write(place.path().join("lib/ld-musl-x86_64.so.1"), "").unwrap();
        assert_eq!(scheme(&tree, "auto"), NewScheme::Sha512);
        assert_eq!(scheme(&tree, "yescrypt"), NewScheme::Yescrypt);
    }
}

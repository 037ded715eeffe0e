//! What a system says of itself, os-release(5).

use bstr::ByteSlice;

use super::ConfigFiles;

/// What a system says of itself.
#[derive(Debug, Default)]
pub struct Release {
    /// What it calls itself; empty where it does not say.
    pub name: String,
    /// Its id, and those that it is like.
    kinds: Vec<String>,
}

impl Release {
    /// Reads it, from `/etc` or from where systems ship it.
    pub fn read(files: &dyn ConfigFiles) -> Self {
        let read = |path: &str| files.read(path.into()).ok().flatten();
        let Some(text) = read("/etc/os-release").or_else(|| read("/usr/lib/os-release")) else {
            return Release::default();
        };
        let value = |name: &str| {
            let mut lines = text.lines().filter_map(|line| line.strip_prefix(name.as_bytes()));
            let value = lines.find_map(|rest| rest.strip_prefix(b"="))?;
            let text = String::from_utf8_lossy(value.trim()).into_owned();
            Some(text.trim_matches(['"', '\'']).to_owned())
        };
        let kinds = ["ID", "ID_LIKE"].into_iter().filter_map(value);
        let kinds = kinds.flat_map(|kinds| kinds.split(' ').map(str::to_owned).collect::<Vec<_>>());
        let kinds = kinds.collect();
        let name = value("PRETTY_NAME").or_else(|| value("NAME")).unwrap_or_default();
        Release { name, kinds }
    }

    /// Whether it is of a family.
    pub fn is_like(&self, kind: &str) -> bool {
        self.kinds.iter().any(|own| own == kind)
    }
}

//! The columns of the account files, so that one that does not exist can't be named.

use bstr::ByteSlice;

/// A column of an account file, as one of the enums below names it.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Column(u8);

impl Column {
    /// The name that a line is about: the first column of every file.
    pub const NAME: Column = Column(0);
    /// The password or its hash, in every file but those of ranges.
    pub const PASSWORD: Column = Column(1);

    pub(super) const fn at(index: u8) -> Self {
        Column(index)
    }

    /// How many columns stand before it.
    pub fn index(self) -> usize {
        usize::from(self.0)
    }

    /// What stands in it; nothing in a line that is too short. White space before the
    /// record is not part of it.
    pub fn of(self, line: &[u8]) -> &[u8] {
        line.trim_ascii_start().split_str(":").nth(self.index()).unwrap_or_default()
    }
}

/// Makes what a line of an account file is read as, and the columns of the file. White space
/// before the record is not part of it.
macro_rules! record {
    (
        $(#[$doc:meta])* $record:ident, $columns:ident {
            $($(#[$field_doc:meta])* $field:ident $column:ident),* $(,)?
        }
    ) => {
        $(#[$doc])*
        #[derive(Debug, Clone, Copy, PartialEq, Eq)]
        pub struct $record<'a> { $($(#[$field_doc])* pub $field: &'a [u8]),* }

        impl<'a> $crate::table::Record<'a> for $record<'a> {
            #[inline]
            fn read(line: &'a [u8]) -> Option<Self> {
                let [$($field),*] = $crate::table::fields::split(line)?;
                Some($record { $($field),* })
            }
        }

        /// The columns of such a line.
        #[derive(Debug, Clone, Copy, PartialEq, Eq)]
        pub enum $columns { $($(#[$field_doc])* $column),* }

        impl $columns {
            /// How many columns the file has.
            pub const COUNT: usize = [$($columns::$column),*].len();
        }

        impl From<$columns> for $crate::table::Column {
            fn from(column: $columns) -> Self {
                $crate::table::Column::at(column as u8)
            }
        }
    };
}

pub(super) use record;
